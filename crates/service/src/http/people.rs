//! People and groups.

use super::names::{member, named, names};
use std::collections::BTreeMap;

use jexlin_api::{ChangePerson, Group, Member, NewGroup, NewPerson, Page, Person};
use jexlin_core::vault::sign_in::{check_password, hash_password};
use jexlin_store::{GroupRow, MemberRow, PersonRow};
use rocket::{Route, delete, get, patch, post, put, routes};
use uuid::Uuid;

use super::auth::{DUTIES, secret};
use super::payload::{Call, IfMatch, Sent, Versioned, id, page, paging};
use super::second_person::Act;
use super::second_person::MaybePending;
use super::second_person::needs_second;
use super::second_person::propose;
use crate::error::{ApiError, ApiResult};
use crate::unit_of_work::UnitOfWork;

pub fn routes() -> Vec<Route> {
    routes![
        list,
        add,
        read,
        change,
        groups,
        add_group,
        rename_group,
        remove_group,
        add_member,
        remove_member
    ]
}

/// A person or a client as the interface shows it.
pub fn show(row: PersonRow) -> Person {
    Person {
        id: row.id,
        sort: row.sort,
        sign_in_name: row.sign_in_name,
        display_name: row.display_name,
        state: row.state,
        duties: row.duties,
        version: row.version,
    }
}

fn duties(wanted: &[String]) -> ApiResult<Vec<String>> {
    match wanted.iter().find(|duty| !DUTIES.contains(&duty.as_str())) {
        Some(_) => Err(ApiError::field(
            "duties",
            format!("the duties are {}", DUTIES.join(", ")),
        )),
        None => Ok(DUTIES
            .iter()
            .filter(|duty| wanted.iter().any(|wanted| wanted == *duty))
            .map(|duty| (*duty).to_owned())
            .collect()),
    }
}

/// The people of the organisation. Everybody may know their colleagues' names, to share with them.
#[utoipa::path(context_path = "", params(("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)), responses((status = 200, body = Page<Person>)))]
#[get("/api/v1/people?<cursor>&<limit>")]
pub async fn list(
    mut unit: UnitOfWork,
    cursor: Option<&str>,
    limit: Option<i64>,
) -> ApiResult<Sent<Page<Person>>> {
    let paging = paging::<String>(cursor, limit)?;
    let rows = unit
        .tx()?
        .people(paging.after.as_deref(), paging.most + 1)
        .await?;
    unit.commit().await?;
    Ok(Sent(page(
        rows,
        paging.most,
        |row| row.sign_in_name.clone(),
        show,
    )))
}

/// Adds a person.
#[utoipa::path(context_path = "", request_body = NewPerson, responses((status = 200, body = Person)))]
#[post("/api/v1/people", data = "<body>")]
pub async fn add(body: Call<NewPerson>) -> ApiResult<MaybePending<Person>> {
    let Call(mut unit, body) = body;
    unit.begin_audit("person.add", "person", None, &body.sign_in_name);
    unit.duty("people")?;
    let password_phc = match &body.password {
        None => None,
        Some(password) => {
            let password = secret(password);
            check_password(&password).map_err(|problem| ApiError::field("password", problem))?;
            Some(hash_password(&mut unit.app.rng()?, &password).map_err(ApiError::internal)?)
        }
    };
    let wanted = duties(&body.duties)?;
    allow_giving(&unit, &[], &wanted)?;
    let row = PersonRow {
        id: Uuid::now_v7(),
        organisation: unit.organisation(),
        sign_in_name: named("sign_in_name", &body.sign_in_name)?,
        display_name: named("display_name", &body.display_name)?,
        state: if password_phc.is_some() {
            "active"
        } else {
            "invited"
        }
        .into(),
        sign_in_by: password_phc.is_some().then_some(unit.person.id),
        password_phc,
        duties: vec![],
        created_at: unit.now,
        version: 1,
        sort: "person".into(),
        secret_hash: None,
    };
    unit.tx()?.add_person(&row).await?;
    unit.set_target(row.id, &row.sign_in_name);
    unit.add_detail("state", row.state.clone());
    if wanted.is_empty() {
        unit.commit_audited().await?;
        return Ok(MaybePending::Done(1, show(row)));
    }
    // The person is there in any case; the duties may wait for a second person.
    let act = Act::GiveDuties {
        person: row.id,
        version: 1,
        duties: wanted.clone(),
    };
    if needs_second(&mut unit, &act).await? {
        unit.record().await?;
        let summary = format!("Give {} the duties {}", row.display_name, wanted.join(", "));
        if let Some(pending) = propose(&mut unit, act, &summary).await? {
            return Ok(MaybePending::Pending(pending));
        }
    }
    let row = PersonRow {
        duties: wanted,
        ..row
    };
    unit.tx()?.change_person(&row).await?;
    unit.add_detail("duties", row.duties.join(", "));
    unit.commit_audited().await?;
    Ok(MaybePending::Done(2, show(PersonRow { version: 2, ..row })))
}

/// Nobody gives a duty that they lack.
pub fn allow_giving(unit: &UnitOfWork, before: &[String], after: &[String]) -> ApiResult<()> {
    match after
        .iter()
        .find(|duty| !before.contains(duty) && !unit.person.duties.contains(duty))
    {
        None => Ok(()),
        Some(duty) => Err(ApiError::forbidden(
            format!("You lack the duty `{duty}`, and nobody gives a duty that they lack."),
            "Ask somebody who holds it, and `people`.",
        )),
    }
}

/// One person.
#[utoipa::path(context_path = "", responses((status = 200, body = Person)))]
#[get("/api/v1/people/<person>")]
pub async fn read(mut unit: UnitOfWork, person: &str) -> ApiResult<Versioned<Person>> {
    let row = unit.tx()?.person(id(person)?).await?;
    unit.commit().await?;
    Ok(Versioned(row.version, show(row)))
}

/// Changes a person: name, state, duties, password.
#[utoipa::path(context_path = "", request_body = ChangePerson, responses((status = 200, body = Person)))]
#[patch("/api/v1/people/<person>", data = "<body>")]
pub async fn change(
    person: &str,
    version: IfMatch,
    body: Call<ChangePerson>,
) -> ApiResult<MaybePending<Person>> {
    let Call(mut unit, body) = body;
    let target = id(person)?;
    let acting_now = unit.now;
    unit.begin_audit("person.change", "person", Some(target), "");
    let mut row = unit.tx()?.person(target).await?;
    unit.set_target(target, &row.sign_in_name);
    unit.duty("people")?;
    if target == unit.person.id && (body.state.is_some() || body.duties.is_some()) {
        return Err(ApiError::forbidden(
            "Nobody changes their own state or duties.",
            "Ask another holder of the duty `people`.",
        ));
    }
    if let Some(name) = &body.display_name {
        row.display_name = named("display_name", name)?;
        unit.add_detail("display_name", row.display_name.clone());
    }
    let mut pending = None;
    if let Some(wanted) = &body.duties {
        let wanted = duties(wanted)?;
        allow_giving(&unit, &row.duties, &wanted)?;
        if wanted.iter().any(|duty| !row.duties.contains(duty)) {
            let summary = format!("Give {} the duties {}", row.display_name, wanted.join(", "));
            pending = Some((
                Act::GiveDuties {
                    person: target,
                    version: version.0,
                    duties: wanted.clone(),
                },
                summary,
            ));
        }
        row.duties = wanted;
        unit.add_detail("duties", row.duties.join(", "));
    }
    if row.sort == "client"
        && (body.password.is_some()
            || body
                .duties
                .as_ref()
                .is_some_and(|duties| !duties.is_empty()))
    {
        return Err(ApiError::field(
            "password",
            "a client has a secret instead, and no duties",
        ));
    }
    if let Some(password) = &body.password {
        let password = secret(password);
        check_password(&password).map_err(|problem| ApiError::field("password", problem))?;
        let phc = hash_password(&mut unit.app.rng()?, &password).map_err(ApiError::internal)?;
        let powerful =
            !row.duties.is_empty() || unit.tx()?.brings_power(target, None, acting_now).await?;
        if row.password_phc.is_some() && powerful && target != unit.person.id {
            let summary = format!("Reset the password of {}", row.display_name);
            pending = Some((
                Act::ResetPassword {
                    person: target,
                    version: version.0,
                    phc: phc.clone(),
                },
                summary,
            ));
        }
        row.password_phc = Some(phc);
        row.sign_in_by = Some(unit.person.id);
        if row.state == "invited" {
            row.state = "active".into();
        }
        unit.add_detail("password", "set");
    }
    if let Some((act, summary)) = pending
        && needs_second(&mut unit, &act).await?
    {
        if body.display_name.is_some()
            || body.state.is_some()
            || (body.duties.is_some() && body.password.is_some())
        {
            return Err(ApiError::conflict(
                "needs-second-person",
                "This waits for a second person, and is changed by itself.",
                "Send it again without the other changes.",
            ));
        }
        if let Some(pending) = propose(&mut unit, act, &summary).await? {
            return Ok(MaybePending::Pending(pending));
        }
    }
    if let Some(state) = &body.state {
        if !["active", "suspended", "left"].contains(&state.as_str()) {
            return Err(ApiError::field("state", "it is active, suspended or left"));
        }
        if state == "active" && row.password_phc.is_none() && row.sort != "client" {
            return Err(ApiError::field("state", "set a password first"));
        }
        row.state.clone_from(state);
        unit.add_detail("state", state.clone());
    }
    row.version = version.0;
    let now = unit.now;
    unit.tx()?.change_person(&row).await?;
    if row.state != "active" || body.password.is_some() {
        unit.tx()?.end_sessions_of(target, None, now).await?;
    }
    unit.commit_audited().await?;
    row.version += 1;
    Ok(MaybePending::Done(row.version, show(row)))
}

async fn show_group(unit: &mut UnitOfWork, row: GroupRow) -> ApiResult<Group> {
    let names = names(unit).await?;
    let mut members: Vec<Member> = unit
        .tx()?
        .members(Some(row.id))
        .await?
        .iter()
        .map(|row| member(row.member, row.member_is_group, &names))
        .collect();
    members.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(Group {
        id: row.id,
        name: row.name,
        members,
        version: row.version,
    })
}

/// The groups.
#[utoipa::path(context_path = "", params(("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)), responses((status = 200, body = Page<Group>)))]
#[get("/api/v1/groups?<cursor>&<limit>")]
pub async fn groups(
    mut unit: UnitOfWork,
    cursor: Option<&str>,
    limit: Option<i64>,
) -> ApiResult<Sent<Page<Group>>> {
    let paging = paging::<String>(cursor, limit)?;
    let rows = unit
        .tx()?
        .groups(paging.after.as_deref(), paging.most + 1)
        .await?;
    let names = names(&mut unit).await?;
    let mut members: BTreeMap<Uuid, Vec<Member>> = BTreeMap::new();
    for row in unit.tx()?.members(None).await? {
        members.entry(row.group_id).or_default().push(member(
            row.member,
            row.member_is_group,
            &names,
        ));
    }
    unit.commit().await?;
    let show = |row: GroupRow| {
        let mut members = members.get(&row.id).cloned().unwrap_or_default();
        members.sort_by(|a, b| a.name.cmp(&b.name));
        Group {
            id: row.id,
            name: row.name,
            members,
            version: row.version,
        }
    };
    Ok(Sent(page(rows, paging.most, |row| row.name.clone(), show)))
}

/// Adds a group.
#[utoipa::path(context_path = "", request_body = NewGroup, responses((status = 200, body = Group)))]
#[post("/api/v1/groups", data = "<body>")]
pub async fn add_group(body: Call<NewGroup>) -> ApiResult<Versioned<Group>> {
    let Call(mut unit, body) = body;
    unit.begin_audit("group.add", "group", None, &body.name);
    unit.duty("people")?;
    let row = GroupRow {
        id: Uuid::now_v7(),
        organisation: unit.organisation(),
        name: named("name", &body.name)?,
        created_at: unit.now,
        version: 1,
    };
    unit.tx()?.add_group(&row).await?;
    unit.set_target(row.id, &row.name);
    unit.commit_audited().await?;
    Ok(Versioned(
        1,
        Group {
            id: row.id,
            name: row.name,
            members: vec![],
            version: 1,
        },
    ))
}

/// Renames a group.
#[utoipa::path(context_path = "", request_body = NewGroup, responses((status = 200, body = Group)))]
#[patch("/api/v1/groups/<group>", data = "<body>")]
pub async fn rename_group(
    group: &str,
    version: IfMatch,
    body: Call<NewGroup>,
) -> ApiResult<Versioned<Group>> {
    let Call(mut unit, body) = body;
    let target = id(group)?;
    unit.begin_audit("group.rename", "group", Some(target), "");
    let mut row = unit.tx()?.group(target).await?;
    unit.set_target(target, &row.name);
    unit.duty("people")?;
    row.name = named("name", &body.name)?;
    unit.add_detail("name", row.name.clone());
    unit.tx()?
        .rename_group(target, &row.name, version.0)
        .await?;
    row.version = version.0 + 1;
    let shown = show_group(&mut unit, row).await?;
    unit.commit_audited().await?;
    Ok(Versioned(shown.version, shown))
}

/// Removes a group; grants to it end.
#[utoipa::path(context_path = "", responses((status = 200)))]
#[delete("/api/v1/groups/<group>")]
pub async fn remove_group(mut unit: UnitOfWork, group: &str, version: IfMatch) -> ApiResult<()> {
    let target = id(group)?;
    unit.begin_audit("group.remove", "group", Some(target), "");
    let row = unit.tx()?.group(target).await?;
    unit.set_target(target, &row.name);
    unit.duty("people")?;
    unit.tx()?.remove_group(target, version.0).await?;
    unit.commit_audited().await?;
    Ok(())
}

/// Puts a person or a group into a group, in the transaction that is under way.
pub async fn join(unit: &mut UnitOfWork, target: Uuid, subject: Uuid) -> ApiResult<GroupRow> {
    let (row, member) = joining(unit, target, subject).await?;
    unit.tx()?.add_member(&member).await?;
    Ok(row)
}

/// The group, and the membership that is asked for, with all that could refuse it.
pub async fn joining(
    unit: &mut UnitOfWork,
    target: Uuid,
    subject: Uuid,
) -> ApiResult<(GroupRow, MemberRow)> {
    unit.begin_audit("group.join", "group", Some(target), "");
    let row = unit.tx()?.group(target).await?;
    unit.set_target(target, &row.name);
    unit.duty("people")?;
    let (name, is_group) = match unit.tx()?.person(subject).await {
        Ok(person) => (person.display_name, false),
        Err(_) => (
            unit.tx()?
                .group(subject)
                .await
                .map_err(|_| ApiError::unknown("person or group"))?
                .name,
            true,
        ),
    };
    if subject == target {
        return Err(ApiError::field("member", "a group is no member of itself"));
    }
    if is_group && unit.tx()?.subjects_of(target).await?.contains(&subject) {
        // Two people who close a ring in the same moment are not seen here; rights are worked out
        // all the same, since a ring adds nothing to them.
        return Err(ApiError::field(
            "member",
            format!(
                "{} is in {name} already, directly or through other groups; a ring of groups grants nothing more",
                row.name
            ),
        ));
    }
    unit.add_detail("member", name);
    let organisation = unit.organisation();
    Ok((
        row,
        MemberRow {
            organisation,
            group_id: target,
            member: subject,
            member_is_group: is_group,
        },
    ))
}

/// Takes a person or a group out of a group, in the transaction that is under way.
pub async fn leave(unit: &mut UnitOfWork, target: Uuid, subject: Uuid) -> ApiResult<GroupRow> {
    unit.begin_audit("group.leave", "group", Some(target), "");
    let row = unit.tx()?.group(target).await?;
    unit.set_target(target, &row.name);
    unit.duty("people")?;
    let name = names(unit).await?.remove(&subject).unwrap_or_default();
    unit.add_detail("member", name);
    unit.tx()?.remove_member(target, subject).await?;
    Ok(row)
}

/// Puts a person or a group into a group.
#[utoipa::path(context_path = "", responses((status = 200, body = Group)))]
#[put("/api/v1/groups/<group>/members/<subject>")]
pub async fn add_member(
    mut unit: UnitOfWork,
    group: &str,
    subject: &str,
) -> ApiResult<MaybePending<Group>> {
    let (group, subject) = (id(group)?, id(subject)?);
    let (row, member) = joining(&mut unit, group, subject).await?;
    let (me, now) = (unit.person.id, unit.now);
    if unit.tx()?.brings_power(group, Some(me), now).await? {
        let name = names(&mut unit).await?.remove(&subject).unwrap_or_default();
        let summary = format!(
            "Add {name} to {}, which brings stewardship or approvals where the proposer is no steward",
            row.name
        );
        if let Some(pending) = propose(
            &mut unit,
            Act::JoinGroup {
                group,
                member: subject,
            },
            &summary,
        )
        .await?
        {
            return Ok(MaybePending::Pending(pending));
        }
    }
    unit.tx()?.add_member(&member).await?;
    let shown = show_group(&mut unit, row).await?;
    unit.commit_audited().await?;
    Ok(MaybePending::Done(shown.version, shown))
}

/// Takes a person or a group out of a group.
#[utoipa::path(context_path = "", responses((status = 200, body = Group)))]
#[delete("/api/v1/groups/<group>/members/<subject>")]
pub async fn remove_member(
    mut unit: UnitOfWork,
    group: &str,
    subject: &str,
) -> ApiResult<Versioned<Group>> {
    let row = leave(&mut unit, id(group)?, id(subject)?).await?;
    let shown = show_group(&mut unit, row).await?;
    unit.commit_audited().await?;
    Ok(Versioned(shown.version, shown))
}

//! People and groups.

use std::collections::BTreeMap;

use jexlin_api::{ChangePerson, Group, Member, NewGroup, NewPerson, Page, Person};
use jexlin_core::names::Name;
use jexlin_core::vault::sign_in::{check_password, hash_password};
use jexlin_store::{GroupRow, MemberRow, PersonRow};
use rocket::{Route, delete, get, patch, post, put, routes};
use uuid::Uuid;

use super::door::{DUTIES, secret};
use super::exchange::{Call, IfMatch, Sent, Versioned, id, page, paging};
use super::pending::{Act, MaybePending, needs_second, propose};
use crate::acting::Acting;
use crate::problem::{Answer, Fault};

pub fn routes() -> Vec<Route> {
    routes![list, add, read, change, groups, add_group, rename_group, remove_group, add_member, remove_member]
}

/// Parses a name of the field `name`, or says what is wrong with it.
pub fn named(field: &str, text: &str) -> Answer<String> {
    Name::parse(text).map(Name::into_string).map_err(|problem| Fault::field(field, problem.to_string()))
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

fn duties(wanted: &[String]) -> Answer<Vec<String>> {
    match wanted.iter().find(|duty| !DUTIES.contains(&duty.as_str())) {
        Some(_) => Err(Fault::field("duties", format!("the duties are {}", DUTIES.join(", ")))),
        None => Ok(DUTIES.iter().filter(|duty| wanted.iter().any(|wanted| wanted == *duty)).map(|duty| (*duty).to_owned()).collect()),
    }
}

/// The people of the organisation. Everybody may know their colleagues' names, to share with them.
#[utoipa::path(context_path = "", params(("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)), responses((status = 200, body = Page<Person>)))]
#[get("/api/v1/people?<cursor>&<limit>")]
pub async fn list(mut acting: Acting, cursor: Option<&str>, limit: Option<i64>) -> Answer<Sent<Page<Person>>> {
    let paging = paging::<String>(cursor, limit)?;
    let rows = acting.tx()?.people(paging.after.as_deref(), paging.most + 1).await?;
    acting.seen().await?;
    Ok(Sent(page(rows, paging.most, |row| row.sign_in_name.clone(), show)))
}

/// Adds a person.
#[utoipa::path(context_path = "", request_body = NewPerson, responses((status = 200, body = Person)))]
#[post("/api/v1/people", data = "<body>")]
pub async fn add(body: Call<NewPerson>) -> Answer<MaybePending<Person>> {
    let Call(mut acting, body) = body;
    acting.intends("person.add", "person", None, &body.sign_in_name);
    acting.duty("people")?;
    let password_phc = match &body.password {
        None => None,
        Some(password) => {
            let password = secret(password);
            check_password(&password).map_err(|problem| Fault::field("password", problem))?;
            Some(hash_password(&mut acting.app.rng()?, &password).map_err(Fault::internal)?)
        }
    };
    let wanted = duties(&body.duties)?;
    allow_giving(&acting, &[], &wanted)?;
    let row = PersonRow {
        id: Uuid::now_v7(),
        organisation: acting.organisation(),
        sign_in_name: named("sign_in_name", &body.sign_in_name)?,
        display_name: named("display_name", &body.display_name)?,
        state: if password_phc.is_some() { "active" } else { "invited" }.into(),
        sign_in_by: password_phc.is_some().then_some(acting.person.id),
        password_phc,
        duties: vec![],
        created_at: acting.now,
        version: 1,
        sort: "person".into(),
        secret_hash: None,
    };
    acting.tx()?.add_person(&row).await?;
    acting.naming(row.id, &row.sign_in_name);
    acting.noting("state", row.state.clone());
    if wanted.is_empty() {
        acting.done().await?;
        return Ok(MaybePending::Done(1, show(row)));
    }
    // The person is there in any case; the duties may wait for a second person.
    let act = Act::GiveDuties { person: row.id, version: 1, duties: wanted.clone() };
    if needs_second(&mut acting, &act).await? {
        acting.also().await?;
        let summary = format!("Give {} the duties {}", row.display_name, wanted.join(", "));
        if let Some(pending) = propose(&mut acting, act, &summary).await? {
            return Ok(MaybePending::Pending(pending));
        }
    }
    let row = PersonRow { duties: wanted, ..row };
    acting.tx()?.change_person(&row).await?;
    acting.noting("duties", row.duties.join(", "));
    acting.done().await?;
    Ok(MaybePending::Done(2, show(PersonRow { version: 2, ..row })))
}

/// Nobody gives a duty that they lack.
pub fn allow_giving(acting: &Acting, before: &[String], after: &[String]) -> Answer<()> {
    match after.iter().find(|duty| !before.contains(duty) && !acting.person.duties.contains(duty)) {
        None => Ok(()),
        Some(duty) => {
            Err(Fault::forbidden(format!("You lack the duty `{duty}`, and nobody gives a duty that they lack."), "Ask somebody who holds it, and `people`."))
        }
    }
}

/// One person.
#[utoipa::path(context_path = "", responses((status = 200, body = Person)))]
#[get("/api/v1/people/<person>")]
pub async fn read(mut acting: Acting, person: &str) -> Answer<Versioned<Person>> {
    let row = acting.tx()?.person(id(person)?).await?;
    acting.seen().await?;
    Ok(Versioned(row.version, show(row)))
}

/// Changes a person: name, state, duties, password.
#[utoipa::path(context_path = "", request_body = ChangePerson, responses((status = 200, body = Person)))]
#[patch("/api/v1/people/<person>", data = "<body>")]
pub async fn change(person: &str, version: IfMatch, body: Call<ChangePerson>) -> Answer<MaybePending<Person>> {
    let Call(mut acting, body) = body;
    let target = id(person)?;
    let acting_now = acting.now;
    acting.intends("person.change", "person", Some(target), "");
    let mut row = acting.tx()?.person(target).await?;
    acting.naming(target, &row.sign_in_name);
    acting.duty("people")?;
    if target == acting.person.id && (body.state.is_some() || body.duties.is_some()) {
        return Err(Fault::forbidden("Nobody changes their own state or duties.", "Ask another holder of the duty `people`."));
    }
    if let Some(name) = &body.display_name {
        row.display_name = named("display_name", name)?;
        acting.noting("display_name", row.display_name.clone());
    }
    let mut pending = None;
    if let Some(wanted) = &body.duties {
        let wanted = duties(wanted)?;
        allow_giving(&acting, &row.duties, &wanted)?;
        if wanted.iter().any(|duty| !row.duties.contains(duty)) {
            let summary = format!("Give {} the duties {}", row.display_name, wanted.join(", "));
            pending = Some((Act::GiveDuties { person: target, version: version.0, duties: wanted.clone() }, summary));
        }
        row.duties = wanted;
        acting.noting("duties", row.duties.join(", "));
    }
    if row.sort == "client" && (body.password.is_some() || body.duties.as_ref().is_some_and(|duties| !duties.is_empty())) {
        return Err(Fault::field("password", "a client has a secret instead, and no duties"));
    }
    if let Some(password) = &body.password {
        let password = secret(password);
        check_password(&password).map_err(|problem| Fault::field("password", problem))?;
        let phc = hash_password(&mut acting.app.rng()?, &password).map_err(Fault::internal)?;
        let powerful = !row.duties.is_empty() || acting.tx()?.brings_power(target, None, acting_now).await?;
        if row.password_phc.is_some() && powerful && target != acting.person.id {
            let summary = format!("Reset the password of {}", row.display_name);
            pending = Some((Act::ResetPassword { person: target, version: version.0, phc: phc.clone() }, summary));
        }
        row.password_phc = Some(phc);
        row.sign_in_by = Some(acting.person.id);
        if row.state == "invited" {
            row.state = "active".into();
        }
        acting.noting("password", "set");
    }
    if let Some((act, summary)) = pending
        && needs_second(&mut acting, &act).await?
    {
        if body.display_name.is_some() || body.state.is_some() || (body.duties.is_some() && body.password.is_some()) {
            return Err(Fault::conflict(
                "needs-second-person",
                "This waits for a second person, and is changed by itself.",
                "Send it again without the other changes.",
            ));
        }
        if let Some(pending) = propose(&mut acting, act, &summary).await? {
            return Ok(MaybePending::Pending(pending));
        }
    }
    if let Some(state) = &body.state {
        if !["active", "suspended", "left"].contains(&state.as_str()) {
            return Err(Fault::field("state", "it is active, suspended or left"));
        }
        if state == "active" && row.password_phc.is_none() && row.sort != "client" {
            return Err(Fault::field("state", "set a password first"));
        }
        row.state.clone_from(state);
        acting.noting("state", state.clone());
    }
    row.version = version.0;
    let now = acting.now;
    acting.tx()?.change_person(&row).await?;
    if row.state != "active" || body.password.is_some() {
        acting.tx()?.end_sessions_of(target, None, now).await?;
    }
    acting.done().await?;
    row.version += 1;
    Ok(MaybePending::Done(row.version, show(row)))
}

/// Names of people and groups by identifier.
pub async fn names(acting: &mut Acting) -> Answer<BTreeMap<Uuid, String>> {
    let people = acting.tx()?.people(None, i64::MAX).await?;
    let groups = acting.tx()?.groups(None, i64::MAX).await?;
    Ok(people.into_iter().map(|row| (row.id, row.display_name)).chain(groups.into_iter().map(|row| (row.id, row.name))).collect())
}

/// A subject as the interface shows it.
pub fn member(id: Uuid, is_group: bool, names: &BTreeMap<Uuid, String>) -> Member {
    Member { id, sort: if is_group { "group" } else { "person" }.into(), name: names.get(&id).cloned().unwrap_or_default() }
}

async fn show_group(acting: &mut Acting, row: GroupRow) -> Answer<Group> {
    let names = names(acting).await?;
    let mut members: Vec<Member> = acting.tx()?.members(Some(row.id)).await?.iter().map(|row| member(row.member, row.member_is_group, &names)).collect();
    members.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(Group { id: row.id, name: row.name, members, version: row.version })
}

/// The groups.
#[utoipa::path(context_path = "", params(("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)), responses((status = 200, body = Page<Group>)))]
#[get("/api/v1/groups?<cursor>&<limit>")]
pub async fn groups(mut acting: Acting, cursor: Option<&str>, limit: Option<i64>) -> Answer<Sent<Page<Group>>> {
    let paging = paging::<String>(cursor, limit)?;
    let rows = acting.tx()?.groups(paging.after.as_deref(), paging.most + 1).await?;
    let names = names(&mut acting).await?;
    let mut members: BTreeMap<Uuid, Vec<Member>> = BTreeMap::new();
    for row in acting.tx()?.members(None).await? {
        members.entry(row.group_id).or_default().push(member(row.member, row.member_is_group, &names));
    }
    acting.seen().await?;
    let show = |row: GroupRow| {
        let mut members = members.get(&row.id).cloned().unwrap_or_default();
        members.sort_by(|a, b| a.name.cmp(&b.name));
        Group { id: row.id, name: row.name, members, version: row.version }
    };
    Ok(Sent(page(rows, paging.most, |row| row.name.clone(), show)))
}

/// Adds a group.
#[utoipa::path(context_path = "", request_body = NewGroup, responses((status = 200, body = Group)))]
#[post("/api/v1/groups", data = "<body>")]
pub async fn add_group(body: Call<NewGroup>) -> Answer<Versioned<Group>> {
    let Call(mut acting, body) = body;
    acting.intends("group.add", "group", None, &body.name);
    acting.duty("people")?;
    let row = GroupRow { id: Uuid::now_v7(), organisation: acting.organisation(), name: named("name", &body.name)?, created_at: acting.now, version: 1 };
    acting.tx()?.add_group(&row).await?;
    acting.naming(row.id, &row.name);
    acting.done().await?;
    Ok(Versioned(1, Group { id: row.id, name: row.name, members: vec![], version: 1 }))
}

/// Renames a group.
#[utoipa::path(context_path = "", request_body = NewGroup, responses((status = 200, body = Group)))]
#[patch("/api/v1/groups/<group>", data = "<body>")]
pub async fn rename_group(group: &str, version: IfMatch, body: Call<NewGroup>) -> Answer<Versioned<Group>> {
    let Call(mut acting, body) = body;
    let target = id(group)?;
    acting.intends("group.rename", "group", Some(target), "");
    let mut row = acting.tx()?.group(target).await?;
    acting.naming(target, &row.name);
    acting.duty("people")?;
    row.name = named("name", &body.name)?;
    acting.noting("name", row.name.clone());
    acting.tx()?.rename_group(target, &row.name, version.0).await?;
    row.version = version.0 + 1;
    let shown = show_group(&mut acting, row).await?;
    acting.done().await?;
    Ok(Versioned(shown.version, shown))
}

/// Removes a group; grants to it end.
#[utoipa::path(context_path = "", responses((status = 200)))]
#[delete("/api/v1/groups/<group>")]
pub async fn remove_group(mut acting: Acting, group: &str, version: IfMatch) -> Answer<()> {
    let target = id(group)?;
    acting.intends("group.remove", "group", Some(target), "");
    let row = acting.tx()?.group(target).await?;
    acting.naming(target, &row.name);
    acting.duty("people")?;
    acting.tx()?.remove_group(target, version.0).await?;
    acting.done().await?;
    Ok(())
}

/// Puts a person or a group into a group, in the transaction that is under way.
pub async fn join(acting: &mut Acting, target: Uuid, subject: Uuid) -> Answer<GroupRow> {
    let (row, member) = joining(acting, target, subject).await?;
    acting.tx()?.add_member(&member).await?;
    Ok(row)
}

/// The group, and the membership that is asked for, with all that could refuse it.
pub async fn joining(acting: &mut Acting, target: Uuid, subject: Uuid) -> Answer<(GroupRow, MemberRow)> {
    acting.intends("group.join", "group", Some(target), "");
    let row = acting.tx()?.group(target).await?;
    acting.naming(target, &row.name);
    acting.duty("people")?;
    let (name, is_group) = match acting.tx()?.person(subject).await {
        Ok(person) => (person.display_name, false),
        Err(_) => (acting.tx()?.group(subject).await.map_err(|_| Fault::unknown("person or group"))?.name, true),
    };
    if subject == target {
        return Err(Fault::field("member", "a group is no member of itself"));
    }
    if is_group && acting.tx()?.subjects_of(target).await?.contains(&subject) {
        // Two people who close a ring in the same moment are not seen here; rights are worked out
        // all the same, since a ring adds nothing to them.
        return Err(Fault::field(
            "member",
            format!("{} is in {name} already, directly or through other groups; a ring of groups grants nothing more", row.name),
        ));
    }
    acting.noting("member", name);
    let organisation = acting.organisation();
    Ok((row, MemberRow { organisation, group_id: target, member: subject, member_is_group: is_group }))
}

/// Takes a person or a group out of a group, in the transaction that is under way.
pub async fn leave(acting: &mut Acting, target: Uuid, subject: Uuid) -> Answer<GroupRow> {
    acting.intends("group.leave", "group", Some(target), "");
    let row = acting.tx()?.group(target).await?;
    acting.naming(target, &row.name);
    acting.duty("people")?;
    let name = names(acting).await?.remove(&subject).unwrap_or_default();
    acting.noting("member", name);
    acting.tx()?.remove_member(target, subject).await?;
    Ok(row)
}

/// Puts a person or a group into a group.
#[utoipa::path(context_path = "", responses((status = 200, body = Group)))]
#[put("/api/v1/groups/<group>/members/<subject>")]
pub async fn add_member(mut acting: Acting, group: &str, subject: &str) -> Answer<MaybePending<Group>> {
    let (group, subject) = (id(group)?, id(subject)?);
    let (row, member) = joining(&mut acting, group, subject).await?;
    let (me, now) = (acting.person.id, acting.now);
    if acting.tx()?.brings_power(group, Some(me), now).await? {
        let name = names(&mut acting).await?.remove(&subject).unwrap_or_default();
        let summary = format!("Add {name} to {}, which brings stewardship or approvals where the proposer is no steward", row.name);
        if let Some(pending) = propose(&mut acting, Act::JoinGroup { group, member: subject }, &summary).await? {
            return Ok(MaybePending::Pending(pending));
        }
    }
    acting.tx()?.add_member(&member).await?;
    let shown = show_group(&mut acting, row).await?;
    acting.done().await?;
    Ok(MaybePending::Done(shown.version, shown))
}

/// Takes a person or a group out of a group.
#[utoipa::path(context_path = "", responses((status = 200, body = Group)))]
#[delete("/api/v1/groups/<group>/members/<subject>")]
pub async fn remove_member(mut acting: Acting, group: &str, subject: &str) -> Answer<Versioned<Group>> {
    let row = leave(&mut acting, id(group)?, id(subject)?).await?;
    let shown = show_group(&mut acting, row).await?;
    acting.done().await?;
    Ok(Versioned(shown.version, shown))
}

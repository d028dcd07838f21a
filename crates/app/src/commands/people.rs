//! People and groups.

use std::collections::BTreeMap;

use jexlin_api::ErrorCode;
use jexlin_api::{EditPerson, Group, Member, NewGroup, NewPerson, Person};
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::auth::{check_password, hash_password};
use jexlin_core::people::Duty;
use jexlin_core::people::PersonState;
use jexlin_core::people::PersonType;
use jexlin_core::words::Word as _;
use jexlin_store::Stored;
use jexlin_store::{GroupRow, MemberRow, PersonRow};
use uuid::Uuid;

use super::auth::secret;
use super::names::{member, named, names};
use super::second_person::Act;
use super::second_person::MaybePending;
use super::second_person::needs_second;
use super::second_person::propose;
use crate::error::{AppError, AppResult};
use crate::paging::{Paged, Paging, Versioned};
use crate::unit_of_work::UnitOfWork;

/// A person or a client as the interface shows it.
pub fn show(row: PersonRow) -> Person {
    Person {
        id: row.id,
        person_type: row.person_type.0,
        sign_in_name: row.sign_in_name,
        display_name: row.display_name,
        state: row.state.0,
        duties: row.duties.into_iter().map(|duty| duty.0).collect(),
        version: row.version,
    }
}

/// The duties that are asked for, each once and in order.
fn duties(wanted: &[Duty]) -> Vec<Duty> {
    let mut wanted = wanted.to_vec();
    wanted.sort();
    wanted.dedup();
    wanted
}

/// Duties, for a sentence.
#[must_use]
pub fn words(duties: &[Duty]) -> String {
    let words: Vec<&str> = duties.iter().map(|duty| duty.word()).collect();
    words.join(", ")
}

/// The people of the organisation. Everybody may know their colleagues' names, to share with them.
pub async fn list(
    unit: &mut UnitOfWork,
    paging: Paging<String>,
) -> AppResult<Paged<Person, String>> {
    let rows = unit
        .tx()?
        .people(paging.after.as_deref(), paging.limit + 1)
        .await?;
    unit.commit().await?;
    Ok(Paged::of(
        rows,
        paging.limit,
        |row| row.sign_in_name.clone(),
        show,
    ))
}

/// Adds a person.
pub async fn add(unit: &mut UnitOfWork, body: NewPerson) -> AppResult<MaybePending<Person>> {
    unit.begin(
        Action::PersonAdd,
        TargetType::Person,
        None,
        &body.sign_in_name,
    )?;
    let password_phc = match &body.password {
        None => None,
        Some(password) => {
            let password = secret(password);
            check_password(&password).map_err(|problem| AppError::field("password", problem))?;
            Some(hash_password(&mut unit.app.rng()?, &password).map_err(AppError::internal)?)
        }
    };
    let wanted = duties(&body.duties);
    allow_giving(unit, &[], &wanted)?;
    let row = PersonRow {
        id: Uuid::now_v7(),
        organisation: unit.organisation(),
        sign_in_name: named("sign_in_name", &body.sign_in_name)?,
        display_name: named("display_name", &body.display_name)?,
        state: if password_phc.is_some() {
            PersonState::Active
        } else {
            PersonState::Invited
        }
        .into(),
        sign_in_by: password_phc.is_some().then_some(unit.person.id),
        password_phc,
        duties: vec![],
        created_at: unit.now,
        version: 1,
        person_type: PersonType::Person.into(),
        secret_hash: None,
    };
    unit.tx()?.add_person(&row).await?;
    unit.set_target(row.id, &row.sign_in_name);
    unit.add_detail("state", row.state.0.word());
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
    if needs_second(unit, &act).await? {
        unit.record().await?;
        let summary = format!("Give {} the duties {}", row.display_name, words(&wanted));
        if let Some(pending) = propose(unit, act, &summary).await? {
            return Ok(MaybePending::Pending(pending));
        }
    }
    let row = PersonRow {
        duties: wanted.into_iter().map(Stored).collect(),
        ..row
    };
    unit.tx()?.edit_person(&row).await?;
    unit.add_detail("duties", words(&row.held_duties()));
    unit.commit_audited().await?;
    Ok(MaybePending::Done(2, show(PersonRow { version: 2, ..row })))
}

/// Nobody gives a duty that they lack.
pub fn allow_giving(unit: &UnitOfWork, before: &[Duty], after: &[Duty]) -> AppResult<()> {
    match after
        .iter()
        .find(|duty| !before.contains(duty) && unit.duty(**duty).is_err())
    {
        None => Ok(()),
        Some(duty) => Err(AppError::forbidden(
            format!("You lack the duty `{duty}`, so you cannot give it."),
            "Ask a person who holds both that duty and `people`.",
        )),
    }
}

/// One person.
pub async fn read(unit: &mut UnitOfWork, person: Uuid) -> AppResult<Versioned<Person>> {
    let row = unit.tx()?.person(person).await?;
    unit.commit().await?;
    Ok(Versioned(row.version, show(row)))
}

/// Changes a person: name, state, duties, password.
pub async fn edit(
    unit: &mut UnitOfWork,
    person: Uuid,
    version: i32,
    body: EditPerson,
) -> AppResult<MaybePending<Person>> {
    let target = person;
    let acting_now = unit.now;
    unit.begin(Action::PersonEdit, TargetType::Person, Some(target), "")?;
    let mut row = unit.tx()?.person(target).await?;
    unit.set_target(target, &row.sign_in_name);
    if target == unit.person.id && (body.state.is_some() || body.duties.is_some()) {
        return Err(AppError::forbidden(
            "You cannot change your own state or duties.",
            "Ask another holder of the duty `people`.",
        ));
    }
    if let Some(name) = &body.display_name {
        row.display_name = named("display_name", name)?;
        unit.add_detail("display_name", row.display_name.clone());
    }
    let mut pending = None;
    if let Some(wanted) = &body.duties {
        let wanted = duties(wanted);
        allow_giving(unit, &row.held_duties(), &wanted)?;
        if wanted
            .iter()
            .any(|duty| !row.duties.contains(&Stored(*duty)))
        {
            let summary = format!("Give {} the duties {}", row.display_name, words(&wanted));
            pending = Some((
                Act::GiveDuties {
                    person: target,
                    version,
                    duties: wanted.clone(),
                },
                summary,
            ));
        }
        row.duties = wanted.into_iter().map(Stored).collect();
        unit.add_detail("duties", words(&row.held_duties()));
    }
    if row.person_type == PersonType::Client
        && (body.password.is_some()
            || body
                .duties
                .as_ref()
                .is_some_and(|duties| !duties.is_empty()))
    {
        return Err(AppError::field(
            "password",
            "a client has a secret instead, and no duties",
        ));
    }
    if let Some(password) = &body.password {
        let password = secret(password);
        check_password(&password).map_err(|problem| AppError::field("password", problem))?;
        let phc = hash_password(&mut unit.app.rng()?, &password).map_err(AppError::internal)?;
        let powerful =
            !row.duties.is_empty() || unit.tx()?.brings_power(target, None, acting_now).await?;
        if row.password_phc.is_some() && powerful && target != unit.person.id {
            let summary = format!("Reset the password of {}", row.display_name);
            pending = Some((
                Act::ResetPassword {
                    person: target,
                    version,
                    phc: phc.clone(),
                },
                summary,
            ));
        }
        row.password_phc = Some(phc);
        row.sign_in_by = Some(unit.person.id);
        if row.state == PersonState::Invited {
            row.state = PersonState::Active.into();
        }
        unit.add_detail("password", "set");
    }
    if let Some((act, summary)) = pending
        && needs_second(unit, &act).await?
    {
        if body.display_name.is_some()
            || body.state.is_some()
            || (body.duties.is_some() && body.password.is_some())
        {
            return Err(AppError::conflict(
                ErrorCode::NeedsSecondPerson,
                "This waits for a second person, and is changed by itself.",
                "Send it again without the other changes.",
            ));
        }
        if let Some(pending) = propose(unit, act, &summary).await? {
            return Ok(MaybePending::Pending(pending));
        }
    }
    if let Some(state) = body.state {
        if state == PersonState::Invited {
            return Err(AppError::field("state", "it is active, suspended or left"));
        }
        if state == PersonState::Active
            && row.password_phc.is_none()
            && row.person_type != PersonType::Client
        {
            return Err(AppError::field("state", "set a password first"));
        }
        row.state = state.into();
        unit.add_detail("state", state.word());
    }
    row.version = version;
    let now = unit.now;
    unit.tx()?.edit_person(&row).await?;
    if row.state != PersonState::Active || body.password.is_some() {
        unit.tx()?.end_sessions_of(target, None, now).await?;
    }
    unit.commit_audited().await?;
    row.version += 1;
    Ok(MaybePending::Done(row.version, show(row)))
}

async fn show_group(unit: &mut UnitOfWork, row: GroupRow) -> AppResult<Group> {
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
pub async fn groups(
    unit: &mut UnitOfWork,
    paging: Paging<String>,
) -> AppResult<Paged<Group, String>> {
    let rows = unit
        .tx()?
        .groups(paging.after.as_deref(), paging.limit + 1)
        .await?;
    let names = names(unit).await?;
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
    Ok(Paged::of(rows, paging.limit, |row| row.name.clone(), show))
}

/// Adds a group.
pub async fn add_group(unit: &mut UnitOfWork, body: NewGroup) -> AppResult<Versioned<Group>> {
    unit.begin(Action::GroupAdd, TargetType::Group, None, &body.name)?;
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
pub async fn rename_group(
    unit: &mut UnitOfWork,
    group: Uuid,
    version: i32,
    body: NewGroup,
) -> AppResult<Versioned<Group>> {
    let target = group;
    unit.begin(Action::GroupEdit, TargetType::Group, Some(target), "")?;
    let mut row = unit.tx()?.group(target).await?;
    unit.set_target(target, &row.name);
    row.name = named("name", &body.name)?;
    unit.add_detail("name", row.name.clone());
    unit.tx()?.rename_group(target, &row.name, version).await?;
    row.version = version + 1;
    let shown = show_group(unit, row).await?;
    unit.commit_audited().await?;
    Ok(Versioned(shown.version, shown))
}

/// Removes a group; grants to it end.
pub async fn remove_group(unit: &mut UnitOfWork, group: Uuid, version: i32) -> AppResult<()> {
    let target = group;
    unit.begin(Action::GroupRemove, TargetType::Group, Some(target), "")?;
    let row = unit.tx()?.group(target).await?;
    unit.set_target(target, &row.name);
    unit.tx()?.remove_group(target, version).await?;
    unit.commit_audited().await?;
    Ok(())
}

/// Puts a person or a group into a group, in the transaction that is under way.
pub async fn join(unit: &mut UnitOfWork, target: Uuid, subject: Uuid) -> AppResult<GroupRow> {
    let (row, member) = joining(unit, target, subject).await?;
    unit.tx()?.add_member(&member).await?;
    Ok(row)
}

/// The group, and the membership that is asked for, with all that could refuse it.
pub async fn joining(
    unit: &mut UnitOfWork,
    target: Uuid,
    subject: Uuid,
) -> AppResult<(GroupRow, MemberRow)> {
    unit.begin(Action::GroupJoin, TargetType::Group, Some(target), "")?;
    let row = unit.tx()?.group(target).await?;
    unit.set_target(target, &row.name);
    let (name, is_group) = match unit.tx()?.person(subject).await {
        Ok(person) => (person.display_name, false),
        Err(_) => (
            unit.tx()?
                .group(subject)
                .await
                .map_err(|_| AppError::unknown("person or group"))?
                .name,
            true,
        ),
    };
    if subject == target {
        return Err(AppError::field("member", "a group is no member of itself"));
    }
    if is_group && unit.tx()?.subjects_of(target).await?.contains(&subject) {
        // Two people who close a ring in the same moment are not seen here; rights are worked out
        // all the same, since a ring adds nothing to them.
        return Err(AppError::field(
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
pub async fn leave(unit: &mut UnitOfWork, target: Uuid, subject: Uuid) -> AppResult<GroupRow> {
    unit.begin(Action::GroupLeave, TargetType::Group, Some(target), "")?;
    let row = unit.tx()?.group(target).await?;
    unit.set_target(target, &row.name);
    let name = names(unit).await?.remove(&subject).unwrap_or_default();
    unit.add_detail("member", name);
    unit.tx()?.remove_member(target, subject).await?;
    Ok(row)
}

/// Puts a person or a group into a group.
pub async fn add_member(
    unit: &mut UnitOfWork,
    group: Uuid,
    subject: Uuid,
) -> AppResult<MaybePending<Group>> {
    let (group, subject) = (group, subject);
    let (row, member) = joining(unit, group, subject).await?;
    let (me, now) = (unit.person.id, unit.now);
    if unit.tx()?.brings_power(group, Some(me), now).await? {
        let name = names(unit).await?.remove(&subject).unwrap_or_default();
        let summary = format!(
            "Add {name} to {}, which brings stewardship or approvals where the proposer is no steward",
            row.name
        );
        if let Some(pending) = propose(
            unit,
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
    let shown = show_group(unit, row).await?;
    unit.commit_audited().await?;
    Ok(MaybePending::Done(shown.version, shown))
}

/// Takes a person or a group out of a group.
pub async fn remove_member(
    unit: &mut UnitOfWork,
    group: Uuid,
    subject: Uuid,
) -> AppResult<Versioned<Group>> {
    let row = leave(unit, group, subject).await?;
    let shown = show_group(unit, row).await?;
    unit.commit_audited().await?;
    Ok(Versioned(shown.version, shown))
}

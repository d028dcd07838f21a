//! Groups and their members.

use jexlin_api::{Group, Member, NewGroup};
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::names::composed;
use jexlin_store::{GroupRow, MemberRow};
use std::collections::BTreeMap;
use uuid::Uuid;

use super::names::{member, named, names};
use super::second_person::Act;
use super::second_person::MaybePending;
use super::second_person::propose;
use crate::error::{AppError, AppResult};
use crate::paging::{Paged, Paging, Versioned};
use crate::unit_of_work::UnitOfWork;

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
        revision: row.revision,
    })
}

/// The groups.
pub async fn groups(
    unit: &mut UnitOfWork,
    name: Option<&str>,
    paging: Paging<String>,
) -> AppResult<Paged<Group, String>> {
    let name = name.map(composed);
    let rows = unit
        .tx()?
        .groups(name.as_deref(), paging.after.as_deref(), paging.limit + 1)
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
            revision: row.revision,
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
        revision: 1,
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
            revision: 1,
        },
    ))
}

/// Renames a group.
pub async fn rename_group(
    unit: &mut UnitOfWork,
    group: Uuid,
    revision: i32,
    body: NewGroup,
) -> AppResult<Versioned<Group>> {
    let target = group;
    unit.begin(Action::GroupEdit, TargetType::Group, Some(target), "")?;
    let mut row = unit.tx()?.group(target).await?;
    unit.set_target(target, &row.name);
    row.name = named("name", &body.name)?;
    unit.add_detail("name", row.name.clone());
    unit.tx()?.rename_group(target, &row.name, revision).await?;
    row.revision = revision + 1;
    let shown = show_group(unit, row).await?;
    unit.commit_audited().await?;
    Ok(Versioned(shown.revision, shown))
}

/// Removes a group; grants to it end.
pub async fn remove_group(unit: &mut UnitOfWork, group: Uuid, revision: i32) -> AppResult<()> {
    let target = group;
    unit.begin(Action::GroupRemove, TargetType::Group, Some(target), "")?;
    let row = unit.tx()?.group(target).await?;
    unit.set_target(target, &row.name);
    unit.tx()?.remove_group(target, revision).await?;
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
    unit.begin(Action::GroupAddMember, TargetType::Group, Some(target), "")?;
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
        return Err(AppError::field(
            "member",
            "a group cannot be a member of itself",
        ));
    }
    if is_group && unit.tx()?.subjects_of(target).await?.contains(&subject) {
        // Two people who close a ring in the same moment are not seen here; rights are worked out
        // all the same, since a ring adds nothing to them.
        return Err(AppError::field(
            "member",
            format!(
                "{} is already in {name}, directly or through other groups; groups cannot form a ring",
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
    unit.begin(
        Action::GroupRemoveMember,
        TargetType::Group,
        Some(target),
        "",
    )?;
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
    Ok(MaybePending::Done(shown.revision, shown))
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
    Ok(Versioned(shown.revision, shown))
}

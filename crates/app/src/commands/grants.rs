//! Grants, and the explanation of a level.

use std::collections::HashSet;

use chrono::{DateTime, Utc};
use jexlin_api::ErrorCode;
use jexlin_api::{AccessHolder, EditGrant, Explanation, Grant, NewGrant, Page, Way};
use jexlin_core::access::{Level, Stop, explain as explain_ways, in_force};
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::names::check_note;
use jexlin_core::people::Duty;
use jexlin_core::people::PersonState;
use jexlin_core::people::SubjectType;
use jexlin_core::words::Word as _;
use jexlin_store::{GrantRow, GrantView, Spot, Target};
use uuid::Uuid;

use crate::error::{AppError, AppResult};
use crate::guards::{allow_sharing, allow_steward, spot, target_of, target_type_of};
use crate::paging::{Paged, Paging, Versioned};
use crate::unit_of_work::UnitOfWork;

fn show(row: GrantView) -> Grant {
    Grant {
        id: row.id,
        target_type: if row.folder_id.is_some() {
            TargetType::Folder
        } else {
            TargetType::Credential
        },
        target: row.folder_id.or(row.credential_id).unwrap_or_default(),
        place: row.place,
        subject_type: if row.person_id.is_some() {
            SubjectType::Person
        } else {
            SubjectType::Group
        },
        subject: row.person_id.or(row.group_id).unwrap_or_default(),
        subject_name: row.subject_name,
        level: Level::from_number(row.held).unwrap_or(Level::List),
        ends_at: row.ends_at,
        note: row.note,
        only_kind: row.only_kind,
        only_tag: row.only_tag,
        history: row.history,
        revision: row.revision,
    }
}

/// The grants that reach a folder or a credential, its own and those from above. For stewards.
pub async fn list(
    unit: &mut UnitOfWork,
    folder: Option<Uuid>,
    credential: Option<Uuid>,
) -> AppResult<Page<Grant>> {
    let target = target_of(folder, credential)?;
    let (id, target_type) = target_type_of(target);
    unit.begin_audit(Action::GrantList, target_type, Some(id), "");
    let place = allow_steward(unit, target).await?;
    unit.set_target(id, &place);
    let rows = unit.tx()?.grants_reaching(target).await?;
    unit.commit_audited().await?;
    Ok(Page {
        items: rows.into_iter().map(show).collect(),
        next: None,
    })
}

/// The grants to a person and to the groups that they are in: what they have access to, and by which
/// way. For the person, and with the duty `access` or `audit`.
pub async fn of_person(
    unit: &mut UnitOfWork,
    person: Uuid,
    paging: Paging<(String, Uuid)>,
) -> AppResult<Paged<Grant, (String, Uuid)>> {
    unit.begin_audit(Action::AccessWho, TargetType::Person, Some(person), "");
    if person != unit.person.id && unit.duty(Duty::Access).is_err() {
        unit.duty(Duty::Audit)?;
    }
    let row = unit.tx()?.person(person).await;
    let row = row.map_err(|_| AppError::unknown("person"))?;
    unit.set_target(person, &row.sign_in_name);
    let now = unit.now;
    let rows = unit
        .tx()?
        .grants_to(person, now, paging.after, paging.limit + 1)
        .await?;
    unit.commit_audited().await?;
    Ok(Paged::of(
        rows,
        paging.limit,
        |row| (row.place.clone(), row.id),
        show,
    ))
}

/// A grant. For stewards of what it is on.
pub async fn read(unit: &mut UnitOfWork, grant: Uuid) -> AppResult<Versioned<Grant>> {
    unit.begin_audit(Action::GrantList, TargetType::Grant, Some(grant), "");
    let row = unit
        .tx()?
        .grant(grant)
        .await
        .map_err(|_| AppError::unknown("grant"))?;
    let target = target_of(row.folder_id, row.credential_id)?;
    let (target_id, target_type) = target_type_of(target);
    unit.begin_audit(Action::GrantList, target_type, Some(target_id), "");
    allow_steward(unit, target).await?;
    unit.set_target(target_id, &row.place);
    unit.commit_audited().await?;
    Ok(Versioned(row.revision, show(row)))
}

/// Grants a level, in the transaction that is under way.
pub async fn give(unit: &mut UnitOfWork, body: NewGrant) -> AppResult<GrantRow> {
    let row = giving(unit, body).await?;
    unit.tx()?.add_grant(&row).await?;
    Ok(row)
}

/// The grant that is asked for, with all that could refuse it but its being there already.
pub async fn giving(unit: &mut UnitOfWork, body: NewGrant) -> AppResult<GrantRow> {
    let target = target_of(body.folder, body.credential)?;
    let (target_id, target_type) = target_type_of(target);
    unit.begin_audit(Action::GrantAdd, target_type, Some(target_id), "");
    unit.add_detail("level", body.level.word());
    let place = allow_steward(unit, target).await?;
    unit.set_target(target_id, &place);
    allow_sharing(unit).await?;
    check_note(&body.note).map_err(|problem| AppError::field("note", problem))?;
    if !in_force(body.ends_at, unit.now) {
        return Err(AppError::field(
            "ends_at",
            "this time is in the past: the grant would have no effect",
        ));
    }
    let name = match (body.person, body.group) {
        (Some(person), None) => {
            let row = unit
                .tx()?
                .person(person)
                .await
                .map_err(|_| AppError::unknown("person"))?;
            if row.state == PersonState::Left || row.state == PersonState::Suspended {
                return Err(AppError::field(
                    "person",
                    format!(
                        "{} is {}: nothing can be granted to them",
                        row.display_name, row.state
                    ),
                ));
            }
            row.display_name
        }
        (None, Some(group)) => {
            unit.tx()?
                .group(group)
                .await
                .map_err(|_| AppError::unknown("group"))?
                .name
        }
        _ => {
            return Err(AppError::field(
                "person",
                "name exactly one of `person` and `group`",
            ));
        }
    };
    unit.add_detail("to", name);
    if !body.without_history && body.level >= Level::Reveal {
        allow_history(unit, target).await?;
    }
    let (only_kind, only_tag) = narrowed(unit, target, body.only_kind, body.only_tag).await?;
    for (name, value) in [("only_kind", &only_kind), ("only_tag", &only_tag)] {
        if let Some(value) = value {
            unit.add_detail(name, value.clone());
        }
    }
    if body.without_history {
        unit.add_detail("history", "no");
    }
    let row = GrantRow {
        id: Uuid::now_v7(),
        organisation: unit.organisation(),
        folder_id: body.folder,
        credential_id: body.credential,
        person_id: body.person,
        group_id: body.group,
        held: body.level.number(),
        ends_at: body.ends_at,
        note: body.note,
        created_at: unit.now,
        created_by: Some(unit.person.id),
        only_kind,
        only_tag,
        history: !body.without_history,
    };
    if let Some(end) = row.ends_at {
        unit.add_detail("ends_at", end.to_rfc3339());
    }
    Ok(row)
}

/// What a grant is narrowed to, checked.
async fn narrowed(
    unit: &mut UnitOfWork,
    target: Target,
    kind: Option<String>,
    tag: Option<String>,
) -> AppResult<(Option<String>, Option<String>)> {
    let (kind, tag) = (
        kind.filter(|kind| !kind.is_empty()),
        tag.map(|tag| tag.trim().to_lowercase())
            .filter(|tag| !tag.is_empty()),
    );
    if matches!(target, Target::Credential(_)) && (kind.is_some() || tag.is_some()) {
        return Err(AppError::field(
            "only_kind",
            "a grant on one credential cannot be limited; limit a grant on its folder",
        ));
    }
    if let Some(kind) = &kind
        && crate::kinds::kind(unit.tx()?, kind).await?.is_none()
    {
        return Err(AppError::field(
            "only_kind",
            "there is no such kind; see `jexlin kind list`",
        ));
    }
    if let Some(tag) = &tag {
        super::tags::read_tags(std::slice::from_ref(tag))
            .map_err(|_| AppError::field("only_tag", "this is not a tag"))?;
    }
    Ok((kind, tag))
}

/// Grants a level.
pub async fn add(unit: &mut UnitOfWork, body: NewGrant) -> AppResult<Versioned<Grant>> {
    let row = give(unit, body).await?;
    let shown = show(unit.tx()?.grant(row.id).await?);
    unit.commit_audited().await?;
    Ok(Versioned(shown.revision, shown))
}

/// Nobody grants sight of former values that they may not see themselves.
async fn allow_history(unit: &mut UnitOfWork, target: Target) -> AppResult<()> {
    let me = unit.person.id;
    let may = match target {
        Target::Folder(folder) => {
            crate::guards::sees_history(unit, me, Target::Folder(folder)).await?
        }
        Target::Credential(credential) => {
            crate::guards::sees_history(unit, me, Target::Credential(credential)).await?
        }
    };
    if may {
        return Ok(());
    }
    Err(AppError::forbidden(
        "Your own grant here does not include former values, so you cannot grant them.",
        "Grant without the history of values, or ask another steward.",
    ))
}

/// Demands that somebody else stays a steward when this grant does not make one any more.
async fn keep_a_steward(unit: &mut UnitOfWork, target: Target, grant: Uuid) -> AppResult<()> {
    let now = unit.now;
    if unit.tx()?.stewards_without(target, grant, now).await? > 0 {
        return Ok(());
    }
    Err(AppError::conflict(
        ErrorCode::LastSteward,
        "This is the last steward; without one, no access can be granted here.",
        "Grant `steward` to another person first.",
    ))
}

/// Gives a grant other terms, in the transaction that is under way.
pub async fn alter(
    unit: &mut UnitOfWork,
    grant: Uuid,
    revision: Option<i32>,
    body: EditGrant,
) -> AppResult<()> {
    unit.begin_audit(Action::GrantEdit, TargetType::Grant, Some(grant), "");
    let mut row = unit
        .tx()?
        .some_grants(&[grant])
        .await?
        .pop()
        .ok_or_else(|| AppError::unknown("grant"))?;
    let view = unit.tx()?.grant(grant).await?;
    let target = target_of(row.folder_id, row.credential_id)?;
    let (target_id, target_type) = target_type_of(target);
    unit.begin_audit(Action::GrantEdit, target_type, Some(target_id), "");
    let place = allow_steward(unit, target).await?;
    unit.set_target(target_id, &place);
    unit.add_detail("to", view.subject_name.clone());
    allow_sharing(unit).await?;
    if revision.is_some_and(|revision| revision != view.revision) {
        return Err(AppError::stale());
    }
    let level = body.level.map_or(row.held, Level::number);
    if level > row.held
        && let Some(person) = row.person_id
    {
        let person = unit.tx()?.person(person).await?;
        if person.state == PersonState::Left || person.state == PersonState::Suspended {
            return Err(AppError::field(
                "level",
                format!(
                    "{} is {}: nothing more can be granted to them",
                    person.display_name, person.state
                ),
            ));
        }
    }
    let ends_at = if body.no_expiry {
        None
    } else {
        body.ends_at.or(row.ends_at)
    };
    if body.no_expiry && body.ends_at.is_some() {
        return Err(AppError::field(
            "ends_at",
            "name an expiry or no expiry, not both",
        ));
    }
    if body.ends_at.is_some() && !in_force(ends_at, unit.now) {
        return Err(AppError::field(
            "ends_at",
            "this time is in the past; remove the grant instead",
        ));
    }
    let steward = Level::Steward.number();
    if row.held == steward && (level != steward || (row.ends_at.is_none() && ends_at.is_some())) {
        keep_a_steward(unit, target, grant).await?;
    }
    if let Some(note) = body.note {
        check_note(&note).map_err(|problem| AppError::field("note", problem))?;
        if note != row.note {
            unit.add_detail("note", note.clone());
        }
        row.note = note;
    }
    let word = |level: i16| Level::from_number(level).map_or("", Level::word);
    unit.add_detail(
        "level",
        if level == row.held {
            word(level).to_owned()
        } else {
            format!("{} → {}", word(row.held), word(level))
        },
    );
    let moment =
        |end: Option<DateTime<Utc>>| end.map_or_else(|| "none".to_owned(), |end| end.to_rfc3339());
    if ends_at != row.ends_at {
        unit.add_detail(
            "ends_at",
            format!("{} → {}", moment(row.ends_at), moment(ends_at)),
        );
    }
    if let Some(history) = body.history.filter(|history| *history != row.history) {
        if history {
            allow_history(unit, target).await?;
        }
        unit.add_detail("history", if history { "yes" } else { "no" });
        row.history = history;
    }
    (row.held, row.ends_at) = (level, ends_at);
    Ok(unit.tx()?.alter_grants(&[row]).await?)
}

/// Gives a grant other terms: level, end, note, former values. For whom and on what it is stays.
pub async fn edit(
    unit: &mut UnitOfWork,
    grant: Uuid,
    revision: i32,
    body: EditGrant,
) -> AppResult<Versioned<Grant>> {
    alter(unit, grant, Some(revision), body).await?;
    let shown = show(unit.tx()?.grant(grant).await?);
    unit.commit_audited().await?;
    Ok(Versioned(shown.revision, shown))
}

/// Takes a grant away, in the transaction that is under way.
pub async fn withdraw(unit: &mut UnitOfWork, grant: Uuid) -> AppResult<()> {
    unit.begin_audit(Action::GrantRemove, TargetType::Grant, Some(grant), "");
    let row = unit
        .tx()?
        .grant(grant)
        .await
        .map_err(|_| AppError::unknown("grant"))?;
    let target = target_of(row.folder_id, row.credential_id)?;
    let (target_id, target_type) = target_type_of(target);
    unit.begin_audit(Action::GrantRemove, target_type, Some(target_id), "");
    let place = allow_steward(unit, target).await?;
    unit.set_target(target_id, &place);
    unit.add_detail("from", row.subject_name.clone());
    unit.add_detail(
        "level",
        Level::from_number(row.held).map_or("", Level::word),
    );
    if row.held == Level::Steward.number() {
        keep_a_steward(unit, target, grant).await?;
    }
    Ok(unit.tx()?.remove_grant(grant).await?)
}

/// Takes a grant away. The last steward of a folder stays.
pub async fn remove(unit: &mut UnitOfWork, grant: Uuid) -> AppResult<()> {
    withdraw(unit, grant).await?;
    unit.commit_audited().await?;
    Ok(())
}

fn way_of(spot: &Spot, way: &jexlin_core::access::Way) -> Way {
    let name = |id: &Uuid| spot.index.name(*id).unwrap_or_else(|| id.to_string());
    Way {
        grant: way.grant,
        level: way.level,
        stands_on: if spot.credential.is_some() && way.stands_on == spot.id {
            "the credential itself".into()
        } else {
            name(&way.stands_on)
        },
        through: way.through.iter().map(name).collect(),
        stopped: way.stopped.map(|stop| match stop {
            Stop::Ended(end) => format!("it expired at {}", end.format("%Y-%m-%d %H:%M UTC")),
            Stop::Narrowed => "it is limited to another kind or tag".to_owned(),
            Stop::Closed(folder) => format!("{} does not inherit grants", name(&folder)),
        }),
    }
}

/// By which ways a person holds a level on a folder or a credential, or why not. For oneself, for
/// stewards of it, and with the duty `audit`.
pub async fn explain(
    unit: &mut UnitOfWork,
    person: Uuid,
    folder: Option<Uuid>,
    credential: Option<Uuid>,
) -> AppResult<Explanation> {
    let (person, target) = (person, target_of(folder, credential)?);
    let (target_id, target_type) = target_type_of(target);
    unit.begin_audit(Action::AccessExplain, target_type, Some(target_id), "");
    let (asker, now) = (unit.person.id, unit.now);
    let spot = spot(unit, target, person == asker).await?;
    let who = spot
        .index
        .person(person)
        .ok_or_else(|| AppError::unknown("person"))?;
    unit.add_detail("person", who.name.clone());
    let world = spot.around(person);
    let level = world.level(person, target_id, now);
    let ways: Vec<Way> = explain_ways(&world, person, target_id, now)
        .iter()
        .map(|way| way_of(&spot, way))
        .collect();
    unit.commit_audited().await?;
    let sentence = sentence(&who.name, who.state, level, &ways);
    Ok(Explanation {
        person: who.name.clone(),
        place: spot.place.clone(),
        level,
        sentence,
        ways,
    })
}

/// Everybody who reaches a folder or a credential, the highest level first, and by which way. For
/// its stewards, and with the duty `audit`.
pub async fn reach(
    unit: &mut UnitOfWork,
    folder: Option<Uuid>,
    credential: Option<Uuid>,
    paging: Paging<(i16, String, Uuid)>,
) -> AppResult<Paged<AccessHolder, (i16, String, Uuid)>> {
    let target = target_of(folder, credential)?;
    let (target_id, target_type) = target_type_of(target);
    unit.begin_audit(Action::AccessWho, target_type, Some(target_id), "");
    let now = unit.now;
    let spot = spot(unit, target, false).await?;
    unit.commit_audited().await?;
    let entry = |(person, level): (Uuid, Level)| {
        Some((
            -level.number(),
            spot.index.person(person)?.name.to_lowercase(),
            person,
            level,
        ))
    };
    let mut all: Vec<_> = spot.reached_by(now).into_iter().filter_map(entry).collect();
    all.sort_unstable();
    let limit = usize::try_from(paging.limit).unwrap_or(1) + 1;
    let rows: Vec<_> = all
        .into_iter()
        .filter(|(level, name, person, _)| {
            paging
                .after
                .as_ref()
                .is_none_or(|(l, n, p)| (level, name, person) > (l, n, p))
        })
        .take(limit)
        .collect();
    let show = |(_, _, person, level): (i16, String, Uuid, Level)| {
        let world = spot.around(person);
        let found: Vec<Way> = explain_ways(&world, person, target_id, now)
            .iter()
            .filter(|way| way.stopped.is_none())
            .map(|way| way_of(&spot, way))
            .collect();
        let grants: HashSet<Uuid> = found.iter().map(|way| way.grant).collect();
        let who = spot.index.person(person);
        let first = found.into_iter().next();
        AccessHolder {
            person,
            name: who.map(|who| who.name.clone()).unwrap_or_default(),
            state: who.map_or(PersonState::Left, |who| who.state),
            level,
            stands_on: first
                .as_ref()
                .map(|way| way.stands_on.clone())
                .unwrap_or_default(),
            through: first.map(|way| way.through).unwrap_or_default(),
            others: grants.len().saturating_sub(1),
        }
    };
    Ok(Paged::of(
        rows,
        paging.limit,
        |(level, name, person, _)| (*level, name.clone(), *person),
        show,
    ))
}

fn sentence(who: &str, state: PersonState, level: Option<Level>, ways: &[Way]) -> String {
    let inactive = if state == PersonState::Active {
        String::new()
    } else {
        format!(" They are {state} and cannot sign in.")
    };
    let counted = ways.iter().find(|way| way.stopped.is_none());
    match (level, counted) {
        (Some(level), Some(way)) => {
            let through = if way.through.is_empty() {
                String::new()
            } else {
                format!(" through {}", way.through.join(", in "))
            };
            format!(
                "{who} holds `{level}` by a grant on {}{through}.{inactive}",
                way.stands_on
            )
        }
        _ if ways.is_empty() => {
            format!(
                "{who} has no access: no grant names them or a group that they are in.{inactive}"
            )
        }
        _ => format!(
            "{who} has no access: every grant to them has expired or does not apply here.{inactive}"
        ),
    }
}

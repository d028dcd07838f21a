//! Access issues and how they are fixed, and transfers of stewardship.

use std::collections::{BTreeMap, BTreeSet};

use jexlin_api::ErrorCode;
use jexlin_api::{
    AccessIssue, AccessIssuesFixed, FixAccessIssues, StewardshipTransferred, TransferStewardship,
};
use jexlin_core::access::IssueType;
use jexlin_core::access::{Level, Reach, in_force, mark};
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::people::Duty;
use jexlin_core::people::PersonState;
use jexlin_core::people::PersonType;
use jexlin_core::words::Word as _;
use jexlin_store::{GrantRow, PersonRow, Target};
use uuid::Uuid;

use crate::error::{AppError, AppResult};
use crate::guards::allow_sharing;
use crate::guards::place_of;
use crate::guards::target_of;
use crate::guards::target_type_of;
use crate::paging::{Paged, Paging};
use crate::unit_of_work::{Authority, UnitOfWork};

const fn advice(issue: IssueType) -> &'static str {
    match issue {
        IssueType::NoSteward => "Add a steward who can sign in.",
        IssueType::Left => "Remove the grant: its grantee has left.",
        IssueType::Expired => "Remove the grant: it has expired.",
        IssueType::Redundant => "Remove the grant: another grant gives the same access.",
    }
}

async fn access_issues(unit: &mut UnitOfWork) -> AppResult<Vec<AccessIssue>> {
    let now = unit.now;
    let mut items = vec![];
    for row in unit.tx()?.orphans(now).await? {
        let issue_type = IssueType::NoSteward;
        items.push(AccessIssue {
            issue_type,
            id: row.id,
            place: row.place,
            subject_name: String::new(),
            level: None,
            advice: advice(issue_type).into(),
        });
    }
    for row in unit.tx()?.idle_grants(now).await? {
        items.push(AccessIssue {
            advice: advice(row.issue_type.0).into(),
            issue_type: row.issue_type.0,
            id: row.grant.id,
            place: row.grant.place,
            subject_name: row.grant.subject_name,
            level: Level::from_number(row.grant.held),
        });
    }
    Ok(items)
}

/// Access issues, for the duty `access`: places and names of people, nothing of
/// what is inside.
pub async fn list(
    unit: &mut UnitOfWork,
    paging: Paging<Uuid>,
) -> AppResult<Paged<AccessIssue, Uuid>> {
    unit.begin(Action::AccessIssueList, TargetType::Access, None, "")?;
    let mut items = access_issues(unit).await?;
    unit.add_detail("found", items.len().to_string());
    unit.commit_audited().await?;
    // All of them are found together; a page begins after the last of the page before, or with the
    // first if that one has been fixed.
    let begin = paging
        .after
        .and_then(|after| items.iter().position(|issue| issue.id == after))
        .map_or(0, |last| last + 1);
    Ok(Paged::of(
        items.split_off(begin),
        paging.limit,
        |issue| issue.id,
        std::convert::identity,
    ))
}

/// A person who can sign in. A program is nobody to keep a place in order, and whoever keeps its
/// secret would get by it what the duty `access` gives nobody.
async fn active(unit: &mut UnitOfWork, field: &str, person: Uuid) -> AppResult<PersonRow> {
    let row = unit
        .tx()?
        .person(person)
        .await
        .map_err(|_| AppError::unknown("person"))?;
    if row.person_type == PersonType::Client {
        return Err(AppError::field(
            field,
            format!("{} is a client: name a person", row.display_name),
        ));
    }
    if row.state == PersonState::Active {
        return Ok(row);
    }
    Err(AppError::field(
        field,
        format!("{} is {}: they cannot sign in", row.display_name, row.state),
    ))
}

/// Fixes access issues, for the duty `access`: takes grants of no use away, and makes somebody
/// else a steward where there is none. Whoever fixes them gets nothing by it.
pub async fn fix(unit: &mut UnitOfWork, body: FixAccessIssues) -> AppResult<AccessIssuesFixed> {
    unit.begin(Action::AccessIssueFix, TargetType::Access, None, "")?;
    unit.act_by(Authority::AccessDuty)?;
    unit.tx()?.lock_access().await?;
    if body.withdraw.is_empty() && body.folders.is_empty() {
        return Err(AppError::field(
            "withdraw",
            "name a grant to remove, or a folder that needs a steward",
        ));
    }
    let found: BTreeMap<Uuid, AccessIssue> = access_issues(unit)
        .await?
        .into_iter()
        .map(|item| (item.id, item))
        .collect();
    let withdraw: BTreeSet<Uuid> = body.withdraw.iter().copied().collect();
    for id in withdraw.iter().chain(&body.folders) {
        let in_place = found.get(id).is_some_and(|item| {
            (item.issue_type == IssueType::NoSteward) == body.folders.contains(id)
        });
        if !in_place {
            return Err(AppError::conflict(
                ErrorCode::NotBroken,
                format!("{id} is not an access issue, or no longer is."),
                "List the issues: `jexlin access-issue list`.",
            ));
        }
    }
    for row in unit
        .tx()?
        .some_grants(&withdraw.iter().copied().collect::<Vec<_>>())
        .await?
    {
        let Some(item) = found.get(&row.id) else {
            continue;
        };
        let (target, target_type) = target_type_of(target_of(row.folder_id, row.credential_id)?);
        unit.begin_audit(Action::GrantRemove, target_type, Some(target), &item.place);
        unit.add_detail("from", item.subject_name.clone());
        unit.add_detail("level", item.level.map_or("", Level::word));
        unit.add_detail("by", "access-issue");
        unit.add_detail("why", item.issue_type.word());
        unit.queue_event()?;
    }
    let withdrawn = unit
        .tx()?
        .remove_grants(&withdraw.into_iter().collect::<Vec<_>>())
        .await?;
    let appointed = if body.folders.is_empty() {
        0
    } else {
        appoint(unit, &body, &found).await?
    };
    unit.begin_audit(Action::AccessIssueFix, TargetType::Access, None, "");
    unit.add_detail("withdrawn", withdrawn.to_string());
    unit.add_detail("appointed", appointed.to_string());
    unit.commit_audited().await?;
    Ok(AccessIssuesFixed {
        withdrawn,
        appointed,
    })
}

async fn appoint(
    unit: &mut UnitOfWork,
    body: &FixAccessIssues,
    found: &BTreeMap<Uuid, AccessIssue>,
) -> AppResult<usize> {
    let (me, now) = (unit.person.id, unit.now);
    let name = match (body.person, body.group) {
        (Some(person), None) => active(unit, "person", person).await?.display_name,
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
                "name exactly one of `person` and `group` to be the steward",
            ));
        }
    };
    let subjects = unit.tx()?.subjects_of(me).await?;
    if body.person == Some(me) || body.group.is_some_and(|group| subjects.contains(&group)) {
        return Err(AppError::forbidden(
            "The duty `access` gives no access to credentials: you cannot make yourself a steward.",
            "Name another person.",
        ));
    }
    let folders: BTreeSet<Uuid> = body.folders.iter().copied().collect();
    for folder in &folders {
        let row = GrantRow {
            id: Uuid::now_v7(),
            organisation: unit.organisation(),
            folder_id: Some(*folder),
            credential_id: None,
            person_id: body.person,
            group_id: body.group,
            held: Level::Steward.number(),
            ends_at: None,
            note: "had no steward".into(),
            created_at: now,
            created_by: Some(me),
            only_kind: None,
            only_tag: None,
            history: true,
        };
        unit.begin_audit(
            Action::GrantAdd,
            TargetType::Folder,
            Some(*folder),
            found.get(folder).map_or("", |item| &item.place),
        );
        unit.add_detail("to", name.clone());
        unit.add_detail("level", Level::Steward.word());
        unit.add_detail("by", "access-issue");
        unit.queue_event()?;
        unit.tx()?.put_grant(&row).await?;
    }
    if !unit
        .tx()?
        .without_steward(Some(&folders.iter().copied().collect::<Vec<_>>()), now)
        .await?
        .is_empty()
    {
        return Err(AppError::field(
            "group",
            format!("no member of {name} can sign in, so there would still be no steward"),
        ));
    }
    Ok(folders.len())
}

/// A transfer that has been checked.
struct Transfer<'a> {
    body: &'a TransferStewardship,
    from: &'a PersonRow,
    to: &'a PersonRow,
    /// Whether the duty `access` allows it everywhere.
    by_duty: bool,
    /// The folders that it is limited to.
    within: Option<BTreeSet<Uuid>>,
    /// The grants that the new steward has.
    theirs: Vec<GrantRow>,
}

impl Transfer<'_> {
    /// The path of what a grant is on and what reaches the one who acts there, when it may be
    /// transferred.
    async fn place(
        &self,
        unit: &mut UnitOfWork,
        row: &GrantRow,
    ) -> AppResult<Option<(String, Reach)>> {
        let (me, now) = (unit.person.id, unit.now);
        if row.held != Level::Steward.number() || !in_force(row.ends_at, now) {
            return Ok(None);
        }
        let (folder, path, reach) = match target_of(row.folder_id, row.credential_id)? {
            Target::Folder(id) => (
                id,
                unit.tx()?.path_of(id).await?,
                unit.tx()?.reach_folder(me, id, now).await?,
            ),
            Target::Credential(id) => {
                let Ok(found) = unit.tx()?.credential(id).await else {
                    return Ok(None);
                };
                (
                    found.folder_id,
                    place_of(unit, id).await?,
                    unit.tx()?.reach_credential(me, id, now).await?,
                )
            }
        };
        let inside = self
            .within
            .as_ref()
            .is_none_or(|within| within.contains(&folder));
        let allowed = self.by_duty || self.body.from == me || reach.level() == Some(Level::Steward);
        Ok((inside && allowed).then_some((path, reach)))
    }

    /// The grant that the new steward gets for one: what they hold there by a grant of their own
    /// goes up in it.
    fn successor(&self, unit: &UnitOfWork, row: &GrantRow) -> GrantRow {
        fn scope(grant: &GrantRow) -> impl PartialEq + '_ {
            (
                grant.folder_id,
                grant.credential_id,
                &grant.only_kind,
                &grant.only_tag,
            )
        }
        let present = self
            .theirs
            .iter()
            .find(|grant| scope(grant) == scope(row))
            .filter(|grant| {
                grant.held == Level::Steward.number() && in_force(grant.ends_at, unit.now)
            });
        GrantRow {
            id: Uuid::now_v7(),
            person_id: Some(self.to.id),
            history: row.history || present.is_some_and(|grant| grant.history),
            ends_at: present.map_or(row.ends_at, |grant| {
                grant
                    .ends_at
                    .and_then(|end| row.ends_at.map(|other| end.max(other)))
            }),
            created_at: unit.now,
            created_by: Some(unit.person.id),
            ..row.clone()
        }
    }

    /// Transfers one grant, with its events.
    async fn grant(
        &self,
        unit: &mut UnitOfWork,
        row: &GrantRow,
        (path, reach): (&str, Reach),
    ) -> AppResult<()> {
        if self.by_duty {
            unit.act_by(Authority::AccessDuty)?;
        } else if self.body.from == unit.person.id {
            unit.act_by(Authority::OwnGrant(row))?;
        } else {
            unit.demand::<mark::Steward>(reach)?;
        }
        let (target, target_type) = target_type_of(target_of(row.folder_id, row.credential_id)?);
        let queue = |unit: &mut UnitOfWork, action: Action, word: &str, name: &str| {
            unit.begin_audit(action, target_type, Some(target), path);
            unit.add_detail(word, name);
            unit.add_detail("level", Level::Steward.word());
            unit.add_detail("by", "transfer-stewardship");
            unit.queue_event()
        };
        queue(unit, Action::GrantAdd, "to", &self.to.display_name)?;
        let new = self.successor(unit, row);
        unit.tx()?.put_grant(&new).await?;
        if !self.body.keep {
            queue(unit, Action::GrantRemove, "from", &self.from.display_name)?;
            unit.tx()?.remove_grants(&[row.id]).await?;
        }
        Ok(())
    }
}

/// Transfers stewardship in the transaction that is under way; returns the paths of what was
/// transferred.
pub async fn transfer(unit: &mut UnitOfWork, body: &TransferStewardship) -> AppResult<Vec<String>> {
    let action = Action::AccessTransferStewardship;
    unit.begin_audit(action, TargetType::Person, Some(body.from), "");
    let from = unit
        .tx()?
        .person(body.from)
        .await
        .map_err(|_| AppError::unknown("person"))?;
    unit.set_target(from.id, &from.display_name);
    if body.from == body.to {
        return Err(AppError::field("to", "this person is the steward already"));
    }
    let to = active(unit, "to", body.to).await?;
    unit.add_detail("to", to.display_name.clone());
    unit.tx()?.lock_access().await?;
    let by_duty = unit.duty(Duty::Access).is_ok();
    if by_duty && body.to == unit.person.id && body.from != unit.person.id {
        return Err(AppError::forbidden(
            "The duty `access` gives no access to credentials: you cannot transfer stewardship to yourself.",
            "Name another person.",
        ));
    }
    allow_sharing(unit).await?;
    let within = match body.below {
        None => None,
        Some(top) => Some(unit.tx()?.subtree(top).await?.into_iter().collect()),
    };
    let transfer = Transfer {
        body,
        from: &from,
        to: &to,
        by_duty,
        within,
        theirs: unit.tx()?.grants_naming(body.to).await?,
    };
    let mut places = vec![];
    for row in unit.tx()?.grants_naming(body.from).await? {
        if let Some((path, reach)) = transfer.place(unit, &row).await? {
            transfer.grant(unit, &row, (&path, reach)).await?;
            places.push(path);
        }
    }
    unit.begin_audit(
        action,
        TargetType::Person,
        Some(body.from),
        &from.display_name,
    );
    unit.add_detail("to", to.display_name);
    unit.add_detail("places", places.len().to_string());
    if places.is_empty() {
        return Err(AppError::conflict(
            ErrorCode::NothingToTransferStewardship,
            format!(
                "{} holds no stewardship by a grant of their own that you may transfer.",
                from.display_name
            ),
            "You can transfer your own stewardship, or that on what you are a steward of; anything else needs the duty `access`.",
        ));
    }
    Ok(places)
}

/// Transfers what one person is a steward of, by grants that name them, to another. One's own; with
/// the duty `access` anybody's, to somebody else than oneself; otherwise what one is a steward of.
pub async fn transfer_stewardship(
    unit: &mut UnitOfWork,
    body: TransferStewardship,
) -> AppResult<StewardshipTransferred> {
    let places = transfer(unit, &body).await?;
    unit.commit_audited().await?;
    Ok(StewardshipTransferred { places })
}

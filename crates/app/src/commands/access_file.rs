//! Access files: export, compare, apply.

use std::collections::{BTreeSet, HashMap};

use jexlin_api::ErrorCode;
use jexlin_api::{AccessApplied, AccessChange, AccessCompared};
use jexlin_core::access::Level;
use jexlin_core::access::file::{
    self, Change, Demand, Document, Entry, GateTerms, GrantKey, Known, Lines, Spot, Terms, Who,
};
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::names::parse_path;
use jexlin_core::people::Duty;
use jexlin_core::people::PersonType;
use jexlin_core::words::Word as _;
use jexlin_store::{
    ApproverRow, FolderRow, GateRow, GrantRow, GroupRow, MemberRow, PolicyRow, RuleRow,
    VisibleFolder,
};
use uuid::Uuid;

use super::folders::{DEEPEST, may_add_at_top};
use super::gates::is_weaker_row;
use super::preview::Looked;
use super::second_person::Act;
use super::second_person::needs_second;
use crate::error::{AppError, AppResult};
use crate::guards::allow_sharing;
use crate::unit_of_work::{Stewardship, UnitOfWork};

/// The most changes that an answer names one by one.
const MOST: usize = 1000;

/// The world as far as whoever acts may say something of it, by names and by identifiers.
#[derive(Default)]
struct World {
    known: Known,
    now: Document,
    folders: HashMap<String, Uuid>,
    credentials: HashMap<String, Uuid>,
    people: HashMap<String, Uuid>,
    groups: HashMap<String, Uuid>,
    policies: HashMap<String, PolicyRow>,
    grants: HashMap<(Spot, GrantKey), GrantRow>,
    gates: HashMap<Spot, GateRow>,
    stewardship: Stewardship,
}

impl World {
    fn subject(&self, who: &Who) -> AppResult<Uuid> {
        let found = match who {
            Who::Person(name) | Who::Client(name) => self.people.get(name),
            Who::Group(name) => self.groups.get(name),
        };
        found
            .copied()
            .ok_or_else(|| AppError::internal(format!("{who} is not known")))
    }

    fn place(&self, spot: &Spot) -> AppResult<Uuid> {
        let found = match spot {
            Spot::Folder(path) => self.folders.get(path),
            Spot::Credential(path) => self.credentials.get(path),
            Spot::Group(name) => self.groups.get(name),
            Spot::Policy(_) => None,
        };
        found
            .copied()
            .ok_or_else(|| AppError::internal(format!("{} is not known", spot.name())))
    }
}

fn entry_of<'a>(document: &'a Document, spot: &Spot) -> Option<&'a Entry> {
    if matches!(spot, Spot::Folder(_)) {
        document.folders.get(spot.name())
    } else {
        document.credentials.get(spot.name())
    }
}

/// Reads the world; of single credentials those that have something of their own, and those that
/// `wanted` names.
async fn world(unit: &mut UnitOfWork, wanted: &Document) -> AppResult<World> {
    let mut world = World::default();
    world.known.changes_groups = unit.duty(Duty::People).is_ok();
    world.known.changes_policies = unit.duty(Duty::Policy).is_ok();
    world.known.adds_at_top = may_add_at_top(unit).await.is_ok();
    let whos = read_people(unit, &mut world, wanted).await?;
    let policy_names = read_policies(unit, &mut world, wanted).await?;
    world.known.kinds = crate::kinds::all_names(unit.tx()?).await?;
    let spots = read_places(unit, &mut world, wanted).await?;
    read_grants(unit, &mut world, &spots, &whos).await?;
    read_rules(unit, &mut world, &spots, &whos, &policy_names).await?;
    Ok(world)
}

/// Reads people, clients and groups; returns each by its identifier.
async fn read_people(
    unit: &mut UnitOfWork,
    world: &mut World,
    wanted: &Document,
) -> AppResult<HashMap<Uuid, Who>> {
    let mut whos: HashMap<Uuid, Who> = HashMap::new();
    for person in unit.tx()?.people(None, None, i64::MAX).await? {
        let name = person.sign_in_name;
        let (who, known) = if person.person_type == PersonType::Client {
            (Who::Client(name.clone()), &mut world.known.clients)
        } else {
            (Who::Person(name.clone()), &mut world.known.people)
        };
        whos.insert(person.id, who);
        known.insert(name.clone(), person.state.0);
        world.people.insert(name, person.id);
    }
    for group in unit.tx()?.groups(None, None, i64::MAX).await? {
        whos.insert(group.id, Who::Group(group.name.clone()));
        world
            .known
            .groups
            .insert(group.name.clone(), BTreeSet::new());
        world.groups.insert(group.name, group.id);
    }
    for member in unit.tx()?.members(None).await? {
        if let (Some(Who::Group(group)), Some(who)) =
            (whos.get(&member.group_id), whos.get(&member.member))
            && let Some(members) = world.known.groups.get_mut(group)
        {
            members.insert(who.clone());
        }
    }
    // What one may not change is compared all the same, so that it can be refused.
    let compared = |name: &String| world.known.changes_groups || wanted.groups.contains_key(name);
    world.now.groups = world
        .known
        .groups
        .iter()
        .filter(|(name, _)| compared(name))
        .map(|(name, all)| (name.clone(), all.clone()))
        .collect();
    Ok(whos)
}

/// Reads password policies; returns the name of each by its identifier.
async fn read_policies(
    unit: &mut UnitOfWork,
    world: &mut World,
    wanted: &Document,
) -> AppResult<HashMap<Uuid, String>> {
    let mut policy_names = HashMap::new();
    for row in unit.tx()?.policies().await? {
        let rules = serde_json::from_value(row.rules.clone())
            .map_err(|error| AppError::internal(format!("policy {}: {error}", row.id)))?;
        policy_names.insert(row.id, row.name.clone());
        world.known.policies.insert(row.name.clone());
        if world.known.changes_policies || wanted.policies.contains_key(&row.name) {
            world.now.policies.insert(row.name.clone(), rules);
        }
        world.policies.insert(row.name.clone(), row);
    }
    Ok(policy_names)
}

/// Reads the folders that the asker sees and the credentials in those that they are a steward of;
/// returns what they may change by its identifier.
async fn read_places(
    unit: &mut UnitOfWork,
    world: &mut World,
    wanted: &Document,
) -> AppResult<HashMap<Uuid, Spot>> {
    let (rows, stewardship) = unit.stewardship().await?;
    world.stewardship = stewardship;
    let paths = paths_of(&rows);
    let mut spots: HashMap<Uuid, Spot> = HashMap::new();
    for row in &rows {
        let path = paths.get(&row.id).cloned().unwrap_or_default();
        let steward = row.held == Some(Level::Steward.number());
        world.known.folders.insert(row.id, (path.clone(), steward));
        if steward {
            spots.insert(row.id, Spot::Folder(path.clone()));
            world.folders.insert(path.clone(), row.id);
            world.now.folders.insert(
                path,
                Entry {
                    id: Some(row.id),
                    closed: row.closed,
                    ..Entry::default()
                },
            );
        }
    }
    let named: Vec<(Uuid, String)> = wanted
        .credentials
        .keys()
        .filter_map(|path| path.rsplit_once('/'))
        .filter_map(|(folder, name)| Some((*world.folders.get(folder)?, name.to_owned())))
        .collect();
    for row in unit.tx()?.credentials_apart(&named).await? {
        let Some(Spot::Folder(folder)) = spots.get(&row.folder_id) else {
            continue;
        };
        let path = format!("{folder}/{}", row.name);
        spots.insert(row.id, Spot::Credential(path.clone()));
        world.known.credentials.insert(row.id, path.clone());
        world.credentials.insert(path.clone(), row.id);
        world.now.credentials.insert(
            path,
            Entry {
                id: Some(row.id),
                ..Entry::default()
            },
        );
    }
    Ok(spots)
}

/// The path of each folder.
fn paths_of(rows: &[VisibleFolder]) -> HashMap<Uuid, String> {
    let by_id: HashMap<Uuid, (Option<Uuid>, &str)> = rows
        .iter()
        .map(|row| (row.id, (row.parent_id, row.name.as_str())))
        .collect();
    let path = |id: Uuid| {
        let (mut names, mut next) = (vec![], Some(id));
        while let Some((parent, name)) = next.and_then(|id| by_id.get(&id)) {
            names.push(*name);
            next = *parent;
        }
        let names = names.iter().rev();
        names.map(|name| format!("/{name}")).collect::<String>()
    };
    rows.iter().map(|row| (row.id, path(row.id))).collect()
}

fn entry_mut<'a>(document: &'a mut Document, spot: &Spot) -> Option<&'a mut Entry> {
    if matches!(spot, Spot::Folder(_)) {
        document.folders.get_mut(spot.name())
    } else {
        document.credentials.get_mut(spot.name())
    }
}

async fn read_grants(
    unit: &mut UnitOfWork,
    world: &mut World,
    spots: &HashMap<Uuid, Spot>,
    whos: &HashMap<Uuid, Who>,
) -> AppResult<()> {
    for row in unit.tx()?.all_grants().await? {
        let Some(spot) = row
            .folder_id
            .or(row.credential_id)
            .and_then(|target| spots.get(&target))
        else {
            continue;
        };
        let (Some(to), Some(level)) = (
            row.person_id.or(row.group_id).and_then(|id| whos.get(&id)),
            Level::from_number(row.held),
        ) else {
            continue;
        };
        let key = GrantKey {
            to: to.clone(),
            kind: row.only_kind.clone(),
            tag: row.only_tag.clone(),
        };
        let terms = Terms {
            level,
            until: row.ends_at,
            note: row.note.trim().to_owned(),
            history: row.history,
        };
        if let Some(entry) = entry_mut(&mut world.now, spot) {
            entry.grants.insert(key.clone(), terms);
        }
        world.grants.insert((spot.clone(), key), row);
    }
    Ok(())
}

async fn read_rules(
    unit: &mut UnitOfWork,
    world: &mut World,
    spots: &HashMap<Uuid, Spot>,
    whos: &HashMap<Uuid, Who>,
    policy_names: &HashMap<Uuid, String>,
) -> AppResult<()> {
    let mut approvers: HashMap<Uuid, BTreeSet<Who>> = HashMap::new();
    for row in unit.tx()?.all_approvers().await? {
        approvers
            .entry(row.gate_id)
            .or_default()
            .extend(whos.get(&row.subject).cloned());
    }
    for row in unit
        .tx()?
        .gates()
        .await?
        .into_iter()
        .filter(|row| row.device_id.is_none())
    {
        let Some(spot) = row
            .folder_id
            .or(row.credential_id)
            .and_then(|target| spots.get(&target))
        else {
            continue;
        };
        if let Some(entry) = entry_mut(&mut world.now, spot) {
            entry.gate = Some(GateTerms {
                reason: row.needs_reason,
                approvers: approvers.remove(&row.id).unwrap_or_default(),
                minutes: row.max_minutes,
                one_holder: row.one_holder,
                rotate: row.rotate_on_return,
            });
        }
        world.gates.insert(spot.clone(), row);
    }
    for row in unit.tx()?.all_password_rules().await? {
        let Some(spot) = spots.get(&row.folder_id) else {
            continue;
        };
        if let Some(entry) = entry_mut(&mut world.now, spot) {
            let policies = row
                .policies
                .iter()
                .filter_map(|id| policy_names.get(id).cloned())
                .collect();
            entry.passwords = Some(Demand {
                mode: row.mode.0,
                policies,
            });
        }
    }
    Ok(())
}

/// Whether a path is a folder or in it.
fn is_below(path: &str, top: &str) -> bool {
    path.strip_prefix(top)
        .is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
}

/// A file that was brought, with all that is needed to apply it.
struct Brought {
    wanted: Document,
    lines: Lines,
    world: World,
    changes: Vec<Change>,
    /// Tells whether what the file is about has changed since.
    state: String,
}

async fn brought(unit: &mut UnitOfWork, bytes: &[u8]) -> AppResult<Brought> {
    let text =
        std::str::from_utf8(bytes).map_err(|_| AppError::field("file", "it is not UTF-8"))?;
    let (wanted, lines) = file::read(text).map_err(|problems| AppError::lines(&problems))?;
    unit.tx()?.lock_access().await?;
    let world = world(unit, &wanted).await?;
    let problems = file::problems(&world.known, &world.now, &wanted, &lines, unit.now);
    if !problems.is_empty() {
        return Err(AppError::lines(&problems));
    }
    let changes = file::compare(&world.now, &wanted);
    if changes
        .iter()
        .any(|change| matches!(change, Change::Grant(..) | Change::Alter(..)))
    {
        allow_sharing(unit).await?;
    }
    let state = world.now.named_in(&wanted).state();
    Ok(Brought {
        wanted,
        lines,
        world,
        changes,
        state,
    })
}

const fn target_type_of(spot: &Spot) -> TargetType {
    match spot {
        Spot::Policy(_) => TargetType::PasswordPolicy,
        Spot::Group(_) => TargetType::Group,
        Spot::Folder(_) => TargetType::Folder,
        Spot::Credential(_) => TargetType::Credential,
    }
}

/// What was gathered to be written at once.
#[derive(Default)]
struct Batch {
    grants: Vec<GrantRow>,
    altered: Vec<GrantRow>,
    withdrawn: Vec<Uuid>,
    joined: Vec<MemberRow>,
    left: Vec<(Uuid, Uuid)>,
    /// Folders where there could be no steward any more.
    doubtful: Vec<Uuid>,
    /// Folders that were closed.
    closed: Vec<Uuid>,
}

impl Batch {
    async fn write(&mut self, unit: &mut UnitOfWork) -> AppResult<()> {
        let tx = unit.tx()?;
        tx.add_members(&std::mem::take(&mut self.joined)).await?;
        tx.remove_members(&std::mem::take(&mut self.left)).await?;
        tx.add_grants(&std::mem::take(&mut self.grants)).await?;
        tx.alter_grants(&std::mem::take(&mut self.altered)).await?;
        tx.remove_grants(&std::mem::take(&mut self.withdrawn))
            .await?;
        Ok(())
    }
}

/// Makes all changes, each with its event; refuses what nobody may do.
async fn make(unit: &mut UnitOfWork, brought: &mut Brought) -> AppResult<()> {
    let mut batch = Batch::default();
    for change in &brought.changes {
        let (world, wanted) = (&mut brought.world, &brought.wanted);
        demand_for(unit, world, change).await?;
        match change {
            Change::AddPolicy(_)
            | Change::ChangePolicy(_)
            | Change::SetDemand(_)
            | Change::RemoveDemand(_) => change_rules(unit, world, wanted, change).await?,
            Change::AddGroup(name) => add_group(unit, world, name).await?,
            Change::Join(group, who) | Change::Leave(group, who) => {
                let id = world.place(&change.spot())?;
                let member = (who, world.subject(who)?);
                edit_member(unit, change, (group, id), member, &mut batch).await?;
            }
            Change::AddFolder(path) => add_folder(unit, world, path).await?,
            Change::Close(path, closed) => {
                let id = world.place(&change.spot())?;
                close_folder(unit, (path, id), *closed, &mut batch).await?;
            }
            Change::Grant(spot, key) | Change::Alter(spot, key) | Change::Withdraw(spot, key) => {
                edit_grant(unit, world, wanted, change, spot, key, &mut batch)?;
            }
            Change::SetGate(spot) | Change::RemoveGate(spot) => {
                edit_gate(unit, world, wanted, spot).await?;
            }
        }
        unit.add_detail("by", "access file");
        unit.queue_event()?;
    }
    batch.write(unit).await?;
    unit.begin_audit(Action::AccessApply, TargetType::Folder, None, "");
    check_stewards(unit, &brought.world, &batch).await
}

/// Demands the duty or the stewardship that a change needs. A file that asks for more was refused
/// with its line when it was compared.
async fn demand_for(unit: &mut UnitOfWork, world: &World, change: &Change) -> AppResult<()> {
    let folder = match change.spot() {
        Spot::Policy(_) => return unit.duty(Duty::Policy),
        Spot::Group(_) => return unit.duty(Duty::People),
        Spot::Folder(path) if !matches!(change, Change::AddFolder(_)) => path,
        Spot::Folder(path) | Spot::Credential(path) => match path.rsplit_once('/') {
            Some((above, _)) if !above.is_empty() => above.to_owned(),
            _ => return may_add_at_top(unit).await,
        },
    };
    let id = world.place(&Spot::Folder(folder))?;
    unit.demand_stewardship(&world.stewardship, id)
}

async fn add_group(unit: &mut UnitOfWork, world: &mut World, name: &str) -> AppResult<()> {
    unit.begin_audit(Action::GroupAdd, TargetType::Group, None, name);
    let name = super::names::named("name", name)?;
    let row = GroupRow {
        id: Uuid::now_v7(),
        organisation: unit.organisation(),
        name: name.clone(),
        created_at: unit.now,
        revision: 1,
    };
    unit.tx()?.add_group(&row).await?;
    unit.set_target(row.id, &name);
    world.groups.insert(name, row.id);
    Ok(())
}

/// Adds a member to a group, or removes one.
async fn edit_member(
    unit: &mut UnitOfWork,
    change: &Change,
    (group, id): (&str, Uuid),
    (who, member): (&Who, Uuid),
    batch: &mut Batch,
) -> AppResult<()> {
    let joins = matches!(change, Change::Join(..));
    let action = if joins {
        Action::GroupAddMember
    } else {
        Action::GroupRemoveMember
    };
    unit.begin_audit(action, TargetType::Group, Some(id), group);
    unit.add_detail("member", who.to_string());
    if !joins {
        batch.left.push((id, member));
        return Ok(());
    }
    let (me, now) = (unit.person.id, unit.now);
    if unit.tx()?.brings_power(id, Some(me), now).await? {
        let act = Act::JoinGroup { group: id, member };
        alone(unit, &act, &format!("adding {who} to {group}")).await?;
    }
    batch.joined.push(MemberRow {
        organisation: unit.organisation(),
        group_id: id,
        member,
        member_is_group: matches!(who, Who::Group(_)),
    });
    Ok(())
}

/// Stops a folder from inheriting grants, or lets it inherit them again.
async fn close_folder(
    unit: &mut UnitOfWork,
    (path, id): (&str, Uuid),
    closed: bool,
    batch: &mut Batch,
) -> AppResult<()> {
    batch.write(unit).await?;
    unit.begin_audit(Action::FolderEdit, TargetType::Folder, Some(id), path);
    unit.add_detail("closed", if closed { "yes" } else { "no" });
    let mut row = unit.tx()?.folder(id).await?;
    row.closed = closed;
    unit.tx()?.edit_folder(&row).await?;
    if closed {
        batch.closed.push(id);
        batch.doubtful.push(id);
    }
    Ok(())
}

/// Refuses changes after which a folder has no steward, or the asker has shut themselves out.
async fn check_stewards(unit: &mut UnitOfWork, world: &World, batch: &Batch) -> AppResult<()> {
    let (me, now) = (unit.person.id, unit.now);
    let path_of = |id: &Uuid| {
        let mut folders = world.folders.iter();
        folders
            .find(|(_, its)| *its == id)
            .map(|(path, _)| path.clone())
            .unwrap_or_default()
    };
    let gone = unit
        .tx()?
        .without_steward(Some(&batch.doubtful), now)
        .await?;
    if let Some(first) = gone.first() {
        return Err(AppError::conflict(
            ErrorCode::LastSteward,
            format!(
                "{} would have no steward, and no access to it could be granted any more.",
                path_of(first)
            ),
            "Nothing was changed. Grant `steward` there to a person who can sign in.",
        ));
    }
    for id in &batch.closed {
        if unit.tx()?.reach_folder(me, *id, now).await?.level() != Some(Level::Steward) {
            return Err(AppError::conflict(
                ErrorCode::WouldShutYouOut,
                format!(
                    "After this you would no longer be a steward of {}.",
                    path_of(id)
                ),
                "Nothing was changed. Grant `steward` on the folder itself to yourself or a group that you are in.",
            ));
        }
    }
    Ok(())
}

async fn add_folder(unit: &mut UnitOfWork, world: &mut World, path: &str) -> AppResult<()> {
    unit.begin_audit(Action::FolderAdd, TargetType::Folder, None, path);
    let (parent, name) = path.rsplit_once('/').unwrap_or_default();
    if path.matches('/').count() > DEEPEST {
        return Err(AppError::field(
            "file",
            format!("{path} is nested deeper than {DEEPEST} folders"),
        ));
    }
    let row = FolderRow {
        id: Uuid::now_v7(),
        organisation: unit.organisation(),
        parent_id: if parent.is_empty() {
            None
        } else {
            Some(world.place(&Spot::Folder(parent.to_owned()))?)
        },
        name: super::names::named("name", name)?,
        closed: false,
        created_at: unit.now,
        created_by: Some(unit.person.id),
        removed_at: None,
        revision: 1,
    };
    unit.tx()?.add_folder(&row).await?;
    unit.set_target(row.id, path);
    world.folders.insert(path.to_owned(), row.id);
    world.stewardship.add_new(&row);
    Ok(())
}

fn edit_grant(
    unit: &mut UnitOfWork,
    world: &World,
    wanted: &Document,
    change: &Change,
    spot: &Spot,
    key: &GrantKey,
    batch: &mut Batch,
) -> AppResult<()> {
    let id = world.place(spot)?;
    let present = world.grants.get(&(spot.clone(), key.clone()));
    let terms = entry_of(wanted, spot).and_then(|entry| entry.grants.get(key));
    let action = match change {
        Change::Grant(..) => Action::GrantAdd,
        Change::Alter(..) => Action::GrantEdit,
        _ => Action::GrantRemove,
    };
    unit.begin_audit(action, target_type_of(spot), Some(id), spot.name());
    unit.add_detail(
        if present.is_some() && terms.is_none() {
            "from"
        } else {
            "to"
        },
        key.to.to_string(),
    );
    for (name, value) in [("only_kind", &key.kind), ("only_tag", &key.tag)] {
        if let Some(value) = value {
            unit.add_detail(name, value.clone());
        }
    }
    let was_steward = present.is_some_and(|row| row.held == Level::Steward.number());
    if was_steward
        && matches!(spot, Spot::Folder(_))
        && terms.is_none_or(|terms| terms.level < Level::Steward || terms.until.is_some())
    {
        batch.doubtful.push(id);
    }
    let Some(terms) = terms else {
        let row = present.ok_or_else(|| AppError::internal("a grant to withdraw is not there"))?;
        unit.add_detail(
            "level",
            Level::from_number(row.held).map_or("", Level::word),
        );
        batch.withdrawn.push(row.id);
        return Ok(());
    };
    unit.add_detail("level", terms.level.word());
    if let Some(until) = terms.until {
        unit.add_detail("ends_at", until.to_rfc3339());
    }
    if !terms.history {
        unit.add_detail("history", "no");
    }
    let subject = world.subject(&key.to)?;
    let person = !matches!(key.to, Who::Group(_));
    let folder = matches!(spot, Spot::Folder(_));
    let row = GrantRow {
        id: present.map_or_else(Uuid::now_v7, |row| row.id),
        organisation: unit.organisation(),
        folder_id: folder.then_some(id),
        credential_id: (!folder).then_some(id),
        person_id: person.then_some(subject),
        group_id: (!person).then_some(subject),
        held: terms.level.number(),
        ends_at: terms.until,
        note: terms.note.clone(),
        created_at: unit.now,
        created_by: Some(unit.person.id),
        only_kind: key.kind.clone(),
        only_tag: key.tag.clone(),
        history: terms.history,
    };
    if present.is_some() {
        batch.altered.push(row)
    } else {
        batch.grants.push(row)
    }
    Ok(())
}

/// What waits for a second person is not done by a file.
async fn alone(unit: &mut UnitOfWork, act: &Act, what: &str) -> AppResult<()> {
    if needs_second(unit, act).await? {
        return Err(AppError::conflict(
            ErrorCode::NeedsSecondPerson,
            format!("The file would do what waits for a second person: {what}."),
            "Do that by itself and have it confirmed, then apply the file. Nothing was changed.",
        ));
    }
    Ok(())
}

async fn edit_gate(
    unit: &mut UnitOfWork,
    world: &World,
    wanted: &Document,
    spot: &Spot,
) -> AppResult<()> {
    let id = world.place(spot)?;
    let present = world.gates.get(spot);
    let Some(terms) = entry_of(wanted, spot).and_then(|entry| entry.gate.as_ref()) else {
        unit.begin_audit(
            Action::GateRemove,
            target_type_of(spot),
            Some(id),
            spot.name(),
        );
        let row = present.ok_or_else(|| AppError::internal("a gate to remove is not there"))?;
        alone(
            unit,
            &Act::RemoveGate {
                gate: row.id,
                revision: row.revision,
            },
            &format!("removing the gate of {}", spot.name()),
        )
        .await?;
        return Ok(unit.tx()?.remove_gate(row.id, row.revision).await?);
    };
    unit.begin_audit(
        if present.is_some() {
            Action::GateEdit
        } else {
            Action::GateAdd
        },
        target_type_of(spot),
        Some(id),
        spot.name(),
    );
    let folder = matches!(spot, Spot::Folder(_));
    let row = GateRow {
        id: present.map_or_else(Uuid::now_v7, |row| row.id),
        organisation: unit.organisation(),
        folder_id: folder.then_some(id),
        credential_id: (!folder).then_some(id),
        needs_reason: terms.reason,
        needs_approval: !terms.approvers.is_empty(),
        max_minutes: terms.minutes,
        one_holder: terms.one_holder,
        rotate_on_return: terms.rotate,
        revision: present.map_or(1, |row| row.revision),
        device_id: None,
    };
    let mut approvers = vec![];
    for who in &terms.approvers {
        let subject_is_group = matches!(who, Who::Group(_));
        approvers.push(ApproverRow {
            organisation: row.organisation,
            gate_id: row.id,
            subject: world.subject(who)?,
            subject_is_group,
        });
    }
    if let Some(present) = present {
        if is_weaker_row(unit, present, &row, &approvers).await? {
            alone(
                unit,
                &Act::RemoveGate {
                    gate: row.id,
                    revision: row.revision,
                },
                &format!("weakening the gate of {}", spot.name()),
            )
            .await?;
        }
        unit.tx()?.edit_gate(&row, &approvers).await?
    } else {
        unit.tx()?.add_gate(&row, &approvers).await?
    }
    Ok(())
}

async fn change_rules(
    unit: &mut UnitOfWork,
    world: &mut World,
    wanted: &Document,
    change: &Change,
) -> AppResult<()> {
    match change {
        Change::AddPolicy(name) | Change::ChangePolicy(name) => {
            let policy = wanted
                .policies
                .get(name)
                .ok_or_else(|| AppError::internal("a policy is not in the file"))?;
            let rules = serde_json::to_value(policy)
                .map_err(|error| AppError::internal(error.to_string()))?;
            let row = match world.policies.get(name) {
                Some(present) => PolicyRow {
                    rules,
                    ..present.clone()
                },
                None => {
                    let name = super::names::named("name", name)?;
                    PolicyRow {
                        id: Uuid::now_v7(),
                        organisation: unit.organisation(),
                        name,
                        rules,
                        is_default: false,
                        revision: 1,
                    }
                }
            };
            let present = world.policies.contains_key(name);
            unit.begin_audit(
                if present {
                    Action::PolicyEdit
                } else {
                    Action::PolicyAdd
                },
                TargetType::PasswordPolicy,
                Some(row.id),
                name,
            );
            unit.add_detail("rules", row.rules.to_string());
            if present {
                unit.tx()?.edit_policy(&row).await?;
                unit.tx()?.reassess_all(None).await?;
            } else {
                unit.tx()?.add_policy(&row).await?;
            }
            world.policies.insert(name.clone(), row);
        }
        other => {
            let spot = other.spot();
            let folder_id = world.place(&spot)?;
            unit.begin_audit(
                Action::FolderPasswordRule,
                TargetType::Folder,
                Some(folder_id),
                spot.name(),
            );
            match entry_of(wanted, &spot).and_then(|entry| entry.passwords.as_ref()) {
                None => {
                    unit.add_detail("mode", "none of its own");
                    unit.tx()?.remove_password_rule(folder_id).await?;
                }
                Some(demand) => {
                    unit.add_detail("mode", demand.mode.word());
                    unit.add_detail("policies", demand.policies.join(", "));
                    let policies: Vec<Uuid> = demand
                        .policies
                        .iter()
                        .filter_map(|name| world.policies.get(name))
                        .map(|row| row.id)
                        .collect();
                    let row = RuleRow {
                        folder_id,
                        organisation: unit.organisation(),
                        mode: demand.mode.into(),
                        policies,
                    };
                    unit.tx()?.set_password_rule(&row).await?;
                }
            }
        }
    }
    Ok(())
}

/// Access as code: the folders that the asker is a steward of, with their grants, gates and demands
/// on passwords, and the credentials there that have something of their own; with the duty `people`
/// the groups, with `policy` the password policies. With `below`, one folder and what is below it,
/// alone.
pub async fn export(unit: &mut UnitOfWork, below: Option<&str>) -> AppResult<String> {
    unit.begin_audit(
        Action::AccessExport,
        TargetType::Folder,
        None,
        below.unwrap_or("/"),
    );
    let mut document = world(unit, &Document::default()).await?.now;
    document
        .credentials
        .retain(|_, entry| !entry.grants.is_empty() || entry.gate.is_some());
    if let Some(top) = below.filter(|top| *top != "/" && !top.is_empty()) {
        let top =
            parse_path(top).map_err(|problem| AppError::field("below", problem.to_string()))?;
        let top: String = top
            .iter()
            .map(|name| format!("/{}", name.as_str()))
            .collect();
        document.folders.retain(|path, _| is_below(path, &top));
        document.credentials.retain(|path, _| is_below(path, &top));
        document.groups.clear();
        document.policies.clear();
        if document.folders.is_empty() {
            return Err(AppError::unknown("folder that you are a steward of"));
        }
    }
    for (name, count) in [
        ("folders", document.folders.len()),
        ("credentials", document.credentials.len()),
        ("groups", document.groups.len()),
    ] {
        unit.add_detail(name, count.to_string());
    }
    unit.commit_audited().await?;
    Ok(file::write(&document))
}

/// What would change if a file were made so, and who would gain or lose what. Nothing is changed.
/// The body is the file.
pub async fn compare(unit: &mut UnitOfWork, bytes: &[u8]) -> AppResult<AccessCompared> {
    unit.begin_audit(Action::AccessCompare, TargetType::Folder, None, "");
    let mut brought = brought(unit, bytes).await?;
    let looked = Looked::before(unit, &[]).await?;
    make(unit, &mut brought).await?;
    let preview = looked.after(unit, None).await?;
    unit.undo();
    let shown = brought.changes.iter().take(MOST).map(|change| {
        let spot = change.spot();
        AccessChange {
            line: change.line(&brought.lines),
            target_type: target_type_of(&spot),
            place: spot.name().to_owned(),
            text: change.words(&brought.world.now, &brought.wanted),
        }
    });
    Ok(AccessCompared {
        changes: shown.collect(),
        count: brought.changes.len(),
        state: brought.state,
        preview,
    })
}

/// Makes a file so, in one transaction: all of it or nothing. With `expect`, the state that a
/// comparison told, only if nothing that the file is about has changed since.
pub async fn apply(
    unit: &mut UnitOfWork,
    bytes: &[u8],
    expect: Option<&str>,
) -> AppResult<AccessApplied> {
    unit.begin_audit(Action::AccessApply, TargetType::Folder, None, "");
    let mut brought = brought(unit, bytes).await?;
    if expect.is_some_and(|expect| expect != brought.state) {
        return Err(AppError::stale());
    }
    let count = brought.changes.len();
    if count == 0 {
        unit.commit().await?;
        return Ok(AccessApplied { count });
    }
    make(unit, &mut brought).await?;
    unit.begin_audit(Action::AccessApply, TargetType::Folder, None, "");
    unit.add_detail("changes", count.to_string());
    unit.add_detail("state", brought.state);
    unit.commit_audited().await?;
    Ok(AccessApplied { count })
}

//! Previews: a change is made, its effect on access is read, and it is undone.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

use jexlin_api::{Change, DeviceMoved, EditFolder, Preview, Shift, TagsChanged};
use jexlin_core::access::index::{AccessIndex, SingleEntry};
use jexlin_core::access::preview::{
    Beside, Moved, Shift as Compared, narrowings, preview as compare,
};
use jexlin_core::access::{Level, mark};
use jexlin_store::{Conflict, CredentialRow, StoreError, Target};
use tokio::sync::Semaphore;
use tokio::task::block_in_place;
use uuid::Uuid;

use super::access_issues::transfer;
use super::devices::move_device;
use super::folders::alter;
use super::grants::{alter as change_terms, giving, withdraw};
use super::groups::{joining, leave};
use super::tags::read_tags;
use crate::error::{AppError, AppResult};
use crate::guards::allow_credential;
use crate::guards::allow_folder;
use crate::guards::device_for_stewards;
use crate::guards::spot;
use crate::unit_of_work::UnitOfWork;

/// The most shifts in an answer.
const MOST: usize = 500;

/// The most credentials that are moved at once.
const MOST_MOVED: usize = 1000;

/// So many comparisons at a time, each where nobody else is kept waiting by it.
static TURNS: Semaphore = Semaphore::const_new(2);

/// The most credentials whose tags are changed at once.
pub const MOST_TAGGED: usize = 200;

/// Makes the change, with all checks that it will meet. What is asked most, a grant on a folder or
/// a membership, is made in the index alone, which is given back then.
async fn make(
    unit: &mut UnitOfWork,
    change: Change,
    index: &AccessIndex,
) -> AppResult<Option<AccessIndex>> {
    match change {
        Change::Grant(grant) => {
            let row = giving(unit, grant).await?;
            if let (Some(_), Some(plain)) = (row.folder_id, row.to_plain()) {
                return Ok(Some(
                    index
                        .with_grant(plain)
                        .ok_or(StoreError::Conflict(Conflict::AccessGrantOnce))?,
                ));
            }
            unit.tx()?.add_grant(&row).await?;
        }
        Change::Terms(terms) => change_terms(unit, terms.id, None, terms.to).await?,
        Change::Withdraw(grant) => withdraw(unit, grant).await?,
        Change::Join(membership) => {
            let (_, row) = joining(unit, membership.group, membership.member).await?;
            return Ok(Some(index.with_member(row.member, row.group_id)));
        }
        Change::Leave(membership) => {
            leave(unit, membership.group, membership.member).await?;
        }
        Change::Folder(folder) => {
            let body = EditFolder {
                name: None,
                parent: folder.parent,
                to_top: folder.to_top,
                closed: folder.closed,
            };
            alter(unit, folder.id, None, body).await?;
        }
        Change::TransferStewardship(over) => {
            transfer(unit, &over).await?;
        }
        Change::Credentials(moved) => {
            if moved.ids.len() > MOST_MOVED {
                return Err(AppError::field(
                    "credentials",
                    format!("at most {MOST_MOVED} at once"),
                ));
            }
            allow_folder::<mark::Edit>(unit, moved.to).await?;
            for credential in &moved.ids {
                allow_credential::<mark::Steward>(unit, *credential).await?;
            }
            unit.tx()?.place_credentials(&moved.ids, moved.to).await?;
        }
        // These are looked at one by one instead.
        Change::Tags(_) | Change::Device(_) => {}
    }
    Ok(None)
}

/// Who would gain or lose what by a change: exactly, in persons and credentials, without names of
/// credentials. It takes what the change takes, and changes nothing.
pub async fn preview(unit: &mut UnitOfWork, change: Change) -> AppResult<Preview> {
    let moved = match &change {
        Change::Tags(tags) => {
            let shown = tagged(unit, tags).await?;
            unit.undo();
            return Ok(shown);
        }
        Change::Device(moved) => {
            let shown = device_moved(unit, moved).await?;
            unit.undo();
            return Ok(shown);
        }
        Change::Credentials(moved) => moved.ids.clone(),
        _ => vec![],
    };
    let looked = Looked::before(unit, &moved).await?;
    let made = make(unit, change, &looked.index).await?;
    let shown = looked.after(unit, made).await?;
    // Nothing is kept.
    unit.undo();
    Ok(shown)
}

/// Who may know of a device, work on it and answer for it in another folder: its level is that on its
/// folder.
async fn device_moved(unit: &mut UnitOfWork, change: &DeviceMoved) -> AppResult<Preview> {
    let mut row = device_for_stewards(unit, change.id).await?;
    let (from, now) = (row.folder_id, unit.now);
    move_device(unit, &mut row, change.to).await?;
    let here = spot(unit, Target::Folder(from), false).await?;
    let before: HashMap<Uuid, Level> = here.reached_by(now).into_iter().collect();
    let there = spot(unit, Target::Folder(change.to), false).await?;
    let after: HashMap<Uuid, Level> = there.reached_by(now).into_iter().collect();
    let people: BTreeSet<Uuid> = before.keys().chain(after.keys()).copied().collect();
    let shifts: Vec<Compared> = people
        .into_iter()
        .map(|person| Compared {
            person,
            before: before.get(&person).copied(),
            after: after.get(&person).copied(),
            credentials: 0,
            gated: 0,
            folders: 0,
        })
        .filter(|shift| shift.before != shift.after)
        .collect();
    Ok(show(&shifts, &there.index))
}

/// Who reaches credentials with other tags. Only these credentials are concerned, so each is looked
/// at by itself, before and after.
async fn tagged(unit: &mut UnitOfWork, change: &TagsChanged) -> AppResult<Preview> {
    if change.ids.len() > MOST_TAGGED {
        return Err(AppError::field(
            "tags",
            format!("at most {MOST_TAGGED} at once"),
        ));
    }
    let (add, gone) = (read_tags(&change.add)?, read_tags(&change.remove)?);
    let mut changes = vec![];
    for id in &change.ids {
        let row = unit.tx()?.credential(*id).await?;
        let tags: BTreeSet<String> = row
            .tags
            .iter()
            .chain(&add)
            .filter(|tag| !gone.contains(tag))
            .cloned()
            .collect();
        changes.push((row, tags.into_iter().collect()));
    }
    relabelled(unit, &changes)
        .await?
        .ok_or_else(|| AppError::field("tags", "name at least one credential"))
}

/// Who reaches these with their tags changed to others, worked out for at most [`MOST_TAGGED`] of
/// them; the tags are changed for it, in the transaction.
pub async fn relabelled(
    unit: &mut UnitOfWork,
    changes: &[(CredentialRow, Vec<String>)],
) -> AppResult<Option<Preview>> {
    let now = unit.now;
    let mut shifts: BTreeMap<(Uuid, [Option<Level>; 2]), [u64; 2]> = BTreeMap::new();
    let mut index = None;
    for (row, tags) in changes.iter().take(MOST_TAGGED) {
        let target = Target::Credential(row.id);
        let before: HashMap<Uuid, Level> = spot(unit, target, false)
            .await?
            .reached_by(now)
            .into_iter()
            .collect();
        unit.tx()?.label_copy(row.id, &row.extra, tags).await?;
        let there = spot(unit, target, false).await?;
        let after: HashMap<Uuid, Level> = there.reached_by(now).into_iter().collect();
        let gated = u64::from(!unit.tx()?.gate_ids_of(row.id).await?.is_empty());
        let people: BTreeSet<Uuid> = before.keys().chain(after.keys()).copied().collect();
        for person in people {
            let (was, is) = (before.get(&person).copied(), after.get(&person).copied());
            if was != is {
                let [credentials, under] = shifts.entry((person, [was, is])).or_default();
                *credentials += 1;
                *under += gated;
            }
        }
        index = Some(there.index);
    }
    let shifts: Vec<_> = shifts
        .into_iter()
        .map(
            |((person, [before, after]), [credentials, gated])| Compared {
                folders: 0,
                person,
                before,
                after,
                credentials,
                gated,
            },
        )
        .collect();
    Ok(index.map(|index| show(&shifts, &index)))
}

/// How everything is before a change that will be made and not kept.
pub struct Looked {
    index: AccessIndex,
    moving: Vec<SingleEntry>,
}

impl Looked {
    /// Looks before the change; `moving` are the credentials that it moves.
    pub async fn before(unit: &mut UnitOfWork, moving: &[Uuid]) -> AppResult<Self> {
        let tx = unit.tx()?;
        let index = tx.access_index().await?;
        let moving = if moving.is_empty() {
            vec![]
        } else {
            tx.single_entries(Some(moving)).await?
        };
        Ok(Self { index, moving })
    }

    /// Looks again with the change made, here or in an index alone, and says who gains and loses
    /// what.
    pub async fn after(
        self,
        unit: &mut UnitOfWork,
        made: Option<AccessIndex>,
    ) -> AppResult<Preview> {
        let now = unit.now;
        let tx = unit.tx()?;
        let after = match made {
            Some(after) => after,
            None => tx.access_index_after(&self.index).await?,
        };
        let ids: Vec<Uuid> = self.moving.iter().map(|entry| entry.id).collect();
        let there = if ids.is_empty() {
            vec![]
        } else {
            tx.single_entries(Some(&ids)).await?
        };
        let from: HashMap<Uuid, Uuid> = self
            .moving
            .into_iter()
            .map(|entry| (entry.id, entry.credential.folder))
            .collect();
        let moved = there.into_iter().filter_map(|entry| {
            Some(Moved {
                id: entry.id,
                from: *from.get(&entry.id)?,
                credential: entry.credential,
                gate: entry.gate,
            })
        });
        let mut beside = Beside {
            moved: moved.collect(),
            ..Beside::default()
        };
        if let Some(narrowings) = narrowings(&self.index, &after, &beside.moved, now) {
            let apart: BTreeSet<Uuid> = self
                .index
                .singles()
                .chain(after.singles())
                .chain(ids)
                .collect();
            beside.cells = tx
                .cells(&narrowings, &apart.into_iter().collect::<Vec<_>>())
                .await?;
            beside.onlys = narrowings.onlys;
        }
        let _turn = TURNS
            .acquire()
            .await
            .map_err(|error| AppError::internal(error.to_string()))?;
        Ok(block_in_place(|| {
            show(&compare(&self.index, &after, &beside, now), &after)
        }))
    }
}

fn show(shifts: &[Compared], index: &AccessIndex) -> Preview {
    let people = |wanted: fn(Option<Level>, Option<Level>) -> bool| {
        shifts
            .iter()
            .filter(|shift| wanted(shift.before, shift.after))
            .map(|shift| shift.person)
            .collect::<HashSet<_>>()
            .len()
    };
    let (gaining, losing) = (
        people(|before, after| after > before),
        people(|before, after| after < before),
    );
    let more = shifts.len() > MOST;
    let mut shown: Vec<Shift> = shifts
        .iter()
        .take(MOST)
        .filter_map(|shift| {
            let who = index.person(shift.person)?;
            Some(Shift {
                person: shift.person,
                name: who.name.clone(),
                state: who.state,
                before: shift.before,
                after: shift.after,
                credentials: shift.credentials,
                gated: shift.gated,
                folders: shift.folders,
            })
        })
        .collect();
    shown.sort_by_cached_key(|shift| (shift.name.to_lowercase(), shift.before, shift.after));
    let of = |count: usize, does: &str, do_: &str| match count {
        1 => format!("1 person {does}"),
        count => format!("{count} people {do_}"),
    };
    let sentence = match (gaining, losing) {
        (0, 0) => "No access changes.".to_owned(),
        (gaining, 0) => format!(
            "{}, nobody gets less.",
            of(gaining, "gets more access", "get more access")
        ),
        (0, losing) => format!(
            "{}, nobody gets more.",
            of(losing, "gets less access", "get less access")
        ),
        (gaining, losing) => format!(
            "{}, {}.",
            of(gaining, "gets more access", "get more access"),
            of(losing, "gets less access", "get less access")
        ),
    };
    Preview {
        sentence,
        gaining,
        losing,
        shifts: shown,
        more,
    }
}

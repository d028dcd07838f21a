//! By which way somebody holds a level, or why not.

use std::collections::BTreeSet;

use chrono::{DateTime, Utc};
use uuid::Uuid;

use super::{Level, in_force, reference::World};

/// One way by which a grant reaches, or would reach, a person.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Way {
    /// The grant.
    pub grant: Uuid,
    /// What it gives.
    pub level: Level,
    /// Where it stands: a folder or the credential itself.
    pub stands_on: Uuid,
    /// The groups from the person to the grant's subject; empty when granted to the person.
    pub through: Vec<Uuid>,
    /// Why it does not count, if it does not.
    pub stopped: Option<Stop>,
}

/// Why a grant above does not count.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Stop {
    /// It ended at this time.
    Ended(DateTime<Utc>),
    /// This closed folder lets nothing in from above.
    Closed(Uuid),
    /// It is for a kind or a tag that the target has not.
    Narrowed,
}

/// Every grant to the person or their groups on the target or above it, the ones that count first
/// and among them the highest first.
#[must_use]
pub fn explain(world: &World, person: Uuid, target: Uuid, now: DateTime<Utc>) -> Vec<Way> {
    let reached = world.sources_of(target);
    let mut ways = vec![];
    for (source, closed) in chain(world, target) {
        for grant in world.grants.iter().filter(|grant| grant.target == source) {
            let Some(through) = path(world, person, grant.subject) else {
                continue;
            };
            let stopped = match (grant.ends_at, closed) {
                (Some(end), _) if !in_force(grant.ends_at, now) => Some(Stop::Ended(end)),
                (_, Some(folder)) if !reached.contains(&source) => Some(Stop::Closed(folder)),
                _ if !world.means(grant, target) => Some(Stop::Narrowed),
                _ => None,
            };
            ways.push(Way {
                grant: grant.id,
                level: grant.level,
                stands_on: source,
                through,
                stopped,
            });
        }
    }
    ways.sort_by_key(|way| (way.stopped.is_some(), std::cmp::Reverse(way.level)));
    ways
}

/// The target and everything above it, each with the closed folder met before it, if any.
fn chain(world: &World, target: Uuid) -> Vec<(Uuid, Option<Uuid>)> {
    let mut out = vec![];
    let mut seen = BTreeSet::new();
    let mut closed = None;
    let mut next = Some(target);
    while let Some(id) = next {
        if !seen.insert(id) {
            break;
        }
        out.push((id, closed));
        next = if let Some(folder) = world.credentials.get(&id) {
            Some(folder.folder)
        } else {
            let folder = world.folders.get(&id);
            if closed.is_none() && folder.is_some_and(|folder| folder.closed) {
                closed = Some(id);
            }
            folder.and_then(|folder| folder.parent)
        };
    }
    out
}

/// The shortest row of groups by which a person belongs to a subject.
fn path(world: &World, person: Uuid, subject: Uuid) -> Option<Vec<Uuid>> {
    if person == subject {
        return Some(vec![]);
    }
    let mut rows = vec![vec![]];
    let mut seen = BTreeSet::from([person]);
    while !rows.is_empty() {
        let mut longer = vec![];
        for row in rows {
            let member = row.last().copied().unwrap_or(person);
            for (group, members) in &world.groups {
                if members.contains(&member) && seen.insert(*group) {
                    let mut more = row.clone();
                    more.push(*group);
                    if *group == subject {
                        return Some(more);
                    }
                    longer.push(more);
                }
            }
        }
        rows = longer;
    }
    None
}

#[cfg(test)]
mod tests {
    use super::super::reference::{Credential, Folder, Grant, Only};
    use super::*;

    #[test]
    fn every_way_is_named_and_what_does_not_count_says_why() {
        let id = Uuid::from_u128;
        let at = |n| DateTime::from_timestamp(n, 0).unwrap();
        let mut world = World::default();
        world.folders.insert(
            id(1),
            Folder {
                parent: None,
                closed: false,
            },
        );
        world.folders.insert(
            id(2),
            Folder {
                parent: Some(id(1)),
                closed: true,
            },
        );
        world.credentials.insert(
            id(9),
            Credential {
                folder: id(2),
                kind: "login".into(),
                ..Credential::default()
            },
        );
        world.groups.insert(id(60), BTreeSet::from([id(50)]));
        world.groups.insert(id(61), BTreeSet::from([id(60)]));
        let grant = |n, subject, target, level, ends_at| Grant {
            id: id(n),
            subject: id(subject),
            target: id(target),
            level,
            ends_at,
            only: Only::default(),
        };
        world.grants = vec![
            grant(100, 50, 1, Level::Steward, None),
            grant(101, 61, 2, Level::Reveal, None),
            grant(102, 50, 9, Level::Edit, Some(at(5))),
            grant(103, 99, 9, Level::Edit, None),
        ];
        let keys = Only {
            kind: Some("ssh-key".into()),
            tag: None,
        };
        world.grants.push(Grant {
            only: keys,
            ..grant(104, 50, 2, Level::Steward, None)
        });
        let ways = explain(&world, id(50), id(9), at(10));
        assert_eq!(ways.len(), 4);
        assert!(
            ways.iter()
                .any(|way| way.grant == id(104) && way.stopped == Some(Stop::Narrowed))
        );
        assert_eq!((ways[0].grant, ways[0].stopped), (id(101), None));
        assert_eq!(ways[0].through, [id(60), id(61)]);
        assert!(
            ways.iter()
                .any(|way| way.grant == id(100) && way.stopped == Some(Stop::Closed(id(2))))
        );
        assert!(
            ways.iter()
                .any(|way| way.grant == id(102) && way.stopped == Some(Stop::Ended(at(5))))
        );
        assert_eq!(world.level(id(50), id(9), at(10)), Some(ways[0].level));
    }
}

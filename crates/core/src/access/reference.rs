//! The plain definition of access, written to be read rather than to be fast.

use std::collections::{BTreeMap, BTreeSet};

use chrono::{DateTime, Utc};
use uuid::Uuid;

use super::{Level, in_force};

/// A folder of the tree.
#[derive(Clone, Debug)]
pub struct Folder {
    /// The folder that it is in; none at the top.
    pub parent: Option<Uuid>,
    /// Whether grants from above stop here.
    pub closed: bool,
}

/// A credential, as far as grants look at it.
#[derive(Clone, Debug, Default)]
pub struct Credential {
    /// Its folder.
    pub folder: Uuid,
    /// Its kind.
    pub kind: String,
    /// Its tags.
    pub tags: Vec<String>,
}

/// What of a folder's credentials a grant is for: all, or those of a kind, with a tag, or both.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub struct Only {
    /// Only this kind.
    pub kind: Option<String>,
    /// Only with this tag.
    pub tag: Option<String>,
}

impl Only {
    /// Whether it leaves nothing out.
    #[must_use]
    pub const fn is_all(&self) -> bool {
        self.kind.is_none() && self.tag.is_none()
    }

    /// Whether a credential is meant.
    #[must_use]
    pub fn fits(&self, credential: &Credential) -> bool {
        self.kind
            .as_ref()
            .is_none_or(|kind| *kind == credential.kind)
            && self
                .tag
                .as_ref()
                .is_none_or(|tag| credential.tags.contains(tag))
    }
}

/// A grant.
#[derive(Clone, Debug)]
pub struct Grant {
    /// Its identifier.
    pub id: Uuid,
    /// A person or a group.
    pub subject: Uuid,
    /// A folder or a credential.
    pub target: Uuid,
    /// What it gives.
    pub level: Level,
    /// When it ends, if ever.
    pub ends_at: Option<DateTime<Utc>>,
    /// What of a folder's credentials it is for. A narrowed one reaches no folder.
    pub only: Only,
}

/// All that access depends on.
#[derive(Clone, Debug, Default)]
pub struct World {
    /// The folders.
    pub folders: BTreeMap<Uuid, Folder>,
    /// The credentials and the folder of each.
    pub credentials: BTreeMap<Uuid, Credential>,
    /// The members of each group: people and groups.
    pub groups: BTreeMap<Uuid, BTreeSet<Uuid>>,
    /// The grants.
    pub grants: Vec<Grant>,
}

impl World {
    /// The person and every group they are in, directly or through other groups. Rings are
    /// harmless.
    #[must_use]
    pub fn subjects_of(&self, person: Uuid) -> BTreeSet<Uuid> {
        let mut found = BTreeSet::from([person]);
        loop {
            let more: Vec<Uuid> = self
                .groups
                .iter()
                .filter(|(group, members)| !found.contains(group) && !members.is_disjoint(&found))
                .map(|(group, _)| *group)
                .collect();
            if more.is_empty() {
                return found;
            }
            found.extend(more);
        }
    }

    /// Where a grant may stand to reach the target: itself, and the folders above it up to and
    /// including the first closed one.
    #[must_use]
    pub fn sources_of(&self, target: Uuid) -> Vec<Uuid> {
        let mut sources = vec![];
        let mut next = if let Some(folder) = self.credentials.get(&target) {
            sources.push(target);
            Some(folder.folder)
        } else {
            Some(target)
        };
        while let Some(id) = next {
            if sources.contains(&id) {
                break;
            }
            sources.push(id);
            next = self
                .folders
                .get(&id)
                .and_then(|folder| if folder.closed { None } else { folder.parent });
        }
        sources
    }

    /// Whether a grant above is for this target as well.
    #[must_use]
    pub fn means(&self, grant: &Grant, target: Uuid) -> bool {
        grant.only.is_all()
            || self
                .credentials
                .get(&target)
                .is_some_and(|credential| grant.only.fits(credential))
    }

    /// The highest level that reaches a person on a target at a time.
    #[must_use]
    pub fn level(&self, person: Uuid, target: Uuid, now: DateTime<Utc>) -> Option<Level> {
        let subjects = self.subjects_of(person);
        let sources = self.sources_of(target);
        self.grants
            .iter()
            .filter(|grant| {
                subjects.contains(&grant.subject)
                    && sources.contains(&grant.target)
                    && self.means(grant, target)
            })
            .filter(|grant| in_force(grant.ends_at, now))
            .map(|grant| grant.level)
            .max()
    }

    /// The folders a person sees: those that a grant reaches, those that hold a credential a grant
    /// reaches, and the path from the top to each of them.
    #[must_use]
    pub fn visible_folders(&self, person: Uuid, now: DateTime<Utc>) -> BTreeSet<Uuid> {
        let reached = self
            .folders
            .keys()
            .filter(|id| self.level(person, **id, now).is_some())
            .copied();
        let holding = self
            .credentials
            .iter()
            .filter(|(id, _)| self.level(person, **id, now).is_some())
            .map(|(_, credential)| credential.folder);
        let mut seen = BTreeSet::new();
        for start in reached.chain(holding) {
            let mut next = Some(start);
            while let Some(id) = next {
                if !seen.insert(id) {
                    break;
                }
                next = self.folders.get(&id).and_then(|folder| folder.parent);
            }
        }
        seen
    }

    /// Whether moving a folder under another would make a ring.
    #[must_use]
    pub fn would_ring(&self, folder: Uuid, under: Uuid) -> bool {
        let mut next = Some(under);
        let mut seen = BTreeSet::new();
        while let Some(id) = next {
            if id == folder {
                return true;
            }
            if !seen.insert(id) {
                return true;
            }
            next = self.folders.get(&id).and_then(|folder| folder.parent);
        }
        false
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use strum::VariantArray as _;

    fn id(n: u128) -> Uuid {
        Uuid::from_u128(n)
    }

    fn at(n: i64) -> DateTime<Utc> {
        DateTime::from_timestamp(n, 0).unwrap()
    }

    /// /1 → /1/2 → /1/2/3 with credential 100 in 3; person 50 in group 60 in group 61.
    fn world() -> World {
        let mut world = World::default();
        for (n, parent) in [(1, None), (2, Some(1)), (3, Some(2))] {
            world.folders.insert(
                id(n),
                Folder {
                    parent: parent.map(id),
                    closed: false,
                },
            );
        }
        world.credentials.insert(
            id(100),
            Credential {
                folder: id(3),
                ..Credential::default()
            },
        );
        world.groups.insert(id(60), BTreeSet::from([id(50)]));
        world.groups.insert(id(61), BTreeSet::from([id(60)]));
        world
    }

    fn grant(subject: u128, target: u128, level: Level) -> Grant {
        Grant {
            id: id(subject * 1000 + target),
            subject: id(subject),
            target: id(target),
            level,
            ends_at: None,
            only: Only::default(),
        }
    }

    #[test]
    fn a_grant_flows_down_and_through_groups() {
        let mut world = world();
        world.grants.push(grant(61, 1, Level::Use));
        assert_eq!(world.level(id(50), id(100), at(0)), Some(Level::Use));
        assert_eq!(world.level(id(51), id(100), at(0)), None);
    }

    #[test]
    fn a_closed_folder_stops_what_comes_from_above_and_not_its_own() {
        let mut world = world();
        world.grants.push(grant(50, 1, Level::Edit));
        world.grants.push(grant(50, 3, Level::List));
        world.folders.get_mut(&id(3)).unwrap().closed = true;
        assert_eq!(world.level(id(50), id(100), at(0)), Some(Level::List));
        assert_eq!(world.level(id(50), id(2), at(0)), Some(Level::Edit));
    }

    #[test]
    fn a_grant_that_ended_reaches_nothing() {
        let mut world = world();
        world.grants.push(Grant {
            ends_at: Some(at(10)),
            ..grant(50, 1, Level::Reveal)
        });
        assert_eq!(world.level(id(50), id(100), at(9)), Some(Level::Reveal));
        assert_eq!(world.level(id(50), id(100), at(10)), None);
    }

    #[test]
    fn a_person_sees_the_path_to_what_reaches_them_and_nothing_beside_it() {
        let mut world = world();
        world.folders.insert(
            id(4),
            Folder {
                parent: Some(id(1)),
                closed: false,
            },
        );
        world.grants.push(grant(50, 100, Level::List));
        assert_eq!(
            world.visible_folders(id(50), at(0)),
            BTreeSet::from([id(1), id(2), id(3)])
        );
    }

    #[test]
    fn a_folder_under_itself_is_a_ring() {
        let world = world();
        assert!(world.would_ring(id(1), id(3)));
        assert!(world.would_ring(id(1), id(1)));
        assert!(!world.would_ring(id(3), id(1)));
    }

    #[test]
    fn groups_in_a_ring_are_harmless() {
        let mut world = world();
        world.groups.get_mut(&id(60)).unwrap().insert(id(61));
        assert_eq!(
            world.subjects_of(id(50)),
            BTreeSet::from([id(50), id(60), id(61)])
        );
    }

    proptest! {
        #[test]
        fn adding_a_grant_never_takes_anything_away(
            grants in prop::collection::vec((prop::sample::select(vec![50u128, 60, 61]), prop::sample::select(vec![1u128, 2, 3, 100]), 0usize..5), 0..6),
            extra in (prop::sample::select(vec![50u128, 60, 61]), prop::sample::select(vec![1u128, 2, 3, 100]), 0usize..5),
            closed in prop::sample::select(vec![1u128, 2, 3]),
        ) {
            let mut world = world();
            world.folders.get_mut(&id(closed)).unwrap().closed = true;
            for (s, t, l) in grants {
                world.grants.push(grant(s, t, Level::VARIANTS[l]));
            }
            let before: Vec<_> = [1, 2, 3, 100].map(|t| world.level(id(50), id(t), at(0))).into();
            world.grants.push(grant(extra.0, extra.1, Level::VARIANTS[extra.2]));
            let after: Vec<_> = [1, 2, 3, 100].map(|t| world.level(id(50), id(t), at(0))).into();
            for (b, a) in before.iter().zip(&after) {
                prop_assert!(a >= b);
            }
        }
    }
}

//! Who would gain or lose what by a change, exactly, before it is made.
//!
//! The world is read twice, before the change and with it made and not kept, as [`Scene`]s: the
//! places that the change can touch with how many credentials are there, the grants that reach them,
//! and who is meant by whom. [`preview`] compares the two. It gives what the plain definition of
//! access gives for every person and every credential, without going through all pairs: people whom
//! the same grants mean are looked at once, and of the places only those where one of these grants
//! begins; the rest is counted together.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use uuid::Uuid;

use super::Level;

/// Credentials that the same grants reach: those directly in one folder, or a single one that has
/// grants of its own.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Place {
    /// From where grants flow here: folders, and the credential itself when it is a single one.
    pub sources: Vec<Uuid>,
    /// How many credentials.
    pub credentials: u64,
    /// How many of these are under a gate.
    pub gated: u64,
}

/// The part of the world that a change can touch, at one moment. Only grants in force are in it.
#[derive(Clone, Debug, Default)]
pub struct Scene {
    /// By what they are places of: a folder or a credential.
    pub places: BTreeMap<Uuid, Place>,
    /// Subject, what it stands on, and what it gives.
    pub grants: Vec<(Uuid, Uuid, Level)>,
    /// Everybody concerned, with themselves and the groups that they are in, by way of groups too.
    pub people: BTreeMap<Uuid, BTreeSet<Uuid>>,
}

/// What changes for one person.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Shift {
    /// Who.
    pub person: Uuid,
    /// What they hold before.
    pub before: Option<Level>,
    /// What they hold after.
    pub after: Option<Level>,
    /// On how many credentials.
    pub credentials: u64,
    /// How many of these are under a gate.
    pub gated: u64,
}

/// What somebody is meant by: the best level by source.
type Held = BTreeMap<Uuid, Level>;

/// A place before and after.
struct Pair<'a> {
    before: &'a [Uuid],
    after: &'a [Uuid],
    credentials: u64,
    gated: u64,
}

/// Sources of more places than this are looked at for all these places together.
const WIDE: usize = 64;

/// What changes, by person, before and after. Places that are in one scene only count as reached by
/// nothing in the other.
#[must_use]
pub fn preview(before: &Scene, after: &Scene) -> Vec<Shift> {
    let keys: BTreeSet<Uuid> = before.places.keys().chain(after.places.keys()).copied().collect();
    let pairs: Vec<Pair<'_>> = keys
        .iter()
        .filter_map(|key| {
            let (old, new) = (before.places.get(key), after.places.get(key));
            let counted = new.or(old)?;
            Some(Pair {
                before: old.map_or(&[], |place| &place.sources),
                after: new.map_or(&[], |place| &place.sources),
                credentials: counted.credentials,
                gated: counted.gated,
            })
        })
        .collect();
    let mut at: HashMap<Uuid, Vec<usize>> = HashMap::new();
    for (number, pair) in pairs.iter().enumerate() {
        let sources: BTreeSet<&Uuid> = pair.before.iter().chain(pair.after).collect();
        for source in sources {
            at.entry(*source).or_default().push(number);
        }
    }
    let wide: BTreeSet<Uuid> = at.iter().filter(|(_, places)| places.len() > WIDE).map(|(source, _)| *source).collect();
    // Places that have the same wide sources are alike for whoever no narrow grant means there.
    let wide_of = |sources: &[Uuid]| -> Vec<Uuid> { sources.iter().filter(|source| wide.contains(source)).copied().collect() };
    let mut sorts = Sorts::new();
    for pair in &pairs {
        let sum = sorts.entry((wide_of(pair.before), wide_of(pair.after))).or_default();
        sum.0 += pair.credentials;
        sum.1 += pair.gated;
    }

    let standing = |scene: &Scene| {
        let mut of: HashMap<Uuid, Vec<(Uuid, Level)>> = HashMap::new();
        for (subject, target, level) in &scene.grants {
            of.entry(*subject).or_default().push((*target, *level));
        }
        of
    };
    let (old_grants, new_grants) = (standing(before), standing(after));
    let held = |grants: &HashMap<Uuid, Vec<(Uuid, Level)>>, subjects: Option<&BTreeSet<Uuid>>| {
        let mut held = Held::new();
        for (target, level) in subjects.into_iter().flatten().filter_map(|subject| grants.get(subject)).flatten() {
            let best = held.entry(*target).or_insert(*level);
            *best = (*best).max(*level);
        }
        held
    };
    let people: BTreeSet<Uuid> = before.people.keys().chain(after.people.keys()).copied().collect();
    let mut alike: BTreeMap<(Held, Held), Vec<Uuid>> = BTreeMap::new();
    for person in people {
        let key = (held(&old_grants, before.people.get(&person)), held(&new_grants, after.people.get(&person)));
        alike.entry(key).or_default().push(person);
    }

    let mut shifts = vec![];
    for ((old, new), people) in &alike {
        for ((before, after), (credentials, gated)) in compare(old, new, &pairs, &at, &wide, &sorts) {
            shifts.extend(people.iter().map(|person| Shift { person: *person, before, after, credentials, gated }));
        }
    }
    shifts.sort_unstable();
    shifts
}

/// How many credentials have these wide sources before and after, and how many of them are gated.
type Sorts = HashMap<(Vec<Uuid>, Vec<Uuid>), (u64, u64)>;
type Sums = BTreeMap<(Option<Level>, Option<Level>), (u64, u64)>;

fn compare(old: &Held, new: &Held, pairs: &[Pair<'_>], at: &HashMap<Uuid, Vec<usize>>, wide: &BTreeSet<Uuid>, sorts: &Sorts) -> Sums {
    let best = |held: &Held, sources: &[Uuid]| sources.iter().filter_map(|source| held.get(source)).max().copied();
    let wide_of = |sources: &[Uuid]| -> Vec<Uuid> { sources.iter().filter(|source| wide.contains(source)).copied().collect() };
    let touched: BTreeSet<usize> =
        old.keys().chain(new.keys()).filter(|source| !wide.contains(source)).filter_map(|source| at.get(source)).flatten().copied().collect();
    let mut sums = Sums::new();
    let mut rest = sorts.clone();
    let mut add = |levels: (Option<Level>, Option<Level>), credentials: u64, gated: u64| {
        if levels.0 != levels.1 && credentials > 0 {
            let sum = sums.entry(levels).or_default();
            sum.0 += credentials;
            sum.1 += gated;
        }
    };
    for pair in touched.into_iter().filter_map(|number| pairs.get(number)) {
        add((best(old, pair.before), best(new, pair.after)), pair.credentials, pair.gated);
        if let Some(sum) = rest.get_mut(&(wide_of(pair.before), wide_of(pair.after))) {
            sum.0 -= pair.credentials;
            sum.1 -= pair.gated;
        }
    }
    for ((before, after), (credentials, gated)) in rest {
        add((best(old, &before), best(new, &after)), credentials, gated);
    }
    sums
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn id(n: u128) -> Uuid {
        Uuid::from_u128(n)
    }

    /// The definition: every person, every place.
    fn plainly(before: &Scene, after: &Scene) -> Vec<Shift> {
        let level = |scene: &Scene, person: &Uuid, place: &Uuid| {
            let (subjects, place) = (scene.people.get(person)?, scene.places.get(place)?);
            scene.grants.iter().filter(|(subject, target, _)| subjects.contains(subject) && place.sources.contains(target)).map(|(.., level)| *level).max()
        };
        let people: BTreeSet<_> = before.people.keys().chain(after.people.keys()).collect();
        let places: BTreeSet<_> = before.places.keys().chain(after.places.keys()).collect();
        let mut sums: BTreeMap<_, (u64, u64)> = BTreeMap::new();
        for person in people {
            for place in &places {
                let levels = (level(before, person, place), level(after, person, place));
                if levels.0 != levels.1 {
                    let counted = after.places.get(place).or_else(|| before.places.get(place)).unwrap();
                    let sum = sums.entry((*person, levels.0, levels.1)).or_default();
                    sum.0 += counted.credentials;
                    sum.1 += counted.gated;
                }
            }
        }
        sums.into_iter()
            .filter(|(_, (credentials, _))| *credentials > 0)
            .map(|((person, before, after), (credentials, gated))| Shift { person, before, after, credentials, gated })
            .collect()
    }

    prop_compose! {
        /// Folders 1 to 9 in a row of trees under 1; people 50 to 54; groups 60 to 62. So many places
        /// that the sources above are wide.
        fn scene()(
            grants in prop::collection::vec((50_u128..63, 1_u128..10, 0_usize..5), 0..12),
            groups in prop::collection::vec(prop::collection::btree_set(60_u128..63, 0..3), 5),
            closed in prop::collection::btree_set(2_u128..10, 0..3),
        ) -> Scene {
            let mut scene = Scene::default();
            for n in 0..150_u128 {
                let folder = 2 + n % 8;
                let sources = if closed.contains(&folder) { vec![id(1000 + n), id(folder)] } else { vec![id(1000 + n), id(folder), id(1)] };
                scene.places.insert(id(1000 + n), Place { sources, credentials: u64::try_from(n % 4).unwrap(), gated: u64::from(n % 4 == 3) });
            }
            for (subject, target, level) in grants {
                scene.grants.push((id(subject), id(if target == 9 { 1000 + subject } else { target }), Level::ALL[level]));
            }
            for (n, groups) in groups.iter().enumerate() {
                let person = id(50 + u128::try_from(n).unwrap());
                scene.people.insert(person, groups.iter().map(|group| id(*group)).chain([person]).collect());
            }
            scene
        }
    }

    proptest! {
        #[test]
        fn it_says_what_the_definition_says_for_every_person_and_every_credential(before in scene(), after in scene()) {
            prop_assert_eq!(preview(&before, &after), plainly(&before, &after));
        }

        #[test]
        fn nothing_changes_when_nothing_changes(scene in scene()) {
            prop_assert_eq!(preview(&scene, &scene), vec![]);
        }
    }
}

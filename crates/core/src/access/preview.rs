//! Who would gain or lose what by a change, exactly, before it is made.
//!
//! The world is read twice, before the change and with it made and not kept, as [`Scene`]s: the
//! places that the change can touch with how many credentials are there, the grants that reach them,
//! and who is meant by whom. [`preview`] compares the two. It gives what the plain definition of
//! access gives for every person and every credential, without going through all pairs: people whom
//! the same grants mean are looked at once, and of the places only those where one of these grants
//! begins; the rest is counted together.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

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

/// Places by what they are places of: a folder or a credential.
pub type Places = BTreeMap<Uuid, Place>;
/// Everybody concerned, with themselves and the groups that they are in, by way of groups too.
pub type People = BTreeMap<Uuid, BTreeSet<Uuid>>;

/// The part of the world that a change can touch, at one moment. Only grants in force are in it.
/// What a change leaves as it is two scenes can share.
#[derive(Clone, Debug, Default)]
pub struct Scene {
    /// The places.
    pub places: Arc<Places>,
    /// Subject, what it stands on, and what it gives.
    pub grants: Vec<(Uuid, Uuid, Level)>,
    /// The people.
    pub people: Arc<People>,
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

/// What somebody is meant by: the best level by source, in the order of sources.
type Held = Vec<(u32, Level)>;
/// What stands where, by subject.
type Standing = HashMap<Uuid, Vec<(u32, Level)>>;

/// A place before and after. Sources have numbers here: there are many places, and each is looked at
/// for many people.
struct Pair {
    before: Vec<u32>,
    after: Vec<u32>,
    credentials: u64,
    gated: u64,
    /// Which of the sorts of places it is of.
    sort: usize,
}

/// Places that have the same wide sources are alike for whoever no narrow grant means there.
struct Sort {
    before: Vec<u32>,
    after: Vec<u32>,
    credentials: u64,
    gated: u64,
}

/// All places, and where each source reaches.
struct Map {
    numbers: HashMap<Uuid, u32>,
    pairs: Vec<Pair>,
    /// By source, the places that it reaches; none of wide ones.
    at: Vec<Vec<usize>>,
    wide: Vec<bool>,
    sorts: Vec<Sort>,
}

/// Sources of more places than this are looked at for all these places together.
const WIDE: usize = 64;

impl Map {
    fn of(before: &Scene, after: &Scene) -> Self {
        let mut map = Self { numbers: HashMap::new(), pairs: vec![], at: vec![], wide: vec![], sorts: vec![] };
        if Arc::ptr_eq(&before.places, &after.places) {
            for place in after.places.values() {
                let sources = map.numbered(&place.sources);
                map.add(sources.clone(), sources, place);
            }
        } else {
            let keys: BTreeSet<&Uuid> = before.places.keys().chain(after.places.keys()).collect();
            for key in keys {
                let (old, new) = (before.places.get(key), after.places.get(key));
                let Some(counted) = new.or(old) else { continue };
                let old = old.map(|place| map.numbered(&place.sources)).unwrap_or_default();
                let new = new.map(|place| map.numbered(&place.sources)).unwrap_or_default();
                map.add(old, new, counted);
            }
        }
        map.wide = map.at.iter().map(|places| places.len() > WIDE).collect();
        for (places, wide) in map.at.iter_mut().zip(&map.wide) {
            if *wide {
                places.clear();
            }
        }
        let mut known: HashMap<(Vec<u32>, Vec<u32>), usize> = HashMap::new();
        for pair in &mut map.pairs {
            let wide_of = |sources: &[u32]| -> Vec<u32> { sources.iter().filter(|source| is(&map.wide, **source)).copied().collect() };
            let key = (wide_of(&pair.before), wide_of(&pair.after));
            pair.sort = *known.entry(key).or_insert_with_key(|key| {
                map.sorts.push(Sort { before: key.0.clone(), after: key.1.clone(), credentials: 0, gated: 0 });
                map.sorts.len() - 1
            });
            if let Some(sort) = map.sorts.get_mut(pair.sort) {
                sort.credentials += pair.credentials;
                sort.gated += pair.gated;
            }
        }
        map
    }

    fn numbered(&mut self, sources: &[Uuid]) -> Vec<u32> {
        let mut numbers: Vec<u32> = sources
            .iter()
            .map(|source| {
                let next = u32::try_from(self.numbers.len()).unwrap_or(u32::MAX);
                *self.numbers.entry(*source).or_insert(next)
            })
            .collect();
        numbers.sort_unstable();
        numbers.dedup();
        numbers
    }

    fn add(&mut self, before: Vec<u32>, after: Vec<u32>, counted: &Place) {
        self.at.resize(self.numbers.len(), vec![]);
        for (at, source) in before.iter().chain(&after).enumerate() {
            // What is a source before and after is one place all the same.
            if at >= before.len() && before.binary_search(source).is_ok() {
                continue;
            }
            if let Some(places) = usize::try_from(*source).ok().and_then(|source| self.at.get_mut(source)) {
                places.push(self.pairs.len());
            }
        }
        self.pairs.push(Pair { before, after, credentials: counted.credentials, gated: counted.gated, sort: 0 });
    }

    fn standing(&self, scene: &Scene) -> Standing {
        let mut of = Standing::new();
        for (subject, target, level) in &scene.grants {
            if let Some(number) = self.numbers.get(target) {
                of.entry(*subject).or_default().push((*number, *level));
            }
        }
        of
    }

    fn compare(&self, old: &Held, new: &Held) -> Sums {
        let mut touched: Vec<usize> =
            old.iter().chain(new).filter_map(|(source, _)| usize::try_from(*source).ok().and_then(|source| self.at.get(source))).flatten().copied().collect();
        touched.sort_unstable();
        touched.dedup();
        let mut sums = Sums::new();
        let mut add = |levels: (Option<Level>, Option<Level>), credentials: u64, gated: u64| {
            if levels.0 != levels.1 && credentials > 0 {
                let sum = sums.entry(levels).or_default();
                sum.0 += credentials;
                sum.1 += gated;
            }
        };
        let mut apart: HashMap<usize, (u64, u64)> = HashMap::new();
        for pair in touched.into_iter().filter_map(|number| self.pairs.get(number)) {
            add((best(old, &pair.before), best(new, &pair.after)), pair.credentials, pair.gated);
            let sum = apart.entry(pair.sort).or_default();
            sum.0 += pair.credentials;
            sum.1 += pair.gated;
        }
        for (number, sort) in self.sorts.iter().enumerate() {
            let (credentials, gated) = apart.get(&number).copied().unwrap_or_default();
            add((best(old, &sort.before), best(new, &sort.after)), sort.credentials - credentials, sort.gated - gated);
        }
        sums
    }
}

fn is(marks: &[bool], number: u32) -> bool {
    usize::try_from(number).ok().and_then(|number| marks.get(number)).copied().unwrap_or(false)
}

/// The best level that somebody holds on any of some sources.
fn best(held: &Held, sources: &[u32]) -> Option<Level> {
    sources.iter().filter_map(|source| held.binary_search_by_key(source, |(number, _)| *number).ok().and_then(|at| held.get(at))).map(|(_, level)| *level).max()
}

/// What is held by way of any of some subjects.
fn held(standing: &Standing, subjects: Option<&BTreeSet<Uuid>>) -> Held {
    let mut held: Held = subjects.into_iter().flatten().filter_map(|subject| standing.get(subject)).flatten().copied().collect();
    // The best of each source comes first, and is kept.
    held.sort_unstable_by_key(|(source, level)| (*source, std::cmp::Reverse(*level)));
    held.dedup_by_key(|(source, _)| *source);
    held
}

type Sums = BTreeMap<(Option<Level>, Option<Level>), (u64, u64)>;

/// What changes, by person, before and after. Places that are in one scene only count as reached by
/// nothing in the other.
#[must_use]
pub fn preview(before: &Scene, after: &Scene) -> Vec<Shift> {
    let map = Map::of(before, after);
    let (old_grants, new_grants) = (map.standing(before), map.standing(after));
    let people: BTreeSet<Uuid> = before.people.keys().chain(after.people.keys()).copied().collect();
    let mut alike: HashMap<(Held, Held), Vec<Uuid>> = HashMap::new();
    for person in people {
        let key = (held(&old_grants, before.people.get(&person)), held(&new_grants, after.people.get(&person)));
        alike.entry(key).or_default().push(person);
    }
    let mut shifts = vec![];
    for ((old, new), people) in alike.iter().filter(|((old, new), _)| old != new || !Arc::ptr_eq(&before.places, &after.places)) {
        for ((before, after), (credentials, gated)) in map.compare(old, new) {
            shifts.extend(people.iter().map(|person| Shift { person: *person, before, after, credentials, gated }));
        }
    }
    shifts.sort_unstable();
    shifts
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
                Arc::make_mut(&mut scene.places).insert(id(1000 + n), Place { sources, credentials: u64::try_from(n % 4).unwrap(), gated: u64::from(n % 4 == 3) });
            }
            for (subject, target, level) in grants {
                scene.grants.push((id(subject), id(if target == 9 { 1000 + subject } else { target }), Level::ALL[level]));
            }
            for (n, groups) in groups.iter().enumerate() {
                let person = id(50 + u128::try_from(n).unwrap());
                Arc::make_mut(&mut scene.people).insert(person, groups.iter().map(|group| id(*group)).chain([person]).collect());
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
        fn what_two_scenes_share_is_as_if_each_had_it(before in scene(), after in scene()) {
            let after = Scene { places: Arc::clone(&before.places), ..after };
            prop_assert_eq!(preview(&before, &after), plainly(&before, &after));
            let after = Scene { people: Arc::clone(&before.people), ..after };
            prop_assert_eq!(preview(&before, &after), plainly(&before, &after));
        }

        #[test]
        fn nothing_changes_when_nothing_changes(scene in scene()) {
            prop_assert_eq!(preview(&scene, &scene), vec![]);
        }
    }
}

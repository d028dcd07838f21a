//! Who would gain or lose what by a change, exactly, before it is made.
//!
//! The change is made in a transaction that is not kept, and two [`AccessIndex`]es are compared,
//! the one before and the one with it. [`preview`] gives what the plain definition of access gives
//! for every person and every credential, without going through all pairs. Only people whose grants
//! the change touches are looked at, all if it touches the tree. The folders stand in an order in
//! which what a grant reaches is one row; somebody's grants, sorted by it, cut it into stretches of
//! one level before and one after, and how many credentials are in a stretch is a difference of two
//! sums. Credentials that stand out of this — with grants of their own, meant by narrowed grants,
//! moved — are looked at one by one, or together where they are alike.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use chrono::{DateTime, Utc};
use rustc_hash::{FxHashMap as HashMap, FxHashSet as HashSet};
use uuid::Uuid;

use super::Level;
use super::index::{AccessIndex, Forest, IndexedGrant, SubjectResolver, level_of};
use super::reference::{Credential, Only};

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
    /// How many of these are under a gate after the change.
    pub gated: u64,
    /// On how many folders themselves, empty ones included.
    pub folders: u64,
}

/// A credential that the change moves.
#[derive(Clone, Debug)]
pub struct Moved {
    /// Which.
    pub id: Uuid,
    /// Where it was.
    pub from: Uuid,
    /// Where it will be, and what it is.
    pub credential: Credential,
    /// Whether it has a gate of its own.
    pub gate: bool,
}

/// What narrowed grants make it necessary to know.
#[derive(Clone, Debug, Default)]
pub struct Narrowings {
    /// For what some grants are that count here, each once.
    pub onlys: Vec<Only>,
    /// The folders that they reach.
    pub folders: Vec<Uuid>,
}

/// Credentials directly in one folder that the same of some narrowings fit; none of them has grants
/// of its own, and none is moved.
#[derive(Clone, Debug)]
pub struct Cell {
    /// Where they are.
    pub folder: Uuid,
    /// Which of the narrowings fit, by their place among them.
    pub fits: Vec<usize>,
    /// How many.
    pub credentials: u64,
    /// How many of these have a gate of their own.
    pub own_gates: u64,
}

/// What a preview looks at beside the two index_cache.
#[derive(Clone, Debug, Default)]
pub struct Beside {
    /// The credentials that the change moves.
    pub moved: Vec<Moved>,
    /// The narrowings, as [`narrowings`] has found them.
    pub onlys: Vec<Only>,
    /// What they fit.
    pub cells: Vec<Cell>,
}

/// The folders into which grants flow from elsewhere than before, and in which or below which there
/// is something.
struct Cuts {
    forest: Option<Forest>,
    roots: Vec<u32>,
}

impl Cuts {
    fn of(before: &AccessIndex, after: &AccessIndex, moved: &[Moved]) -> Self {
        if Arc::ptr_eq(&before.tree, &after.tree) && moved.is_empty() {
            return Self {
                forest: None,
                roots: vec![],
            };
        }
        let all = 0..u32::try_from(after.tree.len()).unwrap_or(u32::MAX);
        let known = u32::try_from(before.tree.len()).unwrap_or(u32::MAX);
        let mut roots = vec![];
        let mut links = vec![];
        for number in all.clone() {
            let (old, new) = (before.tree.source(number), after.tree.source(number));
            let cut = number >= known || old != new;
            if cut {
                roots.push(number);
            }
            links.push(if cut { None } else { new });
        }
        if roots.is_empty() && moved.is_empty() {
            return Self {
                forest: None,
                roots,
            };
        }
        // What is moved is looked at by itself, and not counted where it comes to lie.
        let mut arrivals: HashMap<u32, (u64, u64)> = HashMap::default();
        for moved in moved {
            let Some(number) = after.tree.number(moved.credential.folder) else {
                continue;
            };
            let sum = arrivals.entry(number).or_default();
            sum.0 += 1;
            sum.1 += u64::from(moved.gate || after.tree.under_gate(number));
        }
        let weights: Vec<(u64, u64)> = all
            .map(|number| {
                let (weight, less) = (
                    after.tree.weight(number),
                    arrivals.get(&number).copied().unwrap_or_default(),
                );
                (
                    weight.0.saturating_sub(less.0),
                    weight.1.saturating_sub(less.1),
                )
            })
            .collect();
        let forest = Forest::of(&links, &weights);
        roots.retain(|root| forest.place(*root).is_some());
        Self {
            forest: Some(forest),
            roots,
        }
    }

    const fn concern_all(&self, moved: &[Moved]) -> bool {
        !self.roots.is_empty() || !moved.is_empty()
    }
}

/// The people for whom a change can change anything.
fn concerned(before: &AccessIndex, after: &AccessIndex, all: bool) -> Vec<Uuid> {
    let counts = |person: &Uuid| after.person(*person).is_some_and(|person| person.counts());
    if all {
        return after
            .people
            .keys()
            .filter(|person| counts(person))
            .copied()
            .collect();
    }
    let mut subjects: HashSet<Uuid> = HashSet::default();
    if !Arc::ptr_eq(&before.grants, &after.grants) {
        differing(
            &before.grants.by_subject,
            &after.grants.by_subject,
            Arc::ptr_eq,
            &mut subjects,
        );
    }
    if !Arc::ptr_eq(&before.groups, &after.groups) {
        differing(
            &before.groups.above,
            &after.groups.above,
            Arc::ptr_eq,
            &mut subjects,
        );
    }
    let mut meant = before.groups.meant_by(subjects.iter().copied());
    if !Arc::ptr_eq(&before.groups, &after.groups) {
        meant.extend(after.groups.meant_by(subjects));
    }
    meant.into_iter().filter(counts).collect()
}

/// By whom each of some people is meant, before and after, one after the other in the same room.
struct Meant<'a> {
    before: SubjectResolver<'a>,
    /// Nothing where the groups stay as they are.
    after: Option<SubjectResolver<'a>>,
    old: Vec<Uuid>,
    new: Vec<Uuid>,
}

impl<'a> Meant<'a> {
    fn of(before: &'a AccessIndex, after: &'a AccessIndex) -> Self {
        let other = !Arc::ptr_eq(&before.groups, &after.groups);
        Self {
            before: SubjectResolver::of(&before.groups),
            after: other.then(|| SubjectResolver::of(&after.groups)),
            old: vec![],
            new: vec![],
        }
    }

    fn subjects(&mut self, person: Uuid) -> [&[Uuid]; 2] {
        self.before.subjects(person, &mut self.old);
        let Some(after) = &mut self.after else {
            return [&self.old, &self.old];
        };
        after.subjects(person, &mut self.new);
        [&self.old, &self.new]
    }
}

fn differing<T: ?Sized>(
    old: &HashMap<Uuid, Arc<T>>,
    new: &HashMap<Uuid, Arc<T>>,
    same: fn(&Arc<T>, &Arc<T>) -> bool,
    into: &mut HashSet<Uuid>,
) {
    into.extend(
        old.iter()
            .filter(|(id, entry)| !new.get(id).is_some_and(|other| same(entry, other)))
            .map(|(id, _)| *id),
    );
    into.extend(new.keys().filter(|id| !old.contains_key(id)));
}

fn standings<'a>(
    index: &'a AccessIndex,
    subjects: &'a [Uuid],
    now: DateTime<Utc>,
) -> impl Iterator<Item = &'a IndexedGrant> {
    subjects
        .iter()
        .filter_map(|subject| index.grants.by_subject.get(subject))
        .flat_map(|theirs| theirs.iter())
        .filter(move |standing| standing.counts(now))
}

/// Which narrowed grants count in a comparison of these two, and where; nothing if there are none.
#[must_use]
pub fn narrowings(
    before: &AccessIndex,
    after: &AccessIndex,
    moved: &[Moved],
    now: DateTime<Utc>,
) -> Option<Narrowings> {
    if !before.has_narrowed() && !after.has_narrowed() {
        return None;
    }
    let all = Cuts::of(before, after, moved).concern_all(moved);
    let (mut onlys, mut folders) = (BTreeSet::new(), BTreeSet::new());
    let mut meant = Meant::of(before, after);
    for person in concerned(before, after, all) {
        for (index, subjects) in [before, after].into_iter().zip(meant.subjects(person)) {
            for standing in
                standings(index, subjects, now).filter(|standing| !standing.grant.only.is_all())
            {
                onlys.insert(standing.grant.only.clone());
                folders.insert(standing.grant.target);
            }
        }
    }
    let reached: BTreeSet<Uuid> = folders
        .iter()
        .flat_map(|folder| {
            before
                .reached_from(*folder)
                .chain(after.reached_from(*folder))
        })
        .collect();
    Some(Narrowings {
        onlys: onlys.into_iter().collect(),
        folders: reached.into_iter().collect(),
    })
}

/// A level before and one after, as numbers; 0 is none.
type Both = [u8; 2];

fn higher(entry: Both, other: Both) -> Both {
    let ([a, b], [c, d]) = (entry, other);
    [a.max(c), b.max(d)]
}

/// What is counted of a stretch or of something that stands out: credentials, those of them under a
/// gate, folders.
#[derive(Clone, Copy, Default)]
struct Weight {
    credentials: i64,
    gated: i64,
    folders: i64,
}

impl Weight {
    fn of((credentials, gated): (u64, u64), folders: u32) -> Self {
        let signed = |count: u64| i64::try_from(count).unwrap_or(i64::MAX);
        Self {
            credentials: signed(credentials),
            gated: signed(gated),
            folders: folders.into(),
        }
    }
}

/// Credentials and folders by level before and after.
#[derive(Default)]
struct Sums([[Weight; 6]; 6]);

impl Sums {
    fn add(&mut self, [before, after]: Both, weight: Weight, sign: i64) {
        let sum = self
            .0
            .get_mut(usize::from(before))
            .and_then(|row| row.get_mut(usize::from(after)));
        if let Some(sum) = sum {
            sum.credentials += sign * weight.credentials;
            sum.gated += sign * weight.gated;
            sum.folders += sign * weight.folders;
        }
    }
}

/// Something that stands out, for whomever it does.
struct Odd<'a> {
    own: Option<Uuid>,
    from: Option<u32>,
    to: Option<u32>,
    fits: &'a [usize],
    weight: (u64, u64),
}

/// What is looked at for one person after the other.
struct Look<'a> {
    index_cache: [&'a AccessIndex; 2],
    forest: &'a Forest,
    roots: &'a [u32],
    onlys: &'a [Only],
    now: DateTime<Utc>,
    /// By folder, what the person holds by grants that stand there.
    held: Vec<Both>,
    touched: Vec<u32>,
    /// By credential, the same.
    own: BTreeMap<Uuid, Both>,
    /// Narrowed grants: the folder, the place among the narrowings, before or after, the level.
    narrow: Vec<(u32, usize, usize, u8)>,
    /// Where what is held changes: the place, and what is held there.
    marks: Vec<(u32, Both)>,
    /// The stretches around a place: where each ends, and what is held in it.
    open: Vec<(u32, Both)>,
}

impl<'a> Look<'a> {
    /// Takes in what these subjects hold before, and what those hold after, both in the order of
    /// identifiers.
    fn gather(&mut self, old: &[Uuid], new: &[Uuid]) {
        let [before, after] = self.index_cache;
        let (mut old, mut new) = (old.iter().peekable(), new.iter().peekable());
        while let Some(subject) = old
            .peek()
            .into_iter()
            .chain(new.peek())
            .min()
            .map(|subject| **subject)
        {
            let held = |of: Option<&Uuid>, index: &'a AccessIndex| {
                of.and_then(|subject| index.grants.by_subject.get(subject))
            };
            let held = (
                held(old.next_if_eq(&&subject), before),
                held(new.next_if_eq(&&subject), after),
            );
            if let (Some(theirs), Some(then)) = held
                && Arc::ptr_eq(theirs, then)
            {
                // Nearly all grants stay as they are.
                theirs
                    .iter()
                    .for_each(|standing| self.take_in(standing, [true, true]));
                continue;
            }
            held.0
                .into_iter()
                .flat_map(|theirs| theirs.iter())
                .for_each(|standing| self.take_in(standing, [true, false]));
            held.1
                .into_iter()
                .flat_map(|theirs| theirs.iter())
                .for_each(|standing| self.take_in(standing, [false, true]));
        }
    }

    fn take_in(&mut self, standing: &IndexedGrant, sides: [bool; 2]) {
        if !standing.counts(self.now) {
            return;
        }
        let gives = sides.map(|side| if side { standing.level } else { 0 });
        if let Some(folder) = standing.flows {
            let Some(held) = usize::try_from(folder)
                .ok()
                .and_then(|folder| self.held.get_mut(folder))
            else {
                return;
            };
            if *held == [0, 0] {
                self.touched.push(folder);
            }
            *held = higher(*held, gives);
        } else if standing.grant.only.is_all() {
            let own = self.own.entry(standing.grant.target).or_default();
            *own = higher(*own, gives);
        } else if let Ok(only) = self.onlys.binary_search(&standing.grant.only) {
            for (side, (index, gives)) in self.index_cache.iter().zip(gives).enumerate() {
                if let (Some(folder), true) = (index.tree.number(standing.grant.target), gives > 0)
                {
                    self.narrow.push((folder, only, side, gives));
                }
            }
        }
    }

    fn held(&self, folder: u32) -> Both {
        super::index::at(&self.held, folder)
            .copied()
            .unwrap_or_default()
    }

    /// What flows to a folder, that on it included.
    fn reach(&self, side: usize, folder: Option<u32>) -> u8 {
        let Some(index) = self.index_cache.get(side) else {
            return 0;
        };
        index
            .tree
            .sources(folder)
            .filter_map(|source| self.held(source).get(side).copied())
            .max()
            .unwrap_or(0)
    }

    fn sweep(&mut self, sums: &mut Sums) {
        let forest = self.forest;
        self.marks.clear();
        for number in &self.touched {
            if let Some(place) = forest.place(*number) {
                self.marks.push((
                    place,
                    super::index::at(&self.held, *number)
                        .copied()
                        .unwrap_or_default(),
                ));
            }
        }
        for root in self.roots {
            let above = |side: usize| {
                self.index_cache
                    .get(side)
                    .and_then(|index| index.tree.source(*root))
            };
            let flows = [self.reach(0, above(0)), self.reach(1, above(1))];
            if let (Some(place), true) = (forest.place(*root), flows != [0, 0]) {
                self.marks.push((place, flows));
            }
        }
        self.marks.sort_unstable();
        let open = &mut self.open;
        open.clear();
        for (place, both) in &self.marks {
            while open.last().is_some_and(|(end, _)| end <= place) {
                open.pop();
            }
            let around = open.last().map(|(_, both)| *both);
            let both = higher(*both, around.unwrap_or_default());
            let end = forest.end(*place);
            if around != Some(both) {
                // The places are those of the folders, without gaps.
                let folders = end.saturating_sub(*place);
                let weight = Weight::of(forest.between(*place, end), folders);
                sums.add(both, weight, 1);
                if let Some(around) = around {
                    sums.add(around, weight, -1);
                }
            }
            open.push((end, both));
        }
    }

    /// What is held on something that stands out, and what would be if it did not.
    fn on(&self, odd: &Odd<'_>) -> (Both, Both) {
        let flows = [self.reach(0, odd.from), self.reach(1, odd.to)];
        let mut both = odd
            .own
            .and_then(|own| self.own.get(&own))
            .map_or(flows, |own| higher(*own, flows));
        if !self.narrow.is_empty() && !odd.fits.is_empty() {
            for (side, (index, folder)) in
                self.index_cache.iter().zip([odd.from, odd.to]).enumerate()
            {
                let sources: Vec<u32> = index.tree.sources(folder).collect();
                let best = self
                    .narrow
                    .iter()
                    .filter(|(folder, only, of, _)| {
                        *of == side && odd.fits.contains(only) && sources.contains(folder)
                    })
                    .map(|mark| mark.3);
                if let (Some(level), Some(best)) = (both.get_mut(side), best.max()) {
                    *level = best.max(*level);
                }
            }
        }
        (both, flows)
    }

    fn forget(&mut self) {
        for number in self.touched.drain(..) {
            if let Some(held) = usize::try_from(number)
                .ok()
                .and_then(|number| self.held.get_mut(number))
            {
                *held = [0, 0];
            }
        }
        self.own.clear();
        self.narrow.clear();
    }
}

/// What makes moved credentials alike: their own grants, from where, to where, which narrowings
/// fit.
type Likeness = (Option<Uuid>, Option<u32>, Option<u32>, Vec<usize>);

/// The moved credentials, those that are alike together.
fn moved_together(
    before: &AccessIndex,
    after: &AccessIndex,
    beside: &Beside,
    now: DateTime<Utc>,
) -> BTreeMap<Likeness, (u64, u64)> {
    let owned: HashSet<Uuid> = [before, after]
        .into_iter()
        .flat_map(|index| index.grants.by_subject.values())
        .flat_map(|theirs| theirs.iter())
        .filter(|standing| standing.flows.is_none() && standing.counts(now))
        .map(|standing| standing.grant.target)
        .collect();
    let mut alike: BTreeMap<Likeness, (u64, u64)> = BTreeMap::new();
    for moved in &beside.moved {
        let own = owned.contains(&moved.id).then_some(moved.id);
        let (from, to) = (
            before.tree.number(moved.from),
            after.tree.number(moved.credential.folder),
        );
        let sum = alike
            .entry((own, from, to, fitting(&beside.onlys, &moved.credential)))
            .or_default();
        sum.0 += 1;
        sum.1 += u64::from(moved.gate || to.is_some_and(|to| after.tree.under_gate(to)));
    }
    alike
}

fn fitting(onlys: &[Only], credential: &Credential) -> Vec<usize> {
    onlys
        .iter()
        .enumerate()
        .filter(|(_, only)| only.fits(credential))
        .map(|(number, _)| number)
        .collect()
}

/// What changes, by person, before and after.
#[must_use]
pub fn preview(
    before: &AccessIndex,
    after: &AccessIndex,
    beside: &Beside,
    now: DateTime<Utc>,
) -> Vec<Shift> {
    let cuts = Cuts::of(before, after, &beside.moved);
    let moved = if beside.moved.is_empty() {
        BTreeMap::new()
    } else {
        moved_together(before, after, beside, now)
    };
    let ids: HashSet<Uuid> = beside.moved.iter().map(|moved| moved.id).collect();
    let mut look = Look {
        index_cache: [before, after],
        forest: cuts.forest.as_ref().unwrap_or(&after.tree.forest),
        roots: &cuts.roots,
        onlys: &beside.onlys,
        now,
        held: vec![[0, 0]; after.tree.len()],
        touched: vec![],
        own: BTreeMap::new(),
        narrow: vec![],
        marks: vec![],
        open: vec![],
    };
    let mut shifts = vec![];
    let mut meant = Meant::of(before, after);
    for person in concerned(before, after, cuts.concern_all(&beside.moved)) {
        let [old, new] = meant.subjects(person);
        look.gather(old, new);
        let mut sums = Sums::default();
        look.sweep(&mut sums);
        for ((own, from, to, fits), weight) in &moved {
            let (both, _) = look.on(&Odd {
                own: *own,
                from: *from,
                to: *to,
                fits,
                weight: *weight,
            });
            sums.add(both, Weight::of(*weight, 0), 1);
        }
        let mut apart = |odd: &Odd<'_>| {
            let (both, flows) = look.on(odd);
            if both != flows {
                sums.add(flows, Weight::of(odd.weight, 0), -1);
                sums.add(both, Weight::of(odd.weight, 0), 1);
            }
        };
        let mut single = |id: Uuid| {
            let Some(single) = after
                .singles
                .get(&id)
                .or_else(|| before.singles.get(&id))
                .filter(|_| !ids.contains(&id))
            else {
                return;
            };
            let folder = after.tree.number(single.credential.folder);
            let gated = single.gate || folder.is_some_and(|folder| after.tree.under_gate(folder));
            let fits = if beside.onlys.is_empty() {
                vec![]
            } else {
                fitting(&beside.onlys, &single.credential)
            };
            apart(&Odd {
                own: Some(id),
                from: folder,
                to: folder,
                fits: &fits,
                weight: (1, u64::from(gated)),
            });
        };
        if look.narrow.is_empty() {
            look.own.keys().copied().for_each(&mut single);
        } else {
            let all: BTreeSet<Uuid> = before.singles().chain(after.singles()).collect();
            all.into_iter().for_each(&mut single);
            for cell in &beside.cells {
                let folder = after.tree.number(cell.folder);
                let gated = if folder.is_some_and(|folder| after.tree.under_gate(folder)) {
                    cell.credentials
                } else {
                    cell.own_gates
                };
                apart(&Odd {
                    own: None,
                    from: folder,
                    to: folder,
                    fits: &cell.fits,
                    weight: (cell.credentials, gated),
                });
            }
        }
        for (before, row) in (0..).zip(&sums.0) {
            for (after, sum) in (0..).zip(row) {
                let count = |number: i64| u64::try_from(number).unwrap_or(0);
                if before != after && (sum.credentials > 0 || sum.folders > 0) {
                    shifts.push(Shift {
                        person,
                        before: level_of(before),
                        after: level_of(after),
                        credentials: count(sum.credentials),
                        gated: count(sum.gated),
                        folders: count(sum.folders),
                    });
                }
            }
        }
        look.forget();
    }
    shifts.sort_unstable();
    shifts
}

#[cfg(test)]
mod tests {
    use super::super::index::{FolderEntry, PersonEntry, SingleEntry};
    use super::super::reference::{Folder, Grant, World};
    use super::*;
    use proptest::prelude::*;
    use strum::VariantArray as _;

    fn id(n: u128) -> Uuid {
        Uuid::from_u128(n)
    }

    fn now() -> DateTime<Utc> {
        DateTime::from_timestamp(1000, 0).unwrap()
    }

    const KINDS: [&str; 2] = ["login", "ssh-key"];

    /// A world with what is gated in it. Folders 1 to 9, credentials 100 to 139, people 200 to 204,
    /// groups 300 to 303.
    #[derive(Clone, Debug)]
    struct Scene {
        world: World,
        gates: BTreeSet<Uuid>,
    }

    type GrantRecipe = (u128, u128, usize, usize, usize);

    fn grants() -> impl Strategy<Value = Vec<GrantRecipe>> {
        let subjects = prop::sample::select(vec![200_u128, 201, 202, 203, 300, 301, 302, 303]);
        let targets =
            prop::sample::select(vec![1_u128, 2, 3, 4, 5, 6, 7, 8, 9, 100, 101, 110, 120]);
        prop::collection::vec(
            (subjects, targets, 0_usize..5, 0_usize..4, 0_usize..6),
            0..14,
        )
    }

    prop_compose! {
        fn scene()(
            parents in prop::collection::vec(0_u128..9, 9),
            closed in prop::collection::btree_set(1_u128..10, 0..4),
            places in prop::collection::vec((1_u128..10, 0_usize..2, any::<bool>()), 40),
            grants in grants(),
            groups in prop::collection::vec(prop::collection::btree_set(prop::sample::select(vec![200_u128, 201, 202, 203, 204, 300, 301, 302, 303]), 0..4), 4),
            gates in prop::collection::btree_set(prop::sample::select(vec![1_u128, 4, 7, 100, 105]), 0..3),
        ) -> Scene {
            let mut world = World::default();
            for (n, parent) in (1..).zip(parents) {
                world.folders.insert(id(n), Folder { parent: (parent > 0 && parent < n).then(|| id(parent)), closed: closed.contains(&n) });
            }
            for (n, (folder, kind, tagged)) in (100..).zip(places) {
                let tags = if tagged { vec!["night".to_owned()] } else { vec![] };
                world.credentials.insert(id(n), Credential { folder: id(folder), kind: KINDS[kind].into(), tags });
            }
            for (n, members) in (300..).zip(groups) {
                world.groups.insert(id(n), members.into_iter().map(id).collect());
            }
            for (n, grant) in (1000..).zip(grants) {
                world.grants.push(grant_of(n, grant));
            }
            Scene { world, gates: gates.into_iter().map(id).collect() }
        }
    }

    fn grant_of(n: u128, (subject, target, level, only, ends): GrantRecipe) -> Grant {
        let only = if target >= 100 { 0 } else { only };
        Grant {
            id: id(n),
            subject: id(subject),
            target: id(target),
            level: Level::VARIANTS[level],
            ends_at: [
                None,
                None,
                None,
                None,
                Some(now()),
                Some(now() + chrono::TimeDelta::seconds(1)),
            ][ends],
            only: Only {
                kind: (only & 1 == 1).then(|| "login".into()),
                tag: (only & 2 == 2).then(|| "night".into()),
            },
        }
    }

    impl Scene {
        fn under_gate(&self, credential: Uuid) -> bool {
            let mut next = Some(self.world.credentials[&credential].folder);
            while let Some(folder) = next {
                if self.gates.contains(&folder) {
                    return true;
                }
                next = self.world.folders[&folder].parent;
            }
            self.gates.contains(&credential)
        }

        fn folder_entries(&self) -> Vec<FolderEntry> {
            let entry = |(id, folder): (&Uuid, &Folder)| {
                let inside: Vec<&Uuid> = self
                    .world
                    .credentials
                    .iter()
                    .filter(|(_, credential)| credential.folder == *id)
                    .map(|(id, _)| id)
                    .collect();
                FolderEntry {
                    id: *id,
                    parent: folder.parent,
                    name: id.to_string(),
                    closed: folder.closed,
                    gate: self.gates.contains(id),
                    credentials: inside.len().try_into().unwrap(),
                    own_gates: inside
                        .iter()
                        .filter(|id| self.gates.contains(id))
                        .count()
                        .try_into()
                        .unwrap(),
                }
            };
            self.world.folders.iter().map(entry).collect()
        }

        fn single_entries(&self, former: &[Grant]) -> Vec<SingleEntry> {
            let owned: BTreeSet<Uuid> = self
                .world
                .grants
                .iter()
                .chain(former)
                .map(|grant| grant.target)
                .collect();
            let of = self
                .world
                .credentials
                .iter()
                .filter(|(id, _)| owned.contains(id));
            of.map(|(id, credential)| SingleEntry {
                id: *id,
                credential: credential.clone(),
                gate: self.gates.contains(id),
            })
            .collect()
        }

        fn memberships(&self) -> Vec<(Uuid, Uuid)> {
            self.world
                .groups
                .iter()
                .flat_map(|(group, members)| members.iter().map(|member| (*member, *group)))
                .collect()
        }

        fn access_index(&self) -> AccessIndex {
            let mut index = AccessIndex::default();
            index.put_folders(&[], &self.folder_entries());
            index.put_grants(&[], self.world.grants.clone());
            index.put_memberships(&[], &self.memberships());
            index.put_people(
                &[],
                (200..205)
                    .map(|n| PersonEntry {
                        id: id(n),
                        name: String::new(),
                        state: crate::people::PersonState::Active,
                    })
                    .collect(),
            );
            index.put_singles(&[], self.single_entries(&[]));
            index
        }

        /// The index of another scene brought to this one, with everything asked for again.
        fn follow(&self, from: &Scene, mut index: AccessIndex) -> AccessIndex {
            let folders: Vec<Uuid> = (1..10).map(id).collect();
            let entries: Vec<FolderEntry> = self
                .folder_entries()
                .into_iter()
                .filter(|entry| !from.folder_entries().contains(entry))
                .collect();
            index.put_folders(&[], &entries);
            assert_eq!(folders.len(), index.tree.len());
            let mut asked: Vec<Uuid> = from
                .world
                .grants
                .iter()
                .chain(&self.world.grants)
                .map(|grant| grant.id)
                .collect();
            let same = |id: &Uuid| {
                let grant = |scene: &Scene| {
                    scene
                        .world
                        .grants
                        .iter()
                        .find(|grant| grant.id == *id)
                        .map(|grant| format!("{grant:?}"))
                };
                grant(self) == grant(from)
            };
            asked.retain(|id| !same(id));
            index.put_grants(
                &asked,
                self.world
                    .grants
                    .iter()
                    .filter(|grant| asked.contains(&grant.id))
                    .cloned()
                    .collect(),
            );
            let members: Vec<Uuid> = (200..205).chain(300..304).map(id).collect();
            index.put_memberships(&members, &self.memberships());
            let singles: Vec<Uuid> = (100..140).map(id).collect();
            index.put_singles(&singles, self.single_entries(&from.world.grants));
            index
        }
    }

    /// What two index_cache say, with all that narrowed grants ask for.
    fn told(old: &Scene, new: &Scene, before: &AccessIndex, after: &AccessIndex) -> Vec<Shift> {
        let moved: Vec<Moved> = old
            .world
            .credentials
            .iter()
            .filter(|(id, credential)| new.world.credentials[id].folder != credential.folder)
            .map(|(id, credential)| Moved {
                id: *id,
                from: credential.folder,
                credential: new.world.credentials[id].clone(),
                gate: new.gates.contains(id),
            })
            .collect();
        let found = narrowings(before, after, &moved, now()).unwrap_or_default();
        let singles: BTreeSet<Uuid> = before
            .singles()
            .chain(after.singles())
            .chain(moved.iter().map(|moved| moved.id))
            .collect();
        let mut cells: BTreeMap<(Uuid, Vec<usize>), (u64, u64)> = BTreeMap::new();
        for (id, credential) in new.world.credentials.iter().filter(|(id, credential)| {
            !singles.contains(id) && found.folders.contains(&credential.folder)
        }) {
            let sum = cells
                .entry((credential.folder, fitting(&found.onlys, credential)))
                .or_default();
            sum.0 += 1;
            sum.1 += u64::from(new.gates.contains(id));
        }
        let cells = cells
            .into_iter()
            .map(|((folder, fits), (credentials, own_gates))| Cell {
                folder,
                fits,
                credentials,
                own_gates,
            })
            .collect();
        preview(
            before,
            after,
            &Beside {
                moved,
                onlys: found.onlys,
                cells,
            },
            now(),
        )
    }

    /// The definition: every person, every credential, every folder.
    fn plainly(old: &Scene, new: &Scene) -> Vec<Shift> {
        let mut sums: BTreeMap<_, (u64, u64, u64)> = BTreeMap::new();
        for person in (200..205).map(id) {
            for folder in new.world.folders.keys() {
                let [before, after] =
                    [old, new].map(|scene| scene.world.level(person, *folder, now()));
                if before != after {
                    sums.entry((person, before, after)).or_default().2 += 1;
                }
            }
            for credential in new.world.credentials.keys() {
                let levels = (
                    old.world.level(person, *credential, now()),
                    new.world.level(person, *credential, now()),
                );
                if levels.0 != levels.1 {
                    let sum = sums.entry((person, levels.0, levels.1)).or_default();
                    sum.0 += 1;
                    sum.1 += u64::from(new.under_gate(*credential));
                }
            }
        }
        sums.into_iter()
            .map(
                |((person, before, after), (credentials, gated, folders))| Shift {
                    person,
                    before,
                    after,
                    credentials,
                    gated,
                    folders,
                },
            )
            .collect()
    }

    /// What stays of one scene when only a part becomes as in another.
    fn partly(old: &Scene, new: &Scene, part: usize) -> Scene {
        let mut scene = old.clone();
        match part {
            0 => scene.world.grants.clone_from(&new.world.grants),
            1 => scene.world.groups.clone_from(&new.world.groups),
            2 => scene.world.folders.clone_from(&new.world.folders),
            3 => {
                for (id, credential) in &mut scene.world.credentials {
                    credential.folder = new.world.credentials[id].folder;
                }
            }
            _ => {
                let kinds: Vec<Credential> = scene.world.credentials.values().cloned().collect();
                scene.clone_from(new);
                for (credential, kind) in scene.world.credentials.values_mut().zip(kinds) {
                    *credential = Credential {
                        folder: credential.folder,
                        ..kind
                    };
                }
            }
        }
        scene
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 1000, ..ProptestConfig::default() })]
        #[test]
        fn it_says_what_the_definition_says_for_every_person_and_every_credential(old in scene(), new in scene(), part in 0_usize..5) {
            let new = partly(&old, &new, part);
            let before = old.access_index();
            let after = new.follow(&old, before.clone());
            prop_assert_eq!(told(&old, &new, &before, &after), plainly(&old, &new));
        }

        #[test]
        fn an_index_that_followed_equals_one_that_was_built_again(old in scene(), new in scene(), third in scene(), part in 0_usize..5) {
            let new = partly(&old, &new, part);
            let followed = new.follow(&old, old.access_index());
            let (third, made) = (partly(&new, &third, (part + 1) % 5), new.access_index());
            let after = third.follow(&new, made.clone());
            let far = third.follow(&new, followed.clone());
            prop_assert_eq!(told(&new, &third, &made, &after), told(&new, &third, &followed, &far));
            prop_assert_eq!(told(&new, &new, &made, &made), vec![]);
        }

        #[test]
        fn one_more_grant_or_member_in_the_index_alone_is_as_if_it_were_made(old in scene(), grant in grants(), group in 300_u128..304, member in 200_u128..304) {
            let before = old.access_index();
            let mut new = old.clone();
            let made = match grant.into_iter().find(|(_, target, ..)| *target < 100) {
                Some(grant) => {
                    let grant = grant_of(5000, grant);
                    let there = old.world.grants.iter().any(|old| old.subject == grant.subject && old.target == grant.target && old.only == grant.only);
                    let made = before.with_grant(grant.clone());
                    prop_assert_eq!(made.is_none(), there);
                    new.world.grants.push(grant);
                    made
                }
                None => {
                    new.world.groups.get_mut(&id(group)).unwrap().insert(id(member));
                    Some(before.with_member(id(member), id(group)))
                }
            };
            if let Some(after) = made {
                prop_assert_eq!(told(&old, &new, &before, &after), plainly(&old, &new));
            }
        }

        #[test]
        fn the_part_around_somebody_and_something_gives_the_same_level(scene in scene()) {
            let index = scene.access_index();
            let credentials = scene.world.credentials.iter().take(12).map(|(id, credential)| (*id, Some(credential)));
            for (target, credential) in credentials.chain(scene.world.folders.keys().map(|id| (*id, None))) {
                let level = |person: Uuid| scene.world.level(person, target, now());
                let plainly: Vec<(Uuid, Level)> = (200..205).map(id).filter_map(|person| Some((person, level(person)?))).collect();
                prop_assert_eq!(index.reached_by(target, credential, now()), plainly);
                for person in (200..205).map(id) {
                    prop_assert_eq!(index.around(person, target, credential).level(person, target, now()), level(person));
                }
            }
        }
    }
}

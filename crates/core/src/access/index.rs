//! All that access depends on in one organisation at one moment, numbered and put in order so that
//! a question about many people and many folders takes milliseconds.
//!
//! An index is made once from what the store has and then follows it by what changed: parts that a
//! change leaves as they are are shared between the index before and the one after, so that both
//! can be had side by side. It decides nothing: who may do what is asked of the store, each time.

use std::collections::BTreeSet;
use std::sync::Arc;

use chrono::{DateTime, Utc};
use rustc_hash::{FxHashMap as HashMap, FxHashSet as HashSet};
use uuid::Uuid;

use super::reference::{Credential, Folder, Grant, World};
use super::{Level, in_force};
use crate::people::PersonState;

/// A folder as the store has it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FolderEntry {
    /// Which.
    pub id: Uuid,
    /// The folder that it is in; none at the top.
    pub parent: Option<Uuid>,
    /// Its name.
    pub name: String,
    /// Whether grants from above stop here.
    pub closed: bool,
    /// Whether it has a gate of its own.
    pub gate: bool,
    /// How many credentials lie directly in it.
    pub credentials: u64,
    /// How many of these have a gate of their own.
    pub own_gates: u64,
}

/// A credential that has grants of its own, or had some, as the store has it.
#[derive(Clone, Debug)]
pub struct SingleEntry {
    /// Which.
    pub id: Uuid,
    /// Where it is and what it is.
    pub credential: Credential,
    /// Whether it has a gate of its own.
    pub gate: bool,
}

/// A person or a client, as the store has it.
#[derive(Clone, Debug)]
pub struct PersonEntry {
    /// Which.
    pub id: Uuid,
    /// Their name.
    pub name: String,
    /// `active`, `invited`, `suspended` or `left`.
    pub state: PersonState,
}

impl PersonEntry {
    /// Whether anything can reach them still.
    #[must_use]
    pub fn counts(&self) -> bool {
        self.state != PersonState::Left
    }
}

#[derive(Clone, Debug)]
pub(super) struct Node {
    pub(super) id: Uuid,
    above: Option<u32>,
    name: String,
    closed: bool,
    gate: bool,
    credentials: u64,
    own_gates: u64,
}

/// Folders in an order in which all that a grant on one reaches follows it without a gap.
#[derive(Clone, Debug, Default)]
pub(super) struct Forest {
    /// By number, where it stands in the order.
    place: Vec<u32>,
    /// By place, its number.
    order: Vec<u32>,
    /// By place, where what it reaches ends.
    end: Vec<u32>,
    /// By place, the credentials of all that stand before, and those under a gate.
    sums: Vec<(u64, u64)>,
}

const NOWHERE: u32 = u32::MAX;

pub(super) fn at<T>(all: &[T], number: u32) -> Option<&T> {
    usize::try_from(number)
        .ok()
        .and_then(|number| all.get(number))
}

fn number(index: usize) -> u32 {
    u32::try_from(index).unwrap_or(NOWHERE)
}

impl Forest {
    /// `links` says from where grants flow into each, `weights` what is counted there.
    pub(super) fn of(links: &[Option<u32>], weights: &[(u64, u64)]) -> Self {
        let mut children: Vec<Vec<u32>> = vec![vec![]; links.len()];
        let mut next = vec![];
        for (child, link) in links.iter().enumerate() {
            match link
                .and_then(|above| usize::try_from(above).ok())
                .and_then(|above| children.get_mut(above))
            {
                Some(others) => others.push(number(child)),
                None => next.push(number(child)),
            }
        }
        let mut forest = Self {
            place: vec![NOWHERE; links.len()],
            ..Self::default()
        };
        forest.sums.push((0, 0));
        let mut sum = (0, 0);
        while let Some(entry) = next.pop() {
            if let Some(place) = usize::try_from(entry)
                .ok()
                .and_then(|entry| forest.place.get_mut(entry))
            {
                *place = number(forest.order.len());
            }
            forest.order.push(entry);
            let weight = at(weights, entry).copied().unwrap_or_default();
            sum = (sum.0 + weight.0, sum.1 + weight.1);
            forest.sums.push(sum);
            next.extend(at(&children, entry).into_iter().flatten());
        }
        forest.end = (1..=number(forest.order.len())).collect();
        // From the last to the first: each has the end of the last that it reaches.
        for place in (0..forest.order.len()).rev() {
            let (Some(entry), Some(end)) =
                (forest.order.get(place), forest.end.get(place).copied())
            else {
                continue;
            };
            let above = at(links, *entry)
                .copied()
                .flatten()
                .and_then(|above| forest.place(above));
            if let Some(ends) = above
                .and_then(|above| usize::try_from(above).ok())
                .and_then(|above| forest.end.get_mut(above))
            {
                *ends = end.max(*ends);
            }
        }
        forest
    }

    pub(super) fn place(&self, number: u32) -> Option<u32> {
        at(&self.place, number)
            .copied()
            .filter(|place| *place != NOWHERE)
    }

    pub(super) fn end(&self, place: u32) -> u32 {
        at(&self.end, place).copied().unwrap_or(place)
    }

    /// What is counted from a place up to an end.
    pub(super) fn between(&self, place: u32, end: u32) -> (u64, u64) {
        let (Some(from), Some(to)) = (at(&self.sums, place), at(&self.sums, end)) else {
            return (0, 0);
        };
        (to.0 - from.0, to.1 - from.1)
    }

    fn below(&self, entry: u32) -> &[u32] {
        let Some(place) = self.place(entry) else {
            return &[];
        };
        let range = usize::try_from(place).unwrap_or(usize::MAX)
            ..usize::try_from(self.end(place)).unwrap_or(0);
        self.order.get(range).unwrap_or_default()
    }
}

#[derive(Clone, Debug, Default)]
pub(super) struct Tree {
    numbers: HashMap<Uuid, u32>,
    nodes: Vec<Node>,
    gated: Vec<bool>,
    pub(super) forest: Forest,
}

impl Tree {
    pub(super) fn len(&self) -> usize {
        self.nodes.len()
    }

    pub(super) fn number(&self, id: Uuid) -> Option<u32> {
        self.numbers.get(&id).copied()
    }

    fn node(&self, number: u32) -> Option<&Node> {
        at(&self.nodes, number)
    }

    /// From where grants flow into a folder beside its own.
    pub(super) fn source(&self, number: u32) -> Option<u32> {
        self.node(number)
            .and_then(|node| if node.closed { None } else { node.above })
    }

    /// A folder and all from which grants flow into it.
    pub(super) fn sources(&self, number: Option<u32>) -> impl Iterator<Item = u32> {
        // There are no rings; should there be one, it ends where every folder would have been met.
        std::iter::successors(number, |number| self.source(*number)).take(self.nodes.len())
    }

    /// Whether a folder is under a gate, its own or one above, closed or not.
    pub(super) fn under_gate(&self, number: u32) -> bool {
        at(&self.gated, number).copied().unwrap_or(false)
    }

    pub(super) fn credentials(&self, number: u32) -> u64 {
        self.node(number).map_or(0, |node| node.credentials)
    }

    /// The credentials directly in a folder, and those of them under a gate.
    pub(super) fn weight(&self, number: u32) -> (u64, u64) {
        self.node(number).map_or((0, 0), |node| {
            (
                node.credentials,
                if self.under_gate(number) {
                    node.credentials
                } else {
                    node.own_gates
                },
            )
        })
    }

    pub(super) fn path(&self, number: u32) -> String {
        let mut names: Vec<&str> = vec![];
        let above = std::iter::successors(self.node(number), |node| {
            node.above.and_then(|above| self.node(above))
        });
        names.extend(above.take(self.nodes.len()).map(|node| node.name.as_str()));
        names.reverse();
        names.iter().flat_map(|name| ["/", name]).collect()
    }

    fn put(&mut self, asked: &[Uuid], entries: &[FolderEntry]) {
        let blank = |id| Node {
            id,
            above: None,
            name: String::new(),
            closed: true,
            gate: false,
            credentials: 0,
            own_gates: 0,
        };
        let mut numbered = |numbers: &mut HashMap<Uuid, u32>, id: Uuid| {
            *numbers.entry(id).or_insert_with(|| {
                self.nodes.push(blank(id));
                number(self.nodes.len() - 1)
            })
        };
        // What is asked for and not there is gone; its number stays, since grants keep numbers.
        let mut written: Vec<(u32, Node)> = asked
            .iter()
            .map(|id| (numbered(&mut self.numbers, *id), blank(*id)))
            .collect();
        for entry in entries {
            let own = numbered(&mut self.numbers, entry.id);
            let above = entry
                .parent
                .map(|parent| numbered(&mut self.numbers, parent));
            let FolderEntry {
                id,
                closed,
                gate,
                credentials,
                own_gates,
                ..
            } = *entry;
            written.push((
                own,
                Node {
                    id,
                    above,
                    name: entry.name.clone(),
                    closed,
                    gate,
                    credentials,
                    own_gates,
                },
            ));
        }
        for (number, node) in written {
            if let Some(old) = usize::try_from(number)
                .ok()
                .and_then(|number| self.nodes.get_mut(number))
            {
                *old = node;
            }
        }
        self.arrange();
    }

    fn arrange(&mut self) {
        let mut gated: Vec<Option<bool>> = vec![None; self.nodes.len()];
        for entry in 0..number(self.nodes.len()) {
            let mut way = vec![];
            let mut next = Some(entry);
            let mut found = false;
            while let Some(entry) = next {
                if let Some(known) = at(&gated, entry).copied().flatten() {
                    found = known;
                    break;
                }
                if way.len() > self.nodes.len() {
                    break;
                }
                way.push(entry);
                next = self.node(entry).and_then(|node| node.above);
            }
            for entry in way.into_iter().rev() {
                found |= self.node(entry).is_some_and(|node| node.gate);
                if let Some(known) = usize::try_from(entry)
                    .ok()
                    .and_then(|entry| gated.get_mut(entry))
                {
                    *known = Some(found);
                }
            }
        }
        self.gated = gated.into_iter().map(Option::unwrap_or_default).collect();
        let all = 0..number(self.nodes.len());
        let links: Vec<Option<u32>> = all.clone().map(|number| self.source(number)).collect();
        let weights: Vec<(u64, u64)> = all.map(|number| self.weight(number)).collect();
        self.forest = Forest::of(&links, &weights);
    }
}

/// A grant, with what is asked of it most available.
#[derive(Clone, Debug)]
pub(super) struct IndexedGrant {
    /// The folder into which it flows whole; none for a narrowed one and one on a credential.
    pub(super) flows: Option<u32>,
    pub(super) level: u8,
    ends_at: Option<DateTime<Utc>>,
    pub(super) grant: Arc<Grant>,
}

impl IndexedGrant {
    pub(super) fn counts(&self, now: DateTime<Utc>) -> bool {
        in_force(self.ends_at, now)
    }
}

#[derive(Clone, Debug, Default)]
pub(super) struct Grants {
    subjects: HashMap<Uuid, Uuid>,
    pub(super) by_subject: HashMap<Uuid, Arc<Vec<IndexedGrant>>>,
    narrowed: usize,
}

impl Grants {
    fn put(&mut self, tree: &Tree, asked: &[Uuid], rows: Vec<Grant>) {
        let asked: HashSet<Uuid> = asked.iter().copied().collect();
        for id in &asked {
            let Some(subject) = self.subjects.remove(id) else {
                continue;
            };
            let Some(theirs) = self.by_subject.get_mut(&subject) else {
                continue;
            };
            let theirs = Arc::make_mut(theirs);
            self.narrowed -= theirs
                .iter()
                .filter(|indexed| indexed.grant.id == *id && !indexed.grant.only.is_all())
                .count();
            theirs.retain(|indexed| indexed.grant.id != *id);
            if theirs.is_empty() {
                self.by_subject.remove(&subject);
            }
        }
        for grant in rows {
            self.subjects.insert(grant.id, grant.subject);
            self.narrowed += usize::from(!grant.only.is_all());
            let flows = if grant.only.is_all() {
                tree.number(grant.target)
            } else {
                None
            };
            let level = u8::try_from(grant.level.number()).unwrap_or(0);
            let theirs = self.by_subject.entry(grant.subject).or_default();
            Arc::make_mut(theirs).push(IndexedGrant {
                flows,
                level,
                ends_at: grant.ends_at,
                grant: Arc::new(grant),
            });
        }
    }
}

#[derive(Clone, Debug, Default)]
pub(super) struct Groups {
    names: Arc<HashMap<Uuid, String>>,
    /// The groups that each is in directly.
    pub(super) above: HashMap<Uuid, Arc<[Uuid]>>,
    members: HashMap<Uuid, Arc<Vec<Uuid>>>,
}

impl Groups {
    fn put_memberships(&mut self, asked: &[Uuid], rows: &[(Uuid, Uuid)]) {
        let mut of: HashMap<Uuid, Vec<Uuid>> =
            asked.iter().map(|member| (*member, vec![])).collect();
        for (member, group) in rows {
            of.entry(*member).or_default().push(*group);
        }
        for (member, groups) in of {
            let former = self.above.remove(&member);
            for group in former
                .iter()
                .flat_map(|groups| groups.iter())
                .filter(|group| !groups.contains(group))
            {
                if let Some(members) = self.members.get_mut(group) {
                    Arc::make_mut(members).retain(|entry| *entry != member);
                }
            }
            for group in groups
                .iter()
                .filter(|group| !former.as_ref().is_some_and(|former| former.contains(group)))
            {
                Arc::make_mut(self.members.entry(*group).or_default()).push(member);
            }
            if !groups.is_empty() {
                self.above.insert(member, groups.into());
            }
        }
    }

    /// Everybody and every group in these, themselves included.
    pub(super) fn meant_by(&self, subjects: impl IntoIterator<Item = Uuid>) -> HashSet<Uuid> {
        let mut next: Vec<Uuid> = subjects.into_iter().collect();
        let mut all: HashSet<Uuid> = next.iter().copied().collect();
        while let Some(subject) = next.pop() {
            for member in self
                .members
                .get(&subject)
                .into_iter()
                .flat_map(|members| members.iter())
            {
                if all.insert(*member) {
                    next.push(*member);
                }
            }
        }
        all
    }
}

/// By whom somebody is meant, with what was found out for their groups kept for the next.
pub(super) struct SubjectResolver<'a> {
    groups: &'a Groups,
    known: HashMap<Uuid, Vec<Uuid>>,
}

impl<'a> SubjectResolver<'a> {
    pub(super) fn of(groups: &'a Groups) -> Self {
        Self {
            groups,
            known: HashMap::default(),
        }
    }

    /// Fills in somebody and all groups that they are in, by way of groups too, in the order of
    /// identifiers.
    pub(super) fn subjects(&mut self, person: Uuid, all: &mut Vec<Uuid>) {
        all.clear();
        all.push(person);
        for group in self
            .groups
            .above
            .get(&person)
            .into_iter()
            .flat_map(|groups| groups.iter())
        {
            let groups = self.groups;
            let above: &Vec<Uuid> = self.known.entry(*group).or_insert_with(|| {
                let (mut found, mut next) = (HashSet::from_iter([*group]), vec![*group]);
                while let Some(group) = next.pop() {
                    next.extend(
                        groups
                            .above
                            .get(&group)
                            .into_iter()
                            .flat_map(|groups| groups.iter())
                            .filter(|group| found.insert(**group)),
                    );
                }
                found.into_iter().collect()
            });
            all.extend(above);
        }
        all.sort_unstable();
        all.dedup();
    }
}

/// All that access depends on in one organisation at one moment. Cheap to copy.
#[derive(Clone, Debug, Default)]
pub struct AccessIndex {
    pub(super) tree: Arc<Tree>,
    pub(super) grants: Arc<Grants>,
    pub(super) groups: Arc<Groups>,
    pub(super) people: Arc<HashMap<Uuid, PersonEntry>>,
    pub(super) singles: Arc<HashMap<Uuid, SingleEntry>>,
}

impl AccessIndex {
    /// Takes in folders as they are now. What is asked for and not among the entries is gone.
    pub fn put_folders(&mut self, asked: &[Uuid], entries: &[FolderEntry]) {
        if !(asked.is_empty() && entries.is_empty()) {
            Arc::make_mut(&mut self.tree).put(asked, entries);
        }
    }

    /// Takes in grants; their folders must have been taken in before.
    pub fn put_grants(&mut self, asked: &[Uuid], rows: Vec<Grant>) {
        if !(asked.is_empty() && rows.is_empty()) {
            Arc::make_mut(&mut self.grants).put(&self.tree, asked, rows);
        }
    }

    /// Takes in what members (people and groups) are in: pairs of a member and a group.
    pub fn put_memberships(&mut self, asked: &[Uuid], rows: &[(Uuid, Uuid)]) {
        if !(asked.is_empty() && rows.is_empty()) {
            Arc::make_mut(&mut self.groups).put_memberships(asked, rows);
        }
    }

    /// Takes in the names of groups.
    pub fn put_groups(&mut self, asked: &[Uuid], rows: Vec<(Uuid, String)>) {
        if !(asked.is_empty() && rows.is_empty()) {
            let names = Arc::make_mut(&mut Arc::make_mut(&mut self.groups).names);
            names.retain(|id, _| !asked.contains(id));
            names.extend(rows);
        }
    }

    /// Takes in people.
    pub fn put_people(&mut self, asked: &[Uuid], rows: Vec<PersonEntry>) {
        if !(asked.is_empty() && rows.is_empty()) {
            let people = Arc::make_mut(&mut self.people);
            people.retain(|id, _| !asked.contains(id));
            people.extend(rows.into_iter().map(|person| (person.id, person)));
        }
    }

    /// Takes in the credentials that have grants of their own, or had some before a change.
    pub fn put_singles(&mut self, asked: &[Uuid], rows: Vec<SingleEntry>) {
        if !(asked.is_empty() && rows.is_empty()) {
            let singles = Arc::make_mut(&mut self.singles);
            singles.retain(|id, _| !asked.contains(id));
            singles.extend(rows.into_iter().map(|single| (single.id, single)));
        }
    }

    /// This, and one more grant on a folder; nothing if its subject has one of the same kind there.
    #[must_use]
    pub fn with_grant(&self, grant: Grant) -> Option<Self> {
        let mut theirs = self
            .grants
            .by_subject
            .get(&grant.subject)
            .into_iter()
            .flat_map(|theirs| theirs.iter());
        if theirs
            .any(|indexed| indexed.grant.target == grant.target && indexed.grant.only == grant.only)
        {
            return None;
        }
        let mut with = self.clone();
        with.put_grants(&[], vec![grant]);
        Some(with)
    }

    /// This, and one more member of a group.
    #[must_use]
    pub fn with_member(&self, member: Uuid, group: Uuid) -> Self {
        let mut rows: Vec<(Uuid, Uuid)> = self
            .groups
            .above
            .get(&member)
            .into_iter()
            .flat_map(|groups| groups.iter())
            .map(|group| (member, *group))
            .collect();
        if !rows.contains(&(member, group)) {
            rows.push((member, group));
        }
        let mut with = self.clone();
        with.put_memberships(&[member], &rows);
        with
    }

    /// A person or a client.
    #[must_use]
    pub fn person(&self, id: Uuid) -> Option<&PersonEntry> {
        self.people.get(&id)
    }

    /// The name of a group, or the path of a folder from the top.
    #[must_use]
    pub fn name(&self, id: Uuid) -> Option<String> {
        self.groups
            .names
            .get(&id)
            .cloned()
            .or_else(|| self.tree.number(id).map(|number| self.tree.path(number)))
    }

    /// How many credentials lie directly in a folder.
    #[must_use]
    pub fn credentials_in(&self, folder: Uuid) -> u64 {
        self.tree
            .number(folder)
            .map_or(0, |number| self.tree.credentials(number))
    }

    /// The credentials that have grants of their own.
    pub fn singles(&self) -> impl Iterator<Item = Uuid> {
        self.singles.keys().copied()
    }

    pub(super) fn has_narrowed(&self) -> bool {
        self.grants.narrowed > 0
    }

    /// The folders that a grant on a folder reaches.
    pub(super) fn reached_from(&self, folder: Uuid) -> impl Iterator<Item = Uuid> {
        let reached = self
            .tree
            .number(folder)
            .map(|number| self.tree.forest.below(number))
            .unwrap_or_default();
        reached
            .iter()
            .filter_map(|number| self.tree.node(*number))
            .map(|node| node.id)
    }

    /// Everybody whom a folder, or a credential, reaches, with the highest level that does: what
    /// the plain definition gives for each person who has not left. In the order of identifiers.
    #[must_use]
    pub fn reached_by(
        &self,
        target: Uuid,
        credential: Option<&Credential>,
        now: DateTime<Utc>,
    ) -> Vec<(Uuid, Level)> {
        let folder = self
            .tree
            .number(credential.map_or(target, |credential| credential.folder));
        let sources: HashSet<u32> = self.tree.sources(folder).collect();
        let means = |indexed: &IndexedGrant| match indexed.flows {
            Some(folder) => sources.contains(&folder),
            None if indexed.grant.only.is_all() => indexed.grant.target == target,
            None => {
                credential.is_some_and(|item| indexed.grant.only.fits(item))
                    && self
                        .tree
                        .number(indexed.grant.target)
                        .is_some_and(|place| sources.contains(&place))
            }
        };
        let mut held: HashMap<Uuid, u8> = HashMap::default();
        for (subject, theirs) in &self.grants.by_subject {
            if let Some(level) = theirs
                .iter()
                .filter(|indexed| indexed.counts(now) && means(indexed))
                .map(|indexed| indexed.level)
                .max()
            {
                held.insert(*subject, level);
            }
        }
        let mut meaning = SubjectResolver::of(&self.groups);
        let people = self
            .groups
            .meant_by(held.keys().copied())
            .into_iter()
            .filter(|id| self.person(*id).is_some_and(PersonEntry::counts));
        let mut subjects = vec![];
        let mut found: Vec<(Uuid, Level)> = people
            .filter_map(|person| {
                meaning.subjects(person, &mut subjects);
                let best = subjects
                    .iter()
                    .filter_map(|subject| held.get(subject))
                    .max()
                    .copied();
                Some((person, level_of(best?)?))
            })
            .collect();
        found.sort_unstable();
        found
    }

    /// The part of the plain world that the access of one person to a folder, or to one credential,
    /// depends on.
    #[must_use]
    pub fn around(&self, person: Uuid, id: Uuid, credential: Option<&Credential>) -> World {
        let mut world = World::default();
        let mut next = self
            .tree
            .number(credential.map_or(id, |credential| credential.folder));
        while let Some(node) = next.and_then(|number| self.tree.node(number)) {
            let parent = node
                .above
                .and_then(|above| self.tree.node(above))
                .map(|above| above.id);
            if world
                .folders
                .insert(
                    node.id,
                    Folder {
                        parent,
                        closed: node.closed,
                    },
                )
                .is_some()
            {
                break;
            }
            next = node.above;
        }
        if let Some(credential) = credential {
            world.credentials.insert(id, credential.clone());
        }
        let mut subjects = vec![];
        SubjectResolver::of(&self.groups).subjects(person, &mut subjects);
        for member in &subjects {
            for group in self
                .groups
                .above
                .get(member)
                .into_iter()
                .flat_map(|groups| groups.iter())
            {
                world
                    .groups
                    .entry(*group)
                    .or_insert_with(BTreeSet::new)
                    .insert(*member);
            }
        }
        for indexed in subjects
            .iter()
            .filter_map(|subject| self.grants.by_subject.get(subject))
            .flat_map(|theirs| theirs.iter())
        {
            if indexed.grant.target == id || world.folders.contains_key(&indexed.grant.target) {
                world.grants.push(Grant::clone(&indexed.grant));
            }
        }
        world
    }
}

/// The level of a number that stands for it; 0 is none.
pub(super) fn level_of(number: u8) -> Option<Level> {
    Level::from_number(number.into())
}

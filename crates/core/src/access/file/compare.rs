//! What would have to be done so that the world is as a file says.

use crate::people::PersonState;
use std::collections::{BTreeMap, BTreeSet};

use chrono::{DateTime, Utc};
use uuid::Uuid;

use super::{Document, Entry, GrantKey, Lines, Terms, Who};
use crate::access::Level;

/// Something that a file names.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Spot {
    /// A password policy.
    Policy(String),
    /// A group.
    Group(String),
    /// A folder, by its path.
    Folder(String),
    /// A credential, by its path.
    Credential(String),
}

impl Spot {
    /// Its name or path.
    #[must_use]
    pub fn name(&self) -> &str {
        let (Self::Policy(name) | Self::Group(name) | Self::Folder(name) | Self::Credential(name)) =
            self;
        name
    }
}

/// One thing to do.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Change {
    /// Adds a password policy.
    AddPolicy(String),
    /// Changes what a password policy demands.
    ChangePolicy(String),
    /// Adds a group.
    AddGroup(String),
    /// Puts somebody into a group.
    Join(String, Who),
    /// Takes somebody out of a group.
    Leave(String, Who),
    /// Adds a folder.
    AddFolder(String),
    /// Closes or opens a folder.
    Close(String, bool),
    /// Grants something.
    Grant(Spot, GrantKey),
    /// Changes what a grant gives.
    Alter(Spot, GrantKey),
    /// Takes a grant away.
    Withdraw(Spot, GrantKey),
    /// Sets a gate, or sets its conditions again.
    SetGate(Spot),
    /// Removes a gate.
    RemoveGate(Spot),
    /// Sets what a folder demands of passwords.
    SetDemand(String),
    /// Takes away what a folder demands of its own.
    RemoveDemand(String),
}

impl Change {
    /// What it is about.
    #[must_use]
    pub fn spot(&self) -> Spot {
        match self {
            Self::AddPolicy(name) | Self::ChangePolicy(name) => Spot::Policy(name.clone()),
            Self::AddGroup(name) | Self::Join(name, _) | Self::Leave(name, _) => {
                Spot::Group(name.clone())
            }
            Self::AddFolder(path)
            | Self::Close(path, _)
            | Self::SetDemand(path)
            | Self::RemoveDemand(path) => Spot::Folder(path.clone()),
            Self::Grant(spot, _)
            | Self::Alter(spot, _)
            | Self::Withdraw(spot, _)
            | Self::SetGate(spot)
            | Self::RemoveGate(spot) => spot.clone(),
        }
    }

    /// The line of a file that says so.
    #[must_use]
    pub fn line(&self, lines: &Lines) -> Option<usize> {
        match self {
            Self::Grant(spot, key) | Self::Alter(spot, key) => {
                lines.of_grant(spot, key).or_else(|| lines.of(spot))
            }
            other => lines.of(&other.spot()),
        }
    }

    /// The change in words, without what it is about.
    #[must_use]
    pub fn words(&self, now: &Document, wanted: &Document) -> String {
        let terms = |document: &Document, spot: &Spot, key: &GrantKey| {
            entry(document, spot)
                .and_then(|entry| entry.grants.get(key))
                .map(given)
                .unwrap_or_default()
        };
        match self {
            Self::AddPolicy(_) => "add the password policy".into(),
            Self::ChangePolicy(_) => "change the rules of the policy".into(),
            Self::AddGroup(_) => "a new group".into(),
            Self::Join(_, who) => format!("add {who}"),
            Self::Leave(_, who) => format!("remove {who}"),
            Self::AddFolder(_) => "a new folder".into(),
            Self::Close(_, true) => "stop inheriting grants".into(),
            Self::Close(_, false) => "inherit grants again".into(),
            Self::Grant(spot, key) => format!("{} gets {}", meant(key), terms(wanted, spot, key)),
            Self::Alter(spot, key) => format!(
                "{} has {}, gets {}",
                meant(key),
                terms(now, spot, key),
                terms(wanted, spot, key)
            ),
            Self::Withdraw(spot, key) => format!("{} loses {}", meant(key), terms(now, spot, key)),
            Self::SetGate(spot) => {
                let before = entry(now, spot).is_some_and(|entry| entry.gate.is_some());
                if before {
                    "change the conditions of its gate".into()
                } else {
                    "a gate".into()
                }
            }
            Self::RemoveGate(_) => "remove its own gate".into(),
            Self::SetDemand(_) => "change its password policy".into(),
            Self::RemoveDemand(_) => "remove its own password policy".into(),
        }
    }
}

fn meant(key: &GrantKey) -> String {
    let mut text = key.to.to_string();
    if let Some(kind) = &key.kind {
        text += &format!(" (kind {kind})");
    }
    if let Some(tag) = &key.tag {
        text += &format!(" (tag {tag})");
    }
    text
}

fn given(terms: &Terms) -> String {
    let mut text = format!("`{}`", terms.level);
    if let Some(until) = terms.until {
        text += &format!(" until {}", until.format("%Y-%m-%d %H:%M UTC"));
    }
    if !terms.history {
        text += " without former values";
    }
    text
}

/// What a document says of a place.
pub(super) fn entry<'a>(document: &'a Document, spot: &Spot) -> Option<&'a Entry> {
    match spot {
        Spot::Folder(path) => document.folders.get(path),
        Spot::Credential(path) => document.credentials.get(path),
        Spot::Policy(_) | Spot::Group(_) => None,
    }
}

/// What is to be done so that all that `wanted` names is as it says, in an order in which it can be
/// done: what others need comes first, and nothing is taken away before what comes in its place.
#[must_use]
pub fn compare(now: &Document, wanted: &Document) -> Vec<Change> {
    let mut changes = vec![];
    for (name, policy) in &wanted.policies {
        match now.policies.get(name) {
            None => changes.push(Change::AddPolicy(name.clone())),
            Some(present) if present != policy => changes.push(Change::ChangePolicy(name.clone())),
            Some(_) => {}
        }
    }
    changes.extend(
        wanted
            .groups
            .keys()
            .filter(|name| !now.groups.contains_key(*name))
            .cloned()
            .map(Change::AddGroup),
    );
    let nobody = BTreeSet::new();
    for (name, members) in &wanted.groups {
        let present = now.groups.get(name).unwrap_or(&nobody);
        changes.extend(
            members
                .difference(present)
                .map(|who| Change::Join(name.clone(), who.clone())),
        );
        changes.extend(
            present
                .difference(members)
                .map(|who| Change::Leave(name.clone(), who.clone())),
        );
    }
    let mut new: Vec<&String> = wanted
        .folders
        .keys()
        .filter(|path| !now.folders.contains_key(*path))
        .collect();
    new.sort_by_key(|path| path.matches('/').count());
    changes.extend(new.into_iter().cloned().map(Change::AddFolder));
    let spots: Vec<Spot> = wanted
        .folders
        .keys()
        .cloned()
        .map(Spot::Folder)
        .chain(wanted.credentials.keys().cloned().map(Spot::Credential))
        .collect();
    let empty = Entry::default();
    let (mut given, mut taken, mut rest) = (vec![], vec![], vec![]);
    for spot in spots {
        let (present, entry) = (
            entry(now, &spot).unwrap_or(&empty),
            entry(wanted, &spot).unwrap_or(&empty),
        );
        for (key, terms) in &entry.grants {
            match present.grants.get(key) {
                None => given.push(Change::Grant(spot.clone(), key.clone())),
                Some(has) if has != terms => given.push(Change::Alter(spot.clone(), key.clone())),
                Some(_) => {}
            }
        }
        taken.extend(
            present
                .grants
                .keys()
                .filter(|key| !entry.grants.contains_key(key))
                .map(|key| Change::Withdraw(spot.clone(), key.clone())),
        );
        if present.closed != entry.closed {
            given.push(Change::Close(spot.name().to_owned(), entry.closed));
        }
        match (&present.gate, &entry.gate) {
            (Some(_), None) => rest.push(Change::RemoveGate(spot.clone())),
            (has, Some(gate)) if has.as_ref() != Some(gate) => {
                rest.push(Change::SetGate(spot.clone()))
            }
            _ => {}
        }
        match (&present.passwords, &entry.passwords) {
            (Some(_), None) => rest.push(Change::RemoveDemand(spot.name().to_owned())),
            (has, Some(demand)) if has.as_ref() != Some(demand) => {
                rest.push(Change::SetDemand(spot.name().to_owned()))
            }
            _ => {}
        }
    }
    changes.extend(given);
    changes.extend(taken);
    changes.extend(rest);
    changes
}

/// What is wrong with a file, at a line of it.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Problem {
    /// The line, counted from 1.
    pub line: Option<usize>,
    /// A sentence.
    pub text: String,
}

/// What there is in the world, as far as whoever brings a file may know of it.
#[derive(Clone, Debug, Default)]
pub struct Known {
    /// Sign-in names, and in which state the person is.
    pub people: BTreeMap<String, PersonState>,
    /// Names of clients, and in which state the client is.
    pub clients: BTreeMap<String, PersonState>,
    /// All groups with their members.
    pub groups: BTreeMap<String, BTreeSet<Who>>,
    /// Password policies.
    pub policies: BTreeSet<String>,
    /// Kinds of credentials.
    pub kinds: BTreeSet<String>,
    /// Folders by identifier: the path, and whether one is a steward there.
    pub folders: BTreeMap<Uuid, (String, bool)>,
    /// Credentials that the file names or that have something of their own, in folders of which one
    /// is a steward: the path.
    pub credentials: BTreeMap<Uuid, String>,
    /// One may change groups.
    pub changes_groups: bool,
    /// One may change password policies.
    pub changes_policies: bool,
    /// One may add folders at the top.
    pub adds_at_top: bool,
}

/// Why a file cannot be applied, with lines: unknown names, what was renamed or removed since, what
/// the caller may not change, and what nobody may.
#[must_use]
pub fn problems(
    known: &Known,
    now: &Document,
    wanted: &Document,
    lines: &Lines,
    at: DateTime<Utc>,
) -> Vec<Problem> {
    let mut found = vec![];
    for change in compare(now, wanted) {
        let texts = known.check_change(wanted, &change, at);
        let line = change.line(lines);
        found.extend(texts.into_iter().map(|text| Problem { line, text }));
    }
    let problem = |spot: Spot, text: String| Problem {
        line: lines.of(&spot),
        text,
    };
    for (path, entry) in &wanted.folders {
        let texts = known.check_folder(now, wanted, path, entry);
        found.extend(texts.map(|text| problem(Spot::Folder(path.clone()), text)));
    }
    let by_path: BTreeMap<&String, Uuid> = known
        .credentials
        .iter()
        .map(|(id, path)| (path, *id))
        .collect();
    for (path, entry) in &wanted.credentials {
        let text = known.check_credential(entry.id, by_path.get(path).copied());
        found.extend(text.map(|text| problem(Spot::Credential(path.clone()), text)));
    }
    found.extend(rings(known, wanted).map(|(group, text)| problem(Spot::Group(group), text)));
    found.sort();
    found.dedup();
    found
}

impl Known {
    /// Why a change cannot be made.
    fn check_change(&self, wanted: &Document, change: &Change, at: DateTime<Utc>) -> Vec<String> {
        match change {
            Change::AddPolicy(_) | Change::ChangePolicy(_) if !self.changes_policies => {
                vec!["changing password policies needs the duty `policy`".into()]
            }
            Change::AddGroup(_) | Change::Join(..) | Change::Leave(..) if !self.changes_groups => {
                vec!["changing groups needs the duty `people`".into()]
            }
            Change::Join(_, who) => self.check_who(wanted, who, false).into_iter().collect(),
            Change::Grant(spot, key) | Change::Alter(spot, key) => {
                self.check_grant(wanted, spot, key, at)
            }
            Change::SetGate(spot) => {
                let gate = entry(wanted, spot).and_then(|entry| entry.gate.as_ref());
                let approvers = gate.into_iter().flat_map(|gate| &gate.approvers);
                approvers
                    .filter_map(|who| self.check_who(wanted, who, false))
                    .collect()
            }
            Change::SetDemand(path) => {
                let entry = wanted.folders.get(path);
                let demand = entry.and_then(|entry| entry.passwords.as_ref());
                let policies = demand.into_iter().flat_map(|demand| &demand.policies);
                policies
                    .filter(|policy| {
                        !self.policies.contains(*policy) && !wanted.policies.contains_key(*policy)
                    })
                    .map(|policy| format!("there is no password policy {policy:?}"))
                    .collect()
            }
            Change::AddFolder(path) => self.check_new_folder(wanted, path),
            _ => vec![],
        }
    }

    fn check_grant(
        &self,
        wanted: &Document,
        spot: &Spot,
        key: &GrantKey,
        at: DateTime<Utc>,
    ) -> Vec<String> {
        let mut found: Vec<String> = self.check_who(wanted, &key.to, true).into_iter().collect();
        let Some(terms) = entry(wanted, spot).and_then(|entry| entry.grants.get(key)) else {
            return found;
        };
        if !crate::access::in_force(terms.until, at) {
            let to = &key.to;
            found.push(format!("the grant to {to} would already have expired"));
        }
        let mut kinds = key.kind.iter();
        if let Some(kind) = kinds.find(|kind| !self.kinds.contains(*kind)) {
            found.push(format!("there is no kind {kind:?}"));
        }
        found.extend(crate::names::check_note(&terms.note).err());
        found
    }

    fn check_new_folder(&self, wanted: &Document, path: &str) -> Vec<String> {
        let entry = wanted.folders.get(path);
        // One with an identifier is meant to exist: `check_folder` reports that it does not.
        let Some(entry) = entry.filter(|entry| entry.id.is_none()) else {
            return vec![];
        };
        let mut found = vec![];
        let top = path.rfind('/') == Some(0);
        if top && !self.adds_at_top {
            found.push("adding a folder at the top needs the duty `folders`".into());
        }
        let steward = entry.grants.iter().any(|(key, terms)| {
            terms.level == Level::Steward && key.kind.is_none() && key.tag.is_none()
        });
        if (top || entry.closed) && !steward {
            found.push(format!("the new folder {path} would have no steward"));
        }
        found
    }

    /// Why a credential that the file names by an identifier or a path is not the one at that path.
    fn check_credential(&self, named: Option<Uuid>, there: Option<Uuid>) -> Option<String> {
        match (named, there) {
            (None, None) => Some(
                "there is no such credential, or you are not a steward of its folder".to_owned(),
            ),
            (Some(id), there) if there != Some(id) => {
                let gone =
                    "the credential no longer exists, or you are not a steward of its folder";
                let moved = |now: &String| {
                    format!(
                        "this credential is now {now}; the file was written before it was renamed or moved"
                    )
                };
                let now = self.credentials.get(&id);
                Some(now.map_or_else(|| gone.to_owned(), moved))
            }
            _ => None,
        }
    }

    fn check_who(&self, wanted: &Document, who: &Who, granted: bool) -> Option<String> {
        match who {
            Who::Person(name) | Who::Client(name) => {
                match (if matches!(who, Who::Person(_)) {
                    &self.people
                } else {
                    &self.clients
                })
                .get(name)
                {
                    None if matches!(who, Who::Client(_)) => {
                        Some(format!("there is no client {name:?}"))
                    }
                    None => Some(format!("no person has the sign-in name {name:?}")),
                    Some(PersonState::Left) => Some(format!("{name} has left")),
                    Some(PersonState::Suspended) if granted => Some(format!(
                        "{name} is suspended: nothing can be granted to them"
                    )),
                    Some(_) => None,
                }
            }
            Who::Group(name) => (!self.groups.contains_key(name)
                && !wanted.groups.contains_key(name))
            .then(|| format!("there is no group {name:?}, and the file does not add it")),
        }
    }

    fn check_folder(
        &self,
        now: &Document,
        wanted: &Document,
        path: &str,
        entry: &Entry,
    ) -> Option<String> {
        let there = now.folders.get(path).and_then(|entry| entry.id);
        match (entry.id, there) {
            (Some(id), Some(there)) if id == there => None,
            (Some(id), Some(_)) => Some(match self.folders.get(&id) {
                Some((now, _)) => {
                    format!("this folder is now {now}, and another folder is in its place")
                }
                None => {
                    "the folder with this identifier is gone, and another folder is in its place"
                        .to_owned()
                }
            }),
            (Some(id), None) => Some(match self.folders.get(&id) {
                Some((now, true)) => format!(
                    "this folder is now {now}; the file was written before it was renamed or moved"
                ),
                Some((_, false)) => "you are not a steward of this folder".to_owned(),
                None => "this folder is gone; leave its identifier out to add a new one".to_owned(),
            }),
            (None, Some(_)) => None,
            (None, None) => {
                if self.folders.values().any(|(its, _)| its == path) {
                    return Some("you are not a steward of this folder".to_owned());
                }
                let parent = path
                    .rsplit_once('/')
                    .map(|(parent, _)| parent)
                    .unwrap_or_default();
                let stands = parent.is_empty()
                    || now.folders.contains_key(parent)
                    || wanted.folders.contains_key(parent);
                (!stands).then(|| {
                    format!(
                        "there is no folder {parent} to add it to, or you are not a steward there"
                    )
                })
            }
        }
    }
}

/// Groups that would contain themselves.
fn rings(known: &Known, wanted: &Document) -> impl Iterator<Item = (String, String)> {
    let members = |group: &str| wanted.groups.get(group).or_else(|| known.groups.get(group));
    let mut found = vec![];
    for start in wanted.groups.keys() {
        let (mut seen, mut next) = (BTreeSet::new(), vec![start.clone()]);
        while let Some(group) = next.pop() {
            for member in members(&group).into_iter().flatten() {
                let Who::Group(inner) = member else { continue };
                if inner == start {
                    found.push((
                        start.clone(),
                        if group == *start {
                            "a group cannot be a member of itself".into()
                        } else {
                            format!("{start} would be a member of itself, through {group}")
                        },
                    ));
                } else if seen.insert(inner.clone()) {
                    next.push(inner.clone());
                }
            }
        }
    }
    found.dedup_by(|a, b| a.0 == b.0);
    found.into_iter()
}

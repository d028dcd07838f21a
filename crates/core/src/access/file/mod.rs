//! Access as code: folders, groups, grants, gates and password policies as one text file.
//!
//! The file is TOML 1.0. What it names is made as it says, whole: a folder has these grants and no
//! others, a group these members. What it does not name is left alone, so a file can be about a
//! corner of the tree, and leaving something out by mistake takes nothing away that was not opened.
//! Folders and credentials carry their identifiers, so that a file which was written before one was
//! renamed is refused instead of making a second one.

mod compare;

use crate::policy::RuleMode;
use crate::words::Word as _;
use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;

use chrono::{DateTime, SecondsFormat, Utc};
use serde::Deserialize;
use toml::Spanned;
use uuid::Uuid;

use super::Level;
use crate::policy::PasswordPolicy;

pub use compare::{Change, Known, Problem, Spot, compare, problems};

/// The number of the format that is written and read.
pub const FORMAT: u32 = 1;
/// The largest file that is read, in bytes.
pub const LARGEST: usize = 16 * 1024 * 1024;

/// A person or a client, by the name they sign in with, or a group, by its name.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Who {
    /// A person.
    Person(String),
    /// A client: a program that signs in.
    Client(String),
    /// A group.
    Group(String),
}

impl std::fmt::Display for Who {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Person(name) => write!(f, "person {name}"),
            Self::Client(name) => write!(f, "client {name}"),
            Self::Group(name) => write!(f, "group {name}"),
        }
    }
}

impl std::str::FromStr for Who {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        match text.split_once(' ').map(|(word, name)| (word, name.trim())) {
            Some(("person", name)) if !name.is_empty() => Ok(Self::Person(name.to_owned())),
            Some(("client", name)) if !name.is_empty() => Ok(Self::Client(name.to_owned())),
            Some(("group", name)) if !name.is_empty() => Ok(Self::Group(name.to_owned())),
            _ => Err(format!(
                "{text:?} is none of \"person NAME\", \"client NAME\" and \"group NAME\""
            )),
        }
    }
}

/// What a grant is told apart by, among those on the same place.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct GrantKey {
    /// Whom it is for.
    pub to: Who,
    /// The kind that it is narrowed to.
    pub kind: Option<String>,
    /// The tag that it is narrowed to.
    pub tag: Option<String>,
}

/// What a grant gives.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Terms {
    /// The level.
    pub level: Level,
    /// When it ends.
    pub until: Option<DateTime<Utc>>,
    /// A note.
    pub note: String,
    /// Whether former values may be seen, too.
    pub history: bool,
}

/// The conditions of a gate.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct GateTerms {
    /// A reason must be given.
    pub reason: bool,
    /// Who may approve; nobody: no approval is needed.
    pub approvers: BTreeSet<Who>,
    /// The maximum duration of a checkout, in minutes.
    pub minutes: i32,
    /// One holder at a time.
    pub one_holder: bool,
    /// The password is rotated when it comes back.
    pub rotate: bool,
}

/// What a folder demands of the passwords in it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Demand {
    /// `advise`, `enforce` or `choose`.
    pub mode: RuleMode,
    /// Names of policies.
    pub policies: Vec<String>,
}

/// A folder or a credential, with what is set on it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Entry {
    /// Its identifier; none when the file does not say.
    pub id: Option<Uuid>,
    /// Grants from above do not flow in. Of folders.
    pub closed: bool,
    /// The grants.
    pub grants: BTreeMap<GrantKey, Terms>,
    /// The gate.
    pub gate: Option<GateTerms>,
    /// What it demands of passwords. Of folders.
    pub passwords: Option<Demand>,
}

/// All that a file says.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Document {
    /// Password policies by name.
    pub policies: BTreeMap<String, PasswordPolicy>,
    /// Members by the name of the group.
    pub groups: BTreeMap<String, BTreeSet<Who>>,
    /// Folders by path.
    pub folders: BTreeMap<String, Entry>,
    /// Credentials with grants or a gate of their own, by path.
    pub credentials: BTreeMap<String, Entry>,
}

impl Document {
    /// Of this document what another one names.
    #[must_use]
    pub fn named_in(&self, other: &Self) -> Self {
        fn pick<T: Clone>(
            from: &BTreeMap<String, T>,
            names: &BTreeMap<String, T>,
        ) -> BTreeMap<String, T> {
            names
                .keys()
                .filter_map(|name| Some((name.clone(), from.get(name)?.clone())))
                .collect()
        }
        Self {
            policies: pick(&self.policies, &other.policies),
            groups: pick(&self.groups, &other.groups),
            folders: pick(&self.folders, &other.folders),
            credentials: pick(&self.credentials, &other.credentials),
        }
    }

    /// Stands for all that it says: the SHA-256 of its text, in hexadecimal digits.
    #[must_use]
    pub fn state(&self) -> String {
        use sha2::Digest as _;
        sha2::Sha256::digest(write(self).as_bytes())
            .iter()
            .map(|byte| format!("{byte:02x}"))
            .collect()
    }
}

/// At which line of a file something is said; counted from 1.
#[derive(Clone, Debug, Default)]
pub struct Lines {
    spots: BTreeMap<Spot, usize>,
    grants: BTreeMap<(Spot, GrantKey), usize>,
}

impl Lines {
    /// The line where something is named.
    #[must_use]
    pub fn of(&self, spot: &Spot) -> Option<usize> {
        self.spots.get(spot).copied()
    }

    /// The line of a grant.
    #[must_use]
    pub fn of_grant(&self, spot: &Spot, key: &GrantKey) -> Option<usize> {
        self.grants.get(&(spot.clone(), key.clone())).copied()
    }
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Raw {
    format: u32,
    #[serde(default)]
    policy: BTreeMap<Spanned<String>, PasswordPolicy>,
    #[serde(default)]
    group: BTreeMap<Spanned<String>, RawGroup>,
    #[serde(default)]
    folder: BTreeMap<Spanned<String>, RawEntry>,
    #[serde(default)]
    credential: BTreeMap<Spanned<String>, RawEntry>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawGroup {
    members: Vec<Spanned<String>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawEntry {
    id: Option<Spanned<String>>,
    closed: Option<Spanned<bool>>,
    grants: Vec<Spanned<RawGrant>>,
    gate: Option<Spanned<RawGate>>,
    passwords: Option<Spanned<RawDemand>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawGrant {
    to: String,
    level: String,
    kind: Option<String>,
    tag: Option<String>,
    until: Option<toml::value::Datetime>,
    #[serde(default)]
    note: String,
    #[serde(default = "yes")]
    history: bool,
}

const fn yes() -> bool {
    true
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct RawGate {
    #[serde(default)]
    reason: bool,
    #[serde(default)]
    approvers: Vec<String>,
    minutes: i32,
    #[serde(default)]
    one_holder: bool,
    #[serde(default)]
    rotate: bool,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawDemand {
    mode: String,
    policies: Vec<String>,
}

struct Reading {
    /// Where lines end.
    ends: Vec<usize>,
    lines: Lines,
    wrong: Vec<Problem>,
}

impl Reading {
    fn line(&self, offset: usize) -> usize {
        1 + self.ends.partition_point(|end| *end < offset)
    }

    fn wrong(&mut self, offset: usize, text: impl Into<String>) {
        let line = self.line(offset);
        self.wrong.push(Problem {
            line: Some(line),
            text: text.into(),
        });
    }

    fn grant(&mut self, spot: &Spot, offset: usize, raw: RawGrant) -> Option<(GrantKey, Terms)> {
        let said = |this: &mut Self, problem: String| this.wrong(offset, problem);
        let to = raw
            .to
            .parse::<Who>()
            .map_err(|problem| said(self, problem))
            .ok()?;
        let level = raw
            .level
            .parse::<Level>()
            .map_err(|problem| said(self, format!("`{}` is not a level: {problem}", raw.level)))
            .ok()?;
        let until = match raw.until.map(|until| until.to_string()) {
            None => None,
            Some(text) => match DateTime::parse_from_rfc3339(&text) {
                Ok(time) => Some(time.to_utc()),
                Err(_) => {
                    said(
                        self,
                        format!(
                            "{text} is not a time with a time zone, such as 2027-01-31T18:00:00Z"
                        ),
                    );
                    return None;
                }
            },
        };
        let full = |text: Option<String>| {
            text.map(|text| text.trim().to_owned())
                .filter(|text| !text.is_empty())
        };
        let key = GrantKey {
            to,
            kind: full(raw.kind),
            tag: full(raw.tag).map(|tag| tag.to_lowercase()),
        };
        if matches!(spot, Spot::Credential(_)) && (key.kind.is_some() || key.tag.is_some()) {
            said(
                self,
                "a grant on one credential cannot be limited to a kind or a tag".into(),
            );
            return None;
        }
        Some((
            key,
            Terms {
                level,
                until,
                note: raw.note.trim().to_owned(),
                history: raw.history,
            },
        ))
    }

    fn entry(&mut self, spot: &Spot, raw: RawEntry) -> Entry {
        let mut entry = Entry::default();
        if let Some(id) = raw.id {
            match id.get_ref().parse() {
                Ok(found) => entry.id = Some(found),
                Err(_) => self.wrong(
                    id.span().start,
                    format!("{:?} is not an identifier", id.get_ref()),
                ),
            }
        }
        let single = matches!(spot, Spot::Credential(_));
        if let Some(closed) = raw.closed {
            if single {
                self.wrong(
                    closed.span().start,
                    "a credential cannot be closed, only a folder",
                );
            }
            entry.closed = closed.into_inner();
        }
        for grant in raw.grants {
            let index = grant.span().start;
            let Some((key, terms)) = self.grant(spot, index, grant.into_inner()) else {
                continue;
            };
            let line = self.line(index);
            if let Some(first) = self.lines.grants.insert((spot.clone(), key.clone()), line) {
                self.wrong(
                    index,
                    format!("{} already has a grant here, at line {first}", key.to),
                );
            }
            entry.grants.insert(key, terms);
        }
        if let Some(gate) = raw.gate {
            let index = gate.span().start;
            let gate = gate.into_inner();
            let approvers = self.all_who(index, gate.approvers);
            let facts = crate::gate::Gate {
                id: Uuid::nil(),
                revision: 0,
                needs_reason: gate.reason,
                needs_approval: !approvers.is_empty(),
                max_minutes: gate.minutes,
                one_holder: gate.one_holder,
                rotate_on_return: gate.rotate,
            };
            if let Err(problem) = crate::gate::check_gate(&facts, approvers.len()) {
                self.wrong(index, problem);
            }
            entry.gate = Some(GateTerms {
                reason: gate.reason,
                approvers,
                minutes: gate.minutes,
                one_holder: gate.one_holder,
                rotate: gate.rotate,
            });
        }
        if let Some(demand) = raw.passwords {
            let index = demand.span().start;
            let demand = demand.into_inner();
            if single {
                self.wrong(index, "password policies are set on folders");
            }
            let mode = demand.mode.parse::<RuleMode>();
            let limit = if mode == Ok(RuleMode::Choose) { 20 } else { 1 };
            if let Err(problem) = &mode {
                self.wrong(index, format!("{:?} is not a mode: {problem}", demand.mode));
            } else if demand.policies.is_empty() || demand.policies.len() > limit {
                self.wrong(
                    index,
                    if limit == 1 {
                        "exactly one policy can be advised or enforced"
                    } else {
                        "1 to 20 policies can be chosen from"
                    },
                );
            }
            entry.passwords = mode.ok().map(|mode| Demand {
                mode,
                policies: demand.policies,
            });
        }
        entry
    }

    fn all_who(&mut self, index: usize, texts: Vec<String>) -> BTreeSet<Who> {
        let mut all = BTreeSet::new();
        for text in texts {
            match text.parse() {
                Ok(who) => {
                    all.insert(who);
                }
                Err(problem) => self.wrong(index, problem),
            }
        }
        all
    }

    fn path(&mut self, index: usize, path: &str) {
        match crate::names::parse_path(path) {
            Ok(names) => {
                let written: String = names
                    .iter()
                    .map(|name| format!("/{}", name.as_str()))
                    .collect();
                if written.is_empty() || written != path {
                    self.wrong(
                        index,
                        format!(
                            "{path:?} is not a path: a path begins with / and ends with a name"
                        ),
                    );
                }
            }
            Err(problem) => self.wrong(index, problem.to_string()),
        }
    }
}

/// Reads a file.
///
/// # Errors
/// All that is wrong with it, each with its line.
pub fn read(text: &str) -> Result<(Document, Lines), Vec<Problem>> {
    if text.len() > LARGEST {
        return Err(vec![Problem {
            line: None,
            text: format!("the file is larger than {} MiB", LARGEST >> 20),
        }]);
    }
    let ends = text
        .bytes()
        .enumerate()
        .filter(|(_, byte)| *byte == b'\n')
        .map(|(index, _)| index)
        .collect();
    let mut reading = Reading {
        ends,
        lines: Lines::default(),
        wrong: vec![],
    };
    let raw: Raw = toml::from_str(text).map_err(|error| {
        let line = error.span().map(|span| reading.line(span.start));
        vec![Problem {
            line,
            text: error
                .message()
                .lines()
                .next()
                .unwrap_or("this is not TOML")
                .to_owned(),
        }]
    })?;
    if raw.format != FORMAT {
        return Err(vec![Problem {
            line: Some(1),
            text: format!("this is format {}; format {FORMAT} is read", raw.format),
        }]);
    }
    let mut document = Document::default();
    for (name, policy) in raw.policy {
        let index = name.span().start;
        if let Err(problem) = policy.check() {
            reading.wrong(index, problem.to_string());
        }
        let line = reading.line(index);
        reading
            .lines
            .spots
            .insert(Spot::Policy(name.get_ref().clone()), line);
        document.policies.insert(name.into_inner(), policy);
    }
    for (name, group) in raw.group {
        let index = name.span().start;
        let line = reading.line(index);
        reading
            .lines
            .spots
            .insert(Spot::Group(name.get_ref().clone()), line);
        let mut members = BTreeSet::new();
        for member in group.members {
            let here = member.span().start;
            members.extend(reading.all_who(here, vec![member.into_inner()]));
        }
        document.groups.insert(name.into_inner(), members);
    }
    let places = raw
        .folder
        .into_iter()
        .map(|item| (true, item))
        .chain(raw.credential.into_iter().map(|item| (false, item)));
    for (folder, (path, entry)) in places {
        let index = path.span().start;
        let path = path.into_inner();
        reading.path(index, &path);
        let spot = if folder {
            Spot::Folder(path.clone())
        } else {
            Spot::Credential(path.clone())
        };
        let line = reading.line(index);
        reading.lines.spots.insert(spot.clone(), line);
        let entry = reading.entry(&spot, entry);
        if folder {
            document.folders.insert(path, entry)
        } else {
            document.credentials.insert(path, entry)
        };
    }
    if reading.wrong.is_empty() {
        return Ok((document, reading.lines));
    }
    reading.wrong.sort();
    Err(reading.wrong)
}

/// A string as TOML writes it on one line.
fn quoted(text: &str) -> String {
    let mut out = String::with_capacity(text.len() + 2);
    out.push('"');
    for c in text.chars() {
        match c {
            '"' => out.push_str("\\\""),
            '\\' => out.push_str("\\\\"),
            '\n' => out.push_str("\\n"),
            '\t' => out.push_str("\\t"),
            c if c.is_control() => {
                let _ = write!(out, "\\u{:04X}", u32::from(c));
            }
            c => out.push(c),
        }
    }
    out.push('"');
    out
}

fn list(all: impl IntoIterator<Item = String>) -> String {
    format!(
        "[{}]",
        all.into_iter()
            .map(|text| quoted(&text))
            .collect::<Vec<_>>()
            .join(", ")
    )
}

const HEAD: &str = "\
# Folders, groups, grants, gates and password policies. Edit this file, compare it with
# `jexlin access compare FILE`, and apply it with `jexlin access apply FILE`.
#
# What is named here becomes exactly as written: a folder has these grants and no others, a group
# these members. What is not named is left alone. Identifiers show what was renamed in the meantime;
# a folder without one is found by its path, and added if there is none.
";

/// Writes a file that [`read`] reads as the same document.
#[must_use]
pub fn write(document: &Document) -> String {
    let mut out = format!("{HEAD}format = {FORMAT}\n");
    for (name, policy) in &document.policies {
        let rules = toml::to_string(policy).unwrap_or_default();
        let _ = write!(out, "\n[policy.{}]\n{rules}", quoted(name));
    }
    for (name, members) in &document.groups {
        let _ = write!(
            out,
            "\n[group.{}]\nmembers = {}\n",
            quoted(name),
            list(members.iter().map(Who::to_string))
        );
    }
    for (path, entry) in &document.folders {
        let _ = write!(out, "\n[folder.{}]\n", quoted(path));
        write_entry(&mut out, entry);
    }
    for (path, entry) in &document.credentials {
        let _ = write!(out, "\n[credential.{}]\n", quoted(path));
        write_entry(&mut out, entry);
    }
    out
}

fn write_entry(out: &mut String, entry: &Entry) {
    if let Some(id) = entry.id {
        let _ = writeln!(out, "id = \"{id}\"");
    }
    if entry.closed {
        out.push_str("closed = true\n");
    }
    if entry.grants.is_empty() {
        out.push_str("grants = []\n");
    } else {
        out.push_str("grants = [\n");
        for (key, terms) in &entry.grants {
            let _ = write!(
                out,
                "  {{ to = {}, level = \"{}\"",
                quoted(&key.to.to_string()),
                terms.level
            );
            for (name, value) in [("kind", &key.kind), ("tag", &key.tag)] {
                if let Some(value) = value {
                    let _ = write!(out, ", {name} = {}", quoted(value));
                }
            }
            if let Some(until) = terms.until {
                let _ = write!(
                    out,
                    ", until = {}",
                    until.to_rfc3339_opts(SecondsFormat::AutoSi, true)
                );
            }
            if !terms.history {
                out.push_str(", history = false");
            }
            if !terms.note.is_empty() {
                let _ = write!(out, ", note = {}", quoted(&terms.note));
            }
            out.push_str(" },\n");
        }
        out.push_str("]\n");
    }
    if let Some(gate) = &entry.gate {
        let _ = write!(out, "gate = {{ minutes = {}", gate.minutes);
        for (name, on) in [
            ("reason", gate.reason),
            ("one-holder", gate.one_holder),
            ("rotate", gate.rotate),
        ] {
            if on {
                let _ = write!(out, ", {name} = true");
            }
        }
        if !gate.approvers.is_empty() {
            let _ = write!(
                out,
                ", approvers = {}",
                list(gate.approvers.iter().map(Who::to_string))
            );
        }
        out.push_str(" }\n");
    }
    if let Some(demand) = &entry.passwords {
        let _ = writeln!(
            out,
            "passwords = {{ mode = {}, policies = {} }}",
            quoted(demand.mode.word()),
            list(demand.policies.iter().cloned())
        );
    }
}

#[cfg(test)]
mod tests;

//! What dialogues and recipes have in common: what they are called, what they are for, and what
//! they begin with.

use std::collections::BTreeMap;

use regex::Regex;

use super::{Finding, Purpose, Takes, pattern_of};

/// The longest title, in characters.
const LONGEST: usize = 300;

/// The beginning of a dialogue or a recipe.
#[derive(Clone, Debug)]
pub struct Head {
    pub(crate) digest: String,
    pub(crate) title: String,
    pub(crate) about: String,
    /// Which names may be sent; any when there is none.
    pub(crate) names: Option<Regex>,
    pub(crate) takes: Takes,
    pub(crate) begin: BTreeMap<Purpose, usize>,
}

/// The same as its file has it.
pub(crate) struct HeadFile {
    /// The version of the format that the file says, and the one that is known.
    pub(crate) version: (u32, u32),
    pub(crate) digest: String,
    pub(crate) title: String,
    pub(crate) about: String,
    pub(crate) names: Option<String>,
    pub(crate) takes: Takes,
    pub(crate) begin: BTreeMap<Purpose, String>,
}

impl HeadFile {
    /// Reads it. `noun` is what is begun, a step or a request, and `find` its number.
    pub(crate) fn read(
        self,
        noun: &str,
        find: &dyn Fn(&str) -> Option<usize>,
        wrong: &mut Vec<Finding>,
    ) -> Head {
        let mut say = |message: String| wrong.push(Finding::error(None, message));
        let (said, known) = self.version;
        if said != known {
            say(format!(
                "the first entry is the version of the format, which is {known}"
            ));
        }
        if self.title.trim().is_empty() || self.title.chars().count() > LONGEST {
            say("it needs a short title".into());
        }
        let without = &self.takes.without;
        if without.chars().count() > LONGEST || without.chars().any(char::is_control) {
            say(format!(
                "`without` names at most {LONGEST} characters, none of them a control character: no password has one"
            ));
        }
        if self.begin.is_empty() {
            say(format!(
                "nothing is begun: name the first {noun} of `check`, `operator`, `account` or `list`"
            ));
        }
        let mut begin = BTreeMap::new();
        for (purpose, name) in &self.begin {
            match find(name) {
                Some(first) => {
                    begin.insert(*purpose, first);
                }
                None => say(format!(
                    "`{purpose}` begins with “{name}”, which is no {noun}"
                )),
            }
        }
        let names = self
            .names
            .map(|names| pattern_of(&format!("^(?:{names})$")));
        let names = match names.transpose() {
            Ok(names) => names,
            Err(why) => {
                say(why);
                None
            }
        };
        Head {
            digest: self.digest,
            title: self.title,
            about: self.about,
            names,
            takes: self.takes,
            begin,
        }
    }
}

impl Head {
    /// The SHA-256 of the file, hexadecimal: another file is another one.
    #[must_use]
    pub fn digest(&self) -> &str {
        &self.digest
    }

    /// The title.
    #[must_use]
    pub fn title(&self) -> &str {
        &self.title
    }

    /// What it is for, in the author's words.
    #[must_use]
    pub fn about(&self) -> &str {
        &self.about
    }

    /// Which passwords the devices take.
    #[must_use]
    pub const fn takes(&self) -> &Takes {
        &self.takes
    }

    /// What it can be used for.
    pub fn purposes(&self) -> impl Iterator<Item = Purpose> {
        self.begin.keys().copied()
    }

    /// Whether it can be used for something.
    #[must_use]
    pub fn is_for(&self, purpose: Purpose) -> bool {
        self.begin.contains_key(&purpose)
    }

    /// Why a name cannot be sent.
    pub(crate) fn name_problem(&self, name: &str) -> Option<String> {
        let fits = !name.chars().any(char::is_control)
            && self.names.as_ref().is_none_or(|names| names.is_match(name));
        if name.is_empty() || fits {
            return None;
        }
        let shown: String = name.chars().filter(|c| !c.is_control()).take(80).collect();
        Some(format!("the device would not take “{shown}” for a name"))
    }

    /// What is reached from the beginning of a purpose, by where each leads.
    pub(crate) fn reached(
        &self,
        purpose: Purpose,
        exits: impl Fn(usize) -> Vec<usize>,
    ) -> Vec<usize> {
        let (mut seen, mut next) = (vec![], vec![]);
        next.extend(self.begin.get(&purpose).copied());
        while let Some(one) = next.pop() {
            if !seen.contains(&one) {
                seen.push(one);
                next.extend(exits(one));
            }
        }
        seen.sort_unstable();
        seen
    }
}

//! What is wrong with a dialogue although it can be read.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::line::Placeholder;
use super::{Dialogue, Hear, Purpose, Step, Then, What};
use crate::words::word_enum;

word_enum! {
    /// How bad a finding is.
    pub enum Severity {
        /// The dialogue cannot be used.
        Error,
        /// It may not do what is meant.
        Warning,
    }
}

/// Something that is wrong with a dialogue.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Finding {
    /// How bad it is.
    pub severity: Severity,
    /// The line of the file, from 1 on; none where it is about the whole.
    pub line: Option<usize>,
    /// The step that it is about.
    pub step: Option<String>,
    /// What is wrong.
    pub message: String,
}

impl Finding {
    pub(crate) fn error(step: Option<&str>, message: String) -> Self {
        Self {
            severity: Severity::Error,
            line: None,
            step: step.map(str::to_owned),
            message,
        }
    }

    /// A file that cannot be read at all.
    pub(crate) fn unreadable(text: &str, error: &toml::de::Error) -> Self {
        let line = error
            .span()
            .map(|span| text.get(..span.start).map_or(1, |up| up.lines().count()));
        Self {
            line: line.map(|line| line.max(1)),
            ..Self::error(None, error.message().replace('\n', "; "))
        }
    }

    pub(crate) fn warning(step: Option<&str>, message: String) -> Self {
        Self {
            severity: Severity::Warning,
            ..Self::error(step, message)
        }
    }
}

impl std::fmt::Display for Finding {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        if let Some(line) = self.line {
            write!(f, "line {line}: ")?;
        }
        write!(f, "{}: ", self.severity)?;
        if let Some(step) = &self.step {
            write!(f, "step {step}: ")?;
        }
        f.write_str(&self.message)
    }
}

/// Reads a dialogue and looks for all that is wrong with it, in the order of its lines. It can be
/// used when nothing of that is an error.
///
/// ```text
/// steps that nothing leads to              a secret that the device would show
/// steps from which nothing ends            a new password said before anything may change
/// placeholders that are not known there    a command that the device does not have
/// texts that are never reached             a rotation that changes nothing
/// ```
#[must_use]
pub fn inspect(text: &str) -> (Option<Dialogue>, Vec<Finding>) {
    let (dialogue, mut findings) = match Dialogue::read(text) {
        Ok(dialogue) => {
            let findings = dialogue.findings();
            (Some(dialogue), findings)
        }
        Err(findings) => (None, findings),
    };
    place_findings(&mut findings, text, "step");
    (dialogue, findings)
}

/// Says on which lines findings are, and puts them in the order of those.
pub(crate) fn place_findings(findings: &mut [Finding], text: &str, table: &str) {
    for finding in &mut *findings {
        if finding.line.is_none() {
            finding.line = finding
                .step
                .as_deref()
                .and_then(|step| line_of(text, table, step));
        }
    }
    findings.sort_by_key(|finding| (finding.line, finding.severity));
}

/// The line on which the table of a step begins.
fn line_of(text: &str, table: &str, step: &str) -> Option<usize> {
    text.lines()
        .position(|line| {
            let name = line
                .trim()
                .strip_prefix(&format!("[{table}."))
                .and_then(|rest| rest.split(']').next());
            name.is_some_and(|name| name.trim_matches(['"', '\'']) == step)
        })
        .map(|at| at + 1)
}

impl Dialogue {
    fn findings(&self) -> Vec<Finding> {
        let mut found = vec![];
        let mut purposes: BTreeMap<usize, Vec<Purpose>> = BTreeMap::new();
        for purpose in self.head.purposes() {
            let reached = self.reached(purpose);
            for step in &reached {
                purposes.entry(*step).or_default().push(purpose);
            }
            self.look_at(purpose, &reached, &mut found);
        }
        for (number, step) in self.steps.iter().enumerate() {
            match purposes.get(&number) {
                None => found.push(Finding::warning(
                    Some(&step.name),
                    "nothing leads to this step".into(),
                )),
                Some(purposes) => self.look_at_step(number, step, purposes, &mut found),
            }
        }
        found
    }

    /// What is wrong with all that is reached for a purpose.
    fn look_at(&self, purpose: Purpose, reached: &[usize], found: &mut Vec<Finding>) {
        let steps = || reached.iter().filter_map(|number| self.steps.get(*number));
        let ends = |then: &Then| matches!(then, Then::Done);
        let mut hears = steps().flat_map(|step| &step.hear).chain(&self.always);
        if !hears.any(|hear| ends(&hear.then)) {
            found.push(Finding::error(
                None,
                format!("`{purpose}` never comes to `done`"),
            ));
        }
        let changing = steps().find(|step| step.changes);
        match (purpose, changing) {
            (Purpose::Check | Purpose::List, Some(step)) => found.push(Finding::error(
                Some(&step.name),
                format!("`{purpose}` comes to this step, which changes something"),
            )),
            (Purpose::List, None) if steps().all(|step| step.lists.is_none()) => {
                found.push(Finding::error(
                    None,
                    "`list` has no step with `lists`: say which lines are accounts".into(),
                ));
            }
            (Purpose::Operator | Purpose::Account, None) => found.push(Finding::error(
                None,
                format!("`{purpose}` has no step with `changes = true`: say which line changes the password"),
            )),
            _ => {}
        }
    }

    fn look_at_step(
        &self,
        number: usize,
        step: &Step,
        purposes: &[Purpose],
        found: &mut Vec<Finding>,
    ) {
        let name = Some(step.name.as_str());
        if !self.comes_to_an_end(number) {
            found.push(Finding::error(
                name,
                "nothing that is heard from here on ends the dialogue".into(),
            ));
        }
        if step.hear.is_empty() {
            found.push(Finding::error(name, "this step hears nothing".into()));
        }
        self.look_at_texts(step, found);
        if step.lists.is_some() && !purposes.contains(&Purpose::List) {
            found.push(Finding::warning(
                name,
                "`lists` is about accounts, and `list` does not come to this step".into(),
            ));
        }
        let Some(line) = &step.say else {
            if step.changes || step.hidden {
                found.push(Finding::warning(
                    name,
                    "`changes` and `hidden` are about what is said, and this step says nothing"
                        .into(),
                ));
            }
            return;
        };
        for placeholder in line.placeholders() {
            for purpose in purposes {
                if !placeholder.is_known(*purpose) {
                    found.push(Finding::error(
                        name,
                        format!(
                            "`{purpose}` comes to this step, and does not know {{{}}}",
                            placeholder.word()
                        ),
                    ));
                }
            }
        }
        if line.placeholders().any(|it| it == Placeholder::New) && !step.changes {
            found.push(Finding::error(
                name,
                "the new password is said here: set `changes = true`, so that it is known from when on the device may have it".into(),
            ));
        }
        if line.has_secret() && !step.hidden && step.shown_because.is_none() {
            found.push(Finding::warning(
                name,
                "the device shows this line, and may log it, with a secret in it: set `hidden = true` where it does not write back what is typed, or say `shown_because`".into(),
            ));
        }
        if self.is_at_a_prompt(number) {
            self.look_at_command(step, line.beginning(), found);
        }
    }

    /// Whether what a step says is a command: whatever follows a text answers a question.
    fn is_at_a_prompt(&self, step: usize) -> bool {
        let leads =
            |hear: &Hear| hear.then == Then::Step(step) && !matches!(hear.what, What::Text(_));
        self.head.begin.values().any(|first| *first == step)
            || self.steps.iter().flat_map(|step| &step.hear).any(leads)
    }

    /// A typing slip in a command, by the list of those that the device has.
    fn look_at_command(&self, step: &Step, beginning: &str, found: &mut Vec<Finding>) {
        if self.commands.is_empty() || step.hidden || beginning.trim().is_empty() {
            return;
        }
        let said = beginning.trim();
        if self
            .commands
            .iter()
            .any(|known| said == known || said.starts_with(&format!("{known} ")))
        {
            return;
        }
        let words = |text: &str, count: usize| -> String {
            text.split_whitespace()
                .take(count)
                .collect::<Vec<_>>()
                .join(" ")
        };
        let nearest = self
            .commands
            .iter()
            .map(|known| {
                let same = words(said, known.split_whitespace().count());
                (strsim::damerau_levenshtein(&same, known), known)
            })
            .filter(|(far, known)| *far <= 2.max(known.len() / 4))
            .min();
        let message = match nearest {
            Some((_, known)) => {
                format!("“{said}” is no command of the device; is “{known}” meant?")
            }
            None => format!("“{said}” is not in the list of the device's commands"),
        };
        found.push(Finding::warning(Some(&step.name), message));
    }

    /// A text that is never reached, since another one is found in it before.
    fn look_at_texts(&self, step: &Step, found: &mut Vec<Finding>) {
        let mut earlier: Vec<&str> = vec![];
        for hear in self.always.iter().chain(&step.hear) {
            let What::Text(text) = &hear.what else {
                continue;
            };
            if let Some(first) = earlier.iter().find(|first| text.contains(**first)) {
                found.push(Finding::warning(
                    Some(&step.name),
                    format!(
                        "“{text}” is never reached: “{first}” is heard before it, and is in it"
                    ),
                ));
            }
            earlier.push(text);
        }
    }

    /// Whether something that is heard from this step on ends the dialogue. What is heard in every
    /// step does not count: it is what goes wrong.
    fn comes_to_an_end(&self, step: usize) -> bool {
        let (mut seen, mut next) = (vec![], vec![step]);
        while let Some(number) = next.pop() {
            if seen.contains(&number) {
                continue;
            }
            seen.push(number);
            for hear in self.steps.get(number).map_or(&[][..], |step| &step.hear) {
                match hear.then {
                    Then::Step(to) => next.push(to),
                    Then::Answer(_) => {}
                    _ => return true,
                }
            }
        }
        false
    }
}

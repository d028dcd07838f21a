//! The format of a dialogue file: TOML, as `docs/dialogues.md` describes it.

use std::collections::BTreeMap;

use regex::Regex;
use serde::Deserialize;
use sha2::{Digest as _, Sha256};

use super::account_line::AccountLine;
use super::line::{Line, known_placeholders};
use super::{Dialogue, Finding, HeadFile, Hear, Purpose, Step, Then, What};

/// The version of the format.
const VERSION: u32 = 1;
/// The longest file, in bytes.
const MOST_BYTES: usize = 64 * 1024;
/// The most steps.
const MOST_STEPS: usize = 100;
/// The most that can be heard in one step.
const MOST_HEARD: usize = 40;
/// The longest text, in characters.
const LONGEST: usize = 300;
/// The largest compiled pattern, in bytes.
const MOST_PATTERN: usize = 64 * 1024;
/// The names that are typed when a dialogue says nothing else: no device takes any of these signs
/// for a command of its own.
const NAMES: &str = "[A-Za-z0-9_][A-Za-z0-9._@-]*";

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    dialogue: u32,
    title: String,
    #[serde(default)]
    about: String,
    #[serde(default)]
    line_end: LineEnd,
    #[serde(default)]
    leave: Option<String>,
    #[serde(default)]
    commands: Vec<String>,
    #[serde(default)]
    names: Option<String>,
    #[serde(default)]
    password: Takes,
    begin: BTreeMap<Purpose, String>,
    #[serde(default)]
    always: Vec<HearFile>,
    step: BTreeMap<String, StepFile>,
}

/// What ends a line that is typed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum LineEnd {
    /// A line feed.
    #[default]
    Lf,
    /// A carriage return.
    Cr,
    /// Both.
    CrLf,
}

impl LineEnd {
    /// The bytes.
    #[must_use]
    pub const fn text(self) -> &'static str {
        match self {
            Self::Lf => "\n",
            Self::Cr => "\r",
            Self::CrLf => "\r\n",
        }
    }
}

/// Which passwords the devices take.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Takes {
    /// None of these characters.
    #[serde(default)]
    pub without: String,
    /// At most so many characters.
    #[serde(default)]
    pub longest: Option<u32>,
}

impl Takes {
    /// Why the device does not take a password.
    #[must_use]
    pub fn problem(&self, password: &str) -> Option<String> {
        if let Some(sign) = password.chars().find(|c| self.without.contains(*c)) {
            let sign = match sign {
                ' ' => "space".to_owned(),
                other => other.to_string(),
            };
            return Some(format!(
                "the device takes no password with the character {sign}"
            ));
        }
        let most = self.longest?;
        (password.chars().count() > most as usize)
            .then(|| format!("the device takes passwords of at most {most} characters"))
    }
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct StepFile {
    #[serde(default)]
    say: Option<String>,
    #[serde(default)]
    hidden: bool,
    #[serde(default)]
    changes: bool,
    #[serde(default)]
    shown_because: Option<String>,
    #[serde(default)]
    seconds: Option<u32>,
    #[serde(default)]
    lists: Option<String>,
    hear: Vec<HearFile>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct HearFile {
    #[serde(default)]
    text: Option<String>,
    #[serde(default)]
    line: Option<String>,
    #[serde(default)]
    prompt: Option<String>,
    #[serde(default)]
    next: Option<String>,
    #[serde(default)]
    answer: Option<String>,
    #[serde(default)]
    done: bool,
    #[serde(default)]
    wrong_password: bool,
    #[serde(default)]
    locked: bool,
    #[serde(default)]
    refused: Option<Why>,
    #[serde(default)]
    give_up: Option<String>,
}

/// A reason of the author's, or the device's own words.
#[derive(Deserialize)]
#[serde(untagged)]
enum Why {
    Own(bool),
    Said(String),
}

/// Reads a dialogue.
///
/// # Errors
/// What is wrong, each with its step and line.
pub(super) fn read(text: &str) -> Result<Dialogue, Vec<Finding>> {
    if text.len() > MOST_BYTES {
        return Err(vec![Finding::error(
            None,
            format!("a dialogue has at most {MOST_BYTES} bytes"),
        )]);
    }
    let file: File =
        toml::from_str(text).map_err(|error| vec![Finding::unreadable(text, &error)])?;
    Reading::default().dialogue(file, digest_of(text))
}

/// The SHA-256 of a file, hexadecimal.
pub(crate) fn digest_of(text: &str) -> String {
    Sha256::digest(text.as_bytes())
        .iter()
        .map(|byte| format!("{byte:02x}"))
        .collect()
}

/// A pattern, in any case, of a bounded size.
pub(crate) fn pattern_of(pattern: &str) -> Result<Regex, String> {
    regex::RegexBuilder::new(pattern)
        .case_insensitive(true)
        .size_limit(MOST_PATTERN)
        .build()
        .map_err(|error| {
            let why = error.to_string();
            let last = why.lines().last().unwrap_or_default();
            format!(
                "“{pattern}” is no pattern: {}",
                last.trim_start_matches("error: ")
            )
        })
}

/// What was found while reading.
#[derive(Default)]
struct Reading {
    wrong: Vec<Finding>,
}

impl Reading {
    fn wrong(&mut self, step: Option<&str>, message: String) {
        self.wrong.push(Finding::error(step, message));
    }

    fn dialogue(mut self, file: File, digest: String) -> Result<Dialogue, Vec<Finding>> {
        if file.step.len() > MOST_STEPS {
            self.wrong(None, format!("a dialogue has at most {MOST_STEPS} steps"));
        }
        let names: Vec<&String> = file.step.keys().collect();
        let find = |name: &str| names.iter().position(|known| *known == name);
        let head = HeadFile {
            version: (file.dialogue, VERSION),
            digest,
            title: file.title,
            about: file.about,
            names: Some(file.names.unwrap_or_else(|| NAMES.to_owned())),
            takes: file.password,
            begin: file.begin,
        };
        let head = head.read("step", &find, &mut self.wrong);
        let always = self.hears(None, &file.always, &find);
        let mut steps = vec![];
        for (name, step) in &file.step {
            let say = step
                .say
                .as_deref()
                .and_then(|say| self.line(Some(name), say));
            steps.push(Step {
                name: name.clone(),
                say,
                hidden: step.hidden,
                changes: step.changes,
                shown_because: step.shown_because.clone(),
                seconds: step.seconds.unwrap_or(20).clamp(1, 25),
                lists: step
                    .lists
                    .as_deref()
                    .and_then(|pattern| self.account_line(name, pattern)),
                hear: self.hears(Some(name), &step.hear, &find),
            });
        }
        let leave = file
            .leave
            .as_deref()
            .and_then(|leave| self.line(None, leave));
        if !self.wrong.is_empty() {
            return Err(self.wrong);
        }
        Ok(Dialogue {
            head,
            line_end: file.line_end,
            leave,
            commands: file.commands,
            always,
            steps,
        })
    }

    fn line(&mut self, step: Option<&str>, text: &str) -> Option<Line> {
        if text.chars().any(char::is_control) || text.chars().count() > LONGEST {
            self.wrong(step, "what is said is one short line".into());
            return None;
        }
        match Line::read(text) {
            Ok(line) => Some(line),
            Err(unknown) => {
                self.wrong(
                    step,
                    format!(
                        "“{{{unknown}}}” stands for nothing; there are {}",
                        known_placeholders()
                    ),
                );
                None
            }
        }
    }

    fn pattern(&mut self, step: Option<&str>, pattern: &str) -> Option<Regex> {
        if pattern.chars().count() > LONGEST {
            self.wrong(step, format!("a pattern has at most {LONGEST} characters"));
            return None;
        }
        match pattern_of(pattern) {
            Ok(regex) => Some(regex),
            Err(why) => {
                self.wrong(step, why);
                None
            }
        }
    }

    fn account_line(&mut self, step: &str, pattern: &str) -> Option<AccountLine> {
        match AccountLine::of(self.pattern(Some(step), pattern)?) {
            Ok(line) => Some(line),
            Err(why) => {
                self.wrong(Some(step), why);
                None
            }
        }
    }

    fn hears(
        &mut self,
        step: Option<&str>,
        heard: &[HearFile],
        find: &dyn Fn(&str) -> Option<usize>,
    ) -> Vec<Hear> {
        if heard.len() > MOST_HEARD {
            self.wrong(step, format!("a step hears at most {MOST_HEARD} things"));
        }
        let mut hears = vec![];
        for hear in heard.iter().take(MOST_HEARD) {
            let what = self.what(step, hear);
            let then = self.then(step, hear, find);
            if let (Some(what), Some(then)) = (what, then) {
                hears.push(Hear { what, then });
            }
        }
        hears
    }

    fn what(&mut self, step: Option<&str>, hear: &HearFile) -> Option<What> {
        let one = match (&hear.text, &hear.line, &hear.prompt) {
            (Some(text), None, None) if text.chars().count() > LONGEST => {
                self.wrong(step, format!("a text has at most {LONGEST} characters"));
                return None;
            }
            (Some(text), None, None) => (!text.is_empty()).then(|| What::Text(text.to_lowercase())),
            (None, Some(line), None) => Some(What::Line(self.pattern(step, line)?)),
            (None, None, Some(prompt)) => Some(What::Prompt(self.pattern(step, prompt)?)),
            _ => None,
        };
        if one.is_none() {
            self.wrong(
                step,
                "each thing that is heard has one of `text`, `line` and `prompt`".into(),
            );
        }
        one
    }

    fn then(
        &mut self,
        step: Option<&str>,
        hear: &HearFile,
        find: &dyn Fn(&str) -> Option<usize>,
    ) -> Option<Then> {
        let mut all = vec![];
        if let Some(name) = &hear.next {
            match find(name) {
                Some(next) => all.push(Then::Step(next)),
                None => {
                    self.wrong(step, format!("“{name}” is no step"));
                    return None;
                }
            }
        }
        if let Some(answer) = &hear.answer {
            all.push(Then::Answer(answer.clone()));
        }
        if hear.done {
            all.push(Then::Done);
        }
        if hear.wrong_password {
            all.push(Then::WrongPassword);
        }
        if hear.locked {
            all.push(Then::Locked);
        }
        match &hear.refused {
            Some(Why::Own(true)) => all.push(Then::Refused(None)),
            Some(Why::Said(why)) => all.push(Then::Refused(Some(why.clone()))),
            Some(Why::Own(false)) | None => {}
        }
        if let Some(why) = &hear.give_up {
            all.push(Then::GiveUp(why.clone()));
        }
        match (all.pop(), all.is_empty()) {
            (Some(one), true) => Some(one),
            _ => {
                self.wrong(step, "each thing that is heard leads to one of `next`, `answer`, `done`, `refused`, `wrong_password`, `locked` and `give_up`".into());
                None
            }
        }
    }
}

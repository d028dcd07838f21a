//! A dialogue under way.

use std::collections::BTreeMap;
use std::time::Duration;

use super::line::{Line, Piece, Placeholder};
use super::screen::Screen;
use super::{Dialogue, Head, Purpose, Step, Takes, Then, What};
use crate::secret::{Secret, redact};
use crate::upkeep::FoundAccount;
use crate::upkeep::found::bounded;

/// The most that a device may write in one talk, in bytes.
const MOST_HEARD: usize = 1024 * 1024;
/// The most that is kept of what was heard in one step, in characters: half from either end.
const MOST_KEPT: usize = 4000;
/// The most lines that are typed, so that a device which asks for ever is left.
const MOST_SAID: usize = 60;
/// A device that has written nothing for so long has written its prompt.
const QUIET: Duration = Duration::from_millis(250);

/// What the placeholders stand for.
#[derive(Clone, Copy, Debug, Default)]
pub struct Values<'a> {
    /// The name of the account.
    pub account: &'a str,
    /// The name of the device.
    pub device: &'a str,
    /// The name of the operator.
    pub operator: &'a str,
    /// The password that the account has.
    pub current: Option<&'a Secret>,
    /// The password that it shall have.
    pub new: Option<&'a Secret>,
    /// The password of the operator.
    pub operator_password: Option<&'a Secret>,
    /// The enable password of the credential that signs in.
    pub enable_password: Option<&'a Secret>,
    /// The fields of the account's credential that are not secret.
    pub fields: Option<&'a BTreeMap<String, String>>,
}

impl<'a> Values<'a> {
    pub(crate) fn name(&self, value: Placeholder) -> Option<&'a str> {
        match value {
            Placeholder::Account => Some(self.account),
            Placeholder::Device => Some(self.device),
            Placeholder::Operator => Some(self.operator),
            _ => None,
        }
    }

    pub(crate) fn secret(&self, value: Placeholder) -> Option<&'a Secret> {
        match value {
            Placeholder::Current => self.current,
            Placeholder::New => self.new,
            Placeholder::OperatorPassword => self.operator_password,
            Placeholder::EnablePassword => self.enable_password,
            _ => None,
        }
    }

    pub(crate) fn field(&self, name: &str) -> Option<&'a str> {
        let text = self.fields?.get(name)?.as_str();
        (!text.is_empty()).then_some(text)
    }

    /// Why a needed field cannot be typed: it is missing, or does not fit the allowed names.
    pub(crate) fn field_problem<'n>(
        &self,
        head: &Head,
        needed: impl IntoIterator<Item = &'n str>,
    ) -> Option<String> {
        needed.into_iter().find_map(|name| match self.field(name) {
            Some(text) => head.name_problem(text),
            None => Some(format!("the credential has no field “{name}”")),
        })
    }

    /// Why a step with these placeholders cannot be said. An enable password that is missing is only
    /// reported here, since not every device asks for one.
    pub(crate) fn missing(
        &self,
        mut needed: impl Iterator<Item = Placeholder>,
        step: &str,
    ) -> String {
        if self.enable_password.is_none() && needed.any(|it| it == Placeholder::EnablePassword) {
            "the device asks for an enable password, and the credential that signs in has none"
                .to_owned()
        } else {
            format!(
                "a placeholder of the step “{step}” has no value, or one that is not allowed there"
            )
        }
    }

    /// Why a password cannot be sent as a text.
    pub(crate) fn secret_problem(&self) -> Option<String> {
        self.secrets().into_iter().find_map(|secret| {
            let Ok(text) = secret.expose_secret_text() else {
                return Some("a password is not text".to_owned());
            };
            text.chars()
                .any(char::is_control)
                .then(|| "a password has a control character, which cannot be typed".to_owned())
        })
    }

    /// Why a device does not take the new password.
    pub(crate) fn new_problem(&self, takes: &Takes) -> Option<String> {
        takes.problem(self.new?.expose_secret_text().ok()?)
    }

    pub(crate) fn secrets(&self) -> Vec<&'a Secret> {
        [
            self.current,
            self.new,
            self.operator_password,
            self.enable_password,
        ]
        .into_iter()
        .flatten()
        .collect()
    }
}

/// What whoever has the terminal does next.
#[derive(Debug)]
pub enum Act {
    /// Read more: for at most so long, and tell when nothing came.
    Listen(Duration),
    /// Type this, and tell that it is typed. Whether it changes something on the device.
    Type(Secret, bool),
    /// It is over.
    End(Ending),
}

/// How a talk ended.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Ending {
    /// What was to be done is done.
    Done,
    /// The device refused, in these words; nothing was changed.
    Refused(String),
    /// The password does not open the account.
    WrongPassword,
    /// The account is locked, in the device's words.
    Locked(String),
    /// Nothing can be said of it; why.
    GaveUp(String),
}

/// A part of a transcript, without secrets.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Turn {
    /// What the device wrote.
    Heard(String),
    /// What was typed; a placeholder stands for each secret.
    Said(String),
}

/// A dialogue under way.
#[derive(Debug)]
pub struct Talk<'a> {
    dialogue: &'a Dialogue,
    values: Values<'a>,
    step: Option<&'a Step>,
    screen: Screen,
    /// What the device is expected to write back of what was typed.
    echo: String,
    /// Up to where texts were looked for, and lines.
    looked: (usize, usize),
    /// What the step heard, for the transcript.
    heard: String,
    turns: Vec<Turn>,
    total: usize,
    said: usize,
    changing: bool,
    ending: Option<Ending>,
    /// The talk stopped in a state that the dialogue does not know.
    astray: bool,
    /// The accounts that were listed.
    found: Vec<FoundAccount>,
}

impl<'a> Talk<'a> {
    /// Begins, and says what to do first.
    #[must_use]
    pub fn begin(dialogue: &'a Dialogue, purpose: Purpose, values: Values<'a>) -> (Self, Act) {
        let mut talk = Self {
            dialogue,
            values,
            step: None,
            screen: Screen::default(),
            echo: String::new(),
            looked: (0, 0),
            heard: String::new(),
            turns: vec![],
            total: 0,
            said: 0,
            changing: false,
            ending: None,
            astray: false,
            found: vec![],
        };
        let act = match (talk.unfit(purpose), dialogue.head.begin.get(&purpose)) {
            (Some(why), _) => talk.end(Ending::Refused(why)),
            (None, Some(first)) => talk.enter(*first),
            (None, None) => talk.end(Ending::GaveUp(format!(
                "the dialogue “{}” has nothing for this",
                dialogue.head.title
            ))),
        };
        (talk, act)
    }

    /// Why a value cannot be typed: it would be another command, or the device takes no such
    /// password.
    fn unfit(&self, purpose: Purpose) -> Option<String> {
        let names = [
            (Placeholder::Account, self.values.account),
            (Placeholder::Operator, self.values.operator),
            (Placeholder::Device, self.values.device),
        ];
        for (value, name) in names {
            let is_typed = self
                .dialogue
                .steps
                .iter()
                .filter_map(|step| step.say.as_ref())
                .any(|line| line.placeholders().any(|it| it == value));
            if is_typed && let Some(why) = self.dialogue.head.name_problem(name) {
                return Some(why);
            }
        }
        let said = self.dialogue.said_for(purpose);
        self.values
            .field_problem(
                &self.dialogue.head,
                said.iter().flat_map(|line| line.fields()),
            )
            .or_else(|| self.values.secret_problem())
            .or_else(|| self.values.new_problem(&self.dialogue.head.takes))
    }

    /// Goes to a step: says its line, or listens.
    fn enter(&mut self, step: usize) -> Act {
        let Some(step) = self.dialogue.steps.get(step) else {
            return self.end(Ending::GaveUp("the dialogue has no such step".into()));
        };
        self.step = Some(step);
        self.looked = (0, 0);
        let Some(line) = &step.say else {
            return self.look(false);
        };
        self.said += 1;
        if self.said > MOST_SAID {
            return self.end(Ending::GaveUp("the device asks again and again".into()));
        }
        let Some((typed, shown)) = self.filled(line) else {
            let why = self.values.missing(line.placeholders(), &step.name);
            return self.end(Ending::GaveUp(why));
        };
        self.keep_heard();
        self.turns.push(Turn::Said(shown));
        self.echo = if step.hidden {
            String::new()
        } else {
            typed.expose_secret_text().unwrap_or_default().to_owned()
        };
        self.changing |= step.changes;
        Act::Type(self.ended(typed), step.changes)
    }

    /// The line with its values, and as it may be shown.
    fn filled(&self, line: &Line) -> Option<(Secret, String)> {
        let (mut typed, mut shown) = (String::new(), String::new());
        for piece in &line.0 {
            match piece {
                Piece::Text(text) => {
                    typed.push_str(text);
                    shown.push_str(text);
                }
                Piece::Value(value) if value.is_secret() => {
                    typed.push_str(self.values.secret(*value)?.expose_secret_text().ok()?);
                    shown.push_str(&format!("{{{}}}", value.word()));
                }
                Piece::Value(value) => {
                    let name = self.values.name(*value)?;
                    typed.push_str(name);
                    shown.push_str(name);
                }
                Piece::Field(name) => {
                    let text = self.values.field(name)?;
                    typed.push_str(text);
                    shown.push_str(text);
                }
            }
        }
        Some((Secret::from_text(typed), shown))
    }

    /// A line with its end.
    fn ended(&self, line: Secret) -> Secret {
        let end = self.dialogue.line_end.text().as_bytes();
        Secret::from_bytes([line.expose_secret(), end].concat())
    }

    /// The line that was to be typed was not sent: takes it out of the transcript.
    pub fn held_back(&mut self) {
        self.astray = true;
        if matches!(self.turns.last(), Some(Turn::Said(_))) {
            self.turns.pop();
        }
    }

    /// What was to be typed is typed.
    pub fn typed(&mut self) -> Act {
        self.look(false)
    }

    /// Takes in what the device wrote.
    pub fn hear(&mut self, bytes: &[u8]) -> Act {
        self.total += bytes.len();
        if self.total > MOST_HEARD {
            self.astray = true;
            return self.end(Ending::GaveUp(
                "the device wrote more than the limit".into(),
            ));
        }
        self.screen.write(bytes);
        self.skip_echo();
        self.look(false)
    }

    /// Nothing came for as long as was listened. `over` says that the time of the step is over.
    pub fn silence(&mut self, over: bool) -> Act {
        self.echo.clear();
        match self.look(true) {
            Act::Listen(_) if over => {
                self.astray = true;
                let why = format!("the device did not go on: {}", self.words());
                self.end(Ending::GaveUp(why))
            }
            act => act,
        }
    }

    /// The device ended the connection.
    pub fn hung_up(&mut self) -> Act {
        match self.look(true) {
            Act::Listen(_) => {
                let why = format!("the device ended the connection: {}", self.words());
                self.end(Ending::GaveUp(why))
            }
            act => act,
        }
    }

    /// The step that it is at.
    #[must_use]
    pub fn step(&self) -> &'a str {
        self.step.map_or("", |step| step.name.as_str())
    }

    /// How long the step may take.
    #[must_use]
    pub fn patience(&self) -> Duration {
        Duration::from_secs(u64::from(self.step.map_or(20, |step| step.seconds)))
    }

    /// Whether something that changes the device may have been said.
    #[must_use]
    pub const fn is_changing(&self) -> bool {
        self.changing
    }

    /// The leaving line. Nothing when the device waits at a question that the dialogue does not know:
    /// it would take the line for the answer, perhaps for a new password.
    #[must_use]
    pub fn farewell(&self) -> Option<Secret> {
        if self.astray && !self.is_at_a_prompt() {
            return None;
        }
        let (typed, _) = self.filled(self.dialogue.leave.as_ref()?)?;
        Some(self.ended(typed))
    }

    /// Whether the last line is one of the dialogue's prompts.
    fn is_at_a_prompt(&self) -> bool {
        let last = self.screen.last_line().trim_end();
        let own = self.dialogue.steps.iter().flat_map(|step| &step.hear);
        own.chain(&self.dialogue.always)
            .any(|hear| matches!(&hear.what, What::Prompt(pattern) if pattern.is_match(last)))
    }

    /// A device that writes back what was typed is not answering with it.
    fn skip_echo(&mut self) {
        if self.echo.is_empty() {
            return;
        }
        let text = self.screen.text();
        if text.starts_with(&self.echo) {
            let length = self.echo.len();
            self.echo.clear();
            self.screen.forget(length);
        } else if !self.echo.starts_with(text) {
            self.echo.clear();
        }
    }

    /// Looks for what the step listens for in what came since; at prompts, when the device is quiet.
    fn look(&mut self, quiet: bool) -> Act {
        if let Some(ending) = &self.ending {
            return Act::End(ending.clone());
        }
        let Some(step) = self.step else {
            return self.end(Ending::GaveUp("nothing was begun".into()));
        };
        if !self.echo.is_empty() && !quiet {
            return Act::Listen(QUIET);
        }
        let mut waits_for_quiet = false;
        let (texts_from, lines_from) = self.looked;
        let text = self.screen.text();
        // Only what may belong to something new: a device that writes byte after byte costs little
        // more than one that writes all at once.
        let hears = || self.dialogue.always.iter().chain(&step.hear);
        let longest = hears()
            .map(|hear| match &hear.what {
                What::Text(text) => text.len(),
                What::Line(_) | What::Prompt(_) => 0,
            })
            .max()
            .unwrap_or(0);
        let from = text.floor_char_boundary(texts_from.min(text.len()).saturating_sub(longest));
        let tail = text.get(from..).unwrap_or_default();
        let lower = tail.to_lowercase();
        // Small letters can take more bytes than large ones; then all of it counts as heard.
        let alike = lower.len() == tail.len();
        let ended = text.len() - self.screen.last_line().len();
        let (mut found, mut whole) = (None, None);
        for hear in hears() {
            match &hear.what {
                What::Text(wanted) => {
                    if let Some(at) = lower.find(wanted.as_str()) {
                        let until = from + at + wanted.len();
                        found = Some((hear, if alike { until } else { text.len() }));
                    }
                }
                What::Line(pattern) => {
                    let mut at = lines_from;
                    for line in text
                        .get(at..ended)
                        .unwrap_or_default()
                        .split_inclusive('\n')
                    {
                        at += line.len();
                        if pattern.is_match(line.trim_end()) {
                            found = Some((hear, at));
                            whole = Some(line.trim().to_owned());
                            break;
                        }
                    }
                }
                What::Prompt(pattern) => {
                    waits_for_quiet = true;
                    if quiet && pattern.is_match(self.screen.last_line().trim_end()) {
                        found = Some((hear, text.len()));
                    }
                }
            }
            if found.is_some() {
                break;
            }
        }
        let Some((hear, until)) = found else {
            self.looked = (text.len(), ended);
            return Act::Listen(if waits_for_quiet {
                QUIET
            } else {
                self.patience()
            });
        };
        let part = text.get(..until).unwrap_or_default().to_owned();
        self.heard.push_str(&part);
        if let Some(lists) = &step.lists {
            // Before anything is kept: a device may list the passwords that it was given.
            let clean = redact(&part, &self.values.secrets());
            self.found.extend(lists.accounts_in(&clean));
        }
        self.screen.forget(until);
        self.looked = (0, 0);
        match &hear.then {
            Then::Step(next) => self.enter(*next),
            Then::Answer(answer) => {
                self.said += 1;
                if self.said > MOST_SAID {
                    return self.end(Ending::GaveUp("the device asks again and again".into()));
                }
                self.keep_heard();
                self.turns.push(Turn::Said(answer.clone()));
                Act::Type(Secret::from_text(answer.clone()), false)
            }
            Then::Done => self.end(Ending::Done),
            Then::Refused(Some(why)) => self.end(Ending::Refused(why.clone())),
            Then::Refused(None) => {
                let words = whole.map_or_else(
                    || self.words(),
                    |line| redact(&line, &self.values.secrets()),
                );
                self.end(Ending::Refused(words))
            }
            Then::WrongPassword => self.end(Ending::WrongPassword),
            Then::Locked => {
                let words = self.words();
                self.end(Ending::Locked(words))
            }
            Then::GiveUp(why) => self.end(Ending::GaveUp(why.clone())),
        }
    }

    fn end(&mut self, ending: Ending) -> Act {
        if self.ending.is_none() {
            self.heard.push_str(self.screen.text());
            self.keep_heard();
            self.ending = Some(ending.clone());
        }
        Act::End(ending)
    }

    /// Puts what was heard into the transcript, without secrets.
    fn keep_heard(&mut self) {
        let heard = std::mem::take(&mut self.heard);
        let clean = redact(&heard, &self.values.secrets());
        let count = clean.chars().count();
        let kept = if count > MOST_KEPT {
            let half = MOST_KEPT / 2;
            let end: String = clean.chars().skip(count - half).collect();
            let begin: String = clean.chars().take(half).collect();
            format!(
                "{begin}\n… {} characters left out …\n{end}",
                count - 2 * half
            )
        } else {
            clean
        };
        if !kept.trim().is_empty() {
            self.turns.push(Turn::Heard(kept));
        }
    }

    /// What was heard last, without secrets, in one line, for a message.
    #[must_use]
    pub fn words(&self) -> String {
        let last = format!("{}{}", self.heard, self.screen.text());
        let last = if last.trim().is_empty() {
            match self.turns.iter().rev().find_map(|turn| match turn {
                Turn::Heard(text) => Some(text),
                Turn::Said(_) => None,
            }) {
                Some(text) => text.clone(),
                None => return "it wrote nothing".into(),
            }
        } else {
            redact(&last, &self.values.secrets())
        };
        let words: Vec<&str> = last.split_whitespace().collect();
        let line = words.join(" ");
        let count = line.chars().count();
        line.chars().skip(count.saturating_sub(300)).collect()
    }

    /// Takes the accounts that were listed.
    #[must_use]
    pub fn take_found(&mut self) -> Vec<FoundAccount> {
        bounded(std::mem::take(&mut self.found))
    }

    /// What was said and heard, without secrets.
    #[must_use]
    pub fn transcript(&self) -> &[Turn] {
        &self.turns
    }
}

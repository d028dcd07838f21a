//! Dialogues: files that say how to talk to a command line, to check or change a password.
//!
//! `docs/dialogues.md` describes the format. Reading one yields a [`Dialogue`], or findings;
//! [`inspect`] looks for what reading cannot see. A [`Talk`] is a dialogue under way: it does no
//! I/O, is given what the device wrote, and returns what to type, so a transcript is a test
//! ([`rehearse`]). What was typed appears in nothing that it reports.
//!
//! ```text
//! file ─► read ─► Dialogue ─► Talk ◄─► terminal
//!                    │          └────► transcript, secrets masked
//!                    └─► inspect ─► findings
//! ```

mod account_line;
mod file;
mod head;
mod inspection;
mod instructions;
mod line;
mod rehearsal;
mod screen;
mod talk;

use std::sync::LazyLock;

use regex::Regex;

use self::account_line::AccountLine;
pub use file::{LineEnd, Takes};
pub(crate) use file::{digest_of, pattern_of};
pub use head::Head;
pub(crate) use head::HeadFile;
pub(crate) use inspection::place_findings;
pub use inspection::{Finding, Severity, inspect};
pub use instructions::{Instructions, InstructionsKind};
pub use line::{Line, Placeholder};
pub(crate) use line::{field_of, known_placeholders};
pub(crate) use rehearsal::{Entry, against};
pub use rehearsal::{Rehearsal, rehearse, written};
pub use talk::{Act, Ending, Talk, Turn, Values};

use crate::words::word_enum;

word_enum! {
    /// What a dialogue is for.
    pub enum Purpose {
        /// Finds out whether a password opens an account.
        Check,
        /// Changes the password of an account, as the operator.
        Operator,
        /// Changes the password of an account, as the account itself.
        Account,
        /// Lists the accounts that there are, as the operator.
        List,
    }
}

/// A dialogue that was read.
#[derive(Clone, Debug)]
pub struct Dialogue {
    head: Head,
    line_end: LineEnd,
    leave: Option<Line>,
    commands: Vec<String>,
    always: Vec<Hear>,
    steps: Vec<Step>,
}

/// A step: something is said, or nothing, and then one of several things is heard.
#[derive(Clone, Debug)]
struct Step {
    name: String,
    say: Option<Line>,
    hidden: bool,
    changes: bool,
    shown_because: Option<String>,
    seconds: u32,
    /// Which of the lines that are heard are accounts.
    lists: Option<AccountLine>,
    hear: Vec<Hear>,
}

/// Something that may be heard, and what it leads to.
#[derive(Clone, Debug)]
struct Hear {
    what: What,
    then: Then,
}

/// What is listened for.
#[derive(Clone, Debug)]
enum What {
    /// A text anywhere, in small letters.
    Text(String),
    /// A whole line.
    Line(Regex),
    /// The last line, that is not ended, once the device is quiet.
    Prompt(Regex),
}

/// What something that was heard leads to.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Then {
    /// Another step.
    Step(usize),
    /// This is typed as it is, and the step goes on.
    Answer(String),
    /// What was to be done is done.
    Done,
    /// The device refuses, for this reason or in its own words.
    Refused(Option<String>),
    /// The password does not open the account.
    WrongPassword,
    /// The account is locked.
    Locked,
    /// Nothing can be said of it, for this reason.
    GiveUp(String),
}

impl Dialogue {
    /// Reads a dialogue.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn read(text: &str) -> Result<Self, Vec<Finding>> {
        file::read(text)
    }

    /// What it is called, and what it is for.
    #[must_use]
    pub const fn head(&self) -> &Head {
        &self.head
    }

    /// The steps that can be reached from the beginning of a purpose, in the order of the file.
    fn reached(&self, purpose: Purpose) -> Vec<usize> {
        self.head
            .reached(purpose, |step| self.exits(step).collect())
    }

    /// Whether a placeholder is in any line.
    pub(crate) fn says(&self, wanted: Placeholder) -> bool {
        let said = self.steps.iter().filter_map(|step| step.say.as_ref());
        said.chain(&self.leave)
            .any(|line| line.placeholders().any(|it| it == wanted))
    }

    /// The lines that may be said for a purpose, with the one at the end.
    fn said_for(&self, purpose: Purpose) -> Vec<&Line> {
        let steps = self.reached(purpose);
        let said = steps
            .into_iter()
            .filter_map(|step| self.steps.get(step)?.say.as_ref());
        said.chain(&self.leave).collect()
    }

    /// Where a step can lead.
    fn exits(&self, step: usize) -> impl Iterator<Item = usize> {
        let own = self.steps.get(step).map_or(&[][..], |step| &step.hear);
        own.iter()
            .chain(&self.always)
            .filter_map(|hear| match hear.then {
                Then::Step(next) => Some(next),
                _ => None,
            })
    }
}

/// The prompt of `passwd` on a Linux host, for an account that changes its own password.
pub static LINUX_PASSWD: LazyLock<Dialogue> = LazyLock::new(|| {
    #[allow(clippy::expect_used, reason = "a test reads it")]
    Dialogue::read(include_str!("linux-passwd.toml")).expect("the dialogue of passwd")
});

#[cfg(test)]
mod tests;

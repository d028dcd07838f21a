//! Talking to a command line: a row of turns over an abstract terminal.
//!
//! Each turn waits to hear one of some texts and says one thing back. The interpreter does no I/O:
//! it is given what the device wrote and returns what to type, so a transcript is a test. What was
//! typed never appears in what it reports.

use crate::secret::{Secret, redact};

/// The most that a device may write before it must have said something expected, in bytes.
const MOST_HEARD: usize = 64 * 1024;

/// What to type.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Say {
    /// The password that the account has now.
    Current,
    /// The password that it shall have.
    Candidate,
}

/// What a heard text leads to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Then {
    /// Type this and a line feed, and listen on.
    Say(Say),
    /// The device says that it is done.
    Done,
    /// The device refuses; what it wrote is the reason.
    Refused,
}

/// One thing to listen for.
#[derive(Clone, Copy, Debug)]
pub struct Hear {
    /// The text, in small letters; found anywhere in what was written since the last turn.
    pub text: &'static str,
    /// What it leads to.
    pub then: Then,
}

/// A dialogue: all that may be heard, the first match in the order of this list counting.
#[derive(Clone, Copy, Debug)]
pub struct Dialogue {
    /// What to listen for.
    pub hear: &'static [Hear],
    /// How often anything may be said, so that a device which asks for ever is left.
    pub most_turns: usize,
}

/// The password change prompt of a Linux host: `passwd` as the account itself.
pub const LINUX_PASSWD: Dialogue = Dialogue {
    hear: &[
        Hear {
            text: "updated successfully",
            then: Then::Done,
        },
        Hear {
            text: "bad password",
            then: Then::Refused,
        },
        Hear {
            text: "must choose a longer",
            then: Then::Refused,
        },
        Hear {
            text: "already been used",
            then: Then::Refused,
        },
        Hear {
            text: "do not match",
            then: Then::Refused,
        },
        Hear {
            text: "manipulation error",
            then: Then::Refused,
        },
        Hear {
            text: "has not been changed",
            then: Then::Refused,
        },
        Hear {
            text: "unchanged",
            then: Then::Refused,
        },
        Hear {
            text: "retype new password:",
            then: Then::Say(Say::Candidate),
        },
        Hear {
            text: "new password:",
            then: Then::Say(Say::Candidate),
        },
        Hear {
            text: "current password:",
            then: Then::Say(Say::Current),
        },
    ],
    most_turns: 4,
};

/// What the driver of the terminal does next.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Step {
    /// Read more.
    Listen,
    /// Type this secret and a line feed.
    Type(Say),
    /// The dialogue is over: the password is changed.
    Done,
    /// The dialogue is over: the device refused, in these words.
    Refused(String),
    /// The device wrote what no turn expects, or too much, or asked too often.
    Lost(String),
}

/// A dialogue under way.
#[derive(Debug)]
pub struct Talk<'a> {
    dialogue: Dialogue,
    secrets: Vec<&'a Secret>,
    heard: String,
    total: usize,
    turns: usize,
}

impl<'a> Talk<'a> {
    /// Begins. The secrets are blanked in everything that is reported.
    #[must_use]
    pub fn begin(dialogue: Dialogue, secrets: Vec<&'a Secret>) -> Self {
        Self {
            dialogue,
            secrets,
            heard: String::new(),
            total: 0,
            turns: 0,
        }
    }

    /// Takes in what the device wrote.
    pub fn hear(&mut self, bytes: &[u8]) -> Step {
        self.total += bytes.len();
        if self.total > MOST_HEARD {
            return Step::Lost("the device wrote more than the limit".to_owned());
        }
        self.heard.push_str(&String::from_utf8_lossy(bytes));
        let lower = self.heard.to_lowercase();
        let Some(found) = self
            .dialogue
            .hear
            .iter()
            .find(|hear| lower.contains(hear.text))
        else {
            return Step::Listen;
        };
        match found.then {
            Then::Say(say) => {
                self.turns += 1;
                self.heard.clear();
                if self.turns > self.dialogue.most_turns {
                    return Step::Lost(
                        "the device asks for the password again and again".to_owned(),
                    );
                }
                Step::Type(say)
            }
            Then::Done => Step::Done,
            Then::Refused => Step::Refused(self.words()),
        }
    }

    /// What was heard since the last turn, without secrets and control characters, for a message.
    #[must_use]
    pub fn words(&self) -> String {
        let clean = redact(&self.heard, &self.secrets);
        let line: String = clean
            .chars()
            .map(|c| if c.is_control() { ' ' } else { c })
            .collect();
        line.split_whitespace()
            .collect::<Vec<_>>()
            .join(" ")
            .chars()
            .take(300)
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn secrets() -> (Secret, Secret) {
        (
            Secret::from_text("old-tide-1".into()),
            Secret::from_text("new-tide-2".into()),
        )
    }

    #[test]
    fn a_password_is_changed_at_the_prompt() {
        let (old, new) = secrets();
        let mut talk = Talk::begin(LINUX_PASSWD, vec![&old, &new]);
        assert_eq!(
            talk.hear(b"Changing password for duty.\r\nCurrent pass"),
            Step::Listen
        );
        assert_eq!(talk.hear(b"word: "), Step::Type(Say::Current));
        assert_eq!(talk.hear(b"\r\nNew password: "), Step::Type(Say::Candidate));
        assert_eq!(
            talk.hear(b"\r\nRetype new password: "),
            Step::Type(Say::Candidate)
        );
        assert_eq!(
            talk.hear(b"\r\npasswd: password updated successfully\r\n"),
            Step::Done
        );
    }

    #[test]
    fn a_refusal_keeps_the_devices_words_without_the_secret() {
        let (old, new) = secrets();
        let mut talk = Talk::begin(LINUX_PASSWD, vec![&old, &new]);
        talk.hear(b"Current password: ");
        talk.hear(b"New password: ");
        let Step::Refused(words) = talk
            .hear(b"\r\nBAD PASSWORD: new-tide-2 is too similar to the old one\r\nNew password: ")
        else {
            panic!("no refusal")
        };
        assert_eq!(
            words,
            "BAD PASSWORD: ••• is too similar to the old one New password:"
        );
    }

    #[test]
    fn a_device_that_floods_or_asks_for_ever_is_left() {
        let (old, new) = secrets();
        let mut talk = Talk::begin(LINUX_PASSWD, vec![&old, &new]);
        assert!((0..100).any(|_| matches!(talk.hear(&[b'x'; 1000]), Step::Lost(_))));
        let mut talk = Talk::begin(LINUX_PASSWD, vec![&old, &new]);
        assert!((0..10).any(|_| matches!(talk.hear(b"New password: "), Step::Lost(_))));
    }

    proptest! {
        #[test]
        fn no_bytes_make_it_panic_or_show_a_secret(bytes in prop::collection::vec(prop::collection::vec(any::<u8>(), 0..200), 0..20)) {
            let (old, new) = secrets();
            let mut talk = Talk::begin(LINUX_PASSWD, vec![&old, &new]);
            for chunk in bytes {
                talk.hear(&chunk);
                talk.hear(b"new-tide-2 old-tide-1");
                prop_assert!(!talk.words().contains("tide"));
            }
        }
    }
}

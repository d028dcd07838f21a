//! A dialogue against a transcript, instead of a device.
//!
//! A transcript is text. `<` begins what the device wrote, `>` what was typed; the last line before
//! something is typed is a prompt, and was not ended. Empty lines and those with `#` say nothing.
//!
//! ```text
//! < ridge-3>
//! > enable
//! < Password:
//! > {operator_password}
//! < ridge-3#
//! ```

use super::{Act, Dialogue, Ending, Purpose, Talk, Turn, Values};
use crate::secret::Secret;
use crate::upkeep::FoundAccount;

/// The longest transcript, in bytes.
const MOST_BYTES: usize = 1024 * 1024;

/// What came of a rehearsal.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Rehearsal {
    /// The conversation, as far as it went.
    pub turns: Vec<Turn>,
    /// How the dialogue ended; nothing when the transcript went another way.
    pub ending: Option<Ending>,
    /// Where the two part, in words.
    pub problem: Option<String>,
    /// The accounts that were listed.
    pub found: Vec<FoundAccount>,
}

/// A conversation as a transcript, which can be rehearsed against.
#[must_use]
pub fn written(turns: &[Turn]) -> String {
    let mut text = String::new();
    for turn in turns {
        let (sign, said) = match turn {
            Turn::Heard(said) => ('<', said),
            Turn::Said(said) => ('>', said),
        };
        for line in said.lines().filter(|line| !line.trim().is_empty()) {
            text.push(sign);
            text.push(' ');
            text.push_str(line.trim_end());
            text.push('\n');
        }
    }
    text
}

/// A line of a transcript.
pub(crate) enum Entry {
    Device(String),
    Typed(usize, String),
}

/// The lines of a transcript.
fn entries(transcript: &str) -> Result<Vec<Entry>, String> {
    if transcript.len() > MOST_BYTES {
        return Err(format!("a transcript has at most {MOST_BYTES} bytes"));
    }
    let mut entries: Vec<Entry> = vec![];
    for (at, line) in transcript.lines().enumerate() {
        if let Some(text) = line.strip_prefix('<') {
            entries.push(Entry::Device(
                text.strip_prefix(' ').unwrap_or(text).to_owned(),
            ));
        } else if let Some(text) = line.strip_prefix('>') {
            entries.push(Entry::Typed(
                at + 1,
                text.strip_prefix(' ').unwrap_or(text).to_owned(),
            ));
        } else if !line.trim().is_empty() && !line.starts_with('#') {
            return Err(format!(
                "line {} of the transcript begins with neither < nor >",
                at + 1
            ));
        }
    }
    Ok(entries)
}

/// What was said, the accounts that were listed, and how it ended.
pub(crate) type Rehearsed = (Vec<Turn>, Vec<FoundAccount>, Result<Ending, String>);

/// Reads a transcript, and lets somebody talk to it with secrets that are their own placeholders.
pub(crate) fn against(
    transcript: &str,
    account: &str,
    fields: &[&str],
    talk: impl FnOnce(Values<'_>, &[Entry]) -> Rehearsed,
) -> Rehearsal {
    let [current, new, operator_password, enable_password] = [
        "{current}",
        "{new}",
        "{operator_password}",
        "{enable_password}",
    ]
    .map(|text| Secret::from_text(text.into()));
    // There is no credential here, so each field has its own name as its value.
    let fields = fields
        .iter()
        .map(|name| ((*name).to_owned(), (*name).to_owned()))
        .collect();
    let values = Values {
        account,
        device: "device",
        operator: "operator",
        current: Some(&current),
        new: Some(&new),
        operator_password: Some(&operator_password),
        enable_password: Some(&enable_password),
        fields: Some(&fields),
    };
    let (turns, found, outcome) = match entries(transcript) {
        Ok(entries) => talk(values, &entries),
        Err(problem) => (vec![], vec![], Err(problem)),
    };
    Rehearsal {
        turns,
        ending: outcome.as_ref().ok().cloned(),
        problem: outcome.err(),
        found,
    }
}

/// Talks to a transcript as if it were a device. Secrets are typed as their placeholders.
#[must_use]
pub fn rehearse(
    dialogue: &Dialogue,
    purpose: Purpose,
    account: &str,
    transcript: &str,
) -> Rehearsal {
    let said = dialogue.said_for(purpose);
    let fields: Vec<&str> = said.iter().flat_map(|line| line.fields()).collect();
    against(transcript, account, &fields, |values, entries| {
        let (mut talk, act) = Talk::begin(dialogue, purpose, values);
        let outcome = follow(&mut talk, act, entries);
        (talk.transcript().to_vec(), talk.take_found(), outcome)
    })
}

fn follow(talk: &mut Talk<'_>, mut act: Act, entries: &[Entry]) -> Result<Ending, String> {
    let mut rest = entries.iter().peekable();
    loop {
        match act {
            Act::End(ending) => {
                let typed = rest.find_map(|entry| match entry {
                    Entry::Typed(line, text) => Some((line, text)),
                    Entry::Device(_) => None,
                });
                return match typed {
                    Some((line, text)) => Err(format!(
                        "the dialogue has ended, and line {line} of the transcript types “{text}”"
                    )),
                    None => Ok(ending),
                };
            }
            Act::Type(line, _) => {
                let said = line.expose_secret_text().unwrap_or_default();
                let said = said.trim_end_matches(['\r', '\n']);
                // What the device wrote after what was heard comes before what is typed.
                while let Some(Entry::Device(_)) = rest.peek() {
                    let _ = rest.next();
                }
                match rest.next() {
                    Some(Entry::Typed(at, text)) if text.trim_end() != said.trim_end() => {
                        return Err(format!(
                            "line {at} of the transcript types “{text}”, and the dialogue says “{said}”"
                        ));
                    }
                    Some(_) => act = talk.typed(),
                    None => {
                        return Err(format!(
                            "the transcript is over, and the dialogue says “{said}”"
                        ));
                    }
                }
            }
            Act::Listen(_) => match rest.peek() {
                Some(Entry::Device(_)) => {
                    let Some(Entry::Device(text)) = rest.next() else {
                        continue;
                    };
                    if matches!(rest.peek(), Some(Entry::Device(_))) {
                        act = talk.hear(format!("{text}\r\n").as_bytes());
                        continue;
                    }
                    act = talk.hear(text.as_bytes());
                    if matches!(act, Act::Listen(_)) {
                        act = talk.silence(false);
                    }
                }
                Some(Entry::Typed(line, text)) => {
                    return Err(format!(
                        "line {line} of the transcript types “{text}”, and the dialogue still listens; it heard: {}",
                        talk.words()
                    ));
                }
                None => match talk.hung_up() {
                    Act::Listen(_) | Act::Type(..) => return Err("the transcript is over".into()),
                    Act::End(ending) => act = Act::End(ending),
                },
            },
        }
    }
}

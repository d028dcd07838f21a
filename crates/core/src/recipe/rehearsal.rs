//! A recipe against a transcript, instead of a device.
//!
//! `>` begins a request, with its method and path, `<` what was answered: first the status, then the
//! body.
//!
//! ```text
//! > GET /api/users/{account}
//! < 200
//! < {"tags": ["monitoring"]}
//! ```

use super::{Exchange, Next, Recipe};
use crate::dialogue::{Entry, Purpose, Rehearsal, Values, entries};
use crate::secret::Secret;

/// Talks to a transcript as if it were a device.
#[must_use]
pub fn rehearse(recipe: &Recipe, purpose: Purpose, account: &str, transcript: &str) -> Rehearsal {
    let entries = match entries(transcript) {
        Ok(entries) => entries,
        Err(problem) => {
            return Rehearsal {
                turns: vec![],
                ending: None,
                problem: Some(problem),
            };
        }
    };
    let [current, new, operator_password] =
        ["{current}", "{new}", "{operator_password}"].map(|text| Secret::from_text(text.into()));
    let values = Values {
        account,
        device: "device",
        operator: "operator",
        current: Some(&current),
        new: Some(&new),
        operator_password: Some(&operator_password),
    };
    let (mut exchange, mut next) = Exchange::begin(recipe, purpose, values);
    let mut rest = entries.iter().peekable();
    let outcome = loop {
        let _ = match next {
            Next::End(ending) => {
                let typed = rest.find_map(|entry| match entry {
                    Entry::Typed(line, text) => Some((line, text)),
                    Entry::Device(_) => None,
                });
                break match typed {
                    Some((line, text)) => Err(format!(
                        "the recipe has ended, and line {line} of the transcript has “{text}”"
                    )),
                    None => Ok(ending),
                };
            }
            Next::Send(request) => request,
        };
        let said = match exchange.transcript().last() {
            Some(crate::dialogue::Turn::Said(said)) => said.clone(),
            _ => String::new(),
        };
        let filled = said.replace("{account}", account);
        match rest.next() {
            Some(Entry::Typed(_, text)) if text.trim() == said || text.trim() == filled => {}
            Some(Entry::Typed(at, text)) => {
                break Err(format!(
                    "line {at} of the transcript has “{text}”, and the recipe sends “{said}”"
                ));
            }
            Some(Entry::Device(text)) => {
                break Err(format!(
                    "the transcript has the answer “{text}”, and the recipe sends “{said}”"
                ));
            }
            None => {
                break Err(format!(
                    "the transcript is over, and the recipe sends “{said}”"
                ));
            }
        }
        let mut answer = vec![];
        while let Some(Entry::Device(line)) = rest.peek() {
            answer.push(line.as_str());
            let _ = rest.next();
        }
        let Some(status) = answer
            .first()
            .and_then(|line| line.split_whitespace().next()?.parse::<u16>().ok())
        else {
            break Err(format!(
                "the answer to “{said}” begins with its status, such as “< 200”"
            ));
        };
        let body = answer.get(1..).unwrap_or_default().join("\n");
        next = exchange.answered(status, &[], body.as_bytes());
    };
    Rehearsal {
        turns: exchange.transcript().to_vec(),
        ending: outcome.as_ref().ok().cloned(),
        problem: outcome.err(),
    }
}

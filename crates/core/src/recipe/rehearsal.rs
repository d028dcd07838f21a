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
use crate::dialogue::{Ending, Entry, Purpose, Rehearsal, Turn, against};

/// Talks to a transcript as if it were a device.
#[must_use]
pub fn rehearse(recipe: &Recipe, purpose: Purpose, account: &str, transcript: &str) -> Rehearsal {
    let sent = recipe.sent_for(purpose);
    let fields: Vec<&str> = sent.iter().flat_map(|text| text.fields()).collect();
    against(transcript, account, &fields, |values, entries| {
        let (mut exchange, next) = Exchange::begin(recipe, purpose, values);
        let outcome = follow(&mut exchange, next, account, entries);
        (
            exchange.transcript().to_vec(),
            exchange.take_found(),
            outcome,
        )
    })
}

fn follow(
    exchange: &mut Exchange<'_>,
    mut next: Next,
    account: &str,
    entries: &[Entry],
) -> Result<Ending, String> {
    let mut rest = entries.iter().peekable();
    loop {
        if let Next::End(ending) = next {
            let typed = rest.find_map(|entry| match entry {
                Entry::Typed(line, text) => Some((line, text)),
                Entry::Device(_) => None,
            });
            return match typed {
                Some((line, text)) => Err(format!(
                    "the recipe has ended, and line {line} of the transcript has “{text}”"
                )),
                None => Ok(ending),
            };
        }
        let said = match exchange.transcript().last() {
            Some(Turn::Said(said)) => said.clone(),
            _ => String::new(),
        };
        let filled = said.replace("{account}", account);
        match rest.next() {
            Some(Entry::Typed(_, text)) if text.trim() == said || text.trim() == filled => {}
            Some(Entry::Typed(at, text)) => {
                return Err(format!(
                    "line {at} of the transcript has “{text}”, and the recipe sends “{said}”"
                ));
            }
            Some(Entry::Device(text)) => {
                return Err(format!(
                    "the transcript has the answer “{text}”, and the recipe sends “{said}”"
                ));
            }
            None => {
                return Err(format!(
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
            return Err(format!(
                "the answer to “{said}” begins with its status, such as “< 200”"
            ));
        };
        let body = answer.get(1..).unwrap_or_default().join("\n");
        next = exchange.answered(status, &[], body.as_bytes());
    }
}

//! What is wrong with a recipe although it can be read.

use std::collections::BTreeMap;

use super::template::Template;
use super::{Body, Json, Recipe, RequestStep, Then};
use crate::dialogue::{Finding, Placeholder, Purpose, place_findings};

/// Reads a recipe and looks for all that is wrong with it, in the order of its lines. It can be used
/// when nothing of that is an error.
#[must_use]
pub fn inspect(text: &str) -> (Option<Recipe>, Vec<Finding>) {
    let (recipe, mut findings) = match Recipe::read(text) {
        Ok(recipe) => {
            let findings = recipe.findings();
            (Some(recipe), findings)
        }
        Err(findings) => (None, findings),
    };
    place_findings(&mut findings, text, "request");
    (recipe, findings)
}

impl RequestStep {
    /// All texts that are sent, each with whether it stands where a device may log it.
    pub(super) fn texts(&self) -> Vec<(&Template, bool)> {
        let mut all = vec![(&self.path, true)];
        all.extend(self.query.iter().map(|(_, text)| (text, true)));
        all.extend(self.headers.iter().map(|(_, text)| (text, false)));
        match &self.body {
            Body::None => {}
            Body::Form(fields) => all.extend(fields.iter().map(|(_, text)| (text, false))),
            Body::Json(json) => {
                let mut below = vec![json];
                while let Some(json) = below.pop() {
                    match json {
                        Json::Text(text) => all.push((text, false)),
                        Json::Plain(_) => {}
                        Json::List(items) => below.extend(items),
                        Json::Object(fields) => below.extend(fields.iter().map(|(_, json)| json)),
                    }
                }
            }
        }
        all
    }
}

impl Recipe {
    fn findings(&self) -> Vec<Finding> {
        let mut found = vec![];
        let mut purposes: BTreeMap<usize, Vec<Purpose>> = BTreeMap::new();
        for purpose in self.head.purposes() {
            let reached = self.reached(purpose);
            for request in &reached {
                purposes.entry(*request).or_default().push(purpose);
            }
            self.look_at(purpose, &reached, &mut found);
        }
        for (number, step) in self.requests.iter().enumerate() {
            match purposes.get(&number) {
                None => found.push(Finding::warning(
                    Some(&step.name),
                    "nothing leads to this request".into(),
                )),
                Some(purposes) => self.look_at_request(number, step, purposes, &mut found),
            }
        }
        found
    }

    fn look_at(&self, purpose: Purpose, reached: &[usize], found: &mut Vec<Finding>) {
        let steps = || {
            reached
                .iter()
                .filter_map(|number| self.requests.get(*number))
        };
        let mut answers = steps().flat_map(|step| &step.answers).chain(&self.always);
        if !answers.any(|answer| answer.then == Then::Done) {
            found.push(Finding::error(
                None,
                format!("`{purpose}` never comes to `done`"),
            ));
        }
        match (purpose, steps().find(|step| step.changes)) {
            (Purpose::Check | Purpose::List, Some(step)) => found.push(Finding::error(
                Some(&step.name),
                format!("`{purpose}` comes to this request, which changes something"),
            )),
            (Purpose::List, None) if steps().all(|step| step.lists.is_none()) => {
                found.push(Finding::error(
                    None,
                    "`list` has no request with `lists`: say where in the answer the accounts are"
                        .into(),
                ));
            }
            (Purpose::Operator | Purpose::Account, None) => found.push(Finding::error(
                None,
                format!("`{purpose}` has no request with `changes = true`: say which one changes the password"),
            )),
            _ => {}
        }
    }

    fn look_at_request(
        &self,
        number: usize,
        step: &RequestStep,
        purposes: &[Purpose],
        found: &mut Vec<Finding>,
    ) {
        let name = Some(step.name.as_str());
        if step.answers.is_empty() {
            found.push(Finding::error(
                name,
                "this request expects no answer".into(),
            ));
        }
        if !self.comes_to_an_end(number) {
            found.push(Finding::error(
                name,
                "no answer from here on ends the recipe".into(),
            ));
        }
        let texts = step.texts();
        for (text, logged) in &texts {
            for placeholder in text.placeholders() {
                for purpose in purposes.iter().filter(|it| !placeholder.is_known(**it)) {
                    found.push(Finding::error(
                        name,
                        format!(
                            "`{purpose}` comes to this request, and does not know {{{}}}",
                            placeholder.word()
                        ),
                    ));
                }
            }
            for taken in text.taken() {
                if !self.takes_before(number, taken) {
                    found.push(Finding::error(
                        name,
                        format!("no request before this one takes “{taken}”"),
                    ));
                }
            }
            if *logged && text.has_secret() && step.shown_because.is_none() {
                found.push(Finding::warning(
                    name,
                    "a secret stands in the address of this request, which devices log: put it into the body, or say `shown_because`".into(),
                ));
            }
            if text.mixes(Placeholder::is_secret) && self.head.takes.without.is_empty() {
                found.push(Finding::warning(
                    name,
                    "a password stands in the middle of other text: say in `[password]` `without` which characters would end it there".into(),
                ));
            }
        }
        let says_new = texts
            .iter()
            .any(|(text, _)| text.placeholders().any(|it| it == Placeholder::New));
        if says_new && !step.changes {
            found.push(Finding::error(
                name,
                "the new password is sent here: set `changes = true`, so that it is known from when on the device may have it".into(),
            ));
        }
        if step.basic
            && step
                .headers
                .iter()
                .any(|(name, _)| name.eq_ignore_ascii_case("authorization"))
        {
            found.push(Finding::error(
                name,
                "this request has both `basic` and a header `authorization`".into(),
            ));
        }
    }

    /// Whether some request that leads to this one takes a value.
    fn takes_before(&self, request: usize, taken: &str) -> bool {
        self.requests.iter().enumerate().any(|(number, step)| {
            step.take.iter().any(|(name, _)| name == taken) && self.leads(number, request)
        })
    }

    /// Whether one request can lead to another, maybe over others.
    fn leads(&self, from: usize, to: usize) -> bool {
        let (mut seen, mut next) = (vec![], self.exits(from).collect::<Vec<_>>());
        while let Some(request) = next.pop() {
            if request == to {
                return true;
            }
            if !seen.contains(&request) {
                seen.push(request);
                next.extend(self.exits(request));
            }
        }
        false
    }

    fn comes_to_an_end(&self, request: usize) -> bool {
        let (mut seen, mut next) = (vec![], vec![request]);
        while let Some(number) = next.pop() {
            if seen.contains(&number) {
                continue;
            }
            seen.push(number);
            let Some(step) = self.requests.get(number) else {
                continue;
            };
            for answer in &step.answers {
                match answer.then {
                    Then::Request(to) => next.push(to),
                    _ => return true,
                }
            }
        }
        false
    }
}

//! A recipe under way.

use std::collections::BTreeMap;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use zeroize::Zeroizing;

use super::template::{Piece, Template};
use super::{Answer, Body, Json, Method, Reason, Recipe, RequestStep, Source, Then};
use crate::dialogue::{Ending, Placeholder, Purpose, Turn, Values};
use crate::secret::{Secret, redact};
use crate::upkeep::FoundAccount;
use crate::upkeep::found::bounded;

/// The most of an answer that is read, in bytes.
pub(super) const MOST_ANSWER: usize = 1024 * 1024;
/// The most requests of one exchange, so that a device which leads in circles is left.
const MOST_SENT: usize = 40;
/// The most that is kept of an answer for the transcript, in characters.
const MOST_KEPT: usize = 2000;
/// The most cookies that are kept.
const MOST_COOKIES: usize = 40;

/// A request as it is sent.
#[derive(Debug)]
pub struct Request {
    /// Its method.
    pub method: Method,
    /// Path and query.
    pub target: Secret,
    /// Its headers, beside those of every request.
    pub headers: Vec<(String, Secret)>,
    /// Its body, with its media type.
    pub body: Option<(&'static str, Secret)>,
    /// Whether it changes something on the device.
    pub changes: bool,
}

/// What whoever has the connection does next.
#[derive(Debug)]
pub enum Next {
    /// Send this, and tell what was answered.
    Send(Box<Request>),
    /// It is over.
    End(Ending),
}

/// A recipe under way.
#[derive(Debug)]
pub struct Exchange<'a> {
    recipe: &'a Recipe,
    purpose: Purpose,
    values: Values<'a>,
    request: Option<&'a RequestStep>,
    taken: BTreeMap<String, Taken>,
    cookies: BTreeMap<String, Secret>,
    /// What was taken, to be blanked like a secret: it may be a token.
    shown: Vec<Secret>,
    turns: Vec<Turn>,
    sent: usize,
    changing: bool,
    /// The accounts that were listed.
    found: Vec<FoundAccount>,
}

/// What was taken from an answer.
#[derive(Clone, Debug)]
enum Taken {
    /// A text: it may be a token.
    Text(Secret),
    /// Anything else, as JSON.
    Json(String),
}

impl Taken {
    fn of(value: &serde_json::Value) -> Self {
        match value {
            serde_json::Value::String(text) => Self::Text(Secret::from_text(text.clone())),
            other => Self::Json(other.to_string()),
        }
    }
}

/// Where a value goes.
#[derive(Clone, Copy)]
enum Place {
    Path,
    /// In a query or a form.
    Field,
    Header,
    Text,
}

impl<'a> Exchange<'a> {
    /// Begins, and says what to do first.
    #[must_use]
    pub fn begin(recipe: &'a Recipe, purpose: Purpose, values: Values<'a>) -> (Self, Next) {
        let mut exchange = Self {
            recipe,
            purpose,
            values,
            request: None,
            taken: BTreeMap::new(),
            cookies: BTreeMap::new(),
            shown: vec![],
            turns: vec![],
            sent: 0,
            changing: false,
            found: vec![],
        };
        let next = match (exchange.unfit(), recipe.head.begin.get(&purpose)) {
            (Some(why), _) => Next::End(Ending::Refused(why)),
            (None, Some(first)) => exchange.enter(*first),
            (None, None) => Next::End(Ending::GaveUp(format!(
                "the recipe “{}” has nothing for this",
                recipe.head.title
            ))),
        };
        (exchange, next)
    }

    /// Why a value cannot be sent.
    fn unfit(&self) -> Option<String> {
        let names = [self.values.account, self.values.operator];
        let sent = self.recipe.sent_for(self.purpose);
        names
            .into_iter()
            .find_map(|name| self.recipe.head.name_problem(name))
            .or_else(|| {
                let needed = sent.iter().flat_map(|text| text.fields());
                self.values.field_problem(&self.recipe.head, needed)
            })
            .or_else(|| self.values.secret_problem())
            .or_else(|| self.values.new_problem(&self.recipe.head.takes))
    }

    /// Makes a request, with the values in their places.
    fn enter(&mut self, request: usize) -> Next {
        let Some(step) = self.recipe.requests.get(request) else {
            return Next::End(Ending::GaveUp("the recipe has no such request".into()));
        };
        self.request = Some(step);
        self.sent += 1;
        if self.sent > MOST_SENT {
            return Next::End(Ending::GaveUp("the device leads in circles".into()));
        }
        match self.made(step) {
            Some(made) => {
                self.changing |= step.changes;
                self.turns.push(Turn::Said(shown(step)));
                Next::Send(Box::new(made))
            }
            None => {
                let texts = step.texts();
                let needed = texts.iter().flat_map(|(text, _)| text.placeholders());
                Next::End(Ending::GaveUp(self.values.missing(needed, &step.name)))
            }
        }
    }

    fn made(&self, step: &RequestStep) -> Option<Request> {
        let mut target = self.filled(&step.path, Place::Path)?;
        for (at, (name, value)) in step.query.iter().enumerate() {
            target.push(if at == 0 { '?' } else { '&' });
            target.push_str(&encoded(name));
            target.push('=');
            target.push_str(&self.filled(value, Place::Field)?);
        }
        let mut headers = vec![];
        for (name, value) in &step.headers {
            headers.push((
                name.to_ascii_lowercase(),
                secret(self.filled(value, Place::Header)?),
            ));
        }
        if step.basic {
            let (login, password) = match self.purpose {
                Purpose::Operator | Purpose::List => {
                    (self.values.operator, self.values.operator_password?)
                }
                Purpose::Check | Purpose::Account => (self.values.account, self.values.current?),
            };
            // A colon ends the name there (RFC 7617).
            if login.contains(':') {
                return None;
            }
            let pair = Zeroizing::new(format!("{login}:{}", password.expose_secret_text().ok()?));
            let value = format!("Basic {}", STANDARD.encode(pair.as_bytes()));
            headers.push(("authorization".into(), Secret::from_text(value)));
        }
        if !self.cookies.is_empty() {
            let mut all = Zeroizing::new(String::new());
            for (name, value) in &self.cookies {
                if !all.is_empty() {
                    all.push_str("; ");
                }
                all.push_str(name);
                all.push('=');
                all.push_str(value.expose_secret_text().ok()?);
            }
            headers.push(("cookie".into(), secret(all)));
        }
        let body = match &step.body {
            Body::None => None,
            Body::Json(json) => {
                let mut out = Zeroizing::new(String::new());
                self.write_json(json, &mut out)?;
                Some(("application/json", secret(out)))
            }
            Body::Form(fields) => {
                let mut out = Zeroizing::new(String::new());
                for (name, value) in fields {
                    if !out.is_empty() {
                        out.push('&');
                    }
                    out.push_str(&encoded(name));
                    out.push('=');
                    out.push_str(&self.filled(value, Place::Field)?);
                }
                Some(("application/x-www-form-urlencoded", secret(out)))
            }
        };
        Some(Request {
            method: step.method,
            target: secret(target),
            headers,
            body,
            changes: step.changes,
        })
    }

    /// A text with its values, written as its place demands.
    fn filled(&self, template: &Template, place: Place) -> Option<Zeroizing<String>> {
        let mut out = Zeroizing::new(String::new());
        for piece in &template.0 {
            let value = match piece {
                Piece::Text(text) => {
                    match place {
                        // What the author wrote of a path stays, but for spaces and the like.
                        Place::Path => out.push_str(&written(text)),
                        Place::Field => out.push_str(&encoded(text)),
                        Place::Header | Place::Text => out.push_str(text),
                    }
                    continue;
                }
                Piece::Value(value) => self.value(*value)?,
                Piece::Field(name) => Zeroizing::new(self.values.field(name)?.to_owned()),
                Piece::Taken(name) => Zeroizing::new(match self.taken.get(name)? {
                    Taken::Text(text) => text.expose_secret_text().ok()?.to_owned(),
                    Taken::Json(json) => json.clone(),
                }),
            };
            match place {
                // Some servers look at a path again once it is decoded: what would be another one
                // there stays out of it.
                Place::Path if value.contains(['/', '\\']) || value.chars().all(|c| c == '.') => {
                    return None;
                }
                Place::Path | Place::Field => out.push_str(&encoded(&value)),
                Place::Header if value.chars().any(char::is_control) => return None,
                Place::Header | Place::Text => out.push_str(&value),
            }
        }
        Some(out)
    }

    fn value(&self, value: Placeholder) -> Option<Zeroizing<String>> {
        let text = match (self.values.name(value), self.values.secret(value)) {
            (Some(name), _) => name,
            (None, Some(secret)) => secret.expose_secret_text().ok()?,
            (None, None) => return None,
        };
        Some(Zeroizing::new(text.to_owned()))
    }

    fn write_json(&self, json: &Json, out: &mut String) -> Option<()> {
        match json {
            Json::Text(template) => match template.only_taken() {
                // What was taken goes back as it came: a list stays a list.
                Some(name) => match self.taken.get(name)? {
                    Taken::Text(text) => write_text(text.expose_secret_text().ok()?, out),
                    Taken::Json(json) => out.push_str(json),
                },
                None => write_text(&self.filled(template, Place::Text)?, out),
            },
            Json::Plain(value) => out.push_str(&value.to_string()),
            Json::List(items) => {
                out.push('[');
                for (at, item) in items.iter().enumerate() {
                    if at > 0 {
                        out.push(',');
                    }
                    self.write_json(item, out)?;
                }
                out.push(']');
            }
            Json::Object(fields) => {
                out.push('{');
                for (at, (name, field)) in fields.iter().enumerate() {
                    if at > 0 {
                        out.push(',');
                    }
                    write_text(name, out);
                    out.push(':');
                    self.write_json(field, out)?;
                }
                out.push('}');
            }
        }
        Some(())
    }

    /// The request was not sent: takes it out of the transcript.
    pub fn held_back(&mut self) {
        if matches!(self.turns.last(), Some(Turn::Said(_))) {
            self.turns.pop();
        }
    }

    /// Takes in an answer: its status, its headers in small letters, and its body.
    pub fn answered(&mut self, status: u16, headers: &[(String, String)], body: &[u8]) -> Next {
        let Some(step) = self.request else {
            return Next::End(Ending::GaveUp("nothing was asked".into()));
        };
        if body.len() > MOST_ANSWER {
            return Next::End(Ending::GaveUp(
                "the device wrote more than the limit".into(),
            ));
        }
        let text = String::from_utf8_lossy(body);
        let json: Option<serde_json::Value> = serde_json::from_slice(body).ok();
        self.keep_cookies(headers);
        let lower = text.to_lowercase();
        let fits = |answer: &&Answer| {
            (answer.status.is_empty() || answer.status.contains(&status))
                && answer
                    .text
                    .as_ref()
                    .is_none_or(|wanted| lower.contains(wanted.as_str()))
        };
        let found = self
            .recipe
            .always
            .iter()
            .chain(&step.answers)
            .find(fits)
            .map(|answer| &answer.then);
        let mut missing = None;
        if let Some(Then::Request(_)) = found {
            for (name, source) in &step.take {
                match self.find(source, json.as_ref(), headers) {
                    Some(value) => {
                        if let Taken::Text(text) = &value {
                            self.shown.push(text.clone());
                        }
                        self.taken.insert(name.clone(), value);
                    }
                    None => missing = Some(name),
                }
            }
        }
        if let (Some(Then::Request(_) | Then::Done), Some(lists), Some(json)) =
            (found, &step.lists, &json)
        {
            // Before anything is kept: a device may list the passwords that it was given.
            let secrets = self.secrets();
            let listed = lists
                .accounts_in(json)
                .into_iter()
                .map(|account| FoundAccount {
                    login: redact(&account.login, &secrets),
                    privileged: account.privileged.map(|why| redact(&why, &secrets)),
                    groups: account
                        .groups
                        .iter()
                        .map(|group| redact(group, &secrets))
                        .collect(),
                    ..account
                });
            let listed: Vec<FoundAccount> = listed.collect();
            self.found.extend(listed);
        }
        self.note(status, &text);
        let words = || self.words(status, &text);
        match (found, missing) {
            (_, Some(missing)) => Next::End(Ending::GaveUp(format!(
                "the answer to “{}” has no {missing}: {}",
                step.name,
                words()
            ))),
            (Some(Then::Request(next)), None) => self.enter(*next),
            (Some(Then::Done), _) => Next::End(Ending::Done),
            (Some(Then::WrongPassword), _) => Next::End(Ending::WrongPassword),
            (Some(Then::Locked), _) => Next::End(Ending::Locked(words())),
            (Some(Then::GiveUp(why)), _) => Next::End(Ending::GaveUp(why.clone())),
            (Some(Then::Refused(reason)), _) => Next::End(Ending::Refused(match reason {
                Reason::Said(why) => why.clone(),
                Reason::Words => words(),
                Reason::At(pointer) => json
                    .as_ref()
                    .and_then(|json| json.pointer(pointer)?.as_str())
                    .map_or_else(words, |why| redact(why, &self.secrets())),
            })),
            (None, None) => Next::End(Ending::GaveUp(format!(
                "the device answered “{}” in a way that the recipe does not know: {}",
                step.name,
                words()
            ))),
        }
    }

    fn find(
        &self,
        source: &Source,
        json: Option<&serde_json::Value>,
        headers: &[(String, String)],
    ) -> Option<Taken> {
        match source {
            Source::Body(pointer) => json?.pointer(pointer).map(Taken::of),
            Source::Header(wanted) => headers
                .iter()
                .find(|(name, _)| name == wanted)
                .map(|(_, value)| Taken::Text(Secret::from_text(value.clone()))),
            Source::Cookie(name) => self.cookies.get(name).cloned().map(Taken::Text),
        }
    }

    /// Keeps the cookies of an answer for the next requests. They go back to this device alone, and
    /// are forgotten with the exchange, so that their attributes do not matter.
    fn keep_cookies(&mut self, headers: &[(String, String)]) {
        for (_, value) in headers.iter().filter(|(name, _)| name == "set-cookie") {
            let pair = value.split(';').next().unwrap_or_default();
            let Some((name, value)) = pair.trim().split_once('=') else {
                continue;
            };
            let plain = |text: &str| !text.chars().any(|c| c.is_control() || c == ';');
            if plain(name) && plain(value) && self.cookies.len() < MOST_COOKIES {
                self.shown.push(Secret::from_text(value.to_owned()));
                self.cookies
                    .insert(name.to_owned(), Secret::from_text(value.to_owned()));
            }
        }
    }

    fn secrets(&self) -> Vec<&Secret> {
        self.values
            .secrets()
            .into_iter()
            .chain(&self.shown)
            .collect()
    }

    fn note(&mut self, status: u16, text: &str) {
        let clean: String = redact(text, &self.secrets())
            .chars()
            .take(MOST_KEPT)
            .collect();
        self.turns.push(Turn::Heard(format!("{status}\n{clean}")));
    }

    /// What was answered, without secrets, in one line, for a message.
    fn words(&self, status: u16, text: &str) -> String {
        let clean = redact(text, &self.secrets());
        let words: Vec<&str> = clean.split_whitespace().collect();
        let line: String = words.join(" ").chars().take(300).collect();
        if line.is_empty() {
            format!("it answered {status}")
        } else {
            format!("it answered {status}: {line}")
        }
    }

    /// Whether something that changes the device may have been sent.
    #[must_use]
    pub const fn is_changing(&self) -> bool {
        self.changing
    }

    /// The request that it is at.
    #[must_use]
    pub fn request(&self) -> &'a str {
        self.request.map_or("", |request| request.name.as_str())
    }

    /// Takes the accounts that were listed.
    #[must_use]
    pub fn take_found(&mut self) -> Vec<FoundAccount> {
        bounded(std::mem::take(&mut self.found))
    }

    /// What was sent and answered, without secrets.
    #[must_use]
    pub fn transcript(&self) -> &[Turn] {
        &self.turns
    }
}

/// A request as a transcript has it: placeholders for all values.
fn shown(step: &RequestStep) -> String {
    let query: Vec<String> = step
        .query
        .iter()
        .map(|(name, value)| format!("{name}={value}"))
        .collect();
    let mark = if query.is_empty() { "" } else { "?" };
    format!("{} {}{mark}{}", step.method, step.path, query.join("&"))
}

fn secret(text: Zeroizing<String>) -> Secret {
    Secret::from_bytes(text.as_bytes().to_vec())
}

/// A value in a path or a query (RFC 3986): everything but letters, digits and `* - . _` encoded.
fn encoded(text: &str) -> Zeroizing<String> {
    let mut out = Zeroizing::new(String::new());
    for part in url::form_urlencoded::byte_serialize(text.as_bytes()) {
        out.push_str(&part.replace('+', "%20"));
    }
    out
}

/// The author's own text in a path, with characters that a path does not allow encoded.
fn written(text: &str) -> String {
    text.chars()
        .map(|c| match c {
            '/' | ':' | '@' | '!' | '$' | '\'' | '(' | ')' | '*' | ',' | ';' | '=' | '~' => {
                c.to_string()
            }
            other => encoded(&other.to_string()).to_string(),
        })
        .collect()
}

/// A JSON text (RFC 8259).
fn write_text(text: &str, out: &mut String) {
    let quoted = Zeroizing::new(serde_json::Value::String(text.to_owned()).to_string());
    out.push_str(&quoted);
}

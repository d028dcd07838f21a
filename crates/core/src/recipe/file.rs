//! The format of a recipe file: TOML, as `docs/recipes.md` describes it.

use std::collections::BTreeMap;

use serde::Deserialize;

use super::account_list::AccountList;
use super::template::Template;
use super::{Answer, Body, Json, Method, Reason, Recipe, RequestStep, Source, Then};
use crate::dialogue::{Finding, HeadFile, Purpose, Takes, digest_of, known_placeholders};

/// The version of the format.
const VERSION: u32 = 1;
/// The longest file, in bytes.
const MOST_BYTES: usize = 64 * 1024;
/// The most requests.
const MOST_REQUESTS: usize = 40;
/// The most answers, headers, fields and values of a request, each.
const MOST_PARTS: usize = 40;
/// The longest text, in characters.
const LONGEST: usize = 2000;
/// Headers that the service writes itself.
const OWN_HEADERS: [&str; 6] = [
    "host",
    "content-length",
    "content-type",
    "transfer-encoding",
    "connection",
    "cookie",
];

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    recipe: u32,
    title: String,
    #[serde(default)]
    about: String,
    #[serde(default)]
    names: Option<String>,
    #[serde(default)]
    password: Takes,
    #[serde(default)]
    client_certificate: bool,
    begin: BTreeMap<Purpose, String>,
    #[serde(default)]
    always: Vec<AnswerFile>,
    request: BTreeMap<String, RequestFile>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RequestFile {
    method: Method,
    path: String,
    #[serde(default)]
    query: BTreeMap<String, String>,
    #[serde(default)]
    headers: BTreeMap<String, String>,
    #[serde(default)]
    basic: bool,
    #[serde(default)]
    json: Option<toml::Value>,
    #[serde(default)]
    form: Option<BTreeMap<String, String>>,
    #[serde(default)]
    changes: bool,
    #[serde(default)]
    shown_because: Option<String>,
    #[serde(default)]
    take: BTreeMap<String, String>,
    #[serde(default)]
    lists: Option<AccountList>,
    answer: Vec<AnswerFile>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct AnswerFile {
    #[serde(default)]
    status: Option<Status>,
    #[serde(default)]
    text: Option<String>,
    #[serde(default)]
    next: Option<String>,
    #[serde(default)]
    done: bool,
    #[serde(default)]
    wrong_password: bool,
    #[serde(default)]
    locked: bool,
    #[serde(default)]
    refused: Option<Why>,
    #[serde(default)]
    reason: Option<String>,
    #[serde(default)]
    give_up: Option<String>,
}

#[derive(Deserialize)]
#[serde(untagged)]
enum Status {
    One(u16),
    Several(Vec<u16>),
}

#[derive(Deserialize)]
#[serde(untagged)]
enum Why {
    Own(bool),
    Said(String),
}

/// Reads a recipe.
///
/// # Errors
/// What is wrong, each with its request and line.
pub(super) fn read(text: &str) -> Result<Recipe, Vec<Finding>> {
    if text.len() > MOST_BYTES {
        return Err(vec![Finding::error(
            None,
            format!("a recipe has at most {MOST_BYTES} bytes"),
        )]);
    }
    let file: File =
        toml::from_str(text).map_err(|error| vec![Finding::unreadable(text, &error)])?;
    Reading::default().recipe(file, digest_of(text))
}

/// What was found while reading.
#[derive(Default)]
struct Reading {
    wrong: Vec<Finding>,
}

impl Reading {
    fn wrong(&mut self, request: Option<&str>, message: String) {
        self.wrong.push(Finding::error(request, message));
    }

    fn recipe(mut self, file: File, digest: String) -> Result<Recipe, Vec<Finding>> {
        if file.request.len() > MOST_REQUESTS {
            self.wrong(
                None,
                format!("a recipe has at most {MOST_REQUESTS} requests"),
            );
        }
        let names: Vec<&String> = file.request.keys().collect();
        let find = |name: &str| names.iter().position(|known| *known == name);
        let head = HeadFile {
            version: (file.recipe, VERSION),
            digest,
            title: file.title,
            about: file.about,
            names: file.names,
            takes: file.password,
            begin: file.begin,
        };
        let head = head.read("request", &find, &mut self.wrong);
        let always = self.answers(None, &file.always, &find);
        let mut requests = vec![];
        for (name, request) in &file.request {
            if let Some(step) = self.request(name, request, &find) {
                requests.push(step);
            }
        }
        if !self.wrong.is_empty() {
            return Err(self.wrong);
        }
        Ok(Recipe {
            client_certificate: file.client_certificate,
            head,
            always,
            requests,
        })
    }

    fn request(
        &mut self,
        name: &str,
        file: &RequestFile,
        find: &dyn Fn(&str) -> Option<usize>,
    ) -> Option<RequestStep> {
        let at = Some(name);
        if !file.path.starts_with('/') || file.path.contains(['?', '#']) {
            self.wrong(
                at,
                "a path begins with a slash, and what follows a question mark stands in `query`"
                    .into(),
            );
        }
        for header in file.headers.keys() {
            let lower = header.to_ascii_lowercase();
            let is_token = !lower.is_empty()
                && lower
                    .bytes()
                    .all(|byte| byte.is_ascii_alphanumeric() || b"-_".contains(&byte));
            if !is_token || OWN_HEADERS.contains(&lower.as_str()) {
                self.wrong(at, format!("“{header}” is no header that a recipe may set"));
            }
        }
        let parts = [
            file.query.len(),
            file.headers.len(),
            file.take.len(),
            file.answer.len(),
        ];
        if parts.iter().any(|count| *count > MOST_PARTS) {
            self.wrong(
                at,
                format!("a request has at most {MOST_PARTS} parts of each sort"),
            );
        }
        let path = self.template(at, &file.path)?;
        let query = self.templates(at, &file.query);
        let headers = self.templates(at, &file.headers);
        let body = match (&file.json, &file.form) {
            (Some(_), Some(_)) => {
                self.wrong(at, "a body is either `json` or `form`".into());
                Body::None
            }
            (Some(json), None) => self.json(at, json, 0).map_or(Body::None, Body::Json),
            (None, Some(form)) => Body::Form(self.templates(at, form)),
            (None, None) => Body::None,
        };
        let mut take = vec![];
        for (name, from) in &file.take {
            let source = match from.split_once(':') {
                Some(("header", header)) => Source::Header(header.to_ascii_lowercase()),
                Some(("cookie", cookie)) => Source::Cookie(cookie.to_owned()),
                _ if from.is_empty() || from.starts_with('/') => Source::Body(from.clone()),
                _ => {
                    self.wrong(
                        at,
                        format!("“{from}” is neither a JSON pointer nor `header:` or `cookie:` with a name"),
                    );
                    continue;
                }
            };
            take.push((name.clone(), source));
        }
        Some(RequestStep {
            name: name.to_owned(),
            method: file.method,
            path,
            query,
            headers,
            basic: file.basic,
            body,
            changes: file.changes,
            shown_because: file.shown_because.clone(),
            take,
            lists: self.account_list(at, file),
            answers: self.answers(at, &file.answer, find),
        })
    }

    fn account_list(&mut self, request: Option<&str>, file: &RequestFile) -> Option<AccountList> {
        let lists = file.lists.clone()?;
        if let Some(pointer) = lists.no_pointer() {
            self.wrong(
                request,
                format!("“{pointer}” in `lists` is no JSON pointer, such as /users"),
            );
        }
        Some(lists)
    }

    fn template(&mut self, request: Option<&str>, text: &str) -> Option<Template> {
        if text.chars().any(char::is_control) || text.chars().count() > LONGEST {
            self.wrong(
                request,
                format!("a text has at most {LONGEST} characters, and no line breaks"),
            );
            return None;
        }
        match Template::read(text) {
            Ok(template) => Some(template),
            Err(unknown) => {
                self.wrong(
                    request,
                    format!(
                        "“{{{unknown}}}” stands for nothing; there are {{taken.NAME}}, {}",
                        known_placeholders()
                    ),
                );
                None
            }
        }
    }

    fn templates(
        &mut self,
        request: Option<&str>,
        texts: &BTreeMap<String, String>,
    ) -> Vec<(String, Template)> {
        let mut read = vec![];
        for (name, text) in texts {
            if let Some(template) = self.template(request, text) {
                read.push((name.clone(), template));
            }
        }
        read
    }

    fn json(&mut self, request: Option<&str>, value: &toml::Value, depth: usize) -> Option<Json> {
        if depth > 16 {
            self.wrong(request, "a body is at most 16 levels deep".into());
            return None;
        }
        Some(match value {
            toml::Value::String(text) => Json::Text(self.template(request, text)?),
            toml::Value::Integer(number) => Json::Plain((*number).into()),
            toml::Value::Float(number) => Json::Plain((*number).into()),
            toml::Value::Boolean(yes) => Json::Plain((*yes).into()),
            toml::Value::Datetime(time) => Json::Plain(time.to_string().into()),
            toml::Value::Array(items) => Json::List(
                items
                    .iter()
                    .filter_map(|item| self.json(request, item, depth + 1))
                    .collect(),
            ),
            toml::Value::Table(fields) => Json::Object(
                fields
                    .iter()
                    .filter_map(|(name, field)| {
                        Some((name.clone(), self.json(request, field, depth + 1)?))
                    })
                    .collect(),
            ),
        })
    }

    fn answers(
        &mut self,
        request: Option<&str>,
        files: &[AnswerFile],
        find: &dyn Fn(&str) -> Option<usize>,
    ) -> Vec<Answer> {
        let mut answers = vec![];
        for file in files {
            let status = match &file.status {
                Some(Status::One(status)) => vec![*status],
                Some(Status::Several(several)) => several.clone(),
                None => vec![],
            };
            if status.is_empty() && file.text.as_deref().is_none_or(str::is_empty) {
                self.wrong(
                    request,
                    "each answer has a `status`, a `text`, or both".into(),
                );
            }
            if let Some(then) = self.then(request, file, find) {
                answers.push(Answer {
                    status,
                    text: file.text.as_deref().map(str::to_lowercase),
                    then,
                });
            }
        }
        answers
    }

    fn then(
        &mut self,
        request: Option<&str>,
        file: &AnswerFile,
        find: &dyn Fn(&str) -> Option<usize>,
    ) -> Option<Then> {
        let mut all = vec![];
        if let Some(name) = &file.next {
            match find(name) {
                Some(next) => all.push(Then::Request(next)),
                None => {
                    self.wrong(request, format!("“{name}” is no request"));
                    return None;
                }
            }
        }
        if file.done {
            all.push(Then::Done);
        }
        if file.wrong_password {
            all.push(Then::WrongPassword);
        }
        if file.locked {
            all.push(Then::Locked);
        }
        match (&file.refused, &file.reason) {
            (Some(Why::Own(true)), Some(pointer)) if pointer.starts_with('/') => {
                all.push(Then::Refused(Reason::At(pointer.clone())));
            }
            (Some(Why::Own(true)), None) => all.push(Then::Refused(Reason::Words)),
            (Some(Why::Said(why)), None) => all.push(Then::Refused(Reason::Said(why.clone()))),
            (None | Some(Why::Own(false)), None) => {}
            _ => self.wrong(
                request,
                "`reason` is a JSON pointer to the device's words, with `refused = true`".into(),
            ),
        }
        if let Some(why) = &file.give_up {
            all.push(Then::GiveUp(why.clone()));
        }
        match (all.pop(), all.is_empty()) {
            (Some(one), true) => Some(one),
            _ => {
                self.wrong(request, "each answer leads to one of `next`, `done`, `refused`, `wrong_password`, `locked` and `give_up`".into());
                None
            }
        }
    }
}

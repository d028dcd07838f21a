//! Recipes: files that say which HTTP requests check or change a password, and what their answers
//! mean.
//!
//! `docs/recipes.md` describes the format. An [`Exchange`] is a recipe under way: it does no I/O, is
//! given what the device answered, and returns what to send. Where a value goes decides how it is
//! written: in a path and a query percent-encoded, in JSON as a JSON string, in a header without line
//! breaks. So no name and no password becomes a part of the request itself.
//!
//! ```text
//! file ─► read ─► Recipe ─► Exchange ◄─► HTTPS
//!                    │          └────► transcript, secrets masked
//!                    └─► inspect ─► findings
//! ```

mod account_list;
mod exchange;
mod file;
mod inspection;
mod rehearsal;
mod template;

pub use exchange::{Exchange, Next, Request};
pub use inspection::inspect;
pub use rehearsal::rehearse;

use self::account_list::AccountList;
use self::template::Template;
use crate::dialogue::{Finding, Head, Placeholder, Purpose};

/// The method of a request (RFC 9110).
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Deserialize, strum::Display)]
#[serde(rename_all = "UPPERCASE")]
#[strum(serialize_all = "UPPERCASE")]
pub enum Method {
    /// Reads.
    Get,
    /// Does what the device says it does.
    Post,
    /// Replaces.
    Put,
    /// Changes.
    Patch,
    /// Removes.
    Delete,
}

/// A recipe that was read.
#[derive(Clone, Debug)]
pub struct Recipe {
    /// Whether the operator signs in with a client certificate.
    client_certificate: bool,
    head: Head,
    always: Vec<Answer>,
    requests: Vec<RequestStep>,
}

/// A request, and what its answers mean.
#[derive(Clone, Debug)]
struct RequestStep {
    name: String,
    method: Method,
    path: Template,
    query: Vec<(String, Template)>,
    headers: Vec<(String, Template)>,
    basic: bool,
    body: Body,
    changes: bool,
    shown_because: Option<String>,
    take: Vec<(String, Source)>,
    /// Where in the answer accounts are listed.
    lists: Option<AccountList>,
    answers: Vec<Answer>,
}

/// The body of a request.
#[derive(Clone, Debug)]
enum Body {
    None,
    Json(Json),
    Form(Vec<(String, Template)>),
}

/// A JSON value with placeholders in its texts.
#[derive(Clone, Debug)]
enum Json {
    Text(Template),
    /// What has no placeholder.
    Plain(serde_json::Value),
    List(Vec<Json>),
    Object(Vec<(String, Json)>),
}

/// Where a value is taken from in an answer.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Source {
    /// A JSON pointer (RFC 6901) into the body.
    Body(String),
    /// A header.
    Header(String),
    /// A cookie (RFC 6265).
    Cookie(String),
}

/// What an answer may be, and what it leads to.
#[derive(Clone, Debug)]
struct Answer {
    /// One of these; any when there is none.
    status: Vec<u16>,
    /// With this text in its body, in small letters.
    text: Option<String>,
    then: Then,
}

/// What an answer leads to.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Then {
    /// Another request.
    Request(usize),
    /// What was to be done is done.
    Done,
    /// The device refuses: for this reason, by what stands at this pointer, or in its own words.
    Refused(Reason),
    /// The password does not open the account.
    WrongPassword,
    /// The account is locked.
    Locked,
    /// Nothing can be said of it, for this reason.
    GiveUp(String),
}

/// Why a device refuses.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Reason {
    Words,
    Said(String),
    At(String),
}

impl Recipe {
    /// Reads a recipe.
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

    /// Where a request can lead.
    fn exits(&self, request: usize) -> impl Iterator<Item = usize> {
        let own = self
            .requests
            .get(request)
            .map_or(&[][..], |request| &request.answers);
        own.iter()
            .chain(&self.always)
            .filter_map(|answer| match answer.then {
                Then::Request(next) => Some(next),
                _ => None,
            })
    }

    /// The requests that can be reached from the beginning of a purpose.
    fn reached(&self, purpose: Purpose) -> Vec<usize> {
        self.head
            .reached(purpose, |request| self.exits(request).collect())
    }

    /// Whether the operator signs in with a TLS client certificate (RFC 8446, section 4.4.2) instead of
    /// a password.
    #[must_use]
    pub const fn shows_certificate(&self) -> bool {
        self.client_certificate
    }

    /// Whether a placeholder is in any request.
    pub(crate) fn says(&self, wanted: Placeholder) -> bool {
        let texts = self.requests.iter().flat_map(RequestStep::texts);
        texts
            .into_iter()
            .any(|(text, _)| text.placeholders().any(|it| it == wanted))
    }

    /// The texts that may be sent for a purpose.
    fn sent_for(&self, purpose: Purpose) -> Vec<&template::Template> {
        let requests = self.reached(purpose);
        let steps = requests
            .into_iter()
            .filter_map(|request| self.requests.get(request));
        steps
            .flat_map(|step| step.texts())
            .map(|(text, _)| text)
            .collect()
    }
}

#[cfg(test)]
mod tests;

//! Errors in two lines: what failed, what to do now. The exit codes are part of the interface and
//! are documented in `docs/client.md`.

use jexlin_api::{PendingAct, Problem, show_foreign};
use serde_json::{Value, json};

use crate::args::Format;
use crate::{output, view};

/// What went wrong.
#[derive(Debug)]
pub enum ClientError {
    /// The service refused or failed.
    Service(Box<Problem>),
    /// Nothing went wrong: it waits for a second person.
    Pending(Box<PendingAct>),
    /// The service cannot be reached.
    Unreachable(String),
    /// Something on this side.
    Here {
        /// What failed.
        what: String,
        /// What to do.
        advice: String,
        /// The exit code.
        code: u8,
    },
}

impl ClientError {
    /// Something that was asked for does not exist.
    pub fn unknown(what: impl Into<String>, advice: &str) -> Self {
        Self::Here {
            what: what.into(),
            advice: advice.into(),
            code: 5,
        }
    }

    /// The input is not valid.
    pub fn input(what: impl Into<String>, advice: &str) -> Self {
        Self::Here {
            what: what.into(),
            advice: advice.into(),
            code: 7,
        }
    }

    /// The command is not complete.
    pub fn usage(what: impl Into<String>, advice: &str) -> Self {
        Self::Here {
            what: what.into(),
            advice: advice.into(),
            code: 2,
        }
    }

    /// The answer to a question was no.
    pub fn declined() -> Self {
        Self::Here {
            what: "Nothing was changed.".into(),
            advice: "The answer to the question was no.".into(),
            code: 1,
        }
    }

    /// A file or terminal did not do what it should.
    pub fn local(what: impl Into<String>) -> Self {
        Self::Here {
            what: what.into(),
            advice: "Check the file or terminal named above, and try again.".into(),
            code: 1,
        }
    }

    /// What was to be proved, or a job that was waited for, failed.
    pub fn failed(what: impl Into<String>, advice: &str) -> Self {
        Self::Here {
            what: what.into(),
            advice: advice.into(),
            code: 9,
        }
    }

    /// What failed, in one line.
    pub fn what(&self) -> String {
        match self {
            Self::Service(problem) => problem.detail.clone(),
            Self::Pending(act) => format!("{} waits for a second person", act.summary),
            Self::Unreachable(why) => format!("the service cannot be reached: {why}"),
            Self::Here { what, .. } => what.clone(),
        }
    }

    /// The exit code.
    pub fn exit_code(&self) -> u8 {
        match self {
            Self::Service(problem) => match problem.status {
                401 | 429 => 3,
                403 => 4,
                404 => 5,
                409 | 412 | 428 => 6,
                400 | 413 | 422 => 7,
                503 => 8,
                _ => 1,
            },
            Self::Pending(_) => 10,
            Self::Unreachable(_) => 8,
            Self::Here { code, .. } => *code,
        }
    }

    /// Says it on standard error.
    pub fn tell(&self) {
        let (what, advice) = match self {
            Self::Pending(act) => (
                format!(
                    "{} waits for a second person until {}.",
                    act.summary,
                    crate::time::shown(act.expires_at)
                ),
                format!(
                    "Another person who may do the same confirms it: jexlin pending confirm {}",
                    act.id
                ),
            ),
            Self::Service(problem) => (problem.detail.clone(), problem.advice.clone()),
            Self::Unreachable(why) => (
                format!("The service cannot be reached: {why}."),
                "Check that it runs, and the address in --service or JEXLIN_SERVICE.".to_owned(),
            ),
            Self::Here { what, advice, .. } => (what.clone(), advice.clone()),
        };
        if view::get().output == Format::Json
            && let Ok(text) = output::json(&self.problem(&what, &advice))
        {
            return output::aside(&text);
        }
        output::aside(&format!(
            "jexlin: {}\n        {}",
            show_foreign(&what),
            show_foreign(&advice)
        ));
        if let Self::Service(problem) = self
            && problem.status >= 500
        {
            output::aside(&format!("        Request {}", problem.instance));
        }
    }

    /// What went wrong as problem details (RFC 9457): the service's own, or as much of them as
    /// there is on this side.
    fn problem(&self, what: &str, advice: &str) -> Value {
        match self {
            Self::Service(problem) => serde_json::to_value(problem).unwrap_or_default(),
            Self::Pending(act) => json!({"detail": what, "advice": advice, "pending": act}),
            Self::Unreachable(_) | Self::Here { .. } => {
                json!({"detail": what, "advice": advice, "exit_code": self.exit_code()})
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The table of `docs/client.md`, which scripts rely on.
    #[test]
    fn every_status_has_the_exit_code_that_is_documented() {
        let code = |status: u16| {
            let problem = Problem {
                status,
                ..serde_json::from_str(r#"{"type":"urn:jexlin:problem:x","code":"unknown","title":"","status":0,"detail":"","advice":"","instance":""}"#).unwrap()
            };
            ClientError::Service(Box::new(problem)).exit_code()
        };
        let wanted = [
            (401, 3),
            (429, 3),
            (403, 4),
            (404, 5),
            (409, 6),
            (412, 6),
            (428, 6),
            (400, 7),
            (413, 7),
            (422, 7),
            (503, 8),
            (500, 1),
        ];
        for (status, exit) in wanted {
            assert_eq!(code(status), exit, "{status}");
        }
        assert_eq!(ClientError::Unreachable(String::new()).exit_code(), 8);
        assert_eq!(
            [
                ClientError::unknown("", "").exit_code(),
                ClientError::input("", "").exit_code(),
                ClientError::local("").exit_code(),
                ClientError::failed("", "").exit_code()
            ],
            [5, 7, 1, 9]
        );
    }
}

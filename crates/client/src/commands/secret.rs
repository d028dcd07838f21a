//! Secrets, codes, and the clipboard.

use std::io::IsTerminal as _;

use clap::{Args, ValueEnum};
use jexlin_api::{Credential as CredentialItem, OneTimeCode, Reveal, Revealed, SettingsItem};
use serde_json::json;

use crate::args::Format;
use crate::clipboard;
use crate::error::ClientError;
use crate::lookup;
use crate::output::{self, say};
use crate::run::{Done, Run};

/// What to copy.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum What {
    /// The password, or another secret field
    Secret,
    /// The user name
    User,
    /// The current one-time code
    Code,
    /// The connection line: an ssh command for an account on a device, otherwise the first URL
    Line,
}

/// Options of `copy`.
#[derive(Debug, Args)]
#[command(after_help = "EXAMPLES
  jexlin copy \"/Office/Ordering portal\"
  jexlin copy \"/Office/Ordering portal\" user
  jexlin copy \"/Pumping/Weir lane/duty\" line")]
pub struct CopyArgs {
    /// The credential
    pub path: String,
    /// What to copy
    #[arg(value_enum, default_value = "secret")]
    pub what: What,
    /// Which secret field
    #[arg(long, default_value = "password")]
    pub field: String,
    /// Clear the clipboard after this many seconds [default: the organisation's setting]
    #[arg(long, value_name = "SECONDS")]
    pub clear_after: Option<u16>,
}

/// A secret goes to a terminal alone, unless somebody said otherwise: a pipe ends in a file too
/// often.
pub fn to_terminal(pipe: bool, what: &str) -> Done {
    if pipe || std::io::stdout().is_terminal() {
        return Ok(());
    }
    Err(ClientError::input(
        format!(
            "Standard output is not a terminal, and the {what} would be written there in the clear."
        ),
        "Use --pipe to allow this; jexlin copy puts it into the clipboard instead.",
    ))
}

fn spelt(text: &str) -> String {
    let name = |c: char| match c {
        '0' => "zero".into(),
        'O' => "capital O".into(),
        'o' => "small o".into(),
        '1' => "one".into(),
        'l' => "small L".into(),
        'I' => "capital i".into(),
        '-' => "hyphen".into(),
        '_' => "underscore".into(),
        '.' => "full stop".into(),
        ' ' => "space".into(),
        c if c.is_uppercase() => format!("capital {c}"),
        c => c.to_string(),
    };
    text.chars().map(name).collect::<Vec<_>>().join(", ")
}

impl Run {
    pub fn reveal(
        &self,
        path: &str,
        field: String,
        version: Option<i32>,
        pipe: bool,
        spell: bool,
    ) -> Done {
        to_terminal(pipe, "secret")?;
        let id = lookup::credential(&self.connection, path)?;
        let shown: Revealed = self.connection.post(
            &format!("/api/v1/credentials/{id}/reveal"),
            &Reveal {
                field: Some(field),
                version,
            },
        )?;
        if self.format == Format::Json {
            return output::one(self.format, &shown, &[]);
        }
        output::document(shown.value.expose_secret())?;
        if spell {
            say(&spelt(shown.value.expose_secret()))
        } else {
            Ok(())
        }
    }

    /// The code goes to standard output, how long it lasts to standard error, so that a pipe gets
    /// the code alone.
    pub fn code(&self, path: &str, pipe: bool) -> Done {
        to_terminal(pipe, "code")?;
        let id = lookup::credential(&self.connection, path)?;
        let code: OneTimeCode = self
            .connection
            .post(&format!("/api/v1/credentials/{id}/code"), &json!({}))?;
        if self.format == Format::Json {
            return output::one(self.format, &code, &[]);
        }
        output::document(code.digits.expose_secret())?;
        match code.left {
            Some(left) => output::aside(&format!("Valid for {left} more seconds.")),
            None => output::aside("Valid once; the next reveal uses the next code."),
        }
        Ok(())
    }

    pub fn copy(&self, args: &CopyArgs) -> Done {
        let id = lookup::credential(&self.connection, &args.path)?;
        let seconds = match args.clear_after {
            Some(seconds) => seconds,
            None => {
                self.connection
                    .get::<SettingsItem>("/api/v1/settings")?
                    .settings
                    .clipboard_seconds
            }
        };
        let known = || {
            self.connection
                .get::<CredentialItem>(&format!("/api/v1/credentials/{id}"))
        };
        let (what, text) = match args.what {
            What::Secret => {
                let shown: Revealed = self.connection.post(
                    &format!("/api/v1/credentials/{id}/reveal"),
                    &Reveal {
                        field: Some(args.field.clone()),
                        version: None,
                    },
                )?;
                ("secret", shown.value.expose_secret().to_owned())
            }
            What::Code => {
                let code: OneTimeCode = self
                    .connection
                    .post(&format!("/api/v1/credentials/{id}/code"), &json!({}))?;
                ("code", code.digits.expose_secret().to_owned())
            }
            What::User => (
                "user name",
                known()?
                    .fields
                    .get("user_name")
                    .cloned()
                    .unwrap_or_default(),
            ),
            What::Line => {
                let known = known()?;
                let line = match known.device {
                    Some(_) => known.connection_line.unwrap_or_default(),
                    None => known
                        .fields
                        .get("url")
                        .and_then(|urls| urls.lines().next())
                        .or(known.fields.get("address").map(String::as_str))
                        .unwrap_or_default()
                        .to_owned(),
                };
                ("connection line", line)
            }
        };
        if text.is_empty() {
            return Err(ClientError::unknown(
                format!("There is no {what} to copy."),
                "Show the credential: jexlin credential show",
            ));
        }
        clipboard::lend(&text, what, seconds)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_looks_alike_is_told_apart_when_spelt() {
        assert_eq!(
            spelt("0Oo1lI-a"),
            "zero, capital O, small o, one, small L, capital i, hyphen, a"
        );
    }
}

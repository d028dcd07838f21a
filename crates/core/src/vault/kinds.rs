//! Kinds of credentials: which fields, which of them secret, which required.

use std::collections::BTreeMap;

use crate::names::{check_line, check_note};
use crate::secret::Secret;
use crate::vault::one_time::{ONE_TIME_SEED, Seed};

/// What a field holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FieldType {
    /// One line that anybody at `list` may read and find.
    Text,
    /// One line that only a reveal shows, kept in versions.
    Secret,
    /// An address with a scheme.
    Url,
    /// Several lines, not secret.
    Note,
    /// Several lines that only a reveal shows, kept in versions.
    SecretNote,
    /// A seed of one-time codes: secret, and its codes are for everybody who may use the credential.
    OneTimeSeed,
    /// A day, as `2027-03-31`.
    Date,
}

impl FieldType {
    /// Its name in the interface.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Text => "text",
            Self::Secret => "secret",
            Self::Url => "url",
            Self::Note => "note",
            Self::SecretNote => "secret-note",
            Self::OneTimeSeed => "one-time-seed",
            Self::Date => "date",
        }
    }

    /// Whether only a reveal shows it.
    #[must_use]
    pub const fn is_secret(self) -> bool {
        matches!(self, Self::Secret | Self::SecretNote | Self::OneTimeSeed)
    }
}

/// One field of a kind.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Field {
    /// Its name in the interface.
    pub name: &'static str,
    /// Its label for people.
    pub label: &'static str,
    /// What it holds.
    pub holds: FieldType,
    /// Whether a credential of this kind must have it.
    pub required: bool,
}

/// A kind of credential.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Kind {
    /// Its name in the interface.
    pub name: &'static str,
    /// Its label for people.
    pub label: &'static str,
    /// Its fields, in the order of the form.
    pub fields: &'static [Field],
    /// Whether a password is generated when none is given; a token or a licence comes from
    /// somebody else and is asked for.
    pub generates: bool,
}

/// The field in which every kind keeps its main secret, whatever its label: the one that is
/// revealed when no other is named.
pub const PASSWORD: &str = "password";

const fn field(name: &'static str, label: &'static str, holds: FieldType, required: bool) -> Field {
    Field { name, label, holds, required }
}

const USER: Field = field("user_name", "User name", FieldType::Text, true);
const NOTE: Field = field("note", "Note", FieldType::Note, false);
const MAIN: Field = field(PASSWORD, "Password", FieldType::Secret, true);
const SEED: Field = field(ONE_TIME_SEED, "One-time codes", FieldType::OneTimeSeed, false);
const EXPIRES: Field = field("expires", "Expires on", FieldType::Date, false);

/// A sign-in to a page or a program.
pub const LOGIN: Kind = Kind {
    name: "login",
    label: "Login",
    fields: &[field("user_name", "User name", FieldType::Text, false), field("url", "URL", FieldType::Url, false), MAIN, SEED, NOTE],
    generates: true,
};

/// An account with which a device is run.
pub const DEVICE_ADMIN: Kind = Kind {
    name: "device-admin",
    label: "Device admin",
    fields: &[USER, MAIN, SEED, field("url", "Management URL", FieldType::Url, false), NOTE],
    generates: true,
};

/// An account of a database.
pub const DATABASE_ACCOUNT: Kind = Kind {
    name: "database-account",
    label: "Database account",
    fields: &[USER, MAIN, field("address", "Address", FieldType::Text, false), field("database", "Database", FieldType::Text, false), NOTE],
    generates: true,
};

/// An account of a directory.
pub const DIRECTORY_ACCOUNT: Kind = Kind {
    name: "directory-account",
    label: "Directory account",
    fields: &[USER, MAIN, SEED, field("domain", "Domain", FieldType::Text, false), NOTE],
    generates: true,
};

/// A token that a program shows to another.
pub const API_TOKEN: Kind = Kind {
    name: "api-token",
    label: "API token",
    fields: &[field("url", "URL", FieldType::Url, false), field(PASSWORD, "Token", FieldType::Secret, true), EXPIRES, NOTE],
    generates: false,
};

/// A word that devices of a network share.
pub const SHARED_KEY: Kind = Kind {
    name: "shared-key",
    label: "Network community or shared key",
    fields: &[field("address", "Address or network", FieldType::Text, false), field(PASSWORD, "Community or key", FieldType::Secret, true), NOTE],
    generates: true,
};

/// What proves that a program was paid for.
pub const LICENCE: Kind = Kind {
    name: "licence",
    label: "Licence",
    fields: &[
        field("product", "Product", FieldType::Text, true),
        field("licensed_to", "Licensed to", FieldType::Text, false),
        field(PASSWORD, "Licence key", FieldType::SecretNote, true),
        EXPIRES,
        NOTE,
    ],
    generates: false,
};

/// A text that is secret as a whole.
pub const SECURE_NOTE: Kind =
    Kind { name: "secure-note", label: "Secure note", fields: &[field(PASSWORD, "Text", FieldType::SecretNote, true), NOTE], generates: false };

/// The kinds that every organisation has.
pub const BUILT_IN: [Kind; 8] = [LOGIN, DEVICE_ADMIN, DATABASE_ACCOUNT, DIRECTORY_ACCOUNT, API_TOKEN, SHARED_KEY, LICENCE, SECURE_NOTE];

impl Kind {
    /// The kind of a name.
    #[must_use]
    pub fn find(name: &str) -> Option<Self> {
        BUILT_IN.into_iter().find(|kind| kind.name == name)
    }

    /// The field of a name.
    #[must_use]
    pub fn field(&self, name: &str) -> Option<&'static Field> {
        self.fields.iter().find(|field| field.name == name)
    }

    /// Checks the plain fields of a credential of this kind: known, not secret, well-formed, and
    /// none of the required ones missing.
    ///
    /// # Errors
    /// Each problem, by the field that has it.
    pub fn check_plain(&self, fields: &BTreeMap<String, String>) -> Result<(), BTreeMap<String, String>> {
        let mut problems = BTreeMap::new();
        for (name, value) in fields {
            let problem = match self.field(name).map(|field| field.holds) {
                None => Err(format!("a {} has no such field", self.label.to_lowercase())),
                Some(holds) if holds.is_secret() => Err("this field is secret and is set by itself".to_owned()),
                Some(FieldType::Note) => check_note(value),
                Some(FieldType::Date) => check_date(value),
                Some(FieldType::Url) => check_line(value).and_then(|()| check_url(value)),
                Some(_) => check_line(value),
            };
            if let Err(problem) = problem {
                problems.insert(name.clone(), problem);
            }
        }
        for field in self.fields.iter().filter(|field| field.required && !field.holds.is_secret()) {
            if fields.get(field.name).is_none_or(|value| value.trim().is_empty()) {
                problems.insert(field.name.to_owned(), "this field is required".to_owned());
            }
        }
        if problems.is_empty() { Ok(()) } else { Err(problems) }
    }
}

impl Kind {
    /// Reads what somebody gives for a secret field of this kind, in the spelling in which it is
    /// kept.
    ///
    /// # Errors
    /// A sentence that does not repeat the value.
    pub fn read_secret(&self, name: &str, value: &str) -> Result<Secret, String> {
        let Some(field) = self.field(name).filter(|field| field.holds.is_secret()) else {
            return Err(format!("a {} has no such secret field", self.label.to_lowercase()));
        };
        if value.is_empty() {
            return Err(if name == PASSWORD && self.generates {
                "the password is empty; leave it out to have one generated".to_owned()
            } else {
                "there is nothing in it".to_owned()
            });
        }
        match field.holds {
            FieldType::OneTimeSeed => Seed::parse(value).map(|seed| seed.to_address()).map_err(|problem| problem.to_string()),
            FieldType::SecretNote => check_note(value).map(|()| Secret::from_text(value.to_owned())),
            _ => check_line(value).map(|()| Secret::from_text(value.to_owned())),
        }
    }
}

fn check_date(value: &str) -> Result<(), String> {
    if value.is_empty() || chrono::NaiveDate::parse_from_str(value, "%Y-%m-%d").is_ok() { Ok(()) } else { Err("a day is written as 2027-03-31".to_owned()) }
}

/// Only schemes that open something harmless when clicked; a script is no address.
fn check_url(value: &str) -> Result<(), String> {
    let known = ["https://", "http://", "ssh://", "ldaps://", "ldap://"];
    if value.is_empty() || known.iter().any(|scheme| value.len() > scheme.len() && value.starts_with(scheme)) {
        Ok(())
    } else {
        Err(format!("a URL begins with one of {}", known.join(", ")))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn fields(pairs: &[(&str, &str)]) -> BTreeMap<String, String> {
        pairs.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect()
    }

    #[test]
    fn every_problem_is_named_by_its_field() {
        let problems =
            DEVICE_ADMIN.check_plain(&fields(&[("url", "javascript:alert(1)"), ("password", "x"), ("colour", "red"), ("note", "\u{7}")])).unwrap_err();
        assert_eq!(problems.keys().collect::<Vec<_>>(), ["colour", "note", "password", "url", "user_name"]);
    }

    #[test]
    fn a_good_credential_has_none() {
        assert!(DEVICE_ADMIN.check_plain(&fields(&[("user_name", "root"), ("url", "https://192.0.2.7/")])).is_ok());
        assert!(LOGIN.check_plain(&fields(&[])).is_ok());
    }

    #[test]
    fn every_kind_keeps_a_main_secret_and_only_single_lines_are_generated() {
        for kind in BUILT_IN {
            let main = kind.field(PASSWORD).unwrap();
            assert!(main.required && main.holds.is_secret(), "{}", kind.name);
            assert!(!kind.generates || main.holds == FieldType::Secret, "{}", kind.name);
            assert_eq!(Kind::find(kind.name), Some(kind));
        }
    }

    #[test]
    fn secrets_are_read_by_the_kind_of_their_field() {
        let text = |result: Result<Secret, String>| result.map(|secret| secret.expose_secret_text().unwrap().to_owned());
        assert_eq!(text(LOGIN.read_secret(PASSWORD, "Winter-tide-41")), Ok("Winter-tide-41".into()));
        assert_eq!(
            text(LOGIN.read_secret(ONE_TIME_SEED, "jbsw y3dp ehpk 3pxp")),
            Ok("otpauth://totp/?secret=JBSWY3DPEHPK3PXP&algorithm=SHA1&digits=6&period=30".into())
        );
        assert_eq!(text(SECURE_NOTE.read_secret(PASSWORD, "gate code 41\nkey under the stone")), Ok("gate code 41\nkey under the stone".into()));
        for (kind, name, value) in
            [(LOGIN, PASSWORD, "two\nlines"), (LOGIN, PASSWORD, ""), (LOGIN, ONE_TIME_SEED, "18"), (LOGIN, "url", "x"), (API_TOKEN, PASSWORD, "")]
        {
            assert!(kind.read_secret(name, value).is_err(), "{} {name}", kind.name);
        }
        assert!(API_TOKEN.check_plain(&fields(&[("expires", "2027-02-30")])).is_err());
        assert!(API_TOKEN.check_plain(&fields(&[("expires", "2027-02-28")])).is_ok());
    }
}

//! Kinds of credentials: which fields, which of them secret, which required.

use std::collections::BTreeMap;

use crate::names::{check_line, check_note};

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
}

/// The field in which every kind keeps its password.
pub const PASSWORD: &str = "password";

const fn field(name: &'static str, label: &'static str, holds: FieldType, required: bool) -> Field {
    Field { name, label, holds, required }
}

/// A sign-in to a page or a program.
pub const LOGIN: Kind = Kind {
    name: "login",
    label: "Login",
    fields: &[
        field("user_name", "User name", FieldType::Text, false),
        field("url", "URL", FieldType::Url, false),
        field(PASSWORD, "Password", FieldType::Secret, true),
        field("note", "Note", FieldType::Note, false),
    ],
};

/// An account with which a device is run.
pub const DEVICE_ADMIN: Kind = Kind {
    name: "device-admin",
    label: "Device admin",
    fields: &[
        field("user_name", "User name", FieldType::Text, true),
        field(PASSWORD, "Password", FieldType::Secret, true),
        field("url", "Management URL", FieldType::Url, false),
        field("note", "Note", FieldType::Note, false),
    ],
};

/// The kinds that every organisation has.
pub const BUILT_IN: [Kind; 2] = [LOGIN, DEVICE_ADMIN];

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
                Some(FieldType::Secret) => Err("this field is secret and is set by itself".to_owned()),
                Some(FieldType::Text) => check_line(value),
                Some(FieldType::Note) => check_note(value),
                Some(FieldType::Url) => check_line(value).and_then(|()| check_url(value)),
            };
            if let Err(problem) = problem {
                problems.insert(name.clone(), problem);
            }
        }
        for field in self.fields.iter().filter(|field| field.required && field.holds != FieldType::Secret) {
            if fields.get(field.name).is_none_or(|value| value.trim().is_empty()) {
                problems.insert(field.name.to_owned(), "this field is required".to_owned());
            }
        }
        if problems.is_empty() { Ok(()) } else { Err(problems) }
    }
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
    fn every_kind_keeps_a_password() {
        for kind in BUILT_IN {
            assert_eq!(kind.field(PASSWORD).map(|field| field.holds), Some(FieldType::Secret));
            assert_eq!(Kind::find(kind.name), Some(kind));
        }
    }
}

//! What is typed: text with placeholders.

use super::Purpose;
use crate::words::word_enum;

word_enum! {
    /// What is put into a line when it is typed.
    pub enum Placeholder {
        /// The name of the account.
        Account,
        /// The password that the account has.
        Current,
        /// The password that it shall have.
        New,
        /// The name of the operator.
        Operator,
        /// The password of the operator.
        OperatorPassword,
        /// The password for the device's privileged mode, from the credential that signs in.
        EnablePassword,
        /// The name of the device.
        Device,
    }
}

impl Placeholder {
    /// All of them.
    pub const ALL: [Self; 7] = [
        Self::Account,
        Self::Current,
        Self::New,
        Self::Operator,
        Self::OperatorPassword,
        Self::EnablePassword,
        Self::Device,
    ];

    /// Its name between braces.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::OperatorPassword => "operator_password",
            Self::EnablePassword => "enable_password",
            other => crate::words::Word::word(other),
        }
    }

    /// Whether it stands for a secret.
    #[must_use]
    pub const fn is_secret(self) -> bool {
        matches!(
            self,
            Self::Current | Self::New | Self::OperatorPassword | Self::EnablePassword
        )
    }

    /// Whether it is known for a purpose.
    #[must_use]
    pub const fn is_known(self, purpose: Purpose) -> bool {
        match self {
            Self::Device | Self::EnablePassword => true,
            // A list is of no account in particular.
            Self::Account => !matches!(purpose, Purpose::List),
            Self::Current => matches!(purpose, Purpose::Check | Purpose::Account),
            Self::New => matches!(purpose, Purpose::Operator | Purpose::Account),
            Self::Operator | Self::OperatorPassword => {
                matches!(purpose, Purpose::Operator | Purpose::List)
            }
        }
    }
}

/// The prefix of a placeholder for a field of the account's credential, such as `{field.context}`.
const FIELD: &str = "field.";

/// The name of a field, if a placeholder stands for one.
pub(crate) fn field_of(placeholder: &str) -> Option<&str> {
    placeholder.strip_prefix(FIELD).filter(|name| {
        let fits = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_';
        !name.is_empty() && name.chars().all(fits)
    })
}

/// All placeholders, as a list for messages.
pub(crate) fn known_placeholders() -> String {
    let known = Placeholder::ALL.map(|each| format!("{{{}}}", each.word()));
    format!("{} and {{{FIELD}NAME}}", known.join(", "))
}

/// A part of a line.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Piece {
    Text(String),
    Value(Placeholder),
    /// A field of the account's credential.
    Field(String),
}

/// A line that is typed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Line(pub(super) Vec<Piece>);

impl Line {
    /// Reads a line: `{account}` stands for the name of the account, `{{` for a brace.
    ///
    /// # Errors
    /// The name of a placeholder that there is not.
    pub(super) fn read(text: &str) -> Result<Self, String> {
        let (mut pieces, mut plain) = (vec![], String::new());
        let mut rest = text;
        while let Some(at) = rest.find('{') {
            let (before, after) = rest.split_at(at);
            plain.push_str(before);
            let after = after.get(1..).unwrap_or_default();
            if let Some(more) = after.strip_prefix('{') {
                plain.push('{');
                rest = more;
                continue;
            }
            let Some((name, more)) = after.split_once('}') else {
                return Err(after.to_owned());
            };
            let piece = match field_of(name) {
                Some(field) => Piece::Field(field.to_owned()),
                None => Piece::Value(
                    Placeholder::ALL
                        .into_iter()
                        .find(|each| each.word() == name)
                        .ok_or_else(|| name.to_owned())?,
                ),
            };
            if !plain.is_empty() {
                pieces.push(Piece::Text(std::mem::take(&mut plain)));
            }
            pieces.push(piece);
            rest = more;
        }
        plain.push_str(rest);
        if !plain.is_empty() {
            pieces.push(Piece::Text(plain));
        }
        Ok(Self(pieces))
    }

    /// The placeholders of the line.
    pub fn placeholders(&self) -> impl Iterator<Item = Placeholder> {
        self.0.iter().filter_map(|piece| match piece {
            Piece::Value(value) => Some(*value),
            Piece::Text(_) | Piece::Field(_) => None,
        })
    }

    /// The fields of the account's credential that the line has.
    pub(super) fn fields(&self) -> impl Iterator<Item = &str> {
        self.0.iter().filter_map(|piece| match piece {
            Piece::Field(name) => Some(name.as_str()),
            Piece::Text(_) | Piece::Value(_) => None,
        })
    }

    /// Whether a secret is in it.
    #[must_use]
    pub fn has_secret(&self) -> bool {
        self.placeholders().any(Placeholder::is_secret)
    }

    /// Its text before the first placeholder.
    #[must_use]
    pub fn beginning(&self) -> &str {
        match self.0.first() {
            Some(Piece::Text(text)) => text,
            _ => "",
        }
    }
}

impl std::fmt::Display for Line {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        for piece in &self.0 {
            match piece {
                Piece::Text(text) => f.write_str(&text.replace('{', "{{"))?,
                Piece::Value(value) => write!(f, "{{{}}}", value.word())?,
                Piece::Field(name) => write!(f, "{{{FIELD}{name}}}")?,
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_is_read_and_written() {
        let line = Line::read("user {account} of {field.context} mode {{0} {new}").expect("a line");
        assert_eq!(
            line.to_string(),
            "user {account} of {field.context} mode {{0} {new}"
        );
        assert_eq!(line.fields().collect::<Vec<_>>(), ["context"]);
        assert!(line.has_secret());
        assert_eq!(line.beginning(), "user ");
        assert_eq!(Line::read("say {nothing}"), Err("nothing".into()));
        assert_eq!(Line::read("say {field.}"), Err("field.".into()));
        assert_eq!(Line::read("say {field.A b}"), Err("field.A b".into()));
        assert!(Line::read("say {account").is_err());
    }
}

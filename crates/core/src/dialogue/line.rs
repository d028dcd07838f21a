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
        /// The name of the device.
        Device,
    }
}

impl Placeholder {
    /// All of them.
    pub const ALL: [Self; 6] = [
        Self::Account,
        Self::Current,
        Self::New,
        Self::Operator,
        Self::OperatorPassword,
        Self::Device,
    ];

    /// Its name between braces.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::OperatorPassword => "operator_password",
            other => crate::words::Word::word(other),
        }
    }

    /// Whether it stands for a secret.
    #[must_use]
    pub const fn is_secret(self) -> bool {
        matches!(self, Self::Current | Self::New | Self::OperatorPassword)
    }

    /// Whether it is known for a purpose.
    #[must_use]
    pub const fn is_known(self, purpose: Purpose) -> bool {
        match self {
            Self::Account | Self::Device => true,
            Self::Current => !matches!(purpose, Purpose::Operator),
            Self::New => !matches!(purpose, Purpose::Check),
            Self::Operator | Self::OperatorPassword => matches!(purpose, Purpose::Operator),
        }
    }
}

/// A part of a line.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Piece {
    Text(String),
    Value(Placeholder),
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
            let value = Placeholder::ALL
                .into_iter()
                .find(|each| each.word() == name)
                .ok_or_else(|| name.to_owned())?;
            if !plain.is_empty() {
                pieces.push(Piece::Text(std::mem::take(&mut plain)));
            }
            pieces.push(Piece::Value(value));
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
            Piece::Text(_) => None,
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
        let line = Line::read("user {account} mode {{0} {new}").expect("a line");
        assert_eq!(line.to_string(), "user {account} mode {{0} {new}");
        assert!(line.has_secret());
        assert_eq!(line.beginning(), "user ");
        assert_eq!(Line::read("say {nothing}"), Err("nothing".into()));
        assert!(Line::read("say {account").is_err());
    }
}

//! Texts with placeholders: those of dialogues, and what was taken from answers.

use crate::dialogue::{Placeholder, field_of};

/// A part of a text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Piece {
    Text(String),
    Value(Placeholder),
    Taken(String),
    /// A field of the account's credential.
    Field(String),
}

/// A text with placeholders.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Template(pub(super) Vec<Piece>);

impl Template {
    /// Reads a text: `{new}` stands for the new password, `{taken.token}` for what was taken as
    /// `token`, `{{` for a brace.
    ///
    /// # Errors
    /// What stands for nothing.
    pub(super) fn read(text: &str) -> Result<Self, String> {
        let (mut pieces, mut plain) = (vec![], String::new());
        let mut rest = text;
        while let Some((before, after)) = rest.split_once('{') {
            plain.push_str(before);
            if let Some(more) = after.strip_prefix('{') {
                plain.push('{');
                rest = more;
                continue;
            }
            let (name, more) = after.split_once('}').ok_or_else(|| after.to_owned())?;
            if !plain.is_empty() {
                pieces.push(Piece::Text(std::mem::take(&mut plain)));
            }
            pieces.push(match (name.strip_prefix("taken."), field_of(name)) {
                (Some(taken), _) => Piece::Taken(taken.to_owned()),
                (None, Some(field)) => Piece::Field(field.to_owned()),
                (None, None) => Piece::Value(
                    Placeholder::ALL
                        .into_iter()
                        .find(|each| each.word() == name)
                        .ok_or_else(|| name.to_owned())?,
                ),
            });
            rest = more;
        }
        plain.push_str(rest);
        if !plain.is_empty() {
            pieces.push(Piece::Text(plain));
        }
        Ok(Self(pieces))
    }

    /// The placeholders that it has.
    pub(super) fn placeholders(&self) -> impl Iterator<Item = Placeholder> {
        self.0.iter().filter_map(|piece| match piece {
            Piece::Value(value) => Some(*value),
            _ => None,
        })
    }

    /// What it needs to have been taken from answers.
    pub(super) fn taken(&self) -> impl Iterator<Item = &str> {
        self.0.iter().filter_map(|piece| match piece {
            Piece::Taken(name) => Some(name.as_str()),
            _ => None,
        })
    }

    /// The fields of the account's credential that it has.
    pub(super) fn fields(&self) -> impl Iterator<Item = &str> {
        self.0.iter().filter_map(|piece| match piece {
            Piece::Field(name) => Some(name.as_str()),
            _ => None,
        })
    }

    /// What it stands for, when it is one thing that was taken and nothing else.
    pub(super) fn only_taken(&self) -> Option<&str> {
        match self.0.as_slice() {
            [Piece::Taken(name)] => Some(name),
            _ => None,
        }
    }

    /// Whether a secret is in it.
    pub(super) fn has_secret(&self) -> bool {
        self.placeholders().any(Placeholder::is_secret)
    }

    /// Whether a value stands in the middle of other text.
    pub(super) fn mixes(&self, wanted: impl Fn(Placeholder) -> bool) -> bool {
        self.0.len() > 1 && self.placeholders().any(wanted)
    }
}

impl std::fmt::Display for Template {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        for piece in &self.0 {
            match piece {
                Piece::Text(text) => f.write_str(text)?,
                Piece::Value(value) => write!(f, "{{{}}}", value.word())?,
                Piece::Taken(name) => write!(f, "{{taken.{name}}}")?,
                Piece::Field(name) => write!(f, "{{field.{name}}}")?,
            }
        }
        Ok(())
    }
}

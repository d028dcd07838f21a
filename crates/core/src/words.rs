//! The words that stand for the values of an enumeration in records, the interface and the client.
//!
//! Each such enumeration derives its words from its variants (`strum`), once for all borders: a
//! column, a JSON value, an argument of the client and an event have the same word.

use std::str::FromStr;

use strum::VariantArray;

/// Declares enumerations with words: each variant is written in kebab case everywhere, unless it
/// says otherwise itself, in `serde` and in `strum` alike.
///
/// ```text
/// word_enum! {
///     /// The state of a job.
///     pub enum JobState { Queued, Running, Done }
/// }
/// JobState::Queued.word() == "queued"; "queued".parse() == Ok(JobState::Queued)
/// ```
macro_rules! word_enum {
    ($(#[$attribute:meta])* $visibility:vis enum $name:ident { $($variants:tt)* }) => {
        $(#[$attribute])*
        #[derive(
            Clone,
            Copy,
            Debug,
            PartialEq,
            Eq,
            PartialOrd,
            Ord,
            Hash,
            serde::Serialize,
            serde::Deserialize,
            strum::Display,
            strum::EnumString,
            strum::IntoStaticStr,
            strum::VariantArray,
        )]
        #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
        #[serde(rename_all = "kebab-case")]
        #[strum(
            serialize_all = "kebab-case",
            parse_err_ty = $crate::words::UnknownWord,
            parse_err_fn = $crate::words::unknown_word::<$name>
        )]
        $visibility enum $name { $($variants)* }
    };
}
pub(crate) use word_enum;

/// A value that a word stands for.
pub trait Word: Copy + FromStr + Into<&'static str> + VariantArray + PartialEq {
    /// The word for it.
    #[must_use]
    fn word(self) -> &'static str {
        self.into()
    }

    /// The value of a word.
    #[must_use]
    fn find(word: &str) -> Option<Self> {
        word.parse().ok()
    }

    /// All words, for a message: `a, b or c`.
    #[must_use]
    fn words() -> String {
        let words: Vec<&str> = Self::VARIANTS.iter().map(|value| value.word()).collect();
        match words.split_last() {
            Some((last, rest)) if !rest.is_empty() => format!("{} or {last}", rest.join(", ")),
            _ => words.concat(),
        }
    }
}

impl<T: Copy + FromStr + Into<&'static str> + VariantArray + PartialEq> Word for T {}

/// A word stands for no value of an enumeration. It does not repeat the word, which may be
/// anything.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("expected {0}")]
pub struct UnknownWord(String);

/// The error of a word that stands for no value.
pub(crate) fn unknown_word<T: Word>(_: &str) -> UnknownWord {
    UnknownWord(T::words())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::audit::{Action, TargetType};
    use crate::people::{Duty, PersonState};

    fn reads_back<T: Word + std::fmt::Debug + serde::Serialize + serde::de::DeserializeOwned>() {
        for value in T::VARIANTS {
            assert_eq!(T::find(value.word()), Some(*value));
            let json = serde_json::to_value(value).unwrap_or_default();
            assert_eq!(json, value.word(), "the same word in JSON");
            assert_eq!(serde_json::from_value::<T>(json).ok(), Some(*value));
        }
    }

    #[test]
    fn every_word_reads_back_and_is_the_same_in_json() {
        reads_back::<Action>();
        reads_back::<TargetType>();
        reads_back::<Duty>();
        reads_back::<PersonState>();
        reads_back::<crate::access::Level>();
        reads_back::<crate::upkeep::CheckOutcome>();
        reads_back::<crate::upkeep::RotationOutcome>();
        reads_back::<crate::upkeep::ChangeMethod>();
        reads_back::<crate::vault::kinds::FieldType>();
        reads_back::<crate::transfer::Format>();
    }

    #[test]
    fn an_unknown_word_is_told_which_there_are_and_not_repeated() {
        let told = "hunter2"
            .parse::<PersonState>()
            .map_err(|error| error.to_string());
        assert_eq!(
            told,
            Err("expected invited, active, suspended or left".into())
        );
        assert_eq!(PersonState::words(), "invited, active, suspended or left");
    }
}

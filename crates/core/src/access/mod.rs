//! Who may do what: folders, grants, levels, and the one decision about them.
//!
//! Aim: an auditor can say in one sentence why somebody holds a level. A grant gives a level to a
//! person or a group on a folder or a credential; it flows down the tree; a closed folder stops
//! what comes from above; the highest level that reaches you counts. Denials were refused: with
//! them, nobody can tell what removing a grant does without reading all the others.
//!
//! [`plain`] is the definition, written to be read. PostgreSQL computes the same thing from a
//! table of sources per folder, and property tests in the store hold the two together. Whatever
//! computed the [`Reach`], only [`Reach::allow`] turns it into an [`Allowed`], and everything that
//! needs a level takes that value as an argument.

mod access_request;
mod explain;
pub mod file;
mod history;
pub mod index;
mod issue;
pub mod preview;
pub mod reference;

use crate::words::word_enum;
use std::marker::PhantomData;

use chrono::{DateTime, Utc};
use uuid::Uuid;

pub use access_request::{AccessRequestState, may_decide_access_request};
pub use explain::{Stop, Way, explain};
pub use history::includes_history;
pub use issue::IssueType;

word_enum! {
    /// What somebody may do with a credential or a folder. Each level includes those below it.
    pub enum Level {
        /// Knows it is there and may ask.
        List,
        /// May work with it without seeing it.
        Use,
        /// May see it.
        Reveal,
        /// May change it.
        Edit,
        /// May grant, set gates and upkeep, remove.
        Steward,
    }
}

impl Level {
    /// The number that stands for the level in the database: 1 to 5.
    #[must_use]
    pub const fn number(self) -> i16 {
        match self {
            Self::List => 1,
            Self::Use => 2,
            Self::Reveal => 3,
            Self::Edit => 4,
            Self::Steward => 5,
        }
    }

    /// The level of a number; anything outside 1 to 5 is none.
    #[must_use]
    pub fn from_number(number: i16) -> Option<Self> {
        <Self as strum::VariantArray>::VARIANTS
            .iter()
            .copied()
            .find(|level| level.number() == number)
    }
}

/// A level at compile time.
pub trait AtLeast {
    /// The level that must be held.
    const LEVEL: Level;
}

/// Marks for [`Allowed`], one a level.
pub mod mark {
    use super::{AtLeast, Level};

    macro_rules! mark {
        ($($name:ident),*) => {$(
            #[doc = concat!("The level `", stringify!($name), "` at compile time.")]
            #[derive(Debug)]
            pub struct $name;
            impl AtLeast for $name {
                const LEVEL: Level = Level::$name;
            }
        )*};
    }
    mark!(List, Use, Reveal, Edit, Steward);
}

/// What reaches somebody on one target, as read from the store or computed by [`plain`].
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Reach {
    subject: Uuid,
    target: Uuid,
    level: Option<Level>,
}

/// Proof that a subject holds at least `L` on a target. Only [`Reach::allow`] makes one.
#[derive(Debug)]
pub struct Allowed<L: AtLeast> {
    subject: Uuid,
    target: Uuid,
    held: Level,
    mark: PhantomData<L>,
}

impl<L: AtLeast> Allowed<L> {
    /// Who holds the level.
    #[must_use]
    pub const fn subject(&self) -> Uuid {
        self.subject
    }

    /// On what.
    #[must_use]
    pub const fn target(&self) -> Uuid {
        self.target
    }

    /// The level really held, which may be higher than what was asked.
    #[must_use]
    pub const fn held(&self) -> Level {
        self.held
    }
}

/// Why access is refused.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Denied {
    /// Nothing reaches the subject: for them the target does not exist.
    #[error("it does not exist, or no grant gives you access")]
    Unknown,
    /// Something reaches the subject, but not enough.
    #[error("this needs the level `{needed}`; you hold `{held}`")]
    TooLow {
        /// What would be needed.
        needed: Level,
        /// What is held.
        held: Level,
    },
}

impl Reach {
    /// What reaches `subject` on the credential or folder `target`, as the store read it. Only the
    /// store calls this; a lint forbids it elsewhere.
    #[must_use]
    pub const fn from_store(subject: Uuid, target: Uuid, level: Option<Level>) -> Self {
        Self {
            subject,
            target,
            level,
        }
    }

    /// The highest level of a grant that reaches the subject and has not ended.
    #[must_use]
    pub const fn level(&self) -> Option<Level> {
        self.level
    }

    /// The one decision about levels: demands at least `L`.
    ///
    /// # Errors
    /// [`Denied::Unknown`] when nothing reaches the subject, so that the answer does not tell
    /// whether the target exists; [`Denied::TooLow`] otherwise.
    pub fn allow<L: AtLeast>(self) -> Result<Allowed<L>, Denied> {
        match self.level {
            None => Err(Denied::Unknown),
            Some(held) if held < L::LEVEL => Err(Denied::TooLow {
                needed: L::LEVEL,
                held,
            }),
            Some(held) => Ok(Allowed {
                subject: self.subject,
                target: self.target,
                held,
                mark: PhantomData,
            }),
        }
    }
}

/// Whether something that may end at a time still counts at `now`. The end itself is outside.
#[must_use]
pub fn in_force(ends_at: Option<DateTime<Utc>>, now: DateTime<Utc>) -> bool {
    ends_at.is_none_or(|end| now < end)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::words::Word as _;
    use strum::VariantArray as _;

    fn reach(level: Option<Level>) -> Reach {
        Reach {
            subject: Uuid::nil(),
            target: Uuid::nil(),
            level,
        }
    }

    #[test]
    fn a_level_includes_those_below_and_not_those_above() {
        for held in Level::VARIANTS.iter().copied() {
            assert_eq!(
                reach(Some(held)).allow::<mark::Reveal>().is_ok(),
                held >= Level::Reveal
            );
            assert_eq!(
                reach(Some(held)).allow::<mark::Steward>().is_ok(),
                held == Level::Steward
            );
        }
    }

    #[test]
    fn what_no_grant_reaches_does_not_exist() {
        assert_eq!(
            reach(None).allow::<mark::List>().unwrap_err(),
            Denied::Unknown
        );
    }

    #[test]
    fn words_and_numbers_go_there_and_back() {
        for level in Level::VARIANTS.iter().copied() {
            assert_eq!(Level::from_number(level.number()), Some(level));
            assert_eq!(level.word().parse(), Ok(level));
        }
        assert_eq!(Level::from_number(0), None);
        assert!("owner".parse::<Level>().is_err());
    }
}

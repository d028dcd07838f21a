//! People, groups and clients: what they are, and which duties they hold.

use serde::{Deserialize, Serialize};
use strum::{Display, EnumString, IntoStaticStr, VariantArray};

use crate::words::{UnknownWord, unknown_word};

/// A duty: a right over the organisation, held beside the levels on folders.
#[derive(
    Clone,
    Copy,
    Debug,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Serialize,
    Deserialize,
    Display,
    EnumString,
    IntoStaticStr,
    VariantArray,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case", parse_err_ty = UnknownWord, parse_err_fn = unknown_word::<Duty>)]
pub enum Duty {
    /// Adds and edits people, groups and clients.
    People,
    /// Adds folders at the top, and sets kinds.
    Folders,
    /// Shares where stewards may not, and fixes access issues.
    Access,
    /// Sets password policies and settings.
    Policy,
    /// Reads the audit log.
    Audit,
    /// Exports without protection.
    Export,
    /// Locks the vault and changes its keys.
    Recovery,
}

/// Whether a person can sign in.
#[derive(
    Clone,
    Copy,
    Debug,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Serialize,
    Deserialize,
    Display,
    EnumString,
    IntoStaticStr,
    VariantArray,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case", parse_err_ty = UnknownWord, parse_err_fn = unknown_word::<PersonState>)]
pub enum PersonState {
    /// Has no password yet.
    Invited,
    /// Can sign in.
    Active,
    /// Cannot sign in for now.
    Suspended,
    /// Is gone for good.
    Left,
}

impl PersonState {
    /// Whether anything can be granted to a person in this state.
    #[must_use]
    pub const fn can_be_granted(self) -> bool {
        matches!(self, Self::Invited | Self::Active)
    }
}

/// What signs in.
#[derive(
    Clone,
    Copy,
    Debug,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Serialize,
    Deserialize,
    Display,
    EnumString,
    IntoStaticStr,
    VariantArray,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case", parse_err_ty = UnknownWord, parse_err_fn = unknown_word::<PersonType>)]
pub enum PersonType {
    /// A person, with a password.
    Person,
    /// A program, with a secret.
    Client,
}

/// To what a grant is given.
#[derive(
    Clone,
    Copy,
    Debug,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Serialize,
    Deserialize,
    Display,
    EnumString,
    IntoStaticStr,
    VariantArray,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case", parse_err_ty = UnknownWord, parse_err_fn = unknown_word::<SubjectType>)]
pub enum SubjectType {
    /// A person.
    Person,
    /// A group.
    Group,
}

//! Access issues.

use serde::{Deserialize, Serialize};
use strum::{Display, EnumString, IntoStaticStr, VariantArray};

use crate::words::{UnknownWord, unknown_word};

/// What is wrong with access somewhere.
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
#[strum(serialize_all = "kebab-case", parse_err_ty = UnknownWord, parse_err_fn = unknown_word::<IssueType>)]
pub enum IssueType {
    /// No active person is a steward of the folder, nor of those below it that get theirs from here.
    NoSteward,
    /// A grant to somebody who left.
    Left,
    /// A grant that has expired.
    Ended,
    /// A grant that gives nothing which another one does not give as well.
    Redundant,
}

//! What can be chosen for an import and an export.

use serde::{Deserialize, Serialize};
use strum::{Display, EnumString, IntoStaticStr, VariantArray};

use crate::words::{UnknownWord, unknown_word};

/// By what a row is matched with a credential that exists.
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
    Default,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case", parse_err_ty = UnknownWord, parse_err_fn = unknown_word::<MatchKey>)]
pub enum MatchKey {
    /// By its name in the same folder.
    #[default]
    Name,
    /// By its user name.
    #[serde(rename = "user_name")]
    #[strum(serialize = "user_name")]
    UserName,
    /// By its address.
    Url,
}

/// What is done with a row that matches.
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
    Default,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case", parse_err_ty = UnknownWord, parse_err_fn = unknown_word::<Matching>)]
pub enum Matching {
    /// It is left out.
    #[default]
    Skip,
    /// It changes the credential.
    Update,
    /// It is added beside it.
    Duplicate,
}

/// The format of an export.
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
    Default,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case", parse_err_ty = UnknownWord, parse_err_fn = unknown_word::<ExportFormat>)]
pub enum ExportFormat {
    /// The Credential Exchange Format.
    #[default]
    Exchange,
    /// CSV.
    Csv,
}

//! How a service is.

use serde::{Deserialize, Serialize};
use strum::{Display, EnumString, IntoStaticStr, VariantArray};

use crate::words::{UnknownWord, unknown_word};

/// What a service can do now.
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
#[strum(serialize_all = "kebab-case", parse_err_ty = UnknownWord, parse_err_fn = unknown_word::<ServiceState>)]
pub enum ServiceState {
    /// It has no database.
    NoDatabase,
    /// There is no organisation yet.
    NeedsSetup,
    /// The vault is locked.
    Locked,
    /// It works.
    Ready,
}

/// What live news are about.
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
#[strum(serialize_all = "kebab-case", parse_err_ty = UnknownWord, parse_err_fn = unknown_word::<Topic>)]
pub enum Topic {
    /// A job.
    Job,
    /// A request to pass a gate.
    Request,
    /// A checkout.
    Checkout,
    /// Whether the vault of an organisation is locked, or its keys.
    Organisation,
}

//! Requests for a level, by people who may know that something is there.

use serde::{Deserialize, Serialize};
use strum::{Display, EnumString, IntoStaticStr, VariantArray};

use crate::words::{UnknownWord, unknown_word};

/// The state of an access request.
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
#[strum(serialize_all = "kebab-case", parse_err_ty = UnknownWord, parse_err_fn = unknown_word::<AccessRequestState>)]
pub enum AccessRequestState {
    /// Waits for a steward.
    Waiting,
    /// Was granted.
    Granted,
    /// Was refused.
    Refused,
    /// Was withdrawn by who asked.
    Withdrawn,
}

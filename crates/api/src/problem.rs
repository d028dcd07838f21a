//! What went wrong, as problem details.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::error_code::ErrorCode;

/// Problem details (RFC 9457).
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// The type of problem, as a URN that does not change: `urn:jexlin:problem:…`.
    #[serde(rename = "type")]
    pub kind: String,
    /// The code, for programs.
    pub code: ErrorCode,
    /// A title.
    pub title: String,
    /// The HTTP status.
    pub status: u16,
    /// What happened.
    pub detail: String,
    /// What to do now.
    pub advice: String,
    /// The request, for the log.
    pub instance: String,
    /// Problems by the field that has them.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub fields: BTreeMap<String, String>,
}

//! What went wrong, as problem details.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::error_code::ErrorCode;

/// Problem details (RFC 9457).
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// What problem it is, as a URN that does not change: `urn:jexlin:problem:…`.
    #[serde(rename = "type")]
    pub kind: String,
    /// The same, for programs.
    pub code: ErrorCode,
    /// The problem in words.
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

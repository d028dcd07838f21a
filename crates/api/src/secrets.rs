//! Secrets: reveals, versions, one-time codes.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use jexlin_core::vault::{ValueOrigin, VersionState};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

use crate::SecretText;

/// Reveals a secret.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Reveal {
    /// The field; `password` when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub field: Option<String>,
    /// The version; the current one when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub version: Option<i32>,
}

/// Restores a former value as the current one.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Restore {
    /// The field; `password` when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub field: Option<String>,
    /// The version.
    pub version: i32,
    /// The reason.
    #[serde(default)]
    pub reason: String,
}

/// A seed of one-time codes read from an image; it is not stored.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SeedInPicture {
    /// The `otpauth://` URI.
    pub address: SecretText,
}

/// A one-time code (RFC 6238 or RFC 4226), after its audit event is durable.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OneTimeCode {
    /// The digits.
    pub digits: SecretText,
    /// The seconds that it is still valid; none where codes count up.
    #[schema(required)]
    pub left: Option<u16>,
    /// The seconds that each code is valid; none where codes count up.
    #[schema(required)]
    pub period: Option<u16>,
    /// The audit event.
    pub event: Uuid,
}

/// A secret, after its audit event is durable.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Revealed {
    /// The field.
    pub field: String,
    /// The version.
    pub version: i32,
    /// The value.
    pub value: SecretText,
    /// The audit event that was recorded for it.
    pub event: Uuid,
}

/// One version of a secret field, without its value.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Version {
    /// The field.
    pub field: String,
    /// Its number, from 1.
    pub number: i32,
    /// Its state.
    pub state: VersionState,
    /// When it was added.
    pub made_at: DateTime<Utc>,
    /// Who made it; none for upkeep.
    #[schema(required)]
    pub made_by: Option<String>,
    /// Where the value came from.
    pub made_how: ValueOrigin,
    /// The reason, if one was given.
    pub reason: String,
    /// Facts of it that need no reveal.
    pub facts: BTreeMap<String, String>,
}

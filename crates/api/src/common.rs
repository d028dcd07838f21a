//! What every part of the interface uses.

use crate::error_code::ErrorCode;
use jexlin_core::status::ServiceState;
use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use zeroize::Zeroize;

/// A secret on its way: it does not print, and is wiped when dropped.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(transparent)]
#[schema(value_type = String, format = Password)]
pub struct SecretText(String);

impl SecretText {
    /// Takes over a text.
    #[must_use]
    pub const fn new(text: String) -> Self {
        Self(text)
    }

    /// The text itself; call this at the last moment.
    #[must_use]
    pub fn expose_secret(&self) -> &str {
        &self.0
    }
}

impl Drop for SecretText {
    fn drop(&mut self) {
        self.0.zeroize();
    }
}

impl std::fmt::Debug for SecretText {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("SecretText(…)")
    }
}

/// One page of a list. `next` goes back as `cursor` for the page after it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Page<T> {
    /// The items of this page.
    pub items: Vec<T>,
    /// The cursor of the next page, if there is one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub next: Option<String>,
}

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

/// How the service is.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Status {
    /// The version of the service.
    pub version: String,
    /// What the service can do now.
    pub state: ServiceState,
}

/// First-run set-up.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Setup {
    /// The code that the service wrote to its folder at its first start.
    pub code: SecretText,
    /// The organisation's name.
    pub organisation: String,
    /// The first administrator's sign-in name.
    pub sign_in_name: String,
    /// The first administrator's name for people.
    pub display_name: String,
    /// The first administrator's sign-in password.
    pub password: SecretText,
    /// The passphrase that protects the root key file. Left out when the service manager holds the
    /// root key.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub passphrase: Option<SecretText>,
}

/// Locks the vault.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LockVault {
    /// Recorded in the audit log.
    pub reason: String,
}

/// Prepares a change of the root key.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ChangeRootKey {
    /// The passphrase of the present root key file.
    pub passphrase: SecretText,
    /// The passphrase of the next one: at least 12 characters; it may be the same.
    pub new_passphrase: SecretText,
    /// Recorded in the audit log.
    pub reason: String,
}

/// Changes the organisation's key.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ChangeKey {
    /// Recorded in the audit log.
    pub reason: String,
}

/// The keys of the vault.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct KeysView {
    /// The name of the root key that counts.
    pub root_key: String,
    /// The name of the next one, while it changes.
    #[schema(required)]
    pub next_root_key: Option<String>,
    /// The services that run.
    pub services: Vec<ServiceView>,
    /// The number of the organisation's key: 1 at set-up, one more with each change.
    pub organisation_key: i32,
    /// How many data keys are still under the former organisation key, while they move.
    #[schema(required)]
    pub left: Option<i64>,
}

/// A service that runs on the same database.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ServiceView {
    /// Where it runs.
    pub name: String,
    /// When it was heard of last.
    pub seen_at: DateTime<Utc>,
    /// Whether it has the next root key, where that changes.
    pub ready: bool,
}

/// Opens the vault.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Unlock {
    /// The passphrase of the root key file.
    pub passphrase: SecretText,
}

//! What every part of the interface uses.

use std::collections::BTreeMap;

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
    /// What sort of problem, as a URN that does not change: `urn:jexlin:problem:…`.
    #[serde(rename = "type")]
    pub kind: String,
    /// The sort of problem in words.
    pub title: String,
    /// The HTTP status.
    pub status: u16,
    /// What happened here.
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
    /// `needs-setup`, `locked`, `ready` or `no-database`.
    pub state: String,
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

/// Opens the vault.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Unlock {
    /// The passphrase of the root key file.
    pub passphrase: SecretText,
}

//! Set-up, keys, and how the service is.

use chrono::{DateTime, Utc};
use jexlin_core::status::ServiceState;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::SecretText;

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

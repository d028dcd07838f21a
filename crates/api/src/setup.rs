//! Set-up, keys, and the state of the service.

use chrono::{DateTime, Utc};
use jexlin_core::status::ServiceState;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::SecretText;

/// The state of the service.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Status {
    /// The version of the service.
    pub version: String,
    /// The state.
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
    /// The first administrator's display name.
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
    /// The reason, recorded in the audit log.
    pub reason: String,
}

/// Prepares a change of the root key.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ChangeRootKey {
    /// The passphrase of the current root key file.
    pub passphrase: SecretText,
    /// The passphrase of the next root key: at least 12 characters; it may be the same.
    pub new_passphrase: SecretText,
    /// The reason, recorded in the audit log.
    pub reason: String,
}

/// Changes the passphrase of a root key file; the root key stays.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ChangeRootPassphrase {
    /// The present passphrase.
    pub passphrase: SecretText,
    /// The new passphrase: at least 12 characters.
    pub new_passphrase: SecretText,
    /// The reason, recorded in the audit log.
    pub reason: String,
}

/// Changes the organisation's key.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ChangeKey {
    /// The reason, recorded in the audit log.
    pub reason: String,
}

/// The keys of the vault.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct KeysView {
    /// The name of the current root key.
    pub root_key: String,
    /// The name of the next root key, during a change.
    #[schema(required)]
    pub next_root_key: Option<String>,
    /// The services that run.
    pub services: Vec<ServiceView>,
    /// The number of the organisation's key: 1 at set-up, one more with each change.
    pub organisation_key: i32,
    /// How many data keys still use the old organisation key, during a change.
    #[schema(required)]
    pub left: Option<i64>,
}

/// A service on the same database.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ServiceView {
    /// Where it runs.
    pub name: String,
    /// When it was last seen.
    pub seen_at: DateTime<Utc>,
    /// Whether it has the next root key, during a change.
    pub ready: bool,
}

/// Opens the vault.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Unlock {
    /// The passphrase of the root key file.
    pub passphrase: SecretText,
}

//! Credentials and their attachments.

use jexlin_core::policy::Finding;
use jexlin_core::upkeep::CheckOutcome;

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use jexlin_core::access::Level;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

use crate::SecretText;
use crate::kinds::KindField;

/// A credential in a list.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CredentialItem {
    /// Identifier.
    pub id: Uuid,
    /// Its name.
    pub name: String,
    /// The folder that it is in.
    pub folder: Uuid,
    /// The path of that folder.
    pub place: String,
    /// Its kind.
    pub kind: String,
    /// Its user name.
    pub user_name: String,
    /// The name of its device.
    #[schema(required)]
    pub device: Option<String>,
    /// The device's identifier.
    #[schema(required)]
    pub device_id: Option<Uuid>,
    /// The outcome of the last check.
    #[schema(required)]
    pub check: Option<CheckOutcome>,
    /// Whether it has a gate.
    pub gated: bool,
    /// The caller's level.
    pub level: Level,
    /// Its tags.
    pub tags: Vec<String>,
    /// Whether it is one of the caller's favourites.
    pub favourite: bool,
    /// Its findings, if the caller may see its password.
    pub findings: Vec<Finding>,
    /// When it was last changed.
    pub changed_at: DateTime<Utc>,
    /// Whether it has grants of its own.
    pub own_grants: bool,
    /// Whether a grant gives somebody else access to it.
    pub shared: bool,
    /// Whether it is only similar to what was searched.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub near: bool,
}

/// Something wrong with a credential.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FindingItem {
    /// The finding.
    pub name: Finding,
    /// Details.
    #[serde(skip_serializing_if = "String::is_empty", default)]
    pub detail: String,
    /// What to do.
    pub advice: String,
}

/// A file that belongs to a credential.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Attachment {
    /// Identifier.
    pub id: Uuid,
    /// Its name.
    pub name: String,
    /// Its size in bytes.
    pub size: i64,
    /// When it was added.
    pub made_at: DateTime<Utc>,
    /// Who did.
    #[schema(required)]
    pub made_by: Option<String>,
}

/// A credential without its secrets.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Credential {
    /// Identifier.
    pub id: Uuid,
    /// Its name.
    pub name: String,
    /// The folder that it is in.
    pub folder: Uuid,
    /// The path of that folder.
    pub place: String,
    /// Its kind.
    pub kind: String,
    /// The fields that are not secret.
    pub fields: BTreeMap<String, String>,
    /// The names of the secret fields that have a value.
    pub secret_fields: Vec<String>,
    /// The device that it is an account on.
    #[schema(required)]
    pub device: Option<Uuid>,
    /// The device's name.
    #[schema(required)]
    pub device_name: Option<String>,
    /// The line of a shell that connects to the device as this account, for whoever may list the
    /// device.
    #[schema(required)]
    pub connection_line: Option<String>,
    /// Whether it is an account on a type of device where an account can change its own password.
    pub rotates_itself: bool,
    /// The caller's level.
    pub level: Level,
    /// The conditions of its gates, if it has any.
    #[schema(required)]
    pub gate: Option<crate::GateConditions>,
    /// The upkeep state, for an account on a device.
    #[schema(required)]
    pub upkeep: Option<crate::Upkeep>,
    /// Extra fields, beside those of its kind.
    pub extra: Vec<KindField>,
    /// Facts of fields that need no reveal: the public key of a key pair, the names in a
    /// certificate, whether codes count up.
    pub facts: BTreeMap<String, BTreeMap<String, String>>,
    /// Its tags.
    pub tags: Vec<String>,
    /// Whether it is one of the caller's favourites.
    pub favourite: bool,
    /// Its findings, if the caller may see its password.
    pub findings: Vec<FindingItem>,
    /// The files that belong to it.
    pub attachments: Vec<Attachment>,
    /// When it was added.
    pub created_at: DateTime<Utc>,
    /// Who did.
    #[schema(required)]
    pub created_by: Option<String>,
    /// When it was last changed.
    pub changed_at: DateTime<Utc>,
    /// Who did.
    #[schema(required)]
    pub changed_by: Option<String>,
    /// For `If-Match`.
    pub revision: i32,
}

/// Who revealed or used a credential.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct UseItem {
    /// The person.
    pub person: String,
    /// The last time.
    pub last_at: DateTime<Utc>,
    /// The number of times.
    pub times: i64,
}

/// A credential whose secret somebody has seen.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SeenItem {
    /// The credential.
    pub credential: Uuid,
    /// Its path.
    pub path: String,
    /// The name of its device, if it is an account on one.
    pub device: Option<String>,
    /// The caller's level on it.
    pub level: Option<Level>,
    /// When they saw it last.
    pub last_at: DateTime<Utc>,
    /// How often.
    pub times: i64,
    /// Whether its password was changed since then.
    pub changed_since: bool,
}

/// Adds a credential.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewCredential {
    /// The folder.
    pub folder: Uuid,
    /// Its kind.
    pub kind: String,
    /// Its name.
    pub name: String,
    /// The fields that are not secret.
    #[serde(default)]
    pub fields: BTreeMap<String, String>,
    /// The main secret; generated when left out, if its kind allows that.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<SecretText>,
    /// The other secret fields.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub secrets: BTreeMap<String, SecretText>,
    /// The device that it is an account on.
    #[serde(default)]
    pub device: Option<Uuid>,
    /// Extra fields, beside those of its kind.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub extra: Vec<KindField>,
    /// Its tags.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub tags: Vec<String>,
    /// The policy to generate by, where the folder lets people choose.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub policy: Option<Uuid>,
    /// The type of SSH key to generate: `ed25519`, `ecdsa-p256`, `ecdsa-p384`, `rsa-3072` or
    /// `rsa-4096`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<String>,
    /// The reason, kept with the values in the history.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub reason: String,
    /// The revision of the kind that the form shows; another one is refused.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kind_revision: Option<i32>,
}

/// Edits a credential; what is left out stays as it is.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct EditCredential {
    /// A new name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// The new folder.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub folder: Option<Uuid>,
    /// Fields to set; an empty text removes a field.
    #[serde(default)]
    pub fields: BTreeMap<String, String>,
    /// A new password in the vault; the device is not changed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<SecretText>,
    /// New values of other secret fields; former values stay in the history.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub secrets: BTreeMap<String, SecretText>,
    /// Secret fields to remove, other than the password; their values stay in the history.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub remove_secrets: Vec<String>,
    /// Generates a new password in the vault; the device is not changed.
    #[serde(default)]
    pub generate: bool,
    /// The device that it is an account on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub device: Option<Uuid>,
    /// Removes it from its device.
    #[serde(default)]
    pub no_device: bool,
    /// Extra fields, beside those of its kind.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub extra: Option<Vec<KindField>>,
    /// Its tags.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tags: Option<Vec<String>>,
    /// The policy to generate by, where the folder lets people choose.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub policy: Option<Uuid>,
    /// The type of SSH key to generate: `ed25519`, `ecdsa-p256`, `ecdsa-p384`, `rsa-3072` or
    /// `rsa-4096`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<String>,
    /// The reason, kept with the values in the history.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub reason: String,
    /// The revision of the kind that the form shows; another one is refused.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kind_revision: Option<i32>,
}

/// Copies a credential with its current values.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CopyCredential {
    /// The folder to copy it to.
    pub folder: Uuid,
    /// The new name; its own when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
}

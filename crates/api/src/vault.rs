//! Folders, credentials, devices, reveals.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use jexlin_core::access::Level;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

use crate::SecretText;

/// A folder as the asker sees it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Folder {
    /// Identifier.
    pub id: Uuid,
    /// The folder that it lives in; none at the top.
    pub parent: Option<Uuid>,
    /// Its name.
    pub name: String,
    /// Its path.
    pub path: String,
    /// Whether grants from above stop here.
    pub closed: bool,
    /// The level held; none when it is only on the path to something deeper.
    #[schema(value_type = Option<String>)]
    pub level: Option<Level>,
    /// For `If-Match`.
    pub version: i32,
}

/// Adds a folder.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewFolder {
    /// Where; none at the top.
    #[serde(default)]
    pub parent: Option<Uuid>,
    /// Its name.
    pub name: String,
    /// Whether grants from above stop here.
    #[serde(default)]
    pub closed: bool,
}

/// Changes a folder; what is left out stays.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct ChangeFolder {
    /// A new name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// A new place.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub parent: Option<Uuid>,
    /// To the top of the tree.
    #[serde(default)]
    pub to_top: bool,
    /// Whether grants from above stop here.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub closed: Option<bool>,
}

/// A kind of credential.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Kind {
    /// Its name in the interface.
    pub name: String,
    /// Its label for people.
    pub label: String,
    /// Whether a password is generated when none is given.
    pub generates: bool,
    /// Its fields, in the order of the form.
    pub fields: Vec<KindField>,
}

/// A field of a kind.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct KindField {
    /// Its name in the interface.
    pub name: String,
    /// Its label for people.
    pub label: String,
    /// `text`, `url`, `note` and `date` are for all; `secret`, `secret-note` and `one-time-seed` take a
    /// reveal.
    pub holds: String,
    /// Whether it must be there.
    pub required: bool,
}

/// A credential in a list.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CredentialItem {
    /// Identifier.
    pub id: Uuid,
    /// Its name.
    pub name: String,
    /// The folder it lives in.
    pub folder: Uuid,
    /// The path of that folder.
    pub place: String,
    /// Its kind.
    pub kind: String,
    /// Its user name.
    pub user_name: String,
    /// The name of its device.
    pub device: Option<String>,
    /// Its identifier.
    pub device_id: Option<Uuid>,
    /// What the last check found.
    pub check: Option<String>,
    /// Whether a gate stands before it.
    pub gated: bool,
    /// The level held.
    #[schema(value_type = String)]
    pub level: Level,
}

/// A credential without its secrets.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Credential {
    /// Identifier.
    pub id: Uuid,
    /// Its name.
    pub name: String,
    /// The folder it lives in.
    pub folder: Uuid,
    /// The path of that folder.
    pub place: String,
    /// Its kind.
    pub kind: String,
    /// The fields that are not secret.
    pub fields: BTreeMap<String, String>,
    /// The names of the secret fields that have a value.
    pub secret_fields: Vec<String>,
    /// The device that it is an account of.
    pub device: Option<Uuid>,
    /// The device's name.
    pub device_name: Option<String>,
    /// The level held.
    #[schema(value_type = String)]
    pub level: Level,
    /// The gate that counts, if any.
    pub gate: Option<crate::Gate>,
    /// What upkeep knows, for an account of a device.
    pub upkeep: Option<crate::Upkeep>,
    /// When it was made.
    pub created_at: DateTime<Utc>,
    /// When it was last changed.
    pub changed_at: DateTime<Utc>,
    /// For `If-Match`.
    pub version: i32,
}

/// Adds a credential.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewCredential {
    /// Where.
    pub folder: Uuid,
    /// Its kind.
    pub kind: String,
    /// Its name.
    pub name: String,
    /// The fields that are not secret.
    #[serde(default)]
    pub fields: BTreeMap<String, String>,
    /// The main secret; left out, one is generated where the kind says so.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<SecretText>,
    /// The other secret fields.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub secrets: BTreeMap<String, SecretText>,
    /// The device that it is an account of.
    #[serde(default)]
    pub device: Option<Uuid>,
}

/// Changes a credential; what is left out stays.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct ChangeCredential {
    /// A new name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// A new place.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub folder: Option<Uuid>,
    /// Fields to set; an empty text takes one away.
    #[serde(default)]
    pub fields: BTreeMap<String, String>,
    /// A new password for the vault alone; the device is not told.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<SecretText>,
    /// New values of other secret fields; the former ones stay in the history.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub secrets: BTreeMap<String, SecretText>,
    /// Generates a new password for the vault alone.
    #[serde(default)]
    pub generate: bool,
    /// The device that it is an account of.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub device: Option<Uuid>,
    /// Takes it off its device.
    #[serde(default)]
    pub no_device: bool,
}

/// Asks for a secret.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Reveal {
    /// Which field; `password` when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub field: Option<String>,
    /// Which version; the current one when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub version: Option<i32>,
}

/// A one-time code (RFC 6238), after its audit event is durable.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OneTimeCode {
    /// The digits.
    pub digits: SecretText,
    /// So many seconds of it are left.
    pub left: u16,
    /// How long each code lives, in seconds.
    pub period: u16,
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
    /// `candidate`, `current`, `previous` or `discarded`.
    pub state: String,
    /// When it was made.
    pub made_at: DateTime<Utc>,
    /// By whom; nobody for upkeep.
    pub made_by: Option<String>,
    /// `typed`, `generated` or `rotated`.
    pub made_how: String,
}

/// A device.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Device {
    /// Identifier.
    pub id: Uuid,
    /// Its name.
    pub name: String,
    /// The folder it lives in.
    pub folder: Uuid,
    /// The path of that folder.
    pub place: String,
    /// `ssh`.
    pub connector: String,
    /// Host name or address.
    pub address: String,
    /// TCP port.
    pub port: u16,
    /// The host key pinned at first contact.
    pub host_key: Option<String>,
    /// The credential that its accounts are changed with.
    pub operator: Option<Uuid>,
    /// How many credentials are its accounts.
    pub accounts: i64,
    /// For `If-Match`.
    pub version: i32,
}

/// Adds a device.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewDevice {
    /// Where.
    pub folder: Uuid,
    /// Its name.
    pub name: String,
    /// Host name or address.
    pub address: String,
    /// TCP port; 22 when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub port: Option<u16>,
    /// The credential that its accounts are changed with.
    #[serde(default)]
    pub operator: Option<Uuid>,
}

/// Changes a device; what is left out stays.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct ChangeDevice {
    /// A new name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// A new address; the pinned host key is forgotten.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
    /// A new port; the pinned host key is forgotten.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub port: Option<u16>,
    /// The credential that its accounts are changed with.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub operator: Option<Uuid>,
    /// Forgets the pinned host key: the next contact pins anew.
    #[serde(default)]
    pub accept_new_key: bool,
}

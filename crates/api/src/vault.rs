//! Folders, credentials, devices, reveals.

use jexlin_core::policy::Finding;
use jexlin_core::upkeep::{CheckOutcome, ConnectorKind};
use jexlin_core::vault::{ValueOrigin, VersionState};
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
    #[schema(required)]
    pub parent: Option<Uuid>,
    /// Its name.
    pub name: String,
    /// Its path.
    pub path: String,
    /// Whether grants from above stop here.
    pub closed: bool,
    /// The level held; none when it is only on the path to something deeper.
    pub level: Option<Level>,
    /// Whether a grant stands on itself.
    pub own_grants: bool,
    /// Whether a grant to somebody else than the asker reaches it.
    pub shared: bool,
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
pub struct EditFolder {
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
    /// Whether it is one of the organisation's own.
    pub own: bool,
    /// Whether no new credential can be of it.
    pub retired: bool,
    /// For `If-Match`; it changes with the kind.
    pub version: i32,
}

/// Adds a kind of the organisation's own.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewKind {
    /// Its name in the interface: small letters, digits and `-`.
    pub name: String,
    /// Its label for people.
    pub label: String,
    /// Whether the main secret, in the field `password`, is generated when none is given.
    #[serde(default)]
    pub generates: bool,
    /// Its fields, in the order of the form.
    pub fields: Vec<KindField>,
}

/// Changes a kind of the organisation's own; what is left out stays.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct EditKind {
    /// A new label.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
    /// Whether the main secret is generated.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub generates: Option<bool>,
    /// All fields anew. What credentials have in fields that are gone stays with them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fields: Option<Vec<KindField>>,
    /// Retires it, so that no new credential can be of it, or takes that back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub retired: Option<bool>,
}

/// A field of a kind.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct KindField {
    /// Its name in the interface.
    pub name: String,
    /// Its label for people.
    pub label: String,
    /// `text`, `url` (one a line), `note`, `date` and `certificate` are for all; `secret`,
    /// `secret-note`, `one-time-seed`, `ssh-key` and `private-key` take a reveal.
    pub holds: String,
    /// Whether it must be there.
    #[serde(default)]
    pub required: bool,
    /// What helps somebody who fills it in.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub help: String,
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
    #[schema(required)]
    pub device: Option<String>,
    /// Its identifier.
    #[schema(required)]
    pub device_id: Option<Uuid>,
    /// What the last check found.
    #[schema(required)]
    pub check: Option<CheckOutcome>,
    /// Whether a gate stands before it.
    pub gated: bool,
    /// The level held.
    pub level: Level,
    /// Its tags.
    pub tags: Vec<String>,
    /// Whether it is one of the asker's favourites.
    pub favourite: bool,
    /// What is wrong with it, as far as the asker may see its password.
    pub findings: Vec<String>,
    /// When it was last changed.
    pub changed_at: DateTime<Utc>,
    /// Whether a grant stands on itself.
    pub own_grants: bool,
    /// Whether a grant to somebody else than the asker reaches it.
    pub shared: bool,
    /// Whether it only resembles what was looked for.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub near: bool,
}

/// Something wrong with a credential.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FindingItem {
    /// What.
    pub name: Finding,
    /// More about it.
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
    /// Bytes.
    pub size: i64,
    /// When it was added.
    pub made_at: DateTime<Utc>,
    /// By whom.
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
    #[schema(required)]
    pub device: Option<Uuid>,
    /// The device's name.
    #[schema(required)]
    pub device_name: Option<String>,
    /// The level held.
    pub level: Level,
    /// The gate that counts, if any.
    #[schema(required)]
    pub gate: Option<crate::GateConditions>,
    /// What upkeep knows, for an account of a device.
    #[schema(required)]
    pub upkeep: Option<crate::Upkeep>,
    /// Fields that it has for itself alone, beside those of its kind.
    pub extra: Vec<KindField>,
    /// What may be known of fields without a reveal: the public half of a key, the names in a
    /// certificate, whether codes count up.
    pub facts: BTreeMap<String, BTreeMap<String, String>>,
    /// Its tags.
    pub tags: Vec<String>,
    /// Whether it is one of the asker's favourites.
    pub favourite: bool,
    /// What is wrong with it, as far as the asker may see its password.
    pub findings: Vec<FindingItem>,
    /// The files that belong to it.
    pub attachments: Vec<Attachment>,
    /// When it was made.
    pub created_at: DateTime<Utc>,
    /// By whom.
    #[schema(required)]
    pub created_by: Option<String>,
    /// When it was last changed.
    pub changed_at: DateTime<Utc>,
    /// By whom.
    #[schema(required)]
    pub changed_by: Option<String>,
    /// For `If-Match`.
    pub version: i32,
}

/// Who looked at or used a credential.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct UseItem {
    /// Who.
    pub person: String,
    /// When last.
    pub last_at: DateTime<Utc>,
    /// How often.
    pub times: i64,
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
    /// Fields that it has for itself alone, beside those of its kind.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub extra: Vec<KindField>,
    /// Its tags.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub tags: Vec<String>,
    /// The policy to generate by, where the folder lets people choose.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub policy: Option<Uuid>,
    /// The type of SSH key to make: `ed25519`, `ecdsa-p256`, `ecdsa-p384`, `rsa-3072` or
    /// `rsa-4096`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<String>,
    /// Why; it stays with the values in the history.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub why: String,
    /// The version of the kind that the form was made by; another one is refused.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kind_version: Option<i32>,
}

/// Changes a credential; what is left out stays.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct EditCredential {
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
    /// Fields that it has for itself alone, beside those of its kind.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub extra: Option<Vec<KindField>>,
    /// Its tags.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tags: Option<Vec<String>>,
    /// The policy to generate by, where the folder lets people choose.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub policy: Option<Uuid>,
    /// The type of SSH key to make: `ed25519`, `ecdsa-p256`, `ecdsa-p384`, `rsa-3072` or
    /// `rsa-4096`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<String>,
    /// Why; it stays with the values in the history.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub why: String,
    /// The version of the kind that the form was made by; another one is refused.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kind_version: Option<i32>,
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

/// Puts a former value back as the current one.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Restore {
    /// Which field; `password` when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub field: Option<String>,
    /// Which version.
    pub version: i32,
    /// Why.
    #[serde(default)]
    pub why: String,
}

/// Copies a credential with its current values.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CopyCredential {
    /// Into which folder.
    pub folder: Uuid,
    /// Under which name; its own when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
}

/// A seed of one-time codes out of a picture; nothing is stored.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SeedInPicture {
    /// The `otpauth://` address.
    pub address: SecretText,
}

/// A one-time code (RFC 6238 or RFC 4226), after its audit event is durable.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OneTimeCode {
    /// The digits.
    pub digits: SecretText,
    /// So many seconds of it are left; none where codes count up.
    #[schema(required)]
    pub left: Option<u16>,
    /// How long each code lives, in seconds; none where codes count up.
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
    /// When it was made.
    pub made_at: DateTime<Utc>,
    /// By whom; nobody for upkeep.
    #[schema(required)]
    pub made_by: Option<String>,
    /// Where the value came from.
    pub made_how: ValueOrigin,
    /// Why, if somebody said.
    pub why: String,
    /// What may be known of it without a reveal.
    pub facts: BTreeMap<String, String>,
}

/// An identity that a device may prove, or shows.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DeviceIdentity {
    /// `host-key`, `host-authority` or `fingerprint`.
    pub kind: String,
    /// Its SHA-256 fingerprint, as `ssh-keygen -l` prints it.
    pub fingerprint: String,
    /// What [`EditDevice::identity`] takes.
    pub line: String,
}

/// A password that may be sent to a device.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DeviceBinding {
    /// The credential.
    pub credential: Uuid,
    /// Its path; empty for somebody who may not know of it.
    pub credential_path: String,
    /// `account` or `operator`.
    pub role: String,
    /// The login name.
    pub login: String,
    /// When somebody who could see the password confirmed it.
    pub confirmed_at: DateTime<Utc>,
    /// Why no password is sent; empty when the binding is in force.
    pub suspended: String,
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
    pub connector: ConnectorKind,
    /// Host name or address.
    pub address: String,
    /// TCP port.
    pub port: u16,
    /// What it must prove before a password is sent to it; empty while nobody has confirmed it.
    pub identity: Vec<DeviceIdentity>,
    /// The passwords that may be sent to it.
    pub bindings: Vec<DeviceBinding>,
    /// The credential that its accounts are changed with.
    #[schema(required)]
    pub operator: Option<Uuid>,
    /// How many credentials are its accounts.
    pub accounts: i64,
    /// Since when no job uses its operator.
    #[schema(required)]
    pub paused_at: Option<DateTime<Utc>>,
    /// Why.
    pub paused_why: String,
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
    /// What it must prove: host keys, `known_hosts` lines, SSHFP records or SHA-256 fingerprints.
    #[serde(default)]
    pub identity: Vec<String>,
}

/// Changes a device; what is left out stays. A new address, port or identity suspends its bindings.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct EditDevice {
    /// A new name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// A new address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
    /// A new port.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub port: Option<u16>,
    /// The credential that its accounts are changed with.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub operator: Option<Uuid>,
    /// It has no operator from now on.
    #[serde(default)]
    pub no_operator: bool,
    /// What it must prove from now on; an empty list forgets what was confirmed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub identity: Option<Vec<String>>,
}

/// What confirming bindings came to.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct BindingsConfirmed {
    /// How many are confirmed now.
    pub confirmed: usize,
    /// How many are left for somebody who may see the password.
    pub left: usize,
    /// The device as it is now.
    pub device: Device,
}

/// Where a credential may be used as an operator.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct OperatorScope {
    /// On these devices.
    #[serde(default)]
    pub devices: Vec<Uuid>,
    /// On the devices in and below these folders.
    #[serde(default)]
    pub folders: Vec<Uuid>,
    /// The paths of both; not read when it is sent.
    #[serde(default)]
    pub paths: Vec<String>,
}

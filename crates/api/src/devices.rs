//! Devices.

use chrono::{DateTime, Utc};
use jexlin_core::access::Level;
use jexlin_core::dialogue::InstructionsKind;
use jexlin_core::upkeep::{ConnectorKind, FoundAccount, IdentityKind, JobState, Role};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// An identity that a device may prove, or shows.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DeviceIdentity {
    /// Its kind.
    pub kind: IdentityKind,
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
    /// Its path; empty for a caller without access to it.
    pub credential_path: String,
    /// Whether it is the account's own password, the operator's, or that of whoever signs in to the
    /// jump host.
    pub role: Role,
    /// The login name.
    pub login: String,
    /// When a person who may reveal the password confirmed it.
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
    /// The folder that it is in.
    pub folder: Uuid,
    /// The path of that folder.
    pub place: String,
    /// The caller's level on that folder.
    #[schema(required)]
    pub level: Option<Level>,
    /// Its type.
    pub connector: ConnectorKind,
    /// What it runs, as a label.
    pub platform: String,
    /// What it is, in words.
    pub description: String,
    /// Host name or address.
    pub address: String,
    /// TCP port.
    pub port: u16,
    /// The identities that it must prove before a password is sent to it; empty until confirmed.
    pub identity: Vec<DeviceIdentity>,
    /// The version of the dialogue or recipe that it is talked to by, where its type needs one.
    #[schema(required)]
    pub dialogue: Option<Uuid>,
    /// The name of that and its version, such as `ridge-switch 2`.
    pub dialogue_name: String,
    /// The passwords that may be sent to it.
    pub bindings: Vec<DeviceBinding>,
    /// The operator: the credential that changes its accounts' passwords.
    #[schema(required)]
    pub operator: Option<Uuid>,
    /// The jump host through which it is reached; none when directly.
    #[schema(required)]
    pub jump_host: Option<DeviceJumpHost>,
    /// Whether its operator can list the accounts that there are. By a dialogue or a recipe only if
    /// that says how.
    pub lists_accounts: bool,
    /// The number of credentials that are its accounts.
    pub accounts: i64,
    /// The main device, if this one is a further account family of it.
    #[schema(required)]
    pub family_of: Option<Uuid>,
    /// The other account families on the same machine, the main device first.
    pub families: Vec<DeviceFamily>,
    /// Since when it is paused: no job uses its operator.
    #[schema(required)]
    pub paused_at: Option<DateTime<Utc>>,
    /// The reason.
    pub paused_why: String,
    /// For `If-Match`.
    pub revision: i32,
}

/// Another account family on the same machine, with its own type, address, identity and operator.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DeviceFamily {
    /// Its identifier.
    pub id: Uuid,
    /// Its name.
    pub name: String,
    /// Its type.
    pub connector: ConnectorKind,
    /// The number of credentials that are its accounts.
    pub accounts: i64,
}

/// The SSH host through which a device is reached.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DeviceJumpHost {
    /// Its device; none for a caller without access to the folder of that.
    #[schema(required)]
    pub device: Option<Uuid>,
    /// Its path; empty for the same caller.
    pub path: String,
    /// The credential that signs in there.
    #[schema(required)]
    pub account: Option<Uuid>,
}

/// Adds a device.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewDevice {
    /// The folder.
    pub folder: Uuid,
    /// Its name.
    pub name: String,
    /// Host name or address.
    pub address: String,
    /// Its type; `ssh` when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub connector: Option<ConnectorKind>,
    /// What it runs, as a label: at most 100 characters.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub platform: String,
    /// What it is, in words.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub description: String,
    /// TCP port; the usual one of its type when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub port: Option<u16>,
    /// The operator: the credential that changes its accounts' passwords.
    #[serde(default)]
    pub operator: Option<Uuid>,
    /// The jump account: the credential of an account on an SSH host, through which the device is
    /// reached.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub jump_account: Option<Uuid>,
    /// The version of the dialogue or recipe that it is talked to by.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub dialogue: Option<Uuid>,
    /// Its identities: host keys, `known_hosts` lines, SSHFP records or SHA-256 fingerprints.
    #[serde(default)]
    pub identity: Vec<String>,
    /// The main device, to add a further account family to it; it must be in the same folder.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub family_of: Option<Uuid>,
}

/// An account that a device says it has.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DeviceAccount {
    /// What the device says.
    #[serde(flatten)]
    pub found: FoundAccount,
    /// The credential that is its password; none when the vault has none, or none that the caller
    /// may know of.
    #[schema(required)]
    pub credential: Option<Uuid>,
    /// The path of that.
    pub credential_path: String,
    /// Whether the vault has its password, whoever may know of that.
    pub in_vault: bool,
}

/// The accounts that a device says it has, as they were last read.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DeviceAccounts {
    /// The accounts, by login.
    pub items: Vec<DeviceAccount>,
    /// The state of the last reading; none when they were never read.
    #[schema(required)]
    pub state: Option<JobState>,
    /// Why the last reading failed.
    pub message: String,
    /// When they were last read, or asked for.
    #[schema(required)]
    pub at: Option<DateTime<Utc>>,
}

/// A type of devices.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DeviceType {
    /// The type.
    pub connector: ConnectorKind,
    /// What such a device is called.
    pub label: String,
    /// The port where it usually listens.
    pub port: u16,
    /// The kind of credential that its accounts usually are.
    pub account_kind: String,
    /// What operators and accounts must be allowed to do there.
    pub needed_rights: String,
    /// An operator can change the passwords of other accounts.
    pub changes_as_operator: bool,
    /// An account can change its own password.
    pub changes_as_itself: bool,
    /// By what such a device is talked to, where an administrator says that.
    #[schema(required)]
    pub instructions: Option<InstructionsKind>,
}

/// Edits a device; what is left out stays as it is. A new address, port, identity or dialogue
/// suspends its bindings; so does another jump host where the device proves no identity.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct EditDevice {
    /// A new name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// The folder to move it into. Its accounts stay in their folders.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub folder: Option<Uuid>,
    /// What it runs, as a label: at most 100 characters.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub platform: Option<String>,
    /// What it is, in words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
    /// A new address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
    /// A new port.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub port: Option<u16>,
    /// The operator: the credential that changes its accounts' passwords.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub operator: Option<Uuid>,
    /// Removes its operator.
    #[serde(default)]
    pub no_operator: bool,
    /// The jump account: the credential of an account on an SSH host, through which the device is
    /// reached.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub jump_account: Option<Uuid>,
    /// Has it reached directly.
    #[serde(default)]
    pub no_jump_host: bool,
    /// Another version of a dialogue or recipe, or another one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub dialogue: Option<Uuid>,
    /// New identities; an empty list removes the confirmed ones.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub identity: Option<Vec<String>>,
}

/// The result of confirming bindings.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct BindingsConfirmed {
    /// The number of bindings confirmed.
    pub confirmed: usize,
    /// The number left for a person who may reveal the password.
    pub left: usize,
    /// The device.
    pub device: Device,
}

/// Where a credential may be used as an operator, or to sign in to a jump host.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct OperatorScope {
    /// On these devices.
    #[serde(default)]
    pub devices: Vec<Uuid>,
    /// On the devices in and below these folders.
    #[serde(default)]
    pub folders: Vec<Uuid>,
    /// The paths of both; ignored in a request.
    #[serde(default)]
    pub paths: Vec<String>,
}

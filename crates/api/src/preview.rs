//! Previews of changes to access.

use jexlin_core::access::Level;
use jexlin_core::people::PersonState;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

use crate::access_issues::TransferStewardship;
use crate::grants::{EditGrant, NewGrant};

/// A change to preview.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Change {
    /// A new grant.
    Grant(NewGrant),
    /// An edited grant.
    Terms(GrantTerms),
    /// A removed grant.
    Withdraw(Uuid),
    /// A member added to a group.
    Join(Membership),
    /// A member removed from a group.
    Leave(Membership),
    /// A folder that is moved, closed or reopened.
    Folder(FolderChange),
    /// Credentials that are moved.
    Credentials(CredentialsMoved),
    /// A device that is moved.
    Device(DeviceMoved),
    /// Stewardship transferred from one person to another.
    TransferStewardship(TransferStewardship),
    /// Credentials whose tags change.
    Tags(TagsChanged),
}

/// Credentials whose tags change: grants limited to a tag may then apply to them, or no longer.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TagsChanged {
    /// The credentials; at most 200.
    pub ids: Vec<Uuid>,
    /// Tags to add.
    #[serde(default)]
    pub add: Vec<String>,
    /// Tags to remove.
    #[serde(default)]
    pub remove: Vec<String>,
}

/// A grant and how it is edited.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct GrantTerms {
    /// The grant.
    pub id: Uuid,
    /// The edit.
    pub to: EditGrant,
}

/// A person or group in a group.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Membership {
    /// The group.
    pub group: Uuid,
    /// The member: a person or a group.
    pub member: Uuid,
}

/// A folder that is moved, closed or reopened.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FolderChange {
    /// The folder.
    pub id: Uuid,
    /// The folder to move it into.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub parent: Option<Uuid>,
    /// Move it to the top.
    #[serde(default)]
    pub to_top: bool,
    /// Close or reopen it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub closed: Option<bool>,
}

/// Credentials that are moved.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CredentialsMoved {
    /// The credentials.
    pub ids: Vec<Uuid>,
    /// The folder to move them into.
    pub to: Uuid,
}

/// A device that is moved.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DeviceMoved {
    /// The device.
    pub id: Uuid,
    /// The folder to move it into.
    pub to: Uuid,
}

/// Who would gain or lose what by a change.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Preview {
    /// A summary in one sentence.
    pub sentence: String,
    /// How many people gain access or a higher level.
    pub gaining: usize,
    /// How many people lose access or get a lower level.
    pub losing: usize,
    /// The changes by person; the first 500.
    pub shifts: Vec<Shift>,
    /// Whether there are more.
    pub more: bool,
}

/// The change for one person.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Shift {
    /// The person.
    pub person: Uuid,
    /// The name of the person or group.
    pub name: String,
    /// Whether they can sign in.
    pub state: PersonState,
    /// The level before.
    #[schema(required)]
    pub before: Option<Level>,
    /// The level after.
    #[schema(required)]
    pub after: Option<Level>,
    /// The number of credentials.
    pub credentials: u64,
    /// How many of these have a gate.
    pub gated: u64,
    /// The number of folders, empty ones included.
    pub folders: u64,
}

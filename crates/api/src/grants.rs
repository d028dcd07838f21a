//! Grants.

use chrono::{DateTime, Utc};
use jexlin_core::access::Level;
use jexlin_core::audit::TargetType;
use jexlin_core::people::SubjectType;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// A grant.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Grant {
    /// Identifier.
    pub id: Uuid,
    /// The folder or credential that it is on.
    pub target_type: TargetType,
    /// The folder or credential that it is on.
    pub target: Uuid,
    /// The path of the folder or credential that it is on.
    pub place: String,
    /// The target: a folder or a credential.
    pub subject_type: SubjectType,
    /// The grantee.
    pub subject: Uuid,
    /// The name of the person or group.
    pub subject_name: String,
    /// The level.
    pub level: Level,
    /// When it expires, if it does.
    #[schema(required)]
    pub ends_at: Option<DateTime<Utc>>,
    /// The note stored with it.
    pub note: String,
    /// Only credentials of this kind in the folder.
    #[schema(required)]
    pub only_kind: Option<String>,
    /// Only credentials with this tag in the folder.
    #[schema(required)]
    pub only_tag: Option<String>,
    /// Whether it includes former values, where the level includes values.
    pub history: bool,
    /// For `If-Match`.
    pub revision: i32,
}

/// Edits a grant; what is left out stays as it is.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct EditGrant {
    /// The level.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub level: Option<Level>,
    /// When it expires.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ends_at: Option<DateTime<Utc>>,
    /// Removes the expiry.
    #[serde(default)]
    pub no_expiry: bool,
    /// A note.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
    /// Whether it includes former values.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub history: Option<bool>,
}

/// Adds a grant: on exactly one of `folder` and `credential`, to exactly one of `person` and
/// `group`.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewGrant {
    /// On a folder.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub folder: Option<Uuid>,
    /// On a credential.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub credential: Option<Uuid>,
    /// To a person.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub person: Option<Uuid>,
    /// To a group.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub group: Option<Uuid>,
    /// The level.
    pub level: Level,
    /// When it expires, if it does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ends_at: Option<DateTime<Utc>>,
    /// A note.
    #[serde(default)]
    pub note: String,
    /// Only credentials of this kind in the folder.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub only_kind: Option<String>,
    /// Only credentials with this tag in the folder.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub only_tag: Option<String>,
    /// Without access to former values.
    #[serde(default)]
    pub without_history: bool,
}

//! Groups.

use jexlin_core::people::SubjectType;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// A group.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Group {
    /// Identifier.
    pub id: Uuid,
    /// Its name.
    pub name: String,
    /// Its members.
    pub members: Vec<Member>,
    /// For `If-Match`.
    pub revision: i32,
}

/// A member of a group.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Member {
    /// The person or group.
    pub id: Uuid,
    /// Whether it is a person or a group.
    #[serde(rename = "type")]
    pub subject_type: SubjectType,
    /// Its name.
    pub name: String,
}

/// Adds or renames a group.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewGroup {
    /// Its name.
    pub name: String,
}

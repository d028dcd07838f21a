//! Folders.

use jexlin_core::access::Level;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// A folder as the caller sees it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Folder {
    /// Identifier.
    pub id: Uuid,
    /// The folder above; none at the top.
    #[schema(required)]
    pub parent: Option<Uuid>,
    /// Its name.
    pub name: String,
    /// Its path.
    pub path: String,
    /// Whether it is closed: it does not inherit grants.
    pub closed: bool,
    /// The caller's level; none if the folder only leads to something below it.
    pub level: Option<Level>,
    /// Whether it has grants of its own.
    pub own_grants: bool,
    /// Whether a grant gives somebody else access to it.
    pub shared: bool,
    /// For `If-Match`.
    pub revision: i32,
}

/// Adds a folder.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewFolder {
    /// The folder above; none at the top.
    #[serde(default)]
    pub parent: Option<Uuid>,
    /// Its name.
    pub name: String,
    /// Whether it is closed: it does not inherit grants.
    #[serde(default)]
    pub closed: bool,
}

/// Edits a folder; what is left out stays as it is.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct EditFolder {
    /// A new name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// The new folder.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub parent: Option<Uuid>,
    /// Move it to the top.
    #[serde(default)]
    pub to_top: bool,
    /// Whether it is closed: it does not inherit grants.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub closed: Option<bool>,
}

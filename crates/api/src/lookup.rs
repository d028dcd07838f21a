//! From paths to identifiers.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// What a path can name.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum LookupType {
    /// A credential.
    Credential,
    /// A folder.
    Folder,
    /// A device.
    Device,
}

impl LookupType {
    /// The word for it.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Credential => "credential",
            Self::Folder => "folder",
            Self::Device => "device",
        }
    }
}

/// What a path names.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct LookedUp {
    /// What it is.
    #[serde(rename = "type")]
    pub found: LookupType,
    /// Its identifier.
    pub id: Uuid,
}

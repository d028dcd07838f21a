//! Access requests.

use chrono::{DateTime, Utc};
use jexlin_core::access::AccessRequestState;
use jexlin_core::access::Level;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// A credential of which the caller sees the name only.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Discoverable {
    /// Identifier.
    pub id: Uuid,
    /// Its name.
    pub name: String,
    /// The path of its folder.
    pub place: String,
    /// Its kind.
    pub kind: String,
    /// Whether an access request of the caller for it is waiting.
    pub asked: bool,
}

/// Asks the stewards of a credential for a level on it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewAccessRequest {
    /// The credential.
    pub credential: Uuid,
    /// `list`, `use`, `reveal` or `edit`.
    pub level: Level,
    /// The reason.
    pub reason: String,
}

/// An access request.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AccessRequest {
    /// Identifier.
    pub id: Uuid,
    /// The credential.
    pub credential: Uuid,
    /// Its path.
    pub place: String,
    /// Who asked.
    pub person: Uuid,
    /// The name of the person or group.
    pub person_name: String,
    /// The requested level.
    pub level: Level,
    /// The reason.
    pub reason: String,
    /// Its state.
    pub state: AccessRequestState,
    /// When it was asked.
    pub asked_at: DateTime<Utc>,
    /// Who decided.
    #[schema(required)]
    pub decided_by: Option<String>,
    /// Their comment.
    pub comment: String,
    /// Whether the caller may decide it.
    pub may_decide: bool,
}

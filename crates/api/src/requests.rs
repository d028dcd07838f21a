//! Requests to pass a gate.

use chrono::{DateTime, Utc};
use jexlin_core::gate::RequestState;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// A request.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Request {
    /// Identifier.
    pub id: Uuid,
    /// The credential.
    pub credential: Uuid,
    /// Its path.
    pub credential_path: String,
    /// The requester.
    pub person: Uuid,
    /// Their name.
    pub person_name: String,
    /// The reason.
    pub reason: String,
    /// The requested duration, in minutes.
    pub minutes: i32,
    /// Its state.
    pub state: RequestState,
    /// How many gates require an approval.
    pub approvals_needed: i64,
    /// How many have one.
    pub approvals_given: i64,
    /// When it was asked.
    pub asked_at: DateTime<Utc>,
    /// When it expires if it is not decided, or not used once approved.
    pub expires_at: DateTime<Utc>,
    /// When it was decided.
    #[schema(required)]
    pub decided_at: Option<DateTime<Utc>>,
    /// Who decided.
    #[schema(required)]
    pub decided_by: Option<String>,
    /// Their comment.
    pub comment: String,
    /// The checkout made with it.
    #[schema(required)]
    pub checkout: Option<Uuid>,
    /// Whether the caller may approve or refuse it.
    pub may_decide: bool,
}

/// Asks to pass a gate.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewRequest {
    /// The credential.
    pub credential: Uuid,
    /// The reason.
    #[serde(default)]
    pub reason: String,
    /// The requested duration, in minutes.
    pub minutes: i32,
}

/// A decision on a request.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Decide {
    /// A comment for the requester.
    #[serde(default)]
    pub comment: String,
}

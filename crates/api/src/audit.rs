//! The audit log.

use jexlin_core::audit::{Action, Outcome, TargetType};
use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// An audit event.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AuditEvent {
    /// Identifier.
    pub id: Uuid,
    /// Its position in the log; none until the next checkpoint.
    #[schema(required)]
    pub leaf: Option<i64>,
    /// The time.
    pub at: DateTime<Utc>,
    /// What was done, such as `credential.reveal`.
    #[schema(value_type = Action)]
    pub action: String,
    /// Who did it.
    #[schema(required)]
    pub actor: Option<Uuid>,
    /// Their name at the time.
    pub actor_name: String,
    /// The target.
    #[schema(required)]
    pub target: Option<Uuid>,
    /// The type of the target.
    #[schema(value_type = TargetType)]
    pub target_type: String,
    /// Its name at the time.
    pub target_name: String,
    /// The address that the request came from.
    pub origin: String,
    /// The outcome.
    pub outcome: Outcome,
    /// Details.
    pub detail: BTreeMap<String, String>,
}

/// The log's public key and newest signed checkpoint.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AuditKey {
    /// The verifier key, in the form of a C2SP signed note.
    pub key: String,
    /// The newest signed checkpoint, if there is one.
    #[schema(required)]
    pub checkpoint: Option<String>,
}

/// A proof that an event is in the tree of a checkpoint (RFC 9162).
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct InclusionProof {
    /// The event's position in the log.
    pub leaf: i64,
    /// The hashes from the leaf to the root, base64.
    pub path: Vec<String>,
    /// The signed checkpoint whose root they lead to.
    pub checkpoint: String,
}

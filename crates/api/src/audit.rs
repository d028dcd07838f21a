//! The audit log.

use jexlin_core::audit::{Action, Outcome, TargetType};
use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// One line of what happened.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AuditEvent {
    /// Identifier.
    pub id: Uuid,
    /// Its place in the tree; none for the moment until it is sealed.
    #[schema(required)]
    pub leaf: Option<i64>,
    /// When.
    pub at: DateTime<Utc>,
    /// What was done, such as `credential.reveal`.
    #[schema(value_type = Action)]
    pub action: String,
    /// Who did it.
    #[schema(required)]
    pub actor: Option<Uuid>,
    /// Their name at the time.
    pub actor_name: String,
    /// On what.
    #[schema(required)]
    pub target: Option<Uuid>,
    /// What that is.
    #[schema(value_type = TargetType)]
    pub target_type: String,
    /// Its name at the time.
    pub target_name: String,
    /// From which address.
    pub origin: String,
    /// What became of it.
    pub outcome: Outcome,
    /// More about it.
    pub detail: BTreeMap<String, String>,
}

/// The log's public key and newest signed checkpoint.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AuditKey {
    /// The verifier key, in the form of a C2SP signed note.
    pub key: String,
    /// The newest signed checkpoint, if anything is sealed.
    #[schema(required)]
    pub checkpoint: Option<String>,
}

/// A proof that an event is in the tree of a checkpoint (RFC 9162).
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct InclusionProof {
    /// The event's place.
    pub leaf: i64,
    /// The hashes from the leaf to the root, base64.
    pub path: Vec<String>,
    /// The signed checkpoint whose root they lead to.
    pub checkpoint: String,
}

/// What waits for whoever looks, and what is wrong with what they look after.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Overview {
    /// Requests that they may decide.
    pub to_decide: Vec<crate::Request>,
    /// Their own requests that wait or may be checked out.
    pub asked: Vec<crate::Request>,
    /// What they hold.
    pub held: Vec<crate::Checkout>,
    /// Jobs that failed or are in doubt, newest first.
    pub troubled_jobs: Vec<crate::Job>,
    /// Accounts whose last check was not `in-sync`.
    pub troubled_accounts: Vec<crate::Upkeep>,
    /// Accounts due within a day.
    pub due_soon: Vec<crate::Upkeep>,
    /// Devices that they are a steward of and that get no passwords: with suspended bindings, or
    /// paused.
    pub devices: Vec<crate::Device>,
    /// Acts that wait for their confirmation, and their own that wait.
    pub pending: Vec<crate::PendingAct>,
    /// Which acts need a second person, for holders of `people` or `policy`.
    pub two_people: Vec<crate::TwoPeople>,
}

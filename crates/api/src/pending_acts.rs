//! Acts that wait for a second person.

use chrono::{DateTime, Utc};
use jexlin_core::gate::{ControlState, PendingActState, PendingActType};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// A sensitive change that waits for a second person.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PendingAct {
    /// Identifier.
    pub id: Uuid,
    /// The type of act.
    pub act: PendingActType,
    /// What would be done, in a sentence.
    pub summary: String,
    /// The target.
    pub target_name: String,
    /// Its state.
    pub state: PendingActState,
    /// Who proposed it.
    pub proposed_by: String,
    /// When it was proposed.
    pub proposed_at: DateTime<Utc>,
    /// When it expires if it is not decided.
    pub expires_at: DateTime<Utc>,
    /// When it was decided.
    #[schema(required)]
    pub decided_at: Option<DateTime<Utc>>,
    /// The comment on the decision.
    pub comment: String,
    /// Whether the caller may confirm it.
    pub may_confirm: bool,
    /// Whether the caller proposed it.
    pub own: bool,
}

/// The result of confirming an act.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ActConfirmed {
    /// The act.
    pub act: PendingAct,
    /// The new secret, if a client's was renewed; shown only once.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub secret: Option<crate::SecretText>,
}

/// Whether an act needs a second person.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TwoPeople {
    /// The act, in a phrase.
    pub what: String,
    /// Whether it needs a second person.
    pub state: ControlState,
}

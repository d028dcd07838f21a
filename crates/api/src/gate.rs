//! Gates, requests, checkouts.

use chrono::{DateTime, Utc};
use jexlin_core::audit::TargetType;
use jexlin_core::gate::{CheckoutEnd, ControlState, PendingActState, PendingActType, RequestState};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// A gate.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Gate {
    /// Identifier.
    pub id: Uuid,
    /// What it stands at.
    pub target_type: TargetType,
    /// What it stands at.
    pub target: Uuid,
    /// The path of what it stands at.
    pub place: String,
    /// A reason must be given.
    pub needs_reason: bool,
    /// One of the approvers must approve.
    pub needs_approval: bool,
    /// Who may approve.
    pub approvers: Vec<crate::Member>,
    /// The longest time of a checkout, in minutes.
    pub longest_minutes: i32,
    /// Only one person at a time holds a checkout.
    pub one_holder: bool,
    /// The password is rotated when the checkout ends.
    pub rotate_on_return: bool,
    /// For `If-Match`.
    pub version: i32,
}

/// Sets or changes a gate.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewGate {
    /// At a folder.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub folder: Option<Uuid>,
    /// At a device: for all its accounts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub device: Option<Uuid>,
    /// At a credential.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub credential: Option<Uuid>,
    /// A reason must be given.
    #[serde(default)]
    pub needs_reason: bool,
    /// People who may approve; none and no groups: no approval is needed.
    #[serde(default)]
    pub approver_people: Vec<Uuid>,
    /// Groups who may approve.
    #[serde(default)]
    pub approver_groups: Vec<Uuid>,
    /// The longest time of a checkout, in minutes.
    pub longest_minutes: i32,
    /// Only one person at a time holds a checkout.
    #[serde(default)]
    pub one_holder: bool,
    /// The password is rotated when the checkout ends.
    #[serde(default)]
    pub rotate_on_return: bool,
}

/// What all gates on the way to a credential ask for together.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct GateConditions {
    /// A reason must be given.
    pub needs_reason: bool,
    /// Somebody must approve.
    pub needs_approval: bool,
    /// The longest time of a checkout, in minutes.
    pub longest_minutes: i32,
    /// Only one person at a time holds a checkout.
    pub one_holder: bool,
    /// The password is rotated when the checkout ends.
    pub rotate_on_return: bool,
    /// The gates; each that wants an approval needs one of its own approvers.
    pub gates: Vec<Gate>,
}

/// A request.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Request {
    /// Identifier.
    pub id: Uuid,
    /// The credential.
    pub credential: Uuid,
    /// Its path.
    pub credential_path: String,
    /// Who asks.
    pub person: Uuid,
    /// Their name.
    pub person_name: String,
    /// Why.
    pub reason: String,
    /// For how long, in minutes.
    pub minutes: i32,
    /// Its state.
    pub state: RequestState,
    /// How many gates want an approval.
    pub approvals_needed: i64,
    /// How many have one.
    pub approvals_given: i64,
    /// When it was asked.
    pub asked_at: DateTime<Utc>,
    /// When it expires unanswered, or unused once approved.
    pub expires_at: DateTime<Utc>,
    /// When it was decided.
    #[schema(required)]
    pub decided_at: Option<DateTime<Utc>>,
    /// By whom.
    #[schema(required)]
    pub decided_by: Option<String>,
    /// What they said.
    pub comment: String,
    /// The checkout that came of it.
    #[schema(required)]
    pub checkout: Option<Uuid>,
    /// Whether the one who looks may approve or refuse it.
    pub may_decide: bool,
}

/// Asks to pass a gate.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewRequest {
    /// The credential.
    pub credential: Uuid,
    /// Why.
    #[serde(default)]
    pub reason: String,
    /// For how long, in minutes.
    pub minutes: i32,
}

/// A decision on a request.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Decide {
    /// What to tell the one who asked.
    #[serde(default)]
    pub comment: String,
}

/// A checkout.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Checkout {
    /// Identifier.
    pub id: Uuid,
    /// The credential.
    pub credential: Uuid,
    /// Its path.
    pub credential_path: String,
    /// Who holds it.
    pub person: Uuid,
    /// Their name.
    pub person_name: String,
    /// Why.
    pub reason: String,
    /// Since when.
    pub starts_at: DateTime<Utc>,
    /// Until when.
    pub ends_at: DateTime<Utc>,
    /// When it was ended, if it was.
    #[schema(required)]
    pub ended_at: Option<DateTime<Utc>>,
    /// How it was ended.
    #[schema(required)]
    pub ended_how: Option<CheckoutEnd>,
    /// Whether the password is rotated when it ends.
    pub rotate_on_return: bool,
}

/// Takes a checkout: with an approved request, or, where no approval is needed, with a reason.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewCheckout {
    /// The approved request.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub request: Option<Uuid>,
    /// The credential, where no approval is needed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub credential: Option<Uuid>,
    /// Why, where no approval is needed.
    #[serde(default)]
    pub reason: String,
    /// For how long, where no approval is needed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub minutes: Option<i32>,
}

/// A sensitive change that waits for a second person.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PendingAct {
    /// Identifier.
    pub id: Uuid,
    /// What waits.
    pub act: PendingActType,
    /// What would be done, in a sentence.
    pub summary: String,
    /// What it is about.
    pub target_name: String,
    /// Its state.
    pub state: PendingActState,
    /// Who proposed it.
    pub proposed_by: String,
    /// When.
    pub proposed_at: DateTime<Utc>,
    /// When it expires undecided.
    pub expires_at: DateTime<Utc>,
    /// When it was decided.
    #[schema(required)]
    pub decided_at: Option<DateTime<Utc>>,
    /// What was said then.
    pub comment: String,
    /// Whether the asker may confirm it.
    pub may_confirm: bool,
    /// Whether the asker proposed it.
    pub own: bool,
}

/// What confirming came to.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ActConfirmed {
    /// The act.
    pub act: PendingAct,
    /// The new secret, where a client's was renewed; told once.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub secret: Option<crate::SecretText>,
}

/// Whether an act needs a second person here.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TwoPeople {
    /// What for, in a phrase.
    pub what: String,
    /// Whether it takes a second person.
    pub state: ControlState,
}

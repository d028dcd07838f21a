//! Gates.

use jexlin_core::audit::TargetType;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// A gate.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Gate {
    /// Identifier.
    pub id: Uuid,
    /// The folder, device or credential that it is on.
    pub target_type: TargetType,
    /// The folder, device or credential that it is on.
    pub target: Uuid,
    /// The path of what it is on.
    pub place: String,
    /// Whether a reason is required.
    pub needs_reason: bool,
    /// Whether one of the approvers must approve.
    pub needs_approval: bool,
    /// Who may approve.
    pub approvers: Vec<crate::Member>,
    /// The maximum duration of a checkout, in minutes.
    pub max_minutes: i32,
    /// Whether only one person at a time may check out.
    pub one_holder: bool,
    /// Whether the password is rotated when the checkout ends.
    pub rotate_on_return: bool,
    /// For `If-Match`.
    pub revision: i32,
}

/// Sets or changes a gate.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewGate {
    /// On a folder.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub folder: Option<Uuid>,
    /// On a device: for all its accounts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub device: Option<Uuid>,
    /// On a credential.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub credential: Option<Uuid>,
    /// Whether a reason is required.
    #[serde(default)]
    pub needs_reason: bool,
    /// People who may approve; without people and groups, no approval is needed.
    #[serde(default)]
    pub approver_people: Vec<Uuid>,
    /// Groups whose members may approve.
    #[serde(default)]
    pub approver_groups: Vec<Uuid>,
    /// The maximum duration of a checkout, in minutes.
    pub max_minutes: i32,
    /// Whether only one person at a time may check out.
    #[serde(default)]
    pub one_holder: bool,
    /// Whether the password is rotated when the checkout ends.
    #[serde(default)]
    pub rotate_on_return: bool,
}

/// The conditions of all gates of a credential together.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct GateConditions {
    /// Whether a reason is required.
    pub needs_reason: bool,
    /// Whether an approval is required.
    pub needs_approval: bool,
    /// The maximum duration of a checkout, in minutes.
    pub max_minutes: i32,
    /// Whether only one person at a time may check out.
    pub one_holder: bool,
    /// Whether the password is rotated when the checkout ends.
    pub rotate_on_return: bool,
    /// The gates; each that requires an approval needs one of its own approvers.
    pub gates: Vec<Gate>,
}

//! Checkouts.

use chrono::{DateTime, Utc};
use jexlin_core::gate::CheckoutEnd;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// A checkout.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Checkout {
    /// Identifier.
    pub id: Uuid,
    /// The credential.
    pub credential: Uuid,
    /// Its path.
    pub credential_path: String,
    /// The holder.
    pub person: Uuid,
    /// Their name.
    pub person_name: String,
    /// The reason.
    pub reason: String,
    /// When it began.
    pub starts_at: DateTime<Utc>,
    /// When it ends.
    pub ends_at: DateTime<Utc>,
    /// When it ended, if it has.
    #[schema(required)]
    pub ended_at: Option<DateTime<Utc>>,
    /// How it ended.
    #[schema(required)]
    pub ended_how: Option<CheckoutEnd>,
    /// Whether the password is rotated when it ends.
    pub rotate_on_return: bool,
}

/// Checks a credential out: with an approved request, or with a reason where no approval is needed.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewCheckout {
    /// The approved request.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub request: Option<Uuid>,
    /// The credential, where no approval is needed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub credential: Option<Uuid>,
    /// The reason, where no approval is needed.
    #[serde(default)]
    pub reason: String,
    /// The duration in minutes, where no approval is needed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub minutes: Option<i32>,
}

//! Grants and explanations.

use chrono::{DateTime, Utc};
use jexlin_core::access::Level;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// A grant.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Grant {
    /// Identifier.
    pub id: Uuid,
    /// `folder` or `credential`: what it stands on.
    pub target_sort: String,
    /// What it stands on.
    pub target: Uuid,
    /// The path of what it stands on.
    pub place: String,
    /// `person` or `group`.
    pub subject_sort: String,
    /// Who it is for.
    pub subject: Uuid,
    /// Their name.
    pub subject_name: String,
    /// What it gives.
    #[schema(value_type = String)]
    pub level: Level,
    /// When it ends, if ever.
    pub ends_at: Option<DateTime<Utc>>,
    /// Why it was given.
    pub note: String,
}

/// Grants something. Exactly one of `folder` and `credential`, one of `person` and `group`.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewGrant {
    /// On a folder.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub folder: Option<Uuid>,
    /// On a credential.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub credential: Option<Uuid>,
    /// To a person.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub person: Option<Uuid>,
    /// To a group.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub group: Option<Uuid>,
    /// What it gives.
    #[schema(value_type = String)]
    pub level: Level,
    /// When it ends, if ever.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ends_at: Option<DateTime<Utc>>,
    /// Why.
    #[serde(default)]
    pub note: String,
}

/// By which ways somebody holds a level on a credential, or why not.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Explanation {
    /// The person's name.
    pub person: String,
    /// The credential's path.
    pub credential: String,
    /// The level held.
    #[schema(value_type = Option<String>)]
    pub level: Option<Level>,
    /// A sentence that says the same.
    pub sentence: String,
    /// Every grant that reaches or would reach them; those that count first.
    pub ways: Vec<Way>,
}

/// One way.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Way {
    /// The grant.
    pub grant: Uuid,
    /// What it gives.
    #[schema(value_type = String)]
    pub level: Level,
    /// Where it stands.
    pub stands_on: String,
    /// The groups between the person and the grant.
    pub through: Vec<String>,
    /// Why it does not count, if it does not.
    pub stopped: Option<String>,
}

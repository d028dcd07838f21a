//! Access issues, and transfers of stewardship.

use jexlin_core::access::IssueType;
use jexlin_core::access::Level;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// An access issue: something wrong with who has access.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AccessIssue {
    /// The type of issue.
    #[serde(rename = "type")]
    pub issue_type: IssueType,
    /// The folder without a steward, or the grant.
    pub id: Uuid,
    /// The path of the folder, or of what the grant is on.
    pub place: String,
    /// The grantee.
    #[serde(default)]
    pub subject_name: String,
    /// The level.
    #[schema(required)]
    pub level: Option<Level>,
    /// What to do.
    pub advice: String,
}

/// Fixes access issues, all of it or nothing.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FixAccessIssues {
    /// The grants to remove.
    #[serde(default)]
    pub withdraw: Vec<Uuid>,
    /// The folders without a steward that the person or group becomes the steward of.
    #[serde(default)]
    pub folders: Vec<Uuid>,
    /// The person.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub person: Option<Uuid>,
    /// The group.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub group: Option<Uuid>,
}

/// The result of fixing access issues.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AccessIssuesFixed {
    /// The number of grants removed.
    pub withdrawn: usize,
    /// The number of folders that have a steward again.
    pub appointed: usize,
}

/// Transfers stewardship that one person holds by grants to them to another person.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TransferStewardship {
    /// The current steward.
    pub from: Uuid,
    /// The new steward.
    pub to: Uuid,
    /// Only grants on this folder, below it, or on credentials in it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub below: Option<Uuid>,
    /// The current steward stays a steward.
    #[serde(default)]
    pub keep: bool,
}

/// The result of a transfer of stewardship.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct StewardshipTransferred {
    /// The paths of what was transferred.
    pub places: Vec<String>,
}

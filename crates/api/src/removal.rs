//! The bin.

use chrono::{DateTime, Utc};
use jexlin_core::vault::RemovedType;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// One act of removing whose things are in the bin.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Removed {
    /// Identifier; restored or purged by this.
    pub id: Uuid,
    /// What it is.
    pub target_type: RemovedType,
    /// Where it was.
    pub path: String,
    /// How many credentials are in it.
    pub credentials: i32,
    /// When.
    pub removed_at: DateTime<Utc>,
    /// By whom.
    #[schema(required)]
    pub removed_by: Option<String>,
    /// When it is purged, if nobody puts it back; none when nothing is purged by itself.
    #[schema(required)]
    pub purged_from: Option<DateTime<Utc>>,
}

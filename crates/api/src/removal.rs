//! The bin.

use chrono::{DateTime, Utc};
use jexlin_core::vault::RemovedType;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// A removal: what was removed together and is in the bin.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Removed {
    /// Identifier, used to restore or purge it.
    pub id: Uuid,
    /// The type of what was removed.
    pub target_type: RemovedType,
    /// Its former path.
    pub path: String,
    /// How many credentials are in it.
    pub credentials: i32,
    /// When it was removed.
    pub removed_at: DateTime<Utc>,
    /// Who removed it.
    #[schema(required)]
    pub removed_by: Option<String>,
    /// When it is purged unless it is restored; none if the organisation never purges
    /// automatically.
    #[schema(required)]
    pub purged_from: Option<DateTime<Utc>>,
}

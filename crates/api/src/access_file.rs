//! Access files.

use jexlin_core::audit::TargetType;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::preview::Preview;

/// What applying an access file would change.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AccessCompared {
    /// The changes in the order in which they would be made; the first 1,000.
    pub changes: Vec<AccessChange>,
    /// The number of changes.
    pub count: usize,
    /// Identifies the current state of what the file covers; pass it to `apply` as `expect`.
    pub state: String,
    /// Who would gain or lose what.
    pub preview: Preview,
}

/// One change that an access file asks for.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AccessChange {
    /// The line in the file.
    #[schema(required)]
    pub line: Option<usize>,
    /// The type of what changes.
    pub target_type: TargetType,
    /// Its path or name.
    pub place: String,
    /// The change in words.
    pub text: String,
}

/// The result of applying an access file.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AccessApplied {
    /// The number of changes made.
    pub count: usize,
}

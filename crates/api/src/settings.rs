//! Settings of the organisation.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The settings of an organisation.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SettingsItem {
    /// The settings, with defaults for those that are not set.
    pub settings: jexlin_core::policy::settings::Settings,
    /// For `If-Match`.
    pub revision: i32,
}

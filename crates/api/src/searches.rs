//! Tags and saved searches.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// A tag, and how many credentials have it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TagItem {
    /// The tag.
    pub tag: String,
    /// The number of credentials with it that the caller may list.
    pub times: i64,
}

/// A saved search, or a saved view of one of the console's tables.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SavedSearch {
    /// Identifier.
    pub id: Uuid,
    /// Its name.
    pub name: String,
    /// The query parameters, as in `GET /api/v1/credentials`; of a view, what is chosen of its table.
    pub filters: std::collections::BTreeMap<String, String>,
}

/// Saves a search.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewSavedSearch {
    /// Its name.
    pub name: String,
    /// The query parameters.
    pub filters: std::collections::BTreeMap<String, String>,
    /// The page of the console whose table this is a view of. `filters` are then `sort`, `q`,
    /// `filter` and `columns`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub page: Option<String>,
}

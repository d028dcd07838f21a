//! Pages of lists.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// One page of a list. `next` goes back as `cursor` for the page after it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Page<T> {
    /// The items of this page.
    pub items: Vec<T>,
    /// The cursor of the next page, if there is one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub next: Option<String>,
}

/// A part of a table that the service sorts: rows from any on.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Table<T> {
    /// How many rows the whole table has.
    pub total: i64,
    /// The rows of this part.
    pub items: Vec<T>,
}

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

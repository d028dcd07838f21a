//! Tags of credentials.

use jexlin_api::{Page, TagItem};
use jexlin_app::commands;
use rocket::{Route, get, routes};

use super::payload::Sent;
use crate::error::ApiResult;
use crate::guards::Unit;

pub fn routes() -> Vec<Route> {
    routes![tags]
}

/// Lists the tags of the credentials that the caller may list. Not paged.
#[utoipa::path(
    operation_id = "tags",
    context_path = "",
    responses((status = 200, body = Page<TagItem>)),
)]
#[get("/api/v1/tags")]
pub async fn tags(mut unit: Unit) -> ApiResult<Sent<Page<TagItem>>> {
    Ok(Sent(commands::tags::tags(&mut unit).await?))
}

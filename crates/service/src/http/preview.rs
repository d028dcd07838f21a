//! Previews: a change is made, looked at, and not kept.

use jexlin_api::{Change, Preview};
use jexlin_app::commands;
use rocket::{Route, post, routes};

use super::payload::{Call, Sent};
use crate::error::ApiResult;

pub fn routes() -> Vec<Route> {
    routes![preview]
}

/// Shows who would gain or lose what by a change: exactly, in people and credentials, without names
/// of credentials. Needs what the change needs, and changes nothing.
#[utoipa::path(
    operation_id = "preview",
    context_path = "",
    request_body = Change,
    responses((status = 200, body = Preview)),
)]
#[post("/api/v1/preview", data = "<body>")]
pub async fn preview(body: Call<Change>) -> ApiResult<Sent<Preview>> {
    let Call(mut unit, change) = body;
    Ok(Sent(commands::preview::preview(&mut unit, change).await?))
}

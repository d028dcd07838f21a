//! The first page: what waits, what is held, what failed or is due.

use jexlin_api::Overview;
use jexlin_app::commands;
use rocket::{Route, get, routes};

use super::payload::Sent;
use crate::error::ApiResult;
use crate::guards::Unit;

pub fn routes() -> Vec<Route> {
    routes![overview]
}

/// What waits for the asker, and what is wrong with what they look after.
#[utoipa::path(
    operation_id = "overview",
    context_path = "",
    responses((status = 200, body = Overview)),
)]
#[get("/api/v1/overview")]
pub async fn overview(mut unit: Unit) -> ApiResult<Sent<Overview>> {
    Ok(Sent(commands::overview::overview(&mut unit).await?))
}

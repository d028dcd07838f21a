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

/// Reads what waits for the caller, and problems of what they are a steward of.
#[utoipa::path(
    operation_id = "overview",
    context_path = "",
    responses((status = 200, body = Overview)),
)]
#[get("/api/v1/overview")]
pub async fn overview(mut unit: Unit) -> ApiResult<Sent<Overview>> {
    Ok(Sent(commands::overview::overview(&mut unit).await?))
}

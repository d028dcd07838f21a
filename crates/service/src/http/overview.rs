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
    params(
        ("minutes_ahead" = Option<i32>, Query, description = "How many minutes the caller's clock is ahead of UTC; days are counted by it.", example = 60),
    ),
    responses((status = 200, body = Overview)),
)]
#[get("/api/v1/overview?<minutes_ahead>")]
pub async fn overview(mut unit: Unit, minutes_ahead: Option<i32>) -> ApiResult<Sent<Overview>> {
    let minutes_ahead = minutes_ahead.unwrap_or_default();
    Ok(Sent(
        commands::overview::overview(&mut unit, minutes_ahead).await?,
    ))
}

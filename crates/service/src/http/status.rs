//! How the service is, for everybody.

use jexlin_api::Status;
use jexlin_app::App;
use jexlin_app::commands;
use rocket::{Route, State, get, routes};

use super::payload::Sent;
use crate::error::ApiResult;

pub fn routes() -> Vec<Route> {
    routes![live, ready, status]
}

#[get("/health/live")]
fn live() -> &'static str {
    "alive\n"
}

#[get("/health/ready")]
async fn ready(app: &State<App>) -> ApiResult<&'static str> {
    commands::status::demand_ready(app).await?;
    Ok("ready\n")
}

/// Reads the state of the service.
#[utoipa::path(
    operation_id = "status",
    context_path = "",
    responses((status = 200, body = Status)),
)]
#[get("/api/v1/status")]
pub async fn status(app: &State<App>) -> Sent<Status> {
    Sent(commands::status::status(app).await)
}

//! The first set-up, and locking and unlocking the vault.

use jexlin_api::{Setup, Status};
use jexlin_app::App;
use jexlin_app::commands;
use rocket::{Route, State, post, routes};

use super::payload::{Body, Sent};
use crate::error::ApiResult;
use crate::guards::Visitor;

pub fn routes() -> Vec<Route> {
    routes![setup]
}

/// First-run set-up: the organisation, its first administrator, and the root key.
#[utoipa::path(
    operation_id = "setup",
    context_path = "",
    request_body = Setup,
    responses((status = 200, body = Status)),
)]
#[post("/api/v1/setup", data = "<body>")]
pub async fn setup(
    app: &State<App>,
    body: Body<Setup>,
    visitor: Visitor,
) -> ApiResult<Sent<Status>> {
    Ok(Sent(
        commands::setup::setup(app, body.0, &visitor.stranger).await?,
    ))
}

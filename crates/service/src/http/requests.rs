//! Requests to pass a gate.

use jexlin_api::{Decide, NewRequest, Page, Request};
use jexlin_app::commands;
use jexlin_core::gate::RequestState;
use rocket::{Route, get, post, routes};

use super::payload::{Call, Sent, encode_page, id, maybe_id, paging, word};
use crate::error::ApiResult;
use crate::guards::Unit;

pub fn routes() -> Vec<Route> {
    routes![list, read, ask, approve, refuse, withdraw]
}

/// Lists requests: the caller's own, and those that the caller may decide; newest first.
#[utoipa::path(
    operation_id = "requests_list",
    context_path = "",
    params(("state" = Option<RequestState>, Query), ("credential" = Option<String>, Query), ("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)),
    responses((status = 200, body = Page<Request>)),
)]
#[get("/api/v1/requests?<state>&<credential>&<cursor>&<limit>")]
pub async fn list(
    mut unit: Unit,
    state: Option<&str>,
    credential: Option<&str>,
    cursor: Option<&str>,
    limit: Option<i64>,
) -> ApiResult<Sent<Page<Request>>> {
    Ok(Sent(encode_page(
        commands::requests::list(
            &mut unit,
            word("state", state)?,
            maybe_id(credential)?,
            paging(cursor, limit)?,
        )
        .await?,
    )))
}

/// Reads a request.
#[utoipa::path(
    operation_id = "requests_read",
    context_path = "",
    responses((status = 200, body = Request)),
)]
#[get("/api/v1/requests/<request>")]
pub async fn read(mut unit: Unit, request: &str) -> ApiResult<Sent<Request>> {
    Ok(Sent(
        commands::requests::read(&mut unit, id(request)?).await?,
    ))
}

/// Asks to pass a gate.
#[utoipa::path(
    operation_id = "requests_ask",
    context_path = "",
    request_body = NewRequest,
    responses((status = 200, body = Request)),
)]
#[post("/api/v1/requests", data = "<body>")]
pub async fn ask(body: Call<NewRequest>) -> ApiResult<Sent<Request>> {
    let Call(mut unit, body) = body;
    Ok(Sent(commands::requests::ask(&mut unit, body).await?))
}

/// Approves a request of somebody else.
#[utoipa::path(
    operation_id = "requests_approve",
    context_path = "",
    request_body = Decide,
    responses((status = 200, body = Request)),
)]
#[post("/api/v1/requests/<request>/approve", data = "<body>")]
pub async fn approve(request: &str, body: Call<Decide>) -> ApiResult<Sent<Request>> {
    let Call(mut unit, body) = body;
    Ok(Sent(
        commands::requests::approve(&mut unit, id(request)?, body).await?,
    ))
}

/// Refuses a request of somebody else.
#[utoipa::path(
    operation_id = "requests_refuse",
    context_path = "",
    request_body = Decide,
    responses((status = 200, body = Request)),
)]
#[post("/api/v1/requests/<request>/refuse", data = "<body>")]
pub async fn refuse(request: &str, body: Call<Decide>) -> ApiResult<Sent<Request>> {
    let Call(mut unit, body) = body;
    Ok(Sent(
        commands::requests::refuse(&mut unit, id(request)?, body).await?,
    ))
}

/// Withdraws a request of the caller.
#[utoipa::path(
    operation_id = "requests_withdraw",
    context_path = "",
    request_body = Decide,
    responses((status = 200, body = Request)),
)]
#[post("/api/v1/requests/<request>/withdraw", data = "<body>")]
pub async fn withdraw(request: &str, body: Call<Decide>) -> ApiResult<Sent<Request>> {
    let Call(mut unit, body) = body;
    Ok(Sent(
        commands::requests::withdraw(&mut unit, id(request)?, body).await?,
    ))
}

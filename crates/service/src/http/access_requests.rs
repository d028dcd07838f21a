//! What somebody sees the name of and no more, where the organisation lets them, and asking for it.

use jexlin_api::{AccessRequest, Decide, Discoverable, NewAccessRequest, Page};
use jexlin_app::commands;
use rocket::{Route, get, post, routes};

use super::payload::{Call, Sent, encode_page, id, paging};
use crate::error::ApiResult;
use crate::guards::Unit;

pub fn routes() -> Vec<Route> {
    routes![discoverable, list, ask, grant, refuse, withdraw]
}

/// Lists the names of credentials that the caller has no access to, by a text in the name, where
/// the organisation allows it. Credentials in closed folders are left out.
#[utoipa::path(
    operation_id = "access_requests_discoverable",
    context_path = "",
    params(("find" = String, Query), ("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)),
    responses((status = 200, body = Page<Discoverable>)),
)]
#[get("/api/v1/discoverable?<find>&<cursor>&<limit>")]
pub async fn discoverable(
    mut unit: Unit,
    find: &str,
    cursor: Option<&str>,
    limit: Option<i64>,
) -> ApiResult<Sent<Page<Discoverable>>> {
    Ok(Sent(encode_page(
        commands::access_requests::discoverable(&mut unit, find, paging(cursor, limit)?).await?,
    )))
}

/// Lists access requests: the caller's own, and those for what the caller is a steward of. Waiting
/// ones come first, then the newest.
#[utoipa::path(
    operation_id = "access_requests_list",
    context_path = "",
    params(("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)),
    responses((status = 200, body = Page<AccessRequest>)),
)]
#[get("/api/v1/access-requests?<cursor>&<limit>")]
pub async fn list(
    mut unit: Unit,
    cursor: Option<&str>,
    limit: Option<i64>,
) -> ApiResult<Sent<Page<AccessRequest>>> {
    let page = commands::access_requests::list(&mut unit, paging(cursor, limit)?).await?;
    Ok(Sent(encode_page(page)))
}

/// Asks the stewards of a credential for a level on it.
#[utoipa::path(
    operation_id = "access_requests_ask",
    context_path = "",
    request_body = NewAccessRequest,
    responses((status = 200, body = AccessRequest)),
)]
#[post("/api/v1/access-requests", data = "<body>")]
pub async fn ask(body: Call<NewAccessRequest>) -> ApiResult<Sent<AccessRequest>> {
    let Call(mut unit, body) = body;
    Ok(Sent(commands::access_requests::ask(&mut unit, body).await?))
}

/// Grants an access request of somebody else, as a steward.
#[utoipa::path(
    operation_id = "access_requests_grant",
    context_path = "",
    request_body = Decide,
    responses((status = 200, body = AccessRequest)),
)]
#[post("/api/v1/access-requests/<access_request>/grant", data = "<body>")]
pub async fn grant(access_request: &str, body: Call<Decide>) -> ApiResult<Sent<AccessRequest>> {
    let Call(mut unit, body) = body;
    Ok(Sent(
        commands::access_requests::grant(&mut unit, id(access_request)?, body).await?,
    ))
}

/// Refuses an access request of somebody else, as a steward.
#[utoipa::path(
    operation_id = "access_requests_refuse",
    context_path = "",
    request_body = Decide,
    responses((status = 200, body = AccessRequest)),
)]
#[post("/api/v1/access-requests/<access_request>/refuse", data = "<body>")]
pub async fn refuse(access_request: &str, body: Call<Decide>) -> ApiResult<Sent<AccessRequest>> {
    let Call(mut unit, body) = body;
    Ok(Sent(
        commands::access_requests::refuse(&mut unit, id(access_request)?, body).await?,
    ))
}

/// Withdraws an access request of the caller.
#[utoipa::path(
    operation_id = "access_requests_withdraw",
    context_path = "",
    responses((status = 200, body = AccessRequest)),
)]
#[post("/api/v1/access-requests/<access_request>/withdraw")]
pub async fn withdraw(mut unit: Unit, access_request: &str) -> ApiResult<Sent<AccessRequest>> {
    Ok(Sent(
        commands::access_requests::withdraw(&mut unit, id(access_request)?).await?,
    ))
}

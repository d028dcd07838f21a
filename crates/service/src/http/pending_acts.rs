//! Acts that wait for a second person: proposed by one, confirmed or refused by another who may do
//! the same.

use jexlin_api::{ActConfirmed, Decide, Page, PendingAct};
use jexlin_app::commands;
use rocket::{Route, get, post, routes};

use super::payload::{Call, Sent, id};
use crate::error::ApiResult;
use crate::guards::Unit;

pub fn routes() -> Vec<Route> {
    routes![list, confirm, refuse, withdraw]
}

/// Lists the pending acts that the caller proposed or could confirm; all of them for the duty
/// `audit`. At most the newest 200: an act that is not confirmed expires.
#[utoipa::path(
    operation_id = "pending_acts_list",
    context_path = "",
    params(("waiting" = Option<bool>, Query)),
    responses((status = 200, body = Page<PendingAct>)),
)]
#[get("/api/v1/pending-acts?<waiting>")]
pub async fn list(mut unit: Unit, waiting: Option<bool>) -> ApiResult<Sent<Page<PendingAct>>> {
    Ok(Sent(
        commands::pending_acts::list(&mut unit, waiting).await?,
    ))
}

/// Confirms an act that somebody else proposed, and carries it out.
#[utoipa::path(
    operation_id = "pending_acts_confirm",
    context_path = "",
    request_body = Decide,
    responses((status = 200, body = ActConfirmed)),
)]
#[post("/api/v1/pending-acts/<act>/confirm", data = "<body>")]
pub async fn confirm(act: &str, body: Call<Decide>) -> ApiResult<Sent<ActConfirmed>> {
    let Call(mut unit, body) = body;
    Ok(Sent(
        commands::pending_acts::confirm(&mut unit, id(act)?, body).await?,
    ))
}

/// Refuses an act that somebody else proposed.
#[utoipa::path(
    operation_id = "pending_acts_refuse",
    context_path = "",
    request_body = Decide,
    responses((status = 200, body = PendingAct)),
)]
#[post("/api/v1/pending-acts/<act>/refuse", data = "<body>")]
pub async fn refuse(act: &str, body: Call<Decide>) -> ApiResult<Sent<PendingAct>> {
    let Call(mut unit, body) = body;
    Ok(Sent(
        commands::pending_acts::refuse(&mut unit, id(act)?, body).await?,
    ))
}

/// Withdraws an act that the caller proposed.
#[utoipa::path(
    operation_id = "pending_acts_withdraw",
    context_path = "",
    request_body = Decide,
    responses((status = 200, body = PendingAct)),
)]
#[post("/api/v1/pending-acts/<act>/withdraw", data = "<body>")]
pub async fn withdraw(act: &str, body: Call<Decide>) -> ApiResult<Sent<PendingAct>> {
    let Call(mut unit, body) = body;
    Ok(Sent(
        commands::pending_acts::withdraw(&mut unit, id(act)?, body).await?,
    ))
}

//! Checkouts.

use jexlin_api::{Checkout, NewCheckout, Page};
use jexlin_app::commands;
use rocket::{Route, get, post, routes};

use super::payload::{Call, Sent, encode_page, id, maybe_id, paging};
use crate::error::ApiResult;
use crate::guards::Unit;

pub fn routes() -> Vec<Route> {
    routes![list, take, check_in, recall]
}

/// Lists the caller's checkouts, newest first; with a credential, everybody's, for its stewards.
#[utoipa::path(
    operation_id = "checkouts_list",
    context_path = "",
    params(("credential" = Option<String>, Query), ("open" = Option<bool>, Query), ("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)),
    responses((status = 200, body = Page<Checkout>)),
)]
#[get("/api/v1/checkouts?<credential>&<open>&<cursor>&<limit>")]
pub async fn list(
    mut unit: Unit,
    credential: Option<&str>,
    open: Option<bool>,
    cursor: Option<&str>,
    limit: Option<i64>,
) -> ApiResult<Sent<Page<Checkout>>> {
    Ok(Sent(encode_page(
        commands::checkouts::list(
            &mut unit,
            maybe_id(credential)?,
            open,
            paging(cursor, limit)?,
        )
        .await?,
    )))
}

/// Checks a credential out.
#[utoipa::path(
    operation_id = "checkouts_take",
    context_path = "",
    request_body = NewCheckout,
    responses((status = 200, body = Checkout)),
)]
#[post("/api/v1/checkouts", data = "<body>")]
pub async fn take(body: Call<NewCheckout>) -> ApiResult<Sent<Checkout>> {
    let Call(mut unit, body) = body;
    Ok(Sent(commands::checkouts::take(&mut unit, body).await?))
}

/// Checks a credential in.
#[utoipa::path(
    operation_id = "checkouts_check_in",
    context_path = "",
    responses((status = 200, body = Checkout)),
)]
#[post("/api/v1/checkouts/<checkout>/check-in")]
pub async fn check_in(mut unit: Unit, checkout: &str) -> ApiResult<Sent<Checkout>> {
    Ok(Sent(
        commands::checkouts::check_in(&mut unit, id(checkout)?).await?,
    ))
}

/// Recalls the checkout of somebody, as a steward.
#[utoipa::path(
    operation_id = "checkouts_recall",
    context_path = "",
    responses((status = 200, body = Checkout)),
)]
#[post("/api/v1/checkouts/<checkout>/recall")]
pub async fn recall(mut unit: Unit, checkout: &str) -> ApiResult<Sent<Checkout>> {
    Ok(Sent(
        commands::checkouts::recall(&mut unit, id(checkout)?).await?,
    ))
}

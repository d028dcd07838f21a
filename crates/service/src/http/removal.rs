//! The bin: what was removed, restored in one step, or purged.

use jexlin_api::{Page, Removed};
use jexlin_app::commands;
use rocket::{Route, delete, get, post, routes};

use super::payload::{Sent, encode_page, id, paging};
use crate::error::ApiResult;
use crate::guards::Unit;

pub fn routes() -> Vec<Route> {
    routes![list, restore, purge]
}

/// Lists the bin of the folders that the caller is a steward of, newest first.
#[utoipa::path(
    operation_id = "removal_list",
    context_path = "",
    params(("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)),
    responses((status = 200, body = Page<Removed>)),
)]
#[get("/api/v1/bin?<cursor>&<limit>")]
pub async fn list(
    mut unit: Unit,
    cursor: Option<&str>,
    limit: Option<i64>,
) -> ApiResult<Sent<Page<Removed>>> {
    Ok(Sent(encode_page(
        commands::removal::list(&mut unit, paging(cursor, limit)?).await?,
    )))
}

/// Restores what was removed, in one step.
#[utoipa::path(operation_id = "removal_restore", context_path = "", responses((status = 200)))]
#[post("/api/v1/bin/<removal>/restore")]
pub async fn restore(mut unit: Unit, removal: &str) -> ApiResult<()> {
    Ok(commands::removal::restore(&mut unit, id(removal)?).await?)
}

/// Deletes permanently what was removed.
#[utoipa::path(operation_id = "removal_purge", context_path = "", responses((status = 200)))]
#[delete("/api/v1/bin/<removal>")]
pub async fn purge(mut unit: Unit, removal: &str) -> ApiResult<()> {
    Ok(commands::removal::purge(&mut unit, id(removal)?).await?)
}

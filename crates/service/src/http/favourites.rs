//! What people keep of credentials: favourites; and who looked at or used one.

use jexlin_api::{Page, UseItem};
use jexlin_app::commands;
use rocket::{Route, delete, get, put, routes};

use super::payload::{Sent, id};
use crate::error::ApiResult;
use crate::guards::Unit;

pub fn routes() -> Vec<Route> {
    routes![mark_favourite, unmark_favourite, uses]
}

/// Adds a credential to the caller's favourites.
#[utoipa::path(operation_id = "favourites_mark", context_path = "", responses((status = 200)))]
#[put("/api/v1/credentials/<credential>/favourite")]
pub async fn mark_favourite(mut unit: Unit, credential: &str) -> ApiResult<()> {
    Ok(commands::favourites::mark_favourite(&mut unit, id(credential)?).await?)
}

/// Removes a credential from the caller's favourites.
#[utoipa::path(operation_id = "favourites_unmark", context_path = "", responses((status = 200)))]
#[delete("/api/v1/credentials/<credential>/favourite")]
pub async fn unmark_favourite(mut unit: Unit, credential: &str) -> ApiResult<()> {
    Ok(commands::favourites::unmark_favourite(&mut unit, id(credential)?).await?)
}

/// Lists who revealed or used a credential, for its stewards and for holders of the duty `audit`.
/// Not paged: one line per person.
#[utoipa::path(
    operation_id = "favourites_uses",
    context_path = "",
    responses((status = 200, body = Page<UseItem>)),
)]
#[get("/api/v1/credentials/<credential>/uses")]
pub async fn uses(mut unit: Unit, credential: &str) -> ApiResult<Sent<Page<UseItem>>> {
    Ok(Sent(
        commands::favourites::uses(&mut unit, id(credential)?).await?,
    ))
}

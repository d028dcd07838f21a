//! Kinds of credentials: the built-in ones and the organisation's own.

use jexlin_api::{EditKind, Kind, NewKind, Page};
use jexlin_app::commands;
use rocket::{Route, delete, get, patch, post, routes};

use super::payload::{Call, IfMatch, Sent, Tagged};
use crate::error::ApiResult;
use crate::guards::Unit;

pub fn routes() -> Vec<Route> {
    routes![list, add, edit, remove]
}

/// Lists the kinds of credentials, the organisation's own first. Where only own kinds are allowed,
/// the built-in ones are listed as retired. Not paged: an organisation has few kinds.
#[utoipa::path(
    operation_id = "kinds_list",
    context_path = "",
    responses((status = 200, body = Page<Kind>)),
)]
#[get("/api/v1/kinds")]
pub async fn list(mut unit: Unit) -> ApiResult<Sent<Page<Kind>>> {
    Ok(Sent(commands::kinds::list(&mut unit).await?))
}

/// Adds a kind of the organisation's own.
#[utoipa::path(
    operation_id = "kinds_add",
    context_path = "",
    request_body = NewKind,
    responses((status = 200, body = Kind)),
)]
#[post("/api/v1/kinds", data = "<body>")]
pub async fn add(body: Call<NewKind>) -> ApiResult<Tagged<Kind>> {
    let Call(mut unit, body) = body;
    Ok(Tagged(commands::kinds::add(&mut unit, body).await?))
}

/// Edits, retires or restores a kind of the organisation's own.
#[utoipa::path(
    operation_id = "kinds_edit",
    context_path = "",
    params(("If-Match" = String, Header, description = "The revision that the change is based on")),
    request_body = EditKind,
    responses((status = 200, body = Kind)),
)]
#[patch("/api/v1/kinds/<name>", data = "<body>")]
pub async fn edit(name: &str, revision: IfMatch, body: Call<EditKind>) -> ApiResult<Tagged<Kind>> {
    let Call(mut unit, body) = body;
    Ok(Tagged(
        commands::kinds::edit(&mut unit, name, revision.0, body).await?,
    ))
}

/// Removes a kind of the organisation's own that no credential has.
#[utoipa::path(
    operation_id = "kinds_remove",
    context_path = "",
    params(("If-Match" = String, Header, description = "The revision that the change is based on")),
    responses((status = 200)),
)]
#[delete("/api/v1/kinds/<name>")]
pub async fn remove(mut unit: Unit, name: &str, revision: IfMatch) -> ApiResult<()> {
    Ok(commands::kinds::remove(&mut unit, name, revision.0).await?)
}

//! Folders.

use jexlin_api::{EditFolder, Folder, NewFolder, Page};
use jexlin_app::commands;
use rocket::{Route, delete, get, patch, post, routes};
use uuid::Uuid;

use super::payload::{Call, IfMatch, Sent, Tagged, id};
use crate::error::ApiResult;
use crate::guards::Unit;

pub fn routes() -> Vec<Route> {
    routes![list, add, read, edit, remove]
}

/// Lists the folders that the caller may list, in the order of their paths. Not paged, since it is
/// shown as a tree.
#[utoipa::path(
    operation_id = "folders_list",
    context_path = "",
    responses((status = 200, body = Page<Folder>)),
)]
#[get("/api/v1/folders")]
pub async fn list(mut unit: Unit) -> ApiResult<Sent<Page<Folder>>> {
    Ok(Sent(commands::folders::list(&mut unit).await?))
}

/// Adds a folder. At the top this needs the duty `folders`, unless the organisation lets everybody;
/// whoever adds a folder there becomes its first steward.
#[utoipa::path(
    operation_id = "folders_add",
    context_path = "",
    request_body = NewFolder,
    responses((status = 200, body = Folder)),
)]
#[post("/api/v1/folders", data = "<body>")]
pub async fn add(body: Call<NewFolder>) -> ApiResult<Tagged<Folder>> {
    let Call(mut unit, body) = body;
    Ok(Tagged(commands::folders::add(&mut unit, body).await?))
}

/// Reads a folder.
#[utoipa::path(
    operation_id = "folders_read",
    context_path = "",
    responses((status = 200, body = Folder)),
)]
#[get("/api/v1/folders/<folder>")]
pub async fn read(mut unit: Unit, folder: &str) -> ApiResult<Tagged<Folder>> {
    Ok(Tagged(
        commands::folders::read(&mut unit, id(folder)?).await?,
    ))
}

/// Renames, moves, closes or reopens a folder.
#[utoipa::path(
    operation_id = "folders_edit",
    context_path = "",
    params(("If-Match" = String, Header, description = "The revision that the change is based on")),
    request_body = EditFolder,
    responses((status = 200, body = Folder)),
)]
#[patch("/api/v1/folders/<folder>", data = "<body>")]
pub async fn edit(
    folder: &str,
    revision: IfMatch,
    body: Call<EditFolder>,
) -> ApiResult<Tagged<Folder>> {
    let Call(mut unit, body) = body;
    Ok(Tagged(
        commands::folders::edit(&mut unit, id(folder)?, revision.0, body).await?,
    ))
}

/// Moves an empty folder to the bin, or, with `contents`, a folder with everything in it, as one
/// removal.
#[utoipa::path(
    operation_id = "folders_remove",
    context_path = "",
    params(("If-Match" = String, Header, description = "The revision that the change is based on"), ("contents" = Option<bool>, Query)),
    responses((status = 200)),
)]
#[delete("/api/v1/folders/<folder>?<contents>")]
pub async fn remove(
    mut unit: Unit,
    folder: &str,
    revision: IfMatch,
    contents: Option<bool>,
) -> ApiResult<Sent<Uuid>> {
    Ok(Sent(
        commands::folders::remove(&mut unit, id(folder)?, revision.0, contents).await?,
    ))
}

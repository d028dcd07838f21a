//! Searches that people save.

use jexlin_api::{NewSavedSearch, Page, SavedSearch};
use jexlin_app::commands;
use rocket::{Route, delete, get, post, routes};

use super::payload::{Call, Sent, id};
use crate::error::ApiResult;
use crate::guards::Unit;

pub fn routes() -> Vec<Route> {
    routes![searches, save_search, remove_search]
}

/// Lists the caller's saved searches, or with `page` the saved views of that page's table in the
/// console. Not paged: a person has few.
#[utoipa::path(
    operation_id = "saved_searches_searches",
    context_path = "",
    params(("page" = Option<String>, Query)),
    responses((status = 200, body = Page<SavedSearch>)),
)]
#[get("/api/v1/searches?<page>")]
pub async fn searches(mut unit: Unit, page: Option<&str>) -> ApiResult<Sent<Page<SavedSearch>>> {
    Ok(Sent(
        commands::saved_searches::searches(&mut unit, page).await?,
    ))
}

/// Saves a search of the caller.
#[utoipa::path(
    operation_id = "saved_searches_save_search",
    context_path = "",
    request_body = NewSavedSearch,
    responses((status = 200, body = SavedSearch)),
)]
#[post("/api/v1/searches", data = "<body>")]
pub async fn save_search(body: Call<NewSavedSearch>) -> ApiResult<Sent<SavedSearch>> {
    let Call(mut unit, body) = body;
    Ok(Sent(
        commands::saved_searches::save_search(&mut unit, body).await?,
    ))
}

/// Removes a saved search of the caller.
#[utoipa::path(
    operation_id = "saved_searches_remove_search",
    context_path = "",
    responses((status = 200)),
)]
#[delete("/api/v1/searches/<search>")]
pub async fn remove_search(mut unit: Unit, search: &str) -> ApiResult<()> {
    Ok(commands::saved_searches::remove_search(&mut unit, id(search)?).await?)
}

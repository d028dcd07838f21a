//! Sessions: one's own, and by duty those of others.

use jexlin_api::{Page, Session, SessionsEnded};
use jexlin_app::commands;
use rocket::{Route, delete, get, routes};

use super::payload::{Sent, id, maybe_id};
use crate::error::ApiResult;
use crate::guards::Unit;

/// The routes of this file.
#[must_use]
pub fn routes() -> Vec<Route> {
    routes![list, end, end_all]
}

/// Lists the sessions of a person that have not ended; the caller's own when nobody is named.
/// Others' take the duty `people`. The list is short and has one page.
#[utoipa::path(
    operation_id = "sessions_list",
    context_path = "",
    params(("person" = Option<String>, Query)),
    responses((status = 200, body = Page<Session>)),
)]
#[get("/api/v1/sessions?<person>")]
pub async fn list(mut unit: Unit, person: Option<&str>) -> ApiResult<Sent<Page<Session>>> {
    let items = commands::sessions::list(&mut unit, maybe_id(person)?).await?;
    Ok(Sent(Page { items, next: None }))
}

/// Ends a session: one of the caller's own, or, with the duty `people`, of anybody.
#[utoipa::path(operation_id = "sessions_end", context_path = "", responses((status = 200)))]
#[delete("/api/v1/sessions/<session>")]
pub async fn end(mut unit: Unit, session: &str) -> ApiResult<()> {
    Ok(commands::sessions::end(&mut unit, id(session)?).await?)
}

/// Ends all sessions of a person but the one that asks; the caller's own when nobody is named.
/// Others' take the duty `people`.
#[utoipa::path(
    operation_id = "sessions_end_all",
    context_path = "",
    params(("person" = Option<String>, Query)),
    responses((status = 200, body = SessionsEnded)),
)]
#[delete("/api/v1/sessions?<person>")]
pub async fn end_all(mut unit: Unit, person: Option<&str>) -> ApiResult<Sent<SessionsEnded>> {
    let person = maybe_id(person)?;
    Ok(Sent(commands::sessions::end_all(&mut unit, person).await?))
}

//! Grants, and the explanation of a level.

use jexlin_api::{AccessHolder, EditGrant, Explanation, Grant, NewGrant, Page};
use jexlin_app::commands;
use rocket::{Route, delete, get, patch, post, routes};

use super::payload::{Call, IfMatch, Sent, Tagged, encode_page, id, maybe_id, paging};
use crate::error::ApiResult;
use crate::guards::Unit;

pub fn routes() -> Vec<Route> {
    routes![list, read, add, edit, remove, explain, reach]
}

/// Lists the grants that apply to a folder or a credential, its own and inherited ones, for its
/// stewards. Not paged: a folder has few grants.
#[utoipa::path(
    operation_id = "grants_list",
    context_path = "",
    params(("folder" = Option<String>, Query), ("credential" = Option<String>, Query)),
    responses((status = 200, body = Page<Grant>)),
)]
#[get("/api/v1/grants?<folder>&<credential>")]
pub async fn list(
    mut unit: Unit,
    folder: Option<&str>,
    credential: Option<&str>,
) -> ApiResult<Sent<Page<Grant>>> {
    Ok(Sent(
        commands::grants::list(&mut unit, maybe_id(folder)?, maybe_id(credential)?).await?,
    ))
}

/// Reads a grant, for stewards of what it is on.
#[utoipa::path(
    operation_id = "grants_read",
    context_path = "",
    responses((status = 200, body = Grant)),
)]
#[get("/api/v1/grants/<grant>")]
pub async fn read(mut unit: Unit, grant: &str) -> ApiResult<Tagged<Grant>> {
    Ok(Tagged(commands::grants::read(&mut unit, id(grant)?).await?))
}

/// Adds a grant.
#[utoipa::path(
    operation_id = "grants_add",
    context_path = "",
    request_body = NewGrant,
    responses((status = 200, body = Grant)),
)]
#[post("/api/v1/grants", data = "<body>")]
pub async fn add(body: Call<NewGrant>) -> ApiResult<Tagged<Grant>> {
    let Call(mut unit, body) = body;
    Ok(Tagged(commands::grants::add(&mut unit, body).await?))
}

/// Edits a grant: level, expiry, note, former values. Its grantee and target stay.
#[utoipa::path(
    operation_id = "grants_edit",
    context_path = "",
    params(("If-Match" = String, Header, description = "The revision that the change is based on")),
    request_body = EditGrant,
    responses((status = 200, body = Grant)),
)]
#[patch("/api/v1/grants/<grant>", data = "<body>")]
pub async fn edit(
    grant: &str,
    revision: IfMatch,
    body: Call<EditGrant>,
) -> ApiResult<Tagged<Grant>> {
    let Call(mut unit, body) = body;
    Ok(Tagged(
        commands::grants::edit(&mut unit, id(grant)?, revision.0, body).await?,
    ))
}

/// Removes a grant. The last steward of a folder cannot be removed.
#[utoipa::path(operation_id = "grants_remove", context_path = "", responses((status = 200)))]
#[delete("/api/v1/grants/<grant>")]
pub async fn remove(mut unit: Unit, grant: &str) -> ApiResult<()> {
    Ok(commands::grants::remove(&mut unit, id(grant)?).await?)
}

/// Explains why a person has access to a folder or a credential, or why not. For the person, for
/// stewards of it, and with the duty `audit`.
#[utoipa::path(
    operation_id = "grants_explain",
    context_path = "",
    params(("person" = String, Query), ("folder" = Option<String>, Query), ("credential" = Option<String>, Query)),
    responses((status = 200, body = Explanation)),
)]
#[get("/api/v1/explain?<person>&<folder>&<credential>")]
pub async fn explain(
    mut unit: Unit,
    person: &str,
    folder: Option<&str>,
    credential: Option<&str>,
) -> ApiResult<Sent<Explanation>> {
    Ok(Sent(
        commands::grants::explain(
            &mut unit,
            id(person)?,
            maybe_id(folder)?,
            maybe_id(credential)?,
        )
        .await?,
    ))
}

/// Lists everybody with access to a folder or a credential, the highest level first, and through
/// which grant. For its stewards, and with the duty `audit`.
#[utoipa::path(
    operation_id = "grants_reach",
    context_path = "",
    params(("folder" = Option<String>, Query), ("credential" = Option<String>, Query), ("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)),
    responses((status = 200, body = Page<AccessHolder>))
)]
#[get("/api/v1/reach?<folder>&<credential>&<cursor>&<limit>")]
pub async fn reach(
    mut unit: Unit,
    folder: Option<&str>,
    credential: Option<&str>,
    cursor: Option<&str>,
    limit: Option<i64>,
) -> ApiResult<Sent<Page<AccessHolder>>> {
    Ok(Sent(encode_page(
        commands::grants::reach(
            &mut unit,
            maybe_id(folder)?,
            maybe_id(credential)?,
            paging(cursor, limit)?,
        )
        .await?,
    )))
}

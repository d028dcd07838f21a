//! Access as code: written out, compared, made so.

use jexlin_api::{AccessApplied, AccessCompared};
use jexlin_app::commands;
use jexlin_app::error::AppResult;
use jexlin_core::access::file::LARGEST as MOST_BYTES;
use rocket::http::ContentType;
use rocket::{Request, Route, get, post, routes};
use zeroize::Zeroizing;

use super::payload::{Limit, Sent, Upload};
use crate::error::ApiResult;
use crate::guards::Unit;

/// The size of an access file.
#[derive(Debug)]
pub struct AccessFile;

#[rocket::async_trait]
impl Limit for AccessFile {
    const BYTES: usize = MOST_BYTES;
    type Made = Zeroizing<Vec<u8>>;

    async fn make(_: &Request<'_>, bytes: Zeroizing<Vec<u8>>) -> AppResult<Self::Made> {
        Ok(bytes)
    }
}

pub fn routes() -> Vec<Route> {
    routes![export, compare, apply]
}

/// Exports access as a file: the folders that the caller is a steward of with their grants, gates
/// and password policies, and the credentials there that have settings of their own; with the duty
/// `people` also groups, with `policy` also password policies. `below` limits it to one folder and
/// what is below it.
#[utoipa::path(
    operation_id = "access_file_export",
    context_path = "",
    params(("below" = Option<String>, Query)),
    responses((status = 200, body = String, content_type = "application/toml")),
)]
#[get("/api/v1/access?<below>")]
pub async fn export(mut unit: Unit, below: Option<&str>) -> ApiResult<(ContentType, String)> {
    Ok((
        ContentType::new("application", "toml"),
        commands::access_file::export(&mut unit, below).await?,
    ))
}

/// Shows what applying a file would change, and who would gain or lose what. Nothing is changed.
/// The body is the file.
#[utoipa::path(
    operation_id = "access_file_compare",
    context_path = "",
    request_body(content = String, content_type = "application/toml"),
    responses((status = 200, body = AccessCompared)),
)]
#[post("/api/v1/access/compare", data = "<data>")]
pub async fn compare(data: Upload<AccessFile>) -> ApiResult<Sent<AccessCompared>> {
    let Upload(mut unit, bytes) = data;
    Ok(Sent(
        commands::access_file::compare(&mut unit, &bytes).await?,
    ))
}

/// Applies a file in one transaction, all of it or nothing. With `expect`, the state from a
/// comparison, only if nothing that the file covers has changed since.
#[utoipa::path(
    operation_id = "access_file_apply",
    context_path = "",
    params(("expect" = Option<String>, Query)),
    request_body(content = String, content_type = "application/toml"),
    responses((status = 200, body = AccessApplied)),
)]
#[post("/api/v1/access/apply?<expect>", data = "<data>")]
pub async fn apply(
    expect: Option<&str>,
    data: Upload<AccessFile>,
) -> ApiResult<Sent<AccessApplied>> {
    let Upload(mut unit, bytes) = data;
    Ok(Sent(
        commands::access_file::apply(&mut unit, &bytes, expect).await?,
    ))
}

//! Importing what exists: a file is read in memory, looked through whole, and stored in one
//! transaction or not at all.

use jexlin_api::{ImportItem, ImportOptions, ImportProgress, ImportReport, ImportUndone, Page};
use jexlin_app::commands;
use jexlin_app::error::{AppError, AppResult};
use jexlin_app::file_reader::{self, FileRead};
use jexlin_core::transfer::{ReadOptions, SheetProblem};
use rocket::{Request, Route, get, post, routes};
use zeroize::Zeroizing;

use super::payload::{Limit, Sent, Upload, encode_page, id, paging};
use crate::error::ApiResult;
use crate::guards::Unit;

/// The size of a file that is imported.
#[derive(Debug)]
pub struct ImportFile;

#[rocket::async_trait]
impl Limit for ImportFile {
    const BYTES: usize = commands::imports::MOST_MIB * 1024 * 1024;
    type Made = Result<FileRead, SheetProblem>;

    async fn make(request: &Request<'_>, bytes: Zeroizing<Vec<u8>>) -> AppResult<Self::Made> {
        // Options that cannot be read, or a format that there is not, are told in the answer.
        let options = request.query_value::<&str>("options").and_then(Result::ok);
        let options = options.and_then(|text| serde_json::from_str::<ImportOptions>(text).ok());
        let options = options.map_or_else(ReadOptions::default, |options| ReadOptions {
            format: options.format,
            encoding: options.encoding,
            separator: options.separator,
            sheet: options.sheet,
        });
        file_reader::rows(&bytes, &options).await
    }
}

/// The routes of this file.
#[must_use]
pub fn routes() -> Vec<Route> {
    routes![import_file, progress, list, undo]
}

/// Reads the progress of an import of the caller.
#[utoipa::path(
    operation_id = "imports_progress",
    context_path = "",
    responses((status = 200, body = ImportProgress)),
)]
#[get("/api/v1/imports/<import>/progress")]
pub async fn progress(mut unit: Unit, import: &str) -> ApiResult<Sent<ImportProgress>> {
    Ok(Sent(
        commands::imports::progress(&mut unit, id(import)?).await?,
    ))
}

/// Lists the imports into folders that the caller may edit, newest first. A page may be shorter
/// than its limit.
#[utoipa::path(
    operation_id = "imports_list",
    context_path = "",
    params(("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)),
    responses((status = 200, body = Page<ImportItem>)),
)]
#[get("/api/v1/imports?<cursor>&<limit>")]
pub async fn list(
    mut unit: Unit,
    cursor: Option<&str>,
    limit: Option<i64>,
) -> ApiResult<Sent<Page<ImportItem>>> {
    let page = commands::imports::list(&mut unit, paging(cursor, limit)?).await?;
    Ok(Sent(encode_page(page)))
}

/// Undoes an import: what it added goes to the bin, what it changed is restored, unless it was
/// changed since. What was moved to where the caller is not a steward is left alone.
#[utoipa::path(
    operation_id = "imports_undo",
    context_path = "",
    responses((status = 200, body = ImportUndone)),
)]
#[post("/api/v1/imports/<import>/undo")]
pub async fn undo(mut unit: Unit, import: &str) -> ApiResult<Sent<ImportUndone>> {
    Ok(Sent(commands::imports::undo(&mut unit, id(import)?).await?))
}

/// Imports a file, which is the body: CSV, TSV, JSON Lines, XLSX or the Credential Exchange Format.
/// It is held in memory only.
#[utoipa::path(
    operation_id = "imports_import_file",
    context_path = "",
    params(("options" = String, Query)),
    request_body(content = Vec<u8>, content_type = "application/octet-stream"),
    responses((status = 200, body = ImportReport)),
)]
#[post("/api/v1/imports?<options>", data = "<data>")]
pub async fn import_file(options: &str, data: Upload<ImportFile>) -> ApiResult<Sent<ImportReport>> {
    let Upload(mut unit, file) = data;
    let options = serde_json::from_str(options)
        .map_err(|_| AppError::field("options", "the options do not have the expected form"))?;
    Ok(Sent(
        commands::imports::import_file(&mut unit, options, file).await?,
    ))
}

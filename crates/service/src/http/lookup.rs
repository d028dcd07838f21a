//! From paths to identifiers.

use jexlin_api::{LookedUp, LookupType};
use jexlin_app::commands;
use jexlin_app::error::AppError;
use rocket::{Route, get, routes};

use super::payload::Sent;
use crate::error::ApiResult;
use crate::guards::Unit;

/// The routes of this file.
#[must_use]
pub fn routes() -> Vec<Route> {
    routes![lookup]
}

/// Looks up what a path names: a credential before a folder, a folder before a device, unless
/// `type` asks for one of them. What the caller may not know of does not exist.
#[utoipa::path(
    operation_id = "lookup",
    context_path = "",
    params(("path" = String, Query), ("type" = Option<LookupType>, Query)),
    responses((status = 200, body = LookedUp)),
)]
#[get("/api/v1/lookup?<path>&<type>")]
pub async fn lookup(mut unit: Unit, path: &str, r#type: Option<&str>) -> ApiResult<Sent<LookedUp>> {
    let all = [
        LookupType::Credential,
        LookupType::Folder,
        LookupType::Device,
    ];
    let wanted = match r#type {
        None | Some("") => None,
        Some(word) => Some(
            all.into_iter()
                .find(|known| known.word() == word)
                .ok_or_else(|| AppError::field("type", "expected credential, folder or device"))?,
        ),
    };
    Ok(Sent(
        commands::lookup::lookup(&mut unit, path, wanted).await?,
    ))
}

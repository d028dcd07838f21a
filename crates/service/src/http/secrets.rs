//! What takes a reveal or a use: secrets, one-time codes, the history and what is restored from it.

use jexlin_api::{
    CopyCredential, Credential, OneTimeCode, Page, Restore, Reveal, Revealed, SeedInPicture,
    Version,
};
use jexlin_app::commands;
use jexlin_app::error::AppResult;
use jexlin_app::file_reader;
use jexlin_core::vault::pictures;
use rocket::{Request, Route, get, post, routes};
use zeroize::Zeroizing;

use super::payload::{Call, Limit, Sent, Tagged, Upload, id};
use crate::error::ApiResult;
use crate::guards::Unit;

/// A picture with the seed of one-time codes.
#[derive(Debug)]
pub struct Picture;

#[rocket::async_trait]
impl Limit for Picture {
    const BYTES: usize = pictures::MOST_BYTES;
    type Made = Result<Zeroizing<String>, String>;

    async fn make(_: &Request<'_>, bytes: Zeroizing<Vec<u8>>) -> AppResult<Self::Made> {
        file_reader::picture(&bytes).await
    }
}

pub fn routes() -> Vec<Route> {
    routes![reveal, code, history, restore, copy, read_picture]
}

/// Shows a secret, once its audit event is durable.
#[utoipa::path(
    operation_id = "secrets_reveal",
    context_path = "",
    request_body = Reveal,
    responses((status = 200, body = Revealed)),
)]
#[post("/api/v1/credentials/<credential>/reveal", data = "<body>")]
pub async fn reveal(credential: &str, body: Call<Reveal>) -> ApiResult<Sent<Revealed>> {
    let Call(mut unit, body) = body;
    Ok(Sent(
        commands::secrets::reveal(&mut unit, id(credential)?, body).await?,
    ))
}

/// Shows the current one-time code, for everybody who may use the credential. The seed itself needs
/// a reveal. Where codes count up, each reveal uses the next one.
#[utoipa::path(
    operation_id = "secrets_code",
    context_path = "",
    responses((status = 200, body = OneTimeCode)),
)]
#[post("/api/v1/credentials/<credential>/code")]
pub async fn code(mut unit: Unit, credential: &str) -> ApiResult<Sent<OneTimeCode>> {
    Ok(Sent(
        commands::secrets::code(&mut unit, id(credential)?).await?,
    ))
}

/// Lists the versions of a credential's secrets, without their values. Not paged: a credential has
/// few.
#[utoipa::path(
    operation_id = "secrets_history",
    context_path = "",
    responses((status = 200, body = Page<Version>)),
)]
#[get("/api/v1/credentials/<credential>/history")]
pub async fn history(mut unit: Unit, credential: &str) -> ApiResult<Sent<Page<Version>>> {
    Ok(Sent(
        commands::secrets::history(&mut unit, id(credential)?).await?,
    ))
}

/// Restores a former value as the current one in the vault; the device, if there is one, is not
/// changed. Nobody sees the value: it needs `edit`.
#[utoipa::path(
    operation_id = "secrets_restore",
    context_path = "",
    request_body = Restore,
    responses((status = 200, body = Credential)),
)]
#[post("/api/v1/credentials/<credential>/restore", data = "<body>")]
pub async fn restore(credential: &str, body: Call<Restore>) -> ApiResult<Tagged<Credential>> {
    let Call(mut unit, body) = body;
    Ok(Tagged(
        commands::secrets::restore(&mut unit, id(credential)?, body).await?,
    ))
}

/// Copies a credential with its current values to a folder. Needs what revealing it and adding it
/// there would need; no value is shown.
#[utoipa::path(
    operation_id = "secrets_copy",
    context_path = "",
    request_body = CopyCredential,
    responses((status = 200, body = Credential)),
)]
#[post("/api/v1/credentials/<credential>/copy", data = "<body>")]
pub async fn copy(credential: &str, body: Call<CopyCredential>) -> ApiResult<Tagged<Credential>> {
    let Call(mut unit, body) = body;
    Ok(Tagged(
        commands::secrets::copy(&mut unit, id(credential)?, body).await?,
    ))
}

/// Reads the seed of one-time codes from an image of a QR code (PNG or JPEG), which is the body.
/// Nothing is stored.
#[utoipa::path(
    operation_id = "secrets_read_picture",
    context_path = "",
    request_body(content = Vec<u8>, content_type = "image/png"),
    responses((status = 200, body = SeedInPicture)),
)]
#[post("/api/v1/read-picture", data = "<data>")]
pub async fn read_picture(data: Upload<Picture>) -> ApiResult<Sent<SeedInPicture>> {
    let Upload(mut unit, read) = data;
    Ok(Sent(
        commands::secrets::seed_in_picture(&mut unit, read).await?,
    ))
}

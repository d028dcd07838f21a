//! Attachments: files that belong to a credential, sealed piece by piece as they stream in and
//! opened piece by piece as they stream out.

use jexlin_api::{Attachment, Page};
use jexlin_app::commands;
use rocket::data::{Data, ToByteUnit as _};
use rocket::http::{ContentType, Status};
use rocket::request::Request;
use rocket::response::{self, Responder, Response};
use rocket::{Route, delete, get, post, routes};

use super::payload::{Sent, id};
use crate::error::ApiResult;
use crate::guards::Unit;

/// An attachment on its way. The number of its bytes is said ahead, so that what breaks off is seen
/// to have broken off.
#[derive(Debug)]
pub struct Streamed(commands::attachments::File);

impl<'r> Responder<'r, 'static> for Streamed {
    fn respond_to(self, _: &'r Request<'_>) -> response::Result<'static> {
        let name: String = self
            .0
            .name
            .bytes()
            .map(|byte| {
                if byte.is_ascii_alphanumeric() {
                    char::from(byte).to_string()
                } else {
                    format!("%{byte:02X}")
                }
            })
            .collect();
        Response::build()
            .status(Status::Ok)
            .header(ContentType::Binary)
            .raw_header(
                "Content-Disposition",
                format!("attachment; filename*=UTF-8''{name}"),
            )
            .raw_header("Content-Length", self.0.size.to_string())
            .streamed_body(self.0.stream)
            .ok()
    }
}

pub fn routes() -> Vec<Route> {
    routes![list, add, read, remove]
}

/// Lists the attachments of a credential, without their contents. Not paged: a credential has few.
#[utoipa::path(
    operation_id = "attachments_list",
    context_path = "",
    responses((status = 200, body = Page<Attachment>)),
)]
#[get("/api/v1/credentials/<credential>/attachments")]
pub async fn list(mut unit: Unit, credential: &str) -> ApiResult<Sent<Page<Attachment>>> {
    Ok(Sent(
        commands::attachments::list(&mut unit, id(credential)?).await?,
    ))
}

/// Moves an attachment to the bin.
#[utoipa::path(operation_id = "attachments_remove", context_path = "", responses((status = 200)))]
#[delete("/api/v1/credentials/<credential>/attachments/<attachment>")]
pub async fn remove(mut unit: Unit, credential: &str, attachment: &str) -> ApiResult<()> {
    Ok(commands::attachments::remove(&mut unit, id(credential)?, id(attachment)?).await?)
}

/// Adds an attachment; the body is its contents. Nothing is kept of an interrupted upload.
#[utoipa::path(
    operation_id = "attachments_add",
    context_path = "",
    params(("name" = String, Query)),
    request_body(content = Vec<u8>, content_type = "application/octet-stream"),
    responses((status = 200, body = Attachment)),
)]
#[post("/api/v1/credentials/<credential>/attachments?<name>", data = "<data>")]
pub async fn add(
    mut unit: Unit,
    credential: &str,
    name: &str,
    data: Data<'_>,
) -> ApiResult<Sent<Attachment>> {
    let content = data.open(commands::attachments::MOST_BYTES.bytes());
    Ok(Sent(
        commands::attachments::add(&mut unit, id(credential)?, name, content).await?,
    ))
}

/// Downloads an attachment, once its audit event is durable. The rules for a reveal apply.
#[utoipa::path(
    operation_id = "attachments_read",
    context_path = "",
    responses((status = 200, body = Vec<u8>, content_type = "application/octet-stream")),
)]
#[get("/api/v1/credentials/<credential>/attachments/<attachment>")]
pub async fn read(mut unit: Unit, credential: &str, attachment: &str) -> ApiResult<Streamed> {
    let file = commands::attachments::read(&mut unit, id(credential)?, id(attachment)?).await?;
    Ok(Streamed(file))
}

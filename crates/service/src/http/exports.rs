//! Exporting what one may see, protected by age, or, with a duty, a fresh sign-in and a reason, as
//! it is.

use std::io::Cursor;

use jexlin_api::ExportOptions;
use jexlin_app::commands;
use rocket::http::{ContentType, Status};
use rocket::request::Request;
use rocket::response::{self, Responder, Response};
use rocket::{Route, post, routes};

use super::payload::Call;
use crate::error::ApiResult;

/// An exported file, and how much is in it.
#[derive(Debug)]
pub struct Download(commands::exports::ExportedFile);

impl<'r> Responder<'r, 'static> for Download {
    fn respond_to(self, _: &'r Request<'_>) -> response::Result<'static> {
        Response::build()
            .status(Status::Ok)
            .header(ContentType::Binary)
            .raw_header("Cache-Control", "no-store")
            .raw_header("Jexlin-Taken", self.0.taken.to_string())
            .raw_header("Jexlin-Left-Out", self.0.left_out.to_string())
            .sized_body(self.0.bytes.len(), Cursor::new(self.0.bytes))
            .ok()
    }
}

pub fn routes() -> Vec<Route> {
    routes![export]
}

/// Exports everything that the caller may reveal, in a folder and below it or everywhere. What has
/// a gate that the caller has not passed is left out and counted.
#[utoipa::path(
    operation_id = "exports_export",
    context_path = "",
    request_body = ExportOptions,
    responses((status = 200, body = Vec<u8>, content_type = "application/octet-stream")),
)]
#[post("/api/v1/export", data = "<body>")]
pub async fn export(body: Call<ExportOptions>) -> ApiResult<Download> {
    let Call(mut unit, options) = body;
    Ok(Download(
        commands::exports::export(&mut unit, options).await?,
    ))
}

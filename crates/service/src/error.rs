//! Errors as problem details (RFC 9457). What they say is in `jexlin_app::error`; here is their
//! HTTP status.

use std::collections::BTreeMap;
use std::sync::{Mutex, MutexGuard, PoisonError};

use jexlin_api::ErrorCode;
use jexlin_api::Problem;
use jexlin_app::error::{AppError, ErrorKind};
use jexlin_core::words::Word as _;
use rocket::http::{ContentType, Status};
use rocket::request::Request;
use rocket::response::{self, Responder, Response};

/// What a request is answered with when it failed.
#[derive(Clone, Debug)]
pub enum ApiError {
    /// What a command says.
    App(AppError),
    /// Rocket's own: no route, or a request that no route takes.
    Http(Status),
}

/// What routes return.
pub type ApiResult<T> = Result<T, ApiError>;

impl From<AppError> for ApiError {
    fn from(error: AppError) -> Self {
        Self::App(error)
    }
}

/// The HTTP status for a kind of error.
#[must_use]
pub const fn status_of(kind: ErrorKind) -> Status {
    match kind {
        ErrorKind::Malformed => Status::BadRequest,
        ErrorKind::TooSlow => Status::RequestTimeout,
        ErrorKind::BadInput => Status::UnprocessableEntity,
        ErrorKind::SignedOut => Status::Unauthorized,
        ErrorKind::Forbidden => Status::Forbidden,
        ErrorKind::Unknown => Status::NotFound,
        ErrorKind::Conflict => Status::Conflict,
        ErrorKind::NeedsVersion => Status::PreconditionRequired,
        ErrorKind::Stale => Status::PreconditionFailed,
        ErrorKind::Throttled => Status::TooManyRequests,
        ErrorKind::Unavailable => Status::ServiceUnavailable,
        ErrorKind::Internal => Status::InternalServerError,
    }
}

fn problem(status: Status, code: ErrorCode, [title, detail, advice]: [&str; 3]) -> Problem {
    Problem {
        kind: format!("urn:jexlin:problem:{code}"),
        code,
        title: title.to_owned(),
        status: status.code,
        detail: detail.to_owned(),
        advice: advice.to_owned(),
        instance: String::new(),
        fields: BTreeMap::new(),
    }
}

/// The problem details of a command's error, without the request.
pub fn of_app(error: &AppError) -> Problem {
    let words = [error.title(), error.detail(), error.advice()];
    Problem {
        fields: error.fields().clone(),
        ..problem(status_of(error.kind), error.code, words)
    }
}

fn of_http(status: Status) -> Problem {
    match status.code {
        404 => problem(
            status,
            ErrorCode::NoSuchAddress,
            [
                "Not found",
                "There is nothing at this address.",
                "The interface is described in /api/v1/openapi.json.",
            ],
        ),
        413 => problem(
            status,
            ErrorCode::TooLarge,
            [
                "Too large",
                "The request is larger than is accepted.",
                "Send less.",
            ],
        ),
        400 | 422 => of_app(&AppError::malformed(
            "A parameter of the address cannot be read.",
        )),
        500.. => of_app(&AppError::internal(format!("status {}", status.code))),
        _ => problem(
            status,
            ErrorCode::Refused,
            [
                "Refused",
                status.reason_lossy(),
                "The interface is described in /api/v1/openapi.json.",
            ],
        ),
    }
}

impl<'r> Responder<'r, 'static> for ApiError {
    fn respond_to(self, request: &'r Request<'_>) -> response::Result<'static> {
        let id = crate::headers::request_id(request);
        let (problem, retry_after) = match &self {
            Self::Http(status) => (of_http(*status), None),
            Self::App(error) => {
                if let Some(log) = error.log() {
                    tracing::error!(request = %id, code = error.code.word(), method = %request.method(), route = request.route().map(|route| route.uri.to_string()), "{log}");
                }
                *last_error(request) = Some(error.clone());
                (of_app(error), error.retry_after())
            }
        };
        let body = Problem {
            instance: format!("urn:uuid:{id}"),
            ..problem
        };
        let text = serde_json::to_string(&body).map_err(|_| Status::InternalServerError)?;
        let mut built = Response::build();
        built
            .status(Status::new(body.status))
            .header(ContentType::new("application", "problem+json"))
            .sized_body(text.len(), std::io::Cursor::new(text));
        if let Some(seconds) = retry_after {
            built.raw_header("Retry-After", seconds.to_string());
        }
        built.ok()
    }
}

/// The error that a request ended with, for the record.
pub fn last_error<'r>(request: &'r Request<'_>) -> MutexGuard<'r, Option<AppError>> {
    request
        .local_cache(|| Mutex::new(None::<AppError>))
        .lock()
        .unwrap_or_else(PoisonError::into_inner)
}

//! How the service is, for everybody.

use jexlin_api::Status;
use rocket::{Route, State, get, routes};

use super::payload::Sent;
use crate::app::App;
use crate::error::{ApiError, ApiResult};

pub fn routes() -> Vec<Route> {
    routes![live, ready, status]
}

#[get("/health/live")]
fn live() -> &'static str {
    "alive\n"
}

#[get("/health/ready")]
async fn ready(app: &State<App>) -> ApiResult<&'static str> {
    if !app.store.answers().await {
        return Err(ApiError::unavailable(
            "not ready: the database does not answer",
        ));
    }
    if app.keyring.is_open() {
        Ok("ready\n")
    } else {
        Err(ApiError::locked())
    }
}

/// How the service is.
#[utoipa::path(context_path = "", responses((status = 200, body = Status)))]
#[get("/api/v1/status")]
pub async fn status(app: &State<App>) -> Sent<Status> {
    let version = env!("CARGO_PKG_VERSION").to_owned();
    let Ok(organisations) = app.store.organisations().await else {
        return Sent(Status {
            version,
            state: "no-database".into(),
        });
    };
    let state = if organisations.is_empty() {
        "needs-setup"
    } else if app.keyring.is_open() {
        "ready"
    } else {
        "locked"
    };
    Sent(Status {
        version,
        state: state.into(),
    })
}

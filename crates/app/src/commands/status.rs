//! The state of the service, for everybody.

use jexlin_api::Status;
use jexlin_core::status::ServiceState;

use crate::app::App;
use crate::error::{AppError, AppResult};

/// Demands that the service can work: it has its database, and the vault is open.
///
/// # Errors
/// [`AppError`] that says what is missing.
pub async fn demand_ready(app: &App) -> AppResult<()> {
    if !app.store.answers().await {
        return Err(AppError::unavailable(
            "not ready: the database does not answer",
        ));
    }
    if app.keyring.is_open() {
        Ok(())
    } else {
        Err(AppError::locked())
    }
}

/// How the service is.
pub async fn status(app: &App) -> Status {
    let version = env!("CARGO_PKG_VERSION").to_owned();
    let Ok(organisations) = app.store.organisations().await else {
        return Status {
            version,
            state: ServiceState::NoDatabase,
        };
    };
    let state = if organisations.is_empty() {
        ServiceState::NeedsSetup
    } else if app.keyring.is_open() {
        ServiceState::Ready
    } else {
        ServiceState::Locked
    };
    Status { version, state }
}

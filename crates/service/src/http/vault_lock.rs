//! Locking and unlocking the vault.

use jexlin_api::{LockVault, Status, Unlock};
use jexlin_app::App;
use jexlin_app::commands;
use rocket::{Route, State, post, routes};

use super::payload::{Body, Call, Sent};
use crate::error::ApiResult;
use crate::guards::Visitor;

pub fn routes() -> Vec<Route> {
    routes![lock_vault, unlock]
}

/// Locks the vault of the organisation on all services at once. They forget its keys, and until it
/// is unlocked with the root key's passphrase no service opens a secret, sends one to a device, or
/// signs anyone in.
#[utoipa::path(
    operation_id = "setup_lock_vault",
    context_path = "",
    request_body = LockVault,
    responses((status = 200, body = Status)),
)]
#[post("/api/v1/lock", data = "<body>")]
pub async fn lock_vault(body: Call<LockVault>) -> ApiResult<Sent<Status>> {
    let Call(mut unit, body) = body;
    Ok(Sent(
        commands::vault_lock::lock_vault(&mut unit, body).await?,
    ))
}

/// Opens the vault with the root key's passphrase.
#[utoipa::path(
    operation_id = "setup_unlock",
    context_path = "",
    request_body = Unlock,
    responses((status = 200, body = Status)),
)]
#[post("/api/v1/unlock", data = "<body>")]
pub async fn unlock(
    app: &State<App>,
    body: Body<Unlock>,
    visitor: Visitor,
) -> ApiResult<Sent<Status>> {
    Ok(Sent(
        commands::vault_lock::unlock(app, body.0, &visitor.stranger).await?,
    ))
}

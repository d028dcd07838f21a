//! Changing the root key and the organisation's key while services run.
//!
//! Each step leaves a state from which everything opens: the next root key is in its file before
//! anything is wrapped under it, the organisation's key is under both until the change is finished,
//! and the file takes its place only once nothing is under the former root key any more.

use jexlin_api::{ChangeKey, ChangeRootKey, ChangeRootPassphrase, KeysView};
use jexlin_app::commands;
use rocket::{Route, get, post, routes};

use super::payload::{Call, Sent};
use crate::error::ApiResult;
use crate::guards::Unit;

pub fn routes() -> Vec<Route> {
    routes![
        keys,
        change_root_key,
        change_root_passphrase,
        finish_root_key,
        abandon_root_key,
        change_organisation_key
    ]
}

/// Reads the keys of the vault and the progress of a change of them.
#[utoipa::path(
    operation_id = "keys",
    context_path = "",
    responses((status = 200, body = KeysView)),
)]
#[get("/api/v1/keys")]
pub async fn keys(mut unit: Unit) -> ApiResult<Sent<KeysView>> {
    Ok(Sent(commands::keys::keys(&mut unit).await?))
}

/// Starts a change of the root key: generates the next one, writes it beside the current one's
/// file, and wraps every organisation's key under it too. Both open the vault until the change is
/// finished.
#[utoipa::path(
    operation_id = "keys_change_root",
    context_path = "",
    request_body = ChangeRootKey,
    responses((status = 200, body = KeysView)),
)]
#[post("/api/v1/keys/root", data = "<body>")]
pub async fn change_root_key(body: Call<ChangeRootKey>) -> ApiResult<Sent<KeysView>> {
    let Call(mut unit, body) = body;
    Ok(Sent(
        commands::keys::change_root_key(&mut unit, body).await?,
    ))
}

/// Changes the passphrase of the root key file of the service that answers. The root key stays:
/// nothing else is changed, and the files of other services keep their passphrase.
#[utoipa::path(
    operation_id = "keys_change_root_passphrase",
    context_path = "",
    request_body = ChangeRootPassphrase,
    responses((status = 200, body = KeysView)),
)]
#[post("/api/v1/keys/root/passphrase", data = "<body>")]
pub async fn change_root_passphrase(body: Call<ChangeRootPassphrase>) -> ApiResult<Sent<KeysView>> {
    let Call(mut unit, body) = body;
    Ok(Sent(
        commands::keys::change_root_passphrase(&mut unit, body).await?,
    ))
}

/// Finishes a change of the root key: the old root key stops working.
#[utoipa::path(
    operation_id = "keys_finish_root",
    context_path = "",
    responses((status = 200, body = KeysView)),
)]
#[post("/api/v1/keys/root/finish")]
pub async fn finish_root_key(mut unit: Unit) -> ApiResult<Sent<KeysView>> {
    Ok(Sent(commands::keys::finish_root_key(&mut unit).await?))
}

/// Abandons an unfinished change of the root key: the next root key stops working.
#[utoipa::path(
    operation_id = "keys_abandon_root",
    context_path = "",
    responses((status = 200, body = KeysView)),
)]
#[post("/api/v1/keys/root/abandon")]
pub async fn abandon_root_key(mut unit: Unit) -> ApiResult<Sent<KeysView>> {
    Ok(Sent(commands::keys::abandon_root_key(&mut unit).await?))
}

/// Changes the organisation's key. The new key is used at once; the data keys follow in the
/// background.
#[utoipa::path(
    operation_id = "keys_change_organisation",
    context_path = "",
    request_body = ChangeKey,
    responses((status = 200, body = KeysView)),
)]
#[post("/api/v1/keys/organisation", data = "<body>")]
pub async fn change_organisation_key(body: Call<ChangeKey>) -> ApiResult<Sent<KeysView>> {
    let Call(mut unit, body) = body;
    Ok(Sent(
        commands::keys::change_organisation_key(&mut unit, body).await?,
    ))
}

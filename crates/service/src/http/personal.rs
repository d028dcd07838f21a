//! Personal folders. Their key is in the memory of one open session and nowhere else; the log says
//! that somebody opened theirs or added to it, and never what is in it.

use jexlin_api::{
    ChangePassphrase, MoveIn, MoveOut, NewPersonalItem, Page, Passphrase, PersonalItem,
    PersonalState, Revealed,
};
use jexlin_app::commands;
use rocket::{Route, delete, get, patch, post, put, routes};

use super::payload::{Call, IfMatch, Sent, Tagged, id};
use crate::error::ApiResult;
use crate::guards::Unit;

pub fn routes() -> Vec<Route> {
    routes![
        state,
        create,
        open_folder,
        lock,
        protect,
        list,
        add,
        edit,
        remove,
        reveal,
        move_out,
        move_in
    ]
}

/// Reads the state of the caller's personal folder.
#[utoipa::path(
    operation_id = "personal_state",
    context_path = "",
    responses((status = 200, body = PersonalState)),
)]
#[get("/api/v1/personal")]
pub async fn state(mut unit: Unit) -> ApiResult<Sent<PersonalState>> {
    Ok(Sent(commands::personal::state(&mut unit).await?))
}

/// Creates the caller's personal folder, and opens it. Nobody can recover a forgotten passphrase.
#[utoipa::path(
    operation_id = "personal_create",
    context_path = "",
    request_body = Passphrase,
    responses((status = 200)),
)]
#[post("/api/v1/personal", data = "<body>")]
pub async fn create(body: Call<Passphrase>) -> ApiResult<()> {
    let Call(mut unit, body) = body;
    Ok(commands::personal::create(&mut unit, body).await?)
}

/// Opens the caller's personal folder for this session. Attempts are slowed like sign-ins.
#[utoipa::path(
    operation_id = "personal_open_folder",
    context_path = "",
    request_body = Passphrase,
    responses((status = 200)),
)]
#[post("/api/v1/personal/open", data = "<body>")]
pub async fn open_folder(body: Call<Passphrase>) -> ApiResult<()> {
    let Call(mut unit, body) = body;
    Ok(commands::personal::open_folder(&mut unit, body).await?)
}

/// Locks the caller's personal folder for this session.
#[utoipa::path(operation_id = "personal_lock", context_path = "", responses((status = 200)))]
#[post("/api/v1/personal/lock")]
pub async fn lock(mut unit: Unit) -> ApiResult<()> {
    Ok(commands::personal::lock(&mut unit).await?)
}

/// Changes its passphrase; needs the current one. No item is rewritten.
#[utoipa::path(
    operation_id = "personal_protect",
    context_path = "",
    request_body = ChangePassphrase,
    responses((status = 200)),
)]
#[put("/api/v1/personal/passphrase", data = "<body>")]
pub async fn protect(body: Call<ChangePassphrase>) -> ApiResult<()> {
    let Call(mut unit, body) = body;
    Ok(commands::personal::protect(&mut unit, body).await?)
}

/// Lists the items in the caller's personal folder, by name. Not paged: it is opened as a whole.
#[utoipa::path(
    operation_id = "personal_list",
    context_path = "",
    responses((status = 200, body = Page<PersonalItem>)),
)]
#[get("/api/v1/personal/items")]
pub async fn list(mut unit: Unit) -> ApiResult<Sent<Page<PersonalItem>>> {
    Ok(Sent(commands::personal::list(&mut unit).await?))
}

/// Adds an item; without a password one is generated.
#[utoipa::path(
    operation_id = "personal_add",
    context_path = "",
    request_body = NewPersonalItem,
    responses((status = 200, body = PersonalItem)),
)]
#[post("/api/v1/personal/items", data = "<body>")]
pub async fn add(body: Call<NewPersonalItem>) -> ApiResult<Tagged<PersonalItem>> {
    let Call(mut unit, body) = body;
    Ok(Tagged(commands::personal::add(&mut unit, body).await?))
}

/// Edits an item.
#[utoipa::path(
    operation_id = "personal_edit",
    context_path = "",
    params(("If-Match" = String, Header, description = "The revision that the change is based on")),
    request_body = NewPersonalItem,
    responses((status = 200, body = PersonalItem)),
)]
#[patch("/api/v1/personal/items/<item>", data = "<body>")]
pub async fn edit(
    item: &str,
    revision: IfMatch,
    body: Call<NewPersonalItem>,
) -> ApiResult<Tagged<PersonalItem>> {
    let Call(mut unit, body) = body;
    Ok(Tagged(
        commands::personal::edit(&mut unit, id(item)?, revision.0, body).await?,
    ))
}

/// Removes an item permanently: personal items have no bin.
#[utoipa::path(
    operation_id = "personal_remove",
    context_path = "",
    params(("If-Match" = String, Header, description = "The revision that the change is based on")),
    responses((status = 200)),
)]
#[delete("/api/v1/personal/items/<item>")]
pub async fn remove(mut unit: Unit, item: &str, revision: IfMatch) -> ApiResult<()> {
    Ok(commands::personal::remove(&mut unit, id(item)?, revision.0).await?)
}

/// Shows the secret of an item, once its audit event is durable.
#[utoipa::path(
    operation_id = "personal_reveal",
    context_path = "",
    responses((status = 200, body = Revealed)),
)]
#[post("/api/v1/personal/items/<item>/reveal")]
pub async fn reveal(mut unit: Unit, item: &str) -> ApiResult<Sent<Revealed>> {
    Ok(Sent(
        commands::personal::reveal(&mut unit, id(item)?).await?,
    ))
}

/// Moves an item to a shared folder, as a login. Possible also where personal folders are no longer
/// allowed.
#[utoipa::path(
    operation_id = "personal_move_out",
    context_path = "",
    request_body = MoveOut,
    responses((status = 200)),
)]
#[post("/api/v1/personal/items/<item>/move-out", data = "<body>")]
pub async fn move_out(item: &str, body: Call<MoveOut>) -> ApiResult<()> {
    let Call(mut unit, body) = body;
    Ok(commands::personal::move_out(&mut unit, id(item)?, body).await?)
}

/// Moves a shared login to the caller's personal folder; the shared login goes to the bin. The
/// caller must confirm that others lose access.
#[utoipa::path(
    operation_id = "personal_move_in",
    context_path = "",
    request_body = MoveIn,
    responses((status = 200, body = PersonalItem)),
)]
#[post("/api/v1/personal/move-in", data = "<body>")]
pub async fn move_in(body: Call<MoveIn>) -> ApiResult<Tagged<PersonalItem>> {
    let Call(mut unit, body) = body;
    Ok(Tagged(commands::personal::move_in(&mut unit, body).await?))
}

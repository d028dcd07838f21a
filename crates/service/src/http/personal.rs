//! Personal folders. Their key is in the memory of one open session and nowhere else; the log says
//! that somebody opened theirs or added to it, and never what is in it.

use jexlin_api::{
    ChangePassphrase, MoveIn, MoveOut, NewPersonalThing, Page, Passphrase, PersonalState,
    PersonalThing, Revealed,
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

/// How one's personal folder is.
#[utoipa::path(
    operation_id = "personal_state",
    context_path = "",
    responses((status = 200, body = PersonalState)),
)]
#[get("/api/v1/personal")]
pub async fn state(mut unit: Unit) -> ApiResult<Sent<PersonalState>> {
    Ok(Sent(commands::personal::state(&mut unit).await?))
}

/// Makes one's personal folder, and opens it. Nobody can recover a forgotten passphrase.
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

/// Opens one's personal folder for this session. Tries are slowed like sign-ins.
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

/// Closes it for this session.
#[utoipa::path(operation_id = "personal_lock", context_path = "", responses((status = 200)))]
#[post("/api/v1/personal/lock")]
pub async fn lock(mut unit: Unit) -> ApiResult<()> {
    Ok(commands::personal::lock(&mut unit).await?)
}

/// Gives it another passphrase; it takes the present one. No item is touched.
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

/// What is in one's personal folder, by name. It comes whole: it is opened with the folder.
#[utoipa::path(
    operation_id = "personal_list",
    context_path = "",
    responses((status = 200, body = Page<PersonalThing>)),
)]
#[get("/api/v1/personal/items")]
pub async fn list(mut unit: Unit) -> ApiResult<Sent<Page<PersonalThing>>> {
    Ok(Sent(commands::personal::list(&mut unit).await?))
}

/// Adds something; without a password one is generated.
#[utoipa::path(
    operation_id = "personal_add",
    context_path = "",
    request_body = NewPersonalThing,
    responses((status = 200, body = PersonalThing)),
)]
#[post("/api/v1/personal/items", data = "<body>")]
pub async fn add(body: Call<NewPersonalThing>) -> ApiResult<Tagged<PersonalThing>> {
    let Call(mut unit, body) = body;
    Ok(Tagged(commands::personal::add(&mut unit, body).await?))
}

/// Changes something.
#[utoipa::path(
    operation_id = "personal_edit",
    context_path = "",
    params(("If-Match" = String, Header, description = "The version that the change is based on")),
    request_body = NewPersonalThing,
    responses((status = 200, body = PersonalThing)),
)]
#[patch("/api/v1/personal/items/<thing>", data = "<body>")]
pub async fn edit(
    thing: &str,
    version: IfMatch,
    body: Call<NewPersonalThing>,
) -> ApiResult<Tagged<PersonalThing>> {
    let Call(mut unit, body) = body;
    Ok(Tagged(
        commands::personal::edit(&mut unit, id(thing)?, version.0, body).await?,
    ))
}

/// Removes something for good: there is no bin that others could look into.
#[utoipa::path(
    operation_id = "personal_remove",
    context_path = "",
    params(("If-Match" = String, Header, description = "The version that the change is based on")),
    responses((status = 200)),
)]
#[delete("/api/v1/personal/items/<thing>")]
pub async fn remove(mut unit: Unit, thing: &str, version: IfMatch) -> ApiResult<()> {
    Ok(commands::personal::remove(&mut unit, id(thing)?, version.0).await?)
}

/// Shows a secret of one's own, once its event is durable.
#[utoipa::path(
    operation_id = "personal_reveal",
    context_path = "",
    responses((status = 200, body = Revealed)),
)]
#[post("/api/v1/personal/items/<thing>/reveal")]
pub async fn reveal(mut unit: Unit, thing: &str) -> ApiResult<Sent<Revealed>> {
    Ok(Sent(
        commands::personal::reveal(&mut unit, id(thing)?).await?,
    ))
}

/// Takes something out into a shared folder, as a login. Possible as well where personal folders
/// are no longer allowed.
#[utoipa::path(
    operation_id = "personal_move_out",
    context_path = "",
    request_body = MoveOut,
    responses((status = 200)),
)]
#[post("/api/v1/personal/items/<thing>/move-out", data = "<body>")]
pub async fn move_out(thing: &str, body: Call<MoveOut>) -> ApiResult<()> {
    let Call(mut unit, body) = body;
    Ok(commands::personal::move_out(&mut unit, id(thing)?, body).await?)
}

/// Moves a shared login into one's own folder; it goes to the bin. That others lose it must be
/// said.
#[utoipa::path(
    operation_id = "personal_move_in",
    context_path = "",
    request_body = MoveIn,
    responses((status = 200, body = PersonalThing)),
)]
#[post("/api/v1/personal/move-in", data = "<body>")]
pub async fn move_in(body: Call<MoveIn>) -> ApiResult<Tagged<PersonalThing>> {
    let Call(mut unit, body) = body;
    Ok(Tagged(commands::personal::move_in(&mut unit, body).await?))
}

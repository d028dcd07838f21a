//! Dialogues: how to talk to a command line.

use jexlin_api::{
    Dialogue, DialogueFile, DialogueFinding, DialogueRehearsal, InspectDialogue, NewDialogue, Page,
    RehearseDialogue,
};
use jexlin_app::commands;
use rocket::{Route, get, post, routes};

use super::payload::{Call, Sent, Tagged, id};
use crate::error::ApiResult;
use crate::guards::Unit;

pub fn routes() -> Vec<Route> {
    routes![list, add, read, inspect, rehearse]
}

/// Lists all versions of all dialogues, by name, the newest of each first. Not paged: an
/// organisation has few.
#[utoipa::path(
    operation_id = "dialogues",
    context_path = "",
    responses((status = 200, body = Page<Dialogue>)),
)]
#[get("/api/v1/dialogues")]
pub async fn list(mut unit: Unit) -> ApiResult<Sent<Page<Dialogue>>> {
    Ok(Sent(commands::dialogues::list(&mut unit).await?))
}

/// Adds a dialogue, or another version of one whose name is taken. A file with errors is refused.
/// Devices keep the version that they have.
#[utoipa::path(
    operation_id = "dialogues_add",
    context_path = "",
    request_body = NewDialogue,
    responses((status = 200, body = Dialogue)),
)]
#[post("/api/v1/dialogues", data = "<body>")]
pub async fn add(body: Call<NewDialogue>) -> ApiResult<Tagged<Dialogue>> {
    let Call(mut unit, body) = body;
    Ok(Tagged(commands::dialogues::add(&mut unit, body).await?))
}

/// Reads one version of a dialogue with its file.
#[utoipa::path(
    operation_id = "dialogues_read",
    context_path = "",
    responses((status = 200, body = DialogueFile)),
)]
#[get("/api/v1/dialogues/<dialogue>")]
pub async fn read(mut unit: Unit, dialogue: &str) -> ApiResult<Sent<DialogueFile>> {
    Ok(Sent(
        commands::dialogues::read(&mut unit, id(dialogue)?).await?,
    ))
}

/// Says what is wrong with a file. Nothing is kept.
#[utoipa::path(
    operation_id = "dialogues_inspect",
    context_path = "",
    request_body = InspectDialogue,
    responses((status = 200, body = Page<DialogueFinding>)),
)]
#[post("/api/v1/dialogues/inspect", data = "<body>")]
pub async fn inspect(body: Call<InspectDialogue>) -> ApiResult<Sent<Page<DialogueFinding>>> {
    let Call(mut unit, body) = body;
    Ok(Sent(commands::dialogues::inspect(&mut unit, body).await?))
}

/// Talks to a transcript instead of a device. Nothing is kept, and nothing is sent anywhere.
#[utoipa::path(
    operation_id = "dialogues_rehearse",
    context_path = "",
    request_body = RehearseDialogue,
    responses((status = 200, body = DialogueRehearsal)),
)]
#[post("/api/v1/dialogues/rehearse", data = "<body>")]
pub async fn rehearse(body: Call<RehearseDialogue>) -> ApiResult<Sent<DialogueRehearsal>> {
    let Call(mut unit, body) = body;
    Ok(Sent(commands::dialogues::rehearse(&mut unit, body).await?))
}

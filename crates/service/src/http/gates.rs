//! Gates.

use jexlin_api::{Gate, NewGate, Page, PendingAct};
use jexlin_app::commands;
use rocket::{Route, delete, get, post, put, routes};

use super::payload::{Call, Decided, IfMatch, Sent, Tagged, id};
use crate::error::ApiResult;
use crate::guards::Unit;

pub fn routes() -> Vec<Route> {
    routes![list, add, edit, remove]
}

/// Lists the gates on what the caller may list. Not paged: gates are few.
#[utoipa::path(
    operation_id = "gates_list",
    context_path = "",
    responses((status = 200, body = Page<Gate>)),
)]
#[get("/api/v1/gates")]
pub async fn list(mut unit: Unit) -> ApiResult<Sent<Page<Gate>>> {
    Ok(Sent(commands::gates::list(&mut unit).await?))
}

/// Sets a gate on a folder, a device or a credential.
#[utoipa::path(
    operation_id = "gates_add",
    context_path = "",
    request_body = NewGate,
    responses((status = 200, body = Gate)),
)]
#[post("/api/v1/gates", data = "<body>")]
pub async fn add(body: Call<NewGate>) -> ApiResult<Tagged<Gate>> {
    let Call(mut unit, body) = body;
    Ok(Tagged(commands::gates::add(&mut unit, body).await?))
}

/// Edits a gate; all its conditions are given. Weakening a gate waits for a second steward.
#[utoipa::path(
    operation_id = "gates_edit",
    context_path = "",
    params(("If-Match" = String, Header, description = "The revision that the change is based on")),
    request_body = NewGate,
    responses((status = 200, body = Gate), (status = 202, body = PendingAct)),
)]
#[put("/api/v1/gates/<gate>", data = "<body>")]
pub async fn edit(gate: &str, revision: IfMatch, body: Call<NewGate>) -> ApiResult<Decided<Gate>> {
    let Call(mut unit, body) = body;
    Ok(Decided(
        commands::gates::edit(&mut unit, id(gate)?, revision.0, body).await?,
    ))
}

/// Removes a gate. It waits for a second steward.
#[utoipa::path(
    operation_id = "gates_remove",
    context_path = "",
    params(("If-Match" = String, Header, description = "The revision that the change is based on")),
    responses((status = 200), (status = 202, body = PendingAct)),
)]
#[delete("/api/v1/gates/<gate>")]
pub async fn remove(mut unit: Unit, gate: &str, revision: IfMatch) -> ApiResult<Decided<()>> {
    Ok(Decided(
        commands::gates::remove(&mut unit, id(gate)?, revision.0).await?,
    ))
}

//! The audit log: list, export, key, proof. All of it for the duty `audit`, and reading it is
//! recorded too.

use jexlin_api::{AuditEvent, AuditKey, InclusionProof, Page};
use jexlin_app::commands;
use jexlin_core::audit::{Action, Outcome};
use rocket::http::ContentType;
use rocket::response::stream::TextStream;
use rocket::{FromForm, Route, get, routes};

use super::payload::{Sent, encode_page, id, maybe_id, paging};
use crate::error::ApiResult;
use crate::guards::Unit;

pub fn routes() -> Vec<Route> {
    routes![list, below, key, proof, export]
}

/// Which events are asked for.
#[derive(Debug, FromForm)]
pub struct Asked<'r> {
    action: Option<&'r str>,
    actor: Option<&'r str>,
    target: Option<&'r str>,
    outcome: Option<&'r str>,
    since: Option<&'r str>,
    until: Option<&'r str>,
    find: Option<&'r str>,
    actor_name: Option<&'r str>,
    target_name: Option<&'r str>,
    origin: Option<&'r str>,
    oldest: Option<bool>,
}

/// Lists events, newest first, or with `oldest=true` oldest first. `find` is a part of the name of
/// who acted or of the target, `actor_name`, `target_name` and `origin` of one of them. With the duty
/// `audit`, all of them; without it, a steward of a credential sees the events of that credential.
#[utoipa::path(
    operation_id = "audit_list",
    context_path = "",
    params(("action" = Option<Action>, Query), ("actor" = Option<String>, Query), ("target" = Option<String>, Query), ("outcome" = Option<Outcome>, Query), ("since" = Option<String>, Query), ("until" = Option<String>, Query), ("find" = Option<String>, Query), ("actor_name" = Option<String>, Query), ("target_name" = Option<String>, Query), ("origin" = Option<String>, Query), ("oldest" = Option<bool>, Query), ("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)),
    responses((status = 200, body = Page<AuditEvent>)),
)]
#[get("/api/v1/audit?<cursor>&<limit>&<asked..>")]
pub async fn list(
    mut unit: Unit,
    asked: Asked<'_>,
    cursor: Option<&str>,
    limit: Option<i64>,
) -> ApiResult<Sent<Page<AuditEvent>>> {
    let asked = commands::audit::Asked {
        action: asked.action,
        actor: maybe_id(asked.actor)?,
        target: maybe_id(asked.target)?,
        outcome: asked.outcome,
        since: asked.since,
        until: asked.until,
        find: asked.find,
        actor_name: asked.actor_name,
        target_name: asked.target_name,
        origin: asked.origin,
        oldest: asked.oldest.unwrap_or(false),
    };
    Ok(Sent(encode_page(
        commands::audit::list(&mut unit, asked, paging(cursor, limit)?).await?,
    )))
}

/// Lists the events of a folder and of everything in and below it, newest first, for its stewards,
/// as far down as they are stewards.
#[utoipa::path(
    operation_id = "audit_below",
    context_path = "",
    params(("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)),
    responses((status = 200, body = Page<AuditEvent>)),
)]
#[get("/api/v1/folders/<folder>/history?<cursor>&<limit>")]
pub async fn below(
    mut unit: Unit,
    folder: &str,
    cursor: Option<&str>,
    limit: Option<i64>,
) -> ApiResult<Sent<Page<AuditEvent>>> {
    Ok(Sent(encode_page(
        commands::audit::below(&mut unit, id(folder)?, paging(cursor, limit)?).await?,
    )))
}

/// Reads the public key of the audit log and the newest signed checkpoint, for everybody who is
/// signed in.
#[utoipa::path(
    operation_id = "audit_key",
    context_path = "",
    responses((status = 200, body = AuditKey)),
)]
#[get("/api/v1/audit/key")]
pub async fn key(mut unit: Unit) -> ApiResult<Sent<AuditKey>> {
    Ok(Sent(commands::audit::key(&mut unit).await?))
}

/// Reads the proof that an event is in the log of the newest checkpoint.
#[utoipa::path(
    operation_id = "audit_proof",
    context_path = "",
    responses((status = 200, body = InclusionProof)),
)]
#[get("/api/v1/audit/<event>/proof")]
pub async fn proof(mut unit: Unit, event: &str) -> ApiResult<Sent<InclusionProof>> {
    Ok(Sent(commands::audit::proof(&mut unit, id(event)?).await?))
}

/// Exports the whole log as JSON Lines, to be verified by `jexlin audit verify` with the public key
/// alone. It ends at the checkpoint that is newest when the export begins.
#[utoipa::path(
    operation_id = "audit_export",
    context_path = "",
    responses((status = 200, body = String, content_type = "application/jsonl")),
)]
#[get("/api/v1/audit/export")]
pub async fn export(mut unit: Unit) -> ApiResult<(ContentType, TextStream![String])> {
    let mut export = commands::audit::export(&mut unit).await?;
    drop(unit);
    let stream = TextStream! {
        loop {
            match export.next().await {
                Ok(Some(lines)) => {
                    for line in lines {
                        yield serde_json::to_string(&line).unwrap_or_default() + "\n";
                    }
                }
                Ok(None) => break,
                Err(error) => {
                    tracing::error!("an audit export broke off: {}", error.detail());
                    yield "\u{0}the export broke off here\n".to_owned();
                    break;
                }
            }
        }
    };
    Ok((ContentType::new("application", "jsonl"), stream))
}

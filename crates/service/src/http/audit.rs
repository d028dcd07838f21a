//! The audit log: list, export, key, proof. All of it for the duty `audit`, and reading it is
//! recorded too.

use jexlin_api::{AuditEvent, AuditKey, InclusionProof, Page};
use jexlin_app::commands;
use jexlin_core::audit::{Action, Outcome};
use rocket::http::ContentType;
use rocket::response::stream::TextStream;
use rocket::{Route, get, routes};

use super::payload::{Sent, encode_page, id, maybe_id, paging};
use crate::error::ApiResult;
use crate::guards::Unit;

pub fn routes() -> Vec<Route> {
    routes![list, below, key, proof, export]
}

/// Lists events, newest first. With the duty `audit`, all of them; without it, a steward of a
/// credential sees the events of that credential.
#[allow(
    clippy::too_many_arguments,
    reason = "one argument a filter, as the address has them"
)]
#[utoipa::path(
    operation_id = "audit_list",
    context_path = "",
    params(("action" = Option<Action>, Query), ("actor" = Option<String>, Query), ("target" = Option<String>, Query), ("outcome" = Option<Outcome>, Query), ("since" = Option<String>, Query), ("until" = Option<String>, Query), ("find" = Option<String>, Query), ("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)),
    responses((status = 200, body = Page<AuditEvent>)),
)]
#[get("/api/v1/audit?<action>&<actor>&<target>&<outcome>&<since>&<until>&<find>&<cursor>&<limit>")]
pub async fn list(
    mut unit: Unit,
    action: Option<&str>,
    actor: Option<&str>,
    target: Option<&str>,
    outcome: Option<&str>,
    since: Option<&str>,
    until: Option<&str>,
    find: Option<&str>,
    cursor: Option<&str>,
    limit: Option<i64>,
) -> ApiResult<Sent<Page<AuditEvent>>> {
    Ok(Sent(encode_page(
        commands::audit::list(
            &mut unit,
            action,
            maybe_id(actor)?,
            maybe_id(target)?,
            outcome,
            since,
            until,
            find,
            paging(cursor, limit)?,
        )
        .await?,
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

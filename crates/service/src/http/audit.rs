//! The audit log: list, export, key, proof. All of it for the duty `audit`, and reading it is
//! recorded too.

use std::sync::Arc;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use chrono::{DateTime, Utc};
use jexlin_api::{AuditEvent, AuditKey, InclusionProof, Page};
use jexlin_core::access::mark;
use jexlin_core::audit::{ExportLine, Outcome, inclusion_proof};
use jexlin_store::{EventFilter, EventRow};
use rocket::http::ContentType;
use rocket::response::stream::TextStream;
use rocket::{Route, get, routes};
use uuid::Uuid;

use super::payload::{Sent, id, maybe_id, page, paging};
use crate::error::{ApiError, ApiResult};
use crate::unit_of_work::UnitOfWork;

pub fn routes() -> Vec<Route> {
    routes![list, below, key, proof, export]
}

fn show(row: EventRow) -> AuditEvent {
    let event = row.event;
    AuditEvent {
        id: event.id.parse().unwrap_or_default(),
        leaf: row.leaf,
        at: event.at.parse().unwrap_or_default(),
        action: event.action,
        actor: event.actor.parse().ok(),
        actor_name: event.actor_name,
        target: event.target.parse().ok(),
        target_type: event.target_type,
        target_name: event.target_name,
        origin: event.origin,
        outcome: event.outcome.word().into(),
        detail: event.detail,
    }
}

fn time(name: &str, text: Option<&str>) -> ApiResult<Option<DateTime<Utc>>> {
    text.filter(|text| !text.is_empty())
        .map(|text| {
            text.parse().map_err(|_| {
                ApiError::field(
                    name,
                    "it is a time of RFC 3339, such as 2026-03-02T01:30:00Z",
                )
            })
        })
        .transpose()
}

/// Events, newest first. With the duty `audit`, all; without it, a steward of a credential may see
/// those on that credential.
#[allow(
    clippy::too_many_arguments,
    reason = "one argument a filter, as the address has them"
)]
#[utoipa::path(context_path = "", params(("action" = Option<String>, Query), ("actor" = Option<String>, Query), ("target" = Option<String>, Query), ("outcome" = Option<String>, Query), ("since" = Option<String>, Query), ("until" = Option<String>, Query), ("find" = Option<String>, Query), ("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)), responses((status = 200, body = Page<AuditEvent>)))]
#[get("/api/v1/audit?<action>&<actor>&<target>&<outcome>&<since>&<until>&<find>&<cursor>&<limit>")]
pub async fn list(
    mut unit: UnitOfWork,
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
    let paging = paging::<i64>(cursor, limit)?;
    let some = |text: Option<&str>| {
        text.map(str::trim)
            .filter(|text| !text.is_empty())
            .map(|text| text.chars().take(200).collect::<String>())
    };
    let filter = EventFilter {
        action: some(action),
        actor: maybe_id(actor)?,
        target: maybe_id(target)?,
        outcome: some(outcome)
            .map(|word| {
                word.parse::<Outcome>()
                    .map(|outcome| outcome.word().to_owned())
            })
            .transpose()
            .map_err(|problem| ApiError::field("outcome", problem))?,
        since: time("since", since)?,
        until: time("until", until)?,
        find: some(find),
        before: paging.after,
        most: paging.most + 1,
    };
    unit.begin_audit("audit.read", "audit-log", None, "");
    if unit.duty("audit").is_err() {
        let target = filter.target.ok_or_else(|| ApiError::needs_duty("audit"))?;
        crate::guards::allow_credential::<mark::Steward>(&mut unit, target)
            .await
            .map_err(|_| ApiError::needs_duty("audit"))?;
    }
    for (name, value) in [
        ("action", some(action)),
        ("actor", some(actor)),
        ("target", some(target)),
        ("outcome", some(outcome)),
        ("since", some(since)),
        ("until", some(until)),
        ("find", some(find)),
    ] {
        if let Some(value) = value {
            unit.add_detail(name, value);
        }
    }
    let rows = unit.tx()?.events(&filter).await?;
    unit.commit_audited().await?;
    Ok(Sent(page(rows, paging.most, |row| row.seq, show)))
}

/// What happened to a folder and to all that lies in it and below it, newest first, for its stewards:
/// as far down as they are stewards.
#[utoipa::path(context_path = "", params(("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)), responses((status = 200, body = Page<AuditEvent>)))]
#[get("/api/v1/folders/<folder>/history?<cursor>&<limit>")]
pub async fn below(
    mut unit: UnitOfWork,
    folder: &str,
    cursor: Option<&str>,
    limit: Option<i64>,
) -> ApiResult<Sent<Page<AuditEvent>>> {
    let paging = paging::<i64>(cursor, limit)?;
    let folder = id(folder)?;
    unit.begin_audit("audit.read", "folder", Some(folder), "");
    crate::guards::allow_folder::<mark::Steward>(&mut unit, folder).await?;
    let path = unit.tx()?.path_of(folder).await?;
    unit.set_target(folder, &path);
    let (person, now) = (unit.person.id, unit.now);
    let rows = unit
        .tx()?
        .events_below(folder, person, now, paging.after, paging.most + 1)
        .await?;
    unit.commit_audited().await?;
    Ok(Sent(page(rows, paging.most, |row| row.seq, show)))
}

/// The log's public key and newest signed checkpoint. Anybody who is signed in may have them.
#[utoipa::path(context_path = "", responses((status = 200, body = AuditKey)))]
#[get("/api/v1/audit/key")]
pub async fn key(mut unit: UnitOfWork) -> ApiResult<Sent<AuditKey>> {
    let checkpoint = unit.tx()?.last_checkpoint().await?;
    unit.commit().await?;
    Ok(Sent(AuditKey {
        key: unit.keys.signer.verifier().to_text(),
        checkpoint,
    }))
}

/// A proof that an event is in the tree of the newest checkpoint.
#[utoipa::path(context_path = "", responses((status = 200, body = InclusionProof)))]
#[get("/api/v1/audit/<event>/proof")]
pub async fn proof(mut unit: UnitOfWork, event: &str) -> ApiResult<Sent<InclusionProof>> {
    let event: Uuid = id(event)?;
    unit.begin_audit("audit.proof", "audit-event", Some(event), "");
    unit.duty("audit")?;
    let leaf = unit
        .tx()?
        .leaf_of(event)
        .await
        .map_err(|_| ApiError::unknown("sealed event"))?;
    let checkpoint = unit
        .tx()?
        .last_checkpoint()
        .await?
        .ok_or_else(|| ApiError::unknown("checkpoint"))?;
    let size = unit
        .keys
        .signer
        .verifier()
        .open(&checkpoint)
        .map_err(|problem| ApiError::internal(problem.to_string()))?
        .size;
    let hashes = unit
        .tx()?
        .leaf_hashes(i64::try_from(size).unwrap_or(i64::MAX))
        .await?;
    let path = inclusion_proof(&hashes, usize::try_from(leaf).unwrap_or(usize::MAX))
        .ok_or_else(|| ApiError::unknown("sealed event"))?;
    unit.commit_audited().await?;
    Ok(Sent(InclusionProof {
        leaf,
        path: path.iter().map(|hash| STANDARD.encode(hash)).collect(),
        checkpoint,
    }))
}

/// The whole log as JSON Lines, to be verified by `jexlin audit verify` with nothing but the
/// public key. The export ends at the checkpoint that is newest when it begins.
#[utoipa::path(context_path = "", responses((status = 200, body = String, content_type = "application/jsonl")))]
#[get("/api/v1/audit/export")]
pub async fn export(mut unit: UnitOfWork) -> ApiResult<(ContentType, TextStream![String])> {
    unit.begin_audit("audit.export", "audit-log", None, "");
    unit.duty("audit")?;
    unit.commit_audited().await?;
    let (app, keys, organisation) = (
        unit.app.clone(),
        Arc::clone(&unit.keys),
        unit.organisation(),
    );
    // One transaction a stretch: an export of a long log holds nothing open. Rows never change, so
    // the stretches fit together; the newest checkpoint is read last and covers them all.
    let stream = TextStream! {
        let verifier = keys.signer.verifier();
        let line = |line: &ExportLine| serde_json::to_string(line).unwrap_or_default() + "\n";
        yield line(&ExportLine::Log { format: "jexlin audit export 1".into(), origin: verifier.origin().to_owned(), size: 0 });
        let mut from = 0;
        loop {
            let chunk = match read_chunk(&app, organisation, from).await {
                Ok(chunk) => chunk,
                Err(fault) => {
                    tracing::error!("an audit export broke off: {}", fault.detail());
                    yield "\u{0}the export broke off here\n".to_owned();
                    return;
                }
            };
            let Some(last) = chunk.last().map(|(leaf, ..)| *leaf) else { break };
            from = last + 1;
            for (leaf, hash, event) in chunk {
                yield line(&ExportLine::Leaf { index: u64::try_from(leaf).unwrap_or(0), hash: STANDARD.encode(hash), event });
            }
        }
        match read_rest(&app, organisation, from, &keys.mac).await {
            Ok((strays, notes)) => {
                for event in strays {
                    yield line(&ExportLine::Stray { event });
                }
                for note in notes {
                    yield line(&ExportLine::Checkpoint { note });
                }
            }
            Err(fault) => {
                tracing::error!("an audit export broke off: {}", fault.detail());
                yield "\u{0}the export broke off here\n".to_owned();
            }
        }
    };
    Ok((ContentType::new("application", "jsonl"), stream))
}

type Leaves = Vec<(i64, Vec<u8>, Option<jexlin_core::audit::Event>)>;

async fn read_chunk(app: &crate::App, organisation: Uuid, from: i64) -> ApiResult<Leaves> {
    let mut tx = app.store.begin(organisation).await?;
    let chunk = tx.export_leaves(from, 1000).await?;
    tx.commit().await?;
    Ok(chunk.leaves)
}

/// The strays, and the checkpoints that the exported leaves reach.
async fn read_rest(
    app: &crate::App,
    organisation: Uuid,
    leaves: i64,
    mac: &jexlin_core::vault::EventKey,
) -> ApiResult<(Vec<jexlin_core::audit::Event>, Vec<String>)> {
    let mut tx = app.store.begin(organisation).await?;
    let strays = tx.stray_events(mac).await?;
    let (mut notes, mut after, mut beyond) = (vec![], 0, None);
    loop {
        let some = tx.checkpoints(after, 1000).await?;
        let Some((last, _)) = some.last() else { break };
        after = *last;
        for (size, note) in some {
            if size <= leaves {
                notes.push(note);
            } else if beyond.is_none() {
                beyond = Some((size, note));
            }
        }
    }
    // The log went on while it was exported; but a leaf that is missing for good must show.
    if let Some((size, note)) = beyond
        && tx.export_leaves(size - 1, 1).await?.leaves.is_empty()
    {
        notes.push(note);
    }
    tx.commit().await?;
    Ok((strays, notes))
}

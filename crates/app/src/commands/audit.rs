//! The audit log: list, export, key, proof. All of it for the duty `audit`, and reading it is
//! recorded too.

use std::sync::Arc;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use chrono::{DateTime, Utc};
use jexlin_api::{AuditEvent, AuditKey, InclusionProof};
use jexlin_core::access::mark;
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::audit::{Event, ExportLine, Outcome, inclusion_proof};
use jexlin_core::people::Duty;
use jexlin_store::{EventFilter, EventRow};
use uuid::Uuid;

use crate::app::App;
use crate::error::{AppError, AppResult};
use crate::keyring::OpenKeys;
use crate::paging::{Paged, Paging};
use crate::unit_of_work::UnitOfWork;

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
        outcome: event.outcome,
        detail: event.detail,
    }
}

fn time(name: &str, text: Option<&str>) -> AppResult<Option<DateTime<Utc>>> {
    text.filter(|text| !text.is_empty())
        .map(|text| {
            text.parse().map_err(|_| {
                AppError::field(
                    name,
                    "must be an RFC 3339 time, such as 2026-03-02T01:30:00Z",
                )
            })
        })
        .transpose()
}

/// Which events somebody asks for, as they typed it. Texts are parts, in any case.
#[derive(Clone, Copy, Debug, Default)]
#[allow(missing_docs, reason = "each narrows by what its name says")]
pub struct Asked<'r> {
    /// An event, or the first word of several.
    pub action: Option<&'r str>,
    pub actor: Option<Uuid>,
    pub target: Option<Uuid>,
    pub outcome: Option<&'r str>,
    pub since: Option<&'r str>,
    pub until: Option<&'r str>,
    /// In the name of who acted or of what it was done to.
    pub find: Option<&'r str>,
    pub actor_name: Option<&'r str>,
    pub target_name: Option<&'r str>,
    pub origin: Option<&'r str>,
    /// The oldest first.
    pub oldest: bool,
}

/// Events, newest first unless asked otherwise. With the duty `audit`, all; without it, a steward of
/// a credential may see those on that credential.
pub async fn list(
    unit: &mut UnitOfWork,
    asked: Asked<'_>,
    paging: Paging<i64>,
) -> AppResult<Paged<AuditEvent, i64>> {
    let given = |text: Option<&str>| {
        text.map(str::trim)
            .filter(|text| !text.is_empty())
            .map(|text| text.chars().take(200).collect::<String>())
    };
    let filter = EventFilter {
        action: given(asked.action),
        actor: asked.actor,
        target: asked.target,
        outcome: given(asked.outcome)
            .map(|word| word.parse::<Outcome>())
            .transpose()
            .map_err(|problem| AppError::field("outcome", problem.to_string()))?,
        since: time("since", asked.since)?,
        until: time("until", asked.until)?,
        find: given(asked.find),
        actor_name: given(asked.actor_name),
        target_name: given(asked.target_name),
        origin: given(asked.origin),
        oldest: asked.oldest,
        after: paging.after,
        limit: paging.limit + 1,
    };
    unit.begin_audit(Action::AuditRead, TargetType::AuditLog, None, "");
    if unit.duty(Duty::Audit).is_err() {
        let target = filter
            .target
            .ok_or_else(|| AppError::needs_duty(Duty::Audit))?;
        as_steward_of(unit, target)
            .await
            .map_err(|_| AppError::needs_duty(Duty::Audit))?;
    }
    for (name, value) in [
        ("action", given(asked.action)),
        ("actor", asked.actor.map(|id| id.to_string())),
        ("target", asked.target.map(|id| id.to_string())),
        ("outcome", given(asked.outcome)),
        ("since", given(asked.since)),
        ("until", given(asked.until)),
        ("find", given(asked.find)),
        ("actor_name", given(asked.actor_name)),
        ("target_name", given(asked.target_name)),
        ("origin", given(asked.origin)),
    ] {
        if let Some(value) = value {
            unit.add_detail(name, value);
        }
    }
    let rows = unit.tx()?.events(&filter).await?;
    unit.commit_audited().await?;
    Ok(Paged::of(rows, paging.limit, |row| row.seq, show))
}

/// Allows stewards of a device or a credential to read its events.
async fn as_steward_of(unit: &mut UnitOfWork, target: Uuid) -> AppResult<()> {
    if let Ok(device) = unit.tx()?.device(target).await {
        let (person, now) = (unit.person.id, unit.now);
        let reach = unit
            .tx()?
            .reach_folder(person, device.folder_id, now)
            .await?;
        unit.demand::<mark::Steward>(reach)?;
        return Ok(());
    }
    crate::guards::allow_credential::<mark::Steward>(unit, target)
        .await
        .map(|_| ())
}

/// What happened to a folder and to everything in and below it, newest first, for its
/// stewards: as far down as they are stewards.
pub async fn below(
    unit: &mut UnitOfWork,
    folder: Uuid,
    paging: Paging<i64>,
) -> AppResult<Paged<AuditEvent, i64>> {
    unit.begin_audit(Action::AuditRead, TargetType::Folder, Some(folder), "");
    crate::guards::allow_folder::<mark::Steward>(unit, folder).await?;
    let path = unit.tx()?.path_of(folder).await?;
    unit.set_target(folder, &path);
    let (person, now) = (unit.person.id, unit.now);
    let rows = unit
        .tx()?
        .events_below(folder, person, now, paging.after, paging.limit + 1)
        .await?;
    unit.commit_audited().await?;
    Ok(Paged::of(rows, paging.limit, |row| row.seq, show))
}

/// The log's public key and newest signed checkpoint. Anybody who is signed in may have them.
pub async fn key(unit: &mut UnitOfWork) -> AppResult<AuditKey> {
    let checkpoint = unit.tx()?.last_checkpoint().await?;
    unit.commit().await?;
    Ok(AuditKey {
        key: unit.keys.signer.verifier().to_text(),
        checkpoint,
    })
}

/// A proof that an event is in the tree of the newest checkpoint.
pub async fn proof(unit: &mut UnitOfWork, event: Uuid) -> AppResult<InclusionProof> {
    let event: Uuid = event;
    unit.begin(Action::AuditProof, TargetType::AuditEvent, Some(event), "")?;
    let leaf = unit
        .tx()?
        .leaf_of(event)
        .await
        .map_err(|_| AppError::unknown("sealed event"))?;
    let checkpoint = unit
        .tx()?
        .last_checkpoint()
        .await?
        .ok_or_else(|| AppError::unknown("checkpoint"))?;
    let size = unit
        .keys
        .signer
        .verifier()
        .open(&checkpoint)
        .map_err(|problem| AppError::internal(problem.to_string()))?
        .size;
    let hashes = unit
        .tx()?
        .leaf_hashes(i64::try_from(size).unwrap_or(i64::MAX))
        .await?;
    let path = inclusion_proof(&hashes, usize::try_from(leaf).unwrap_or(usize::MAX))
        .ok_or_else(|| AppError::unknown("sealed event"))?;
    unit.commit_audited().await?;
    Ok(InclusionProof {
        leaf,
        path: path.iter().map(|hash| STANDARD.encode(hash)).collect(),
        checkpoint,
    })
}

type Leaves = Vec<(i64, Vec<u8>, Option<jexlin_core::audit::Event>)>;

async fn read_chunk(app: &crate::App, organisation: Uuid, from: i64) -> AppResult<Leaves> {
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
) -> AppResult<(Vec<jexlin_core::audit::Event>, Vec<String>)> {
    let mut tx = app.store.begin(organisation).await?;
    let strays = tx.stray_events(mac).await?;
    let (mut notes, mut after, mut beyond) = (vec![], 0, None);
    loop {
        let part = tx.checkpoints(after, 1000).await?;
        let Some((last, _)) = part.last() else { break };
        after = *last;
        for (size, note) in part {
            if size <= leaves {
                notes.push(note);
            } else if beyond.is_none() {
                beyond = Some((size, note));
            }
        }
    }
    // The log went on while it was exported; but a leaf that is missing permanently must show.
    if let Some((size, note)) = beyond
        && tx.export_leaves(size - 1, 1).await?.leaves.is_empty()
    {
        notes.push(note);
    }
    tx.commit().await?;
    Ok((strays, notes))
}

/// An export of the log on its way: the lines come in stretches.
#[derive(Debug)]
pub struct AuditExport {
    app: App,
    keys: Arc<OpenKeys>,
    organisation: Uuid,
    from: i64,
    /// The newest checkpoint when it began: its size, and the note.
    newest: (i64, Option<String>),
    stage: ExportStage,
}

/// What of an export comes next.
#[derive(Clone, Copy, Debug)]
enum ExportStage {
    Head,
    Leaves,
    Rest,
    End,
}

/// Begins an export of the log, from which anybody can verify it offline.
pub async fn export(unit: &mut UnitOfWork) -> AppResult<AuditExport> {
    unit.begin(Action::AuditExport, TargetType::AuditLog, None, "")?;
    let note = unit.tx()?.last_checkpoint().await?;
    let verifier = unit.keys.signer.verifier();
    let size = note
        .as_ref()
        .and_then(|note| verifier.open(note).ok())
        .map_or(0, |checkpoint| checkpoint.size);
    unit.commit_audited().await?;
    Ok(AuditExport {
        newest: (i64::try_from(size).unwrap_or(i64::MAX), note),
        app: unit.app.clone(),
        keys: Arc::clone(&unit.keys),
        organisation: unit.organisation(),
        from: 0,
        stage: ExportStage::Head,
    })
}

impl AuditExport {
    /// The next lines; none when it is complete.
    ///
    /// One transaction a stretch: an export of a long log holds nothing open. Rows never change, so
    /// the stretches fit together; the newest checkpoint is read last and covers them all.
    ///
    /// # Errors
    /// [`AppError`] when the database cannot be read; then the export broke off.
    pub async fn next(&mut self) -> AppResult<Option<Vec<ExportLine>>> {
        match self.stage {
            ExportStage::Head => {
                self.stage = ExportStage::Leaves;
                let verifier = self.keys.signer.verifier();
                Ok(Some(vec![ExportLine::Log {
                    format: "jexlin audit export 1".into(),
                    origin: verifier.origin().to_owned(),
                    size: u64::try_from(self.newest.0).unwrap_or(0),
                }]))
            }
            ExportStage::Leaves => {
                let chunk = read_chunk(&self.app, self.organisation, self.from).await?;
                match chunk.last() {
                    Some((leaf, ..)) => self.from = leaf + 1,
                    None => self.stage = ExportStage::Rest,
                }
                let line = |(leaf, hash, event): (i64, Vec<u8>, Option<Event>)| ExportLine::Leaf {
                    index: u64::try_from(leaf).unwrap_or(0),
                    hash: STANDARD.encode(hash),
                    event,
                };
                Ok(Some(chunk.into_iter().map(line).collect()))
            }
            ExportStage::Rest => {
                self.stage = ExportStage::End;
                let (strays, mut notes) =
                    read_rest(&self.app, self.organisation, self.from, &self.keys.mac).await?;
                // What was signed when the export began has to be in it.
                if let (size, Some(note)) = &self.newest
                    && *size > self.from
                    && !notes.contains(note)
                {
                    notes.push(note.clone());
                }
                let strays = strays.into_iter().map(|event| ExportLine::Stray { event });
                let notes = notes
                    .into_iter()
                    .map(|note| ExportLine::Checkpoint { note });
                Ok(Some(strays.chain(notes).collect()))
            }
            ExportStage::End => Ok(None),
        }
    }
}

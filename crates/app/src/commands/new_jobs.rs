//! Adds jobs for one account, or for many accounts in one request.
//!
//! A request for many makes no more queries than one for a single account. The right to each
//! credential is checked separately, and each has its own refusal and its own audit event. Everything
//! commits together.

use std::collections::{HashMap, HashSet};

use jexlin_api::{ErrorCode, Job, NewJob, NewJobs};
use jexlin_core::access::mark;
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::upkeep::{ChangeMethod, JobCause, Task};
use jexlin_core::words::Word as _;
use jexlin_store::{AccountRow, Approach, Conflict, DeviceRow, JobRow, StoreError};
use uuid::Uuid;

use super::upkeep::show_job;
use crate::error::{AppError, AppResult};
use crate::guards::allow_approach;
use crate::jobs::queued;
use crate::unit_of_work::UnitOfWork;

/// The most credentials that one request may name.
const MAX_CREDENTIALS: usize = 1_000;

/// One credential of a request.
struct Entry {
    credential: Uuid,
    /// Its path, for the audit log; nothing when there is no such credential.
    path: Option<String>,
    /// The job, once there is one, or the reason why there is none.
    job: AppResult<Option<Uuid>>,
    /// The waiting check that a rotation replaces.
    cancelled_check: Option<Uuid>,
}

/// What the database has about the accounts of a request.
struct Known {
    accounts: HashMap<Uuid, AccountRow>,
    devices: HashMap<Uuid, DeviceRow>,
    operated: HashSet<Uuid>,
    waiting: HashMap<Uuid, (Uuid, Task)>,
}

/// The audit action of a request for a task.
fn action_of(task: Task) -> AppResult<Action> {
    match task {
        Task::Check => Ok(Action::UpkeepCheck),
        Task::Rotation => Ok(Action::UpkeepRotate),
        Task::Rehearsal => Ok(Action::UpkeepRehearse),
        Task::Listing => Err(AppError::field(
            "task",
            "the accounts of a device are listed for the device, not for a credential",
        )),
    }
}

/// Checks the level that the task needs on each credential.
async fn allowed(unit: &mut UnitOfWork, credentials: &[Uuid], task: Task) -> AppResult<Vec<Entry>> {
    let action = action_of(task)?;
    let (person, now) = (unit.person.id, unit.now);
    let mut approaches = unit.tx()?.approaches(person, credentials, now).await?;
    let mut entries = vec![];
    for credential in credentials.iter().copied() {
        unit.begin_audit(action, TargetType::Credential, Some(credential), "");
        let found = approaches.remove(&credential);
        let path = found.as_ref().map(|approach| approach.path.clone());
        let approach = found.unwrap_or_else(|| Approach::none(person, credential));
        let allowed = if task == Task::Check {
            allow_approach::<mark::Use>(unit, credential, &approach).map(drop)
        } else {
            allow_approach::<mark::Edit>(unit, credential, &approach).map(drop)
        };
        entries.push(Entry {
            credential,
            path,
            job: allowed.map(|()| None),
            cancelled_check: None,
        });
    }
    Ok(entries)
}

async fn known(unit: &mut UnitOfWork, credentials: &[Uuid]) -> AppResult<Known> {
    let tx = unit.tx()?;
    let accounts = tx.accounts_of(credentials).await?;
    let ids: Vec<Uuid> = accounts.values().map(|row| row.id).collect();
    let devices: Vec<Uuid> = accounts.values().map(|row| row.device_id).collect();
    Ok(Known {
        waiting: tx.waiting_jobs(&ids).await?,
        operated: tx.operated(&devices).await?,
        devices: tx.devices_by_id(&devices).await?,
        accounts,
    })
}

/// The method of a job that a person adds, or the reason why there can be no such job.
fn method_for(
    unit: &UnitOfWork,
    device: &DeviceRow,
    is_operated: bool,
    task: Task,
    wanted: Option<ChangeMethod>,
) -> AppResult<ChangeMethod> {
    let method = wanted.unwrap_or(if is_operated {
        ChangeMethod::Operator
    } else {
        ChangeMethod::Own
    });
    if !matches!(task, Task::Rotation | Task::Rehearsal) {
        return Ok(method);
    }
    if method == ChangeMethod::Operator {
        if !is_operated {
            return Err(AppError::conflict(
                ErrorCode::NoOperator,
                "The device has no operator.",
                "Set an operator, or rotate as the account itself: `--as-itself`.",
            ));
        }
        if device.paused_at.is_some() {
            return Err(AppError::device_paused(&device.paused_why));
        }
        return Ok(method);
    }
    let kind = device.connector.0;
    if unit.app.connector(kind)?.capabilities().changes_as_itself {
        return Ok(method);
    }
    Err(AppError::conflict(
        ErrorCode::NoOperator,
        format!(
            "An account on this type of device ({}) cannot change its own password.",
            kind.label()
        ),
        "Set an operator on the device, and rotate by it.",
    ))
}

/// Lets a waiting job of the same task run now, or makes a new job.
async fn run_now_or_make(
    unit: &mut UnitOfWork,
    entry: &mut Entry,
    known: &Known,
    task: Task,
    wanted: Option<ChangeMethod>,
) -> AppResult<Option<JobRow>> {
    let no_device = || {
        AppError::conflict(
            ErrorCode::NoDevice,
            "This credential is not an account on a device.",
            "Set its device first.",
        )
    };
    let account = known.accounts.get(&entry.credential);
    let account = account.ok_or_else(no_device)?;
    let device = known.devices.get(&account.device_id);
    let device = device.ok_or_else(no_device)?;
    let is_operated = known.operated.contains(&device.id);
    let method = method_for(unit, device, is_operated, task, wanted)?;
    let (organisation, by, now) = (unit.organisation(), unit.person.id, unit.now);
    match known.waiting.get(&account.id) {
        Some((waiting, of)) if *of == task => {
            unit.tx()?.hurry_job(*waiting, now).await?;
            entry.job = Ok(Some(*waiting));
            return Ok(None);
        }
        // An account has one job at a time, and a rotation proves as much as a check.
        Some((check, Task::Check)) if task == Task::Rotation => {
            let why = "a rotation was asked for instead";
            unit.tx()?.cancel_job(*check, now, why).await?;
            entry.cancelled_check = Some(*check);
        }
        _ => {}
    }
    let job = queued(
        organisation,
        account,
        entry.credential,
        task,
        method,
        JobCause::Person,
        Some(by),
        now,
    );
    entry.job = Ok(Some(job.id));
    Ok(Some(job))
}

/// Adds a job for each credential, and queues an audit event for each. The results are in the order of
/// the credentials.
async fn add(
    unit: &mut UnitOfWork,
    credentials: &[Uuid],
    task: Task,
    wanted: Option<ChangeMethod>,
) -> AppResult<Vec<(Uuid, AppResult<Job>)>> {
    let mut entries = allowed(unit, credentials, task).await?;
    let of_allowed = entries.iter().filter(|entry| entry.job.is_ok());
    let of_allowed: Vec<Uuid> = of_allowed.map(|entry| entry.credential).collect();
    let known = known(unit, &of_allowed).await?;
    let mut new = vec![];
    for entry in entries.iter_mut().filter(|entry| entry.job.is_ok()) {
        match run_now_or_make(unit, entry, &known, task, wanted).await {
            Ok(job) => new.extend(job),
            Err(error) if error.is_refusal() => entry.job = Err(error),
            Err(error) => return Err(error),
        }
    }
    let mut under_way: HashSet<Uuid> = new.iter().map(|job| job.id).collect();
    for added in unit.tx()?.add_jobs(new).await? {
        under_way.remove(&added);
    }
    for entry in &mut entries {
        if matches!(entry.job, Ok(Some(job)) if under_way.contains(&job)) {
            entry.job = Err(StoreError::Conflict(Conflict::JobOneAtATime).into());
        }
    }
    results(unit, entries, task).await
}

/// Reads the jobs of the entries, and queues their audit events.
async fn results(
    unit: &mut UnitOfWork,
    entries: Vec<Entry>,
    task: Task,
) -> AppResult<Vec<(Uuid, AppResult<Job>)>> {
    let jobs = entries.iter().filter_map(|entry| entry.job.as_ref().ok());
    let jobs: Vec<Uuid> = jobs.copied().flatten().collect();
    let (person, now) = (unit.person.id, unit.now);
    let views = unit.tx()?.job_views(person, now, &jobs).await?;
    let mut views: HashMap<Uuid, _> = views.into_iter().map(|view| (view.row.id, view)).collect();
    // Made-up identifiers could fill the log, so there is one event for all of them.
    let mut unknown = entries.iter().filter(|entry| entry.path.is_none()).count();
    let mut results = vec![];
    for entry in entries {
        let (id, action) = (entry.credential, action_of(task)?);
        let path = entry.path.as_deref().unwrap_or_default();
        unit.begin_audit(action, TargetType::Credential, Some(id), path);
        let result = match entry.job {
            Ok(job) => {
                let view = job.and_then(|job| views.remove(&job));
                let view = view.ok_or_else(|| AppError::internal("a new job cannot be read"))?;
                let job = show_job(view);
                if let Some(check) = entry.cancelled_check {
                    unit.add_detail("cancelled_check", check.to_string());
                }
                unit.add_detail("job", job.id.to_string());
                unit.add_detail("method", job.method.word());
                unit.queue_event()?;
                Ok(job)
            }
            Err(error) if entry.path.is_some() => {
                unit.queue_refusal(&error).await?;
                Err(error)
            }
            Err(error) => {
                if unknown > 1 {
                    unit.add_detail("unknown_credentials", unknown.to_string());
                }
                if unknown > 0 {
                    unit.queue_refusal(&error).await?;
                    unknown = 0;
                }
                Err(error)
            }
        };
        results.push((id, result));
    }
    Ok(results)
}

/// Adds a job for one credential.
async fn add_one(
    unit: &mut UnitOfWork,
    credential: Uuid,
    task: Task,
    wanted: Option<ChangeMethod>,
) -> AppResult<Job> {
    let results = add(unit, &[credential], task, wanted).await?;
    let result = results.into_iter().next().map(|(_, job)| job);
    let job = result.ok_or_else(|| AppError::internal("no job was added"))??;
    unit.commit_queued().await?;
    unit.app.wake.notify_one();
    Ok(job)
}

/// Adds a job of the same task for each of many credentials, in one transaction. A credential for which
/// that is refused does not affect the others; its refusal is in the audit log.
///
/// # Errors
/// [`AppError`] for the request as a whole; no job is added then.
pub async fn add_many(
    unit: &mut UnitOfWork,
    body: NewJobs,
) -> AppResult<Vec<(Uuid, AppResult<Job>)>> {
    action_of(body.task)?;
    let mut seen = HashSet::new();
    let mut credentials = body.credentials;
    credentials.retain(|id| seen.insert(*id));
    if credentials.is_empty() || credentials.len() > MAX_CREDENTIALS {
        return Err(AppError::field(
            "credentials",
            format!("name between 1 and {MAX_CREDENTIALS} credentials"),
        ));
    }
    let results = add(unit, &credentials, body.task, body.method).await?;
    unit.commit_queued().await?;
    unit.app.wake.notify_one();
    Ok(results)
}

/// Checks now whether the stored password opens the account.
pub async fn check(unit: &mut UnitOfWork, credential: Uuid) -> AppResult<Job> {
    add_one(unit, credential, Task::Check, None).await
}

/// Rehearses a rotation on the device: goes up to the change, without changing anything.
pub async fn rehearse(unit: &mut UnitOfWork, credential: Uuid, body: NewJob) -> AppResult<Job> {
    add_one(unit, credential, Task::Rehearsal, body.method).await
}

/// Rotates the password now, on the device and in the vault.
pub async fn rotate(unit: &mut UnitOfWork, credential: Uuid, body: NewJob) -> AppResult<Job> {
    add_one(unit, credential, Task::Rotation, body.method).await
}

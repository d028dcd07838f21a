//! Jobs that somebody asks for: for one account, or for many in one request.
//!
//! Many take as few ways to the database as one, each with its own right, its own refusal and its own
//! event. All of them become durable together.

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
use crate::guards::allow_on_way;
use crate::jobs::queued;
use crate::unit_of_work::UnitOfWork;

/// For so many accounts a job can be asked for in one request.
const MOST: usize = 1_000;

/// What becomes of asking for a job for one of these credentials.
struct Asked {
    credential: Uuid,
    /// Its path, where the one who asks may know it.
    path: String,
    /// The job, once there is one; or why there is none.
    job: AppResult<Option<Uuid>>,
    /// A check that waited, and that a rotation replaces.
    cancelled_check: Option<Uuid>,
}

/// What is known of the accounts that are asked about.
struct Known {
    accounts: HashMap<Uuid, AccountRow>,
    devices: HashMap<Uuid, DeviceRow>,
    operated: HashSet<Uuid>,
    waiting: HashMap<Uuid, (Uuid, Task)>,
}

/// What asking for a task is recorded as.
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

/// Demands what asking for a task takes, of each credential by itself.
async fn allowed(unit: &mut UnitOfWork, credentials: &[Uuid], task: Task) -> AppResult<Vec<Asked>> {
    let (person, now) = (unit.person.id, unit.now);
    let mut approaches = unit.tx()?.approaches(person, credentials, now).await?;
    let mut all = vec![];
    for credential in credentials.iter().copied() {
        unit.begin_audit(
            action_of(task)?,
            TargetType::Credential,
            Some(credential),
            "",
        );
        let approach = approaches
            .remove(&credential)
            .unwrap_or_else(|| Approach::none(person, credential));
        let job = match task {
            Task::Check => allow_on_way::<mark::Use>(unit, credential, &approach).map(|_| None),
            Task::Rotation | Task::Rehearsal | Task::Listing => {
                allow_on_way::<mark::Edit>(unit, credential, &approach).map(|_| None)
            }
        };
        let is_known = approach.reach.level().is_some();
        all.push(Asked {
            credential,
            path: if is_known {
                approach.path
            } else {
                String::new()
            },
            job,
            cancelled_check: None,
        });
    }
    Ok(all)
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

/// Who changes the password in a job that somebody asks for, or why there can be none.
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
            return Err(AppError::conflict(
                ErrorCode::DevicePaused,
                format!("The device is paused: {}.", device.paused_why),
                "Correct the operator's password and have a steward resume the device.",
            ));
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

/// Lets a job that waits run now, or makes one to be queued.
async fn hurry_or_make(
    unit: &mut UnitOfWork,
    asked: &mut Asked,
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
    let account = known
        .accounts
        .get(&asked.credential)
        .ok_or_else(no_device)?;
    let device = known
        .devices
        .get(&account.device_id)
        .ok_or_else(no_device)?;
    let is_operated = known.operated.contains(&device.id);
    let method = method_for(unit, device, is_operated, task, wanted)?;
    let (organisation, by, now) = (unit.organisation(), unit.person.id, unit.now);
    match known.waiting.get(&account.id) {
        // Asking for what waits already makes it run now.
        Some((waiting, of)) if *of == task => {
            unit.tx()?.hurry_job(*waiting, now).await?;
            asked.job = Ok(Some(*waiting));
            return Ok(None);
        }
        // A check that waits would be in the way of a rotation, which proves as much.
        Some((check, Task::Check)) if task == Task::Rotation => {
            let why = "a rotation was asked for instead";
            unit.tx()?.cancel_job(*check, now, why).await?;
            asked.cancelled_check = Some(*check);
        }
        _ => {}
    }
    let job = queued(
        organisation,
        account,
        asked.credential,
        task,
        method,
        JobCause::Person,
        Some(by),
        now,
    );
    asked.job = Ok(Some(job.id));
    Ok(Some(job))
}

/// Asks for a task for each of these credentials, in their order, and keeps the event of each for the
/// commit. Why it is refused for one is told of that one, and keeps no other waiting.
async fn ask(
    unit: &mut UnitOfWork,
    credentials: &[Uuid],
    task: Task,
    wanted: Option<ChangeMethod>,
) -> AppResult<Vec<(Uuid, AppResult<Job>)>> {
    let mut all = allowed(unit, credentials, task).await?;
    let of_allowed = all.iter().filter(|asked| asked.job.is_ok());
    let of_allowed: Vec<Uuid> = of_allowed.map(|asked| asked.credential).collect();
    let known = known(unit, &of_allowed).await?;
    let mut new = vec![];
    for asked in all.iter_mut().filter(|asked| asked.job.is_ok()) {
        match hurry_or_make(unit, asked, &known, task, wanted).await {
            Ok(job) => new.extend(job),
            Err(error) if error.is_refusal() => asked.job = Err(error),
            Err(error) => return Err(error),
        }
    }
    let mut under_way: HashMap<Uuid, Uuid> =
        new.iter().map(|job| (job.id, job.credential_id)).collect();
    for added in unit.tx()?.add_jobs(new).await? {
        under_way.remove(&added);
    }
    let under_way: HashSet<Uuid> = under_way.into_values().collect();
    let ids: Vec<Uuid> = all
        .iter()
        .filter_map(|asked| asked.job.as_ref().ok().copied().flatten())
        .collect();
    let (person, now) = (unit.person.id, unit.now);
    let views = unit.tx()?.job_views(person, now, &ids).await?;
    let mut views: HashMap<Uuid, _> = views.into_iter().map(|view| (view.row.id, view)).collect();
    let mut ended = vec![];
    for asked in all {
        let id = asked.credential;
        let action = action_of(task)?;
        unit.begin_audit(action, TargetType::Credential, Some(id), &asked.path);
        let job = if under_way.contains(&id) {
            Err(StoreError::Conflict(Conflict::JobOneAtATime).into())
        } else {
            asked.job
        };
        let outcome = match job {
            Ok(job) => {
                let view = job.and_then(|job| views.remove(&job));
                let job = view
                    .map(show_job)
                    .ok_or_else(|| AppError::internal("a job that was queued is not there"))?;
                if let Some(check) = asked.cancelled_check {
                    unit.add_detail("cancelled_check", check.to_string());
                }
                unit.add_detail("job", job.id.to_string());
                unit.add_detail("method", job.method.word());
                unit.queue_event()?;
                Ok(job)
            }
            Err(error) => {
                unit.queue_refusal(&error).await?;
                Err(error)
            }
        };
        ended.push((id, outcome));
    }
    Ok(ended)
}

/// Asks for a task for one credential.
async fn ask_for_one(
    unit: &mut UnitOfWork,
    credential: Uuid,
    task: Task,
    wanted: Option<ChangeMethod>,
) -> AppResult<Job> {
    let asked = ask(unit, &[credential], task, wanted).await?;
    let job = asked.into_iter().next().map(|(_, job)| job);
    let job = job.ok_or_else(|| AppError::internal("nothing was asked for"))??;
    unit.commit_queued().await?;
    unit.app.wake.notify_one();
    Ok(job)
}

/// Asks for the same task for many credentials, in one transaction. What is refused of some keeps no
/// other waiting, and is in the log as a refusal.
///
/// # Errors
/// When nothing was asked for at all; then nothing was queued.
pub async fn ask_for_many(
    unit: &mut UnitOfWork,
    body: NewJobs,
) -> AppResult<Vec<(Uuid, AppResult<Job>)>> {
    action_of(body.task)?;
    let mut seen = HashSet::new();
    let mut credentials = body.credentials;
    credentials.retain(|id| seen.insert(*id));
    if credentials.is_empty() || credentials.len() > MOST {
        return Err(AppError::field(
            "credentials",
            format!("name between 1 and {MOST} of them"),
        ));
    }
    let asked = ask(unit, &credentials, body.task, body.method).await?;
    unit.commit_queued().await?;
    unit.app.wake.notify_one();
    Ok(asked)
}

/// Checks now whether the stored password opens the account.
pub async fn check(unit: &mut UnitOfWork, credential: Uuid) -> AppResult<Job> {
    ask_for_one(unit, credential, Task::Check, None).await
}

/// Rehearses a rotation on the device: goes up to the change, without changing anything.
pub async fn rehearse(unit: &mut UnitOfWork, credential: Uuid, body: NewJob) -> AppResult<Job> {
    ask_for_one(unit, credential, Task::Rehearsal, body.method).await
}

/// Rotates the password now, on the device and in the vault.
pub async fn rotate(unit: &mut UnitOfWork, credential: Uuid, body: NewJob) -> AppResult<Job> {
    ask_for_one(unit, credential, Task::Rotation, body.method).await
}

//! Upkeep plans, accounts, jobs.

use chrono::{DateTime, Utc};
use jexlin_api::ErrorCode;
use jexlin_api::{Job, JobTranscript, NewPlan, Page, Plan, PlanRules, PlanTimes, Upkeep};
use jexlin_core::access::mark;
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::upkeep::{JobOutcome, JobState, OutOfSync, day_of};
use jexlin_core::words::Word as _;
use jexlin_store::Stored;
use jexlin_store::{AccountRow, JobFilter, JobView, PlanRow, Target, UpkeepView};
use uuid::Uuid;

use crate::error::{AppError, AppResult};
use crate::guards::allow_credential;
use crate::guards::allow_steward;
use crate::guards::place_of;
use crate::guards::target_of;
use crate::guards::target_type_of;
use crate::paging::{Paged, Paging, Versioned};
use crate::plans::parse_plan;
use crate::unit_of_work::UnitOfWork;

fn fill(mut row: PlanRow, rules: PlanRules) -> AppResult<PlanRow> {
    if rules.rotate.is_some() && rules.rotate_days.is_some() {
        return Err(AppError::field(
            "rotate",
            "name a rule or a number of days, not both",
        ));
    }
    if rules.hours_from.is_some() != rules.hours_to.is_some() {
        return Err(AppError::field(
            "hours_from",
            "hours need a start and an end",
        ));
    }
    row.check_rule = rules.check.filter(|rule| !rule.trim().is_empty());
    row.out_of_sync = rules.out_of_sync.into();
    row.rotate_rule = rules.rotate.filter(|rule| !rule.trim().is_empty());
    row.rotate_days = rules.rotate_days.map(i32::from);
    row.hours_from = rules.hours_from;
    row.hours_to = rules.hours_to;
    row.time_zone = rules.time_zone;
    row.policy_id = rules.policy;
    Ok(row)
}

/// As [`fill`], where the rules are examined too, beside what serves everybody else.
fn filled(row: PlanRow, rules: PlanRules) -> AppResult<PlanRow> {
    let row = fill(row, rules)?;
    tokio::task::block_in_place(|| parse_plan(&row))
        .map_err(|problem| AppError::field("plan", problem))?;
    Ok(row)
}

/// What a plan is set on: a folder, or the credential that is the password of its account.
async fn plan_target(unit: &mut UnitOfWork, row: &PlanRow) -> AppResult<Target> {
    if let Some(folder) = row.folder_id {
        return Ok(Target::Folder(folder));
    }
    let account = unit
        .tx()?
        .account(row.account_id.unwrap_or_default())
        .await?;
    account
        .credential_id
        .map(Target::Credential)
        .ok_or_else(|| AppError::unknown("plan"))
}

async fn show_plan(unit: &mut UnitOfWork, row: PlanRow) -> AppResult<Plan> {
    let target = plan_target(unit, &row).await?;
    let place = match target {
        Target::Folder(folder) => unit.tx()?.path_of(folder).await?,
        Target::Credential(credential) => place_of(unit, credential).await?,
    };
    let (target, target_type) = target_type_of(target);
    let rules = PlanRules {
        check: row.check_rule,
        out_of_sync: row.out_of_sync.0,
        rotate: row.rotate_rule,
        rotate_days: row.rotate_days.and_then(|days| u16::try_from(days).ok()),
        hours_from: row.hours_from,
        hours_to: row.hours_to,
        time_zone: row.time_zone,
        policy: row.policy_id,
    };
    Ok(Plan {
        id: row.id,
        target_type,
        target,
        place,
        rules,
        revision: row.revision,
    })
}

/// The plans that the asker may know of.
pub async fn plans(unit: &mut UnitOfWork) -> AppResult<Page<Plan>> {
    let rows = unit.tx()?.plans().await?;
    let mut items = vec![];
    for row in rows {
        let (person, now) = (unit.person.id, unit.now);
        // An account that has no password any more keeps its plan for the next one.
        let Ok(target) = plan_target(unit, &row).await else {
            continue;
        };
        let reach = match target {
            Target::Folder(folder) => unit.tx()?.reach_folder(person, folder, now).await?,
            Target::Credential(credential) => {
                unit.tx()?.reach_credential(person, credential, now).await?
            }
        };
        if reach.level().is_some() {
            items.push(show_plan(unit, row).await?);
        }
    }
    items.sort_by_key(|plan| plan.place.to_lowercase());
    unit.commit().await?;
    Ok(Page { items, next: None })
}

/// The turns of those who ask when rules come next.
static COUNTING: tokio::sync::Semaphore = tokio::sync::Semaphore::const_new(1);

/// So many of the next times are shown.
const NEXT_TIMES: u16 = 10;

/// When rules would come next, for whoever writes them; those of a plan that is there count from its
/// own beginning.
pub async fn plan_times(
    unit: &mut UnitOfWork,
    plan: Option<Uuid>,
    rules: PlanRules,
) -> AppResult<PlanTimes> {
    let anchor = match plan {
        None => day_of(unit.now),
        Some(plan) => {
            let unknown = |_| AppError::unknown("plan");
            let row = unit.tx()?.plan(plan).await.map_err(unknown)?;
            let target = plan_target(unit, &row).await?;
            allow_steward(unit, target).await?;
            row.anchor
        }
    };
    let (row, now) = (new_row(unit, None, None, anchor), unit.now);
    // A rule that is hard to follow keeps one thread of its own busy, one rule at a time, and nobody
    // else waiting: neither for a thread nor for a connection to the database.
    unit.commit().await?;
    let _turn = COUNTING
        .acquire()
        .await
        .map_err(|error| AppError::internal(error.to_string()))?;
    let next = tokio::task::spawn_blocking(move || {
        parse_plan(&fill(row, rules)?)
            .and_then(|plan| {
                plan.next_times(now, NEXT_TIMES)
                    .map_err(|problem| problem.to_string())
            })
            .map_err(|problem| AppError::field("check", problem))
    });
    let next = next
        .await
        .map_err(|error| AppError::internal(error.to_string()))??;
    Ok(PlanTimes {
        checks: next.checks,
        rotations: next.rotations,
    })
}

/// A plan without rules.
fn new_row(
    unit: &UnitOfWork,
    folder_id: Option<Uuid>,
    account_id: Option<Uuid>,
    anchor: chrono::NaiveDate,
) -> PlanRow {
    PlanRow {
        id: Uuid::now_v7(),
        organisation: unit.organisation(),
        folder_id,
        account_id,
        check_rule: None,
        out_of_sync: OutOfSync::Report.into(),
        rotate_rule: None,
        rotate_days: None,
        hours_from: None,
        hours_to: None,
        time_zone: String::new(),
        policy_id: None,
        anchor,
        revision: 1,
    }
}

/// Sets an upkeep plan on a folder or a credential.
pub async fn add_plan(unit: &mut UnitOfWork, body: NewPlan) -> AppResult<Versioned<Plan>> {
    let target = target_of(body.folder, body.credential)?;
    let (target_id, target_type) = target_type_of(target);
    unit.begin_audit(Action::PlanAdd, target_type, Some(target_id), "");
    let place = allow_steward(unit, target).await?;
    unit.set_target(target_id, &place);
    let account = match body.credential {
        None => None,
        Some(credential) => {
            let account = unit.tx()?.account_of(credential).await?;
            let missing = || {
                AppError::conflict(
                    ErrorCode::NoDevice,
                    "This credential is not an account on a device.",
                    "Set its device first, or set the plan on a folder.",
                )
            };
            Some(account.ok_or_else(missing)?.id)
        }
    };
    let anchor = day_of(unit.now);
    let row = new_row(unit, body.folder, account, anchor);
    let row = filled(row, body.rules)?;
    unit.tx()?.add_plan(&row).await?;
    let shown = show_plan(unit, row).await?;
    unit.commit_audited().await?;
    Ok(Versioned(1, shown))
}

/// Changes an upkeep plan; all its rules are given.
pub async fn edit_plan(
    unit: &mut UnitOfWork,
    plan: Uuid,
    revision: i32,
    body: PlanRules,
) -> AppResult<Versioned<Plan>> {
    let plan_id = plan;
    unit.begin_audit(Action::PlanEdit, TargetType::Plan, Some(plan_id), "");
    let row = unit
        .tx()?
        .plan(plan_id)
        .await
        .map_err(|_| AppError::unknown("plan"))?;
    let target = plan_target(unit, &row).await?;
    let place = allow_steward(unit, target).await?;
    let (target_id, target_type) = target_type_of(target);
    unit.begin_audit(Action::PlanEdit, target_type, Some(target_id), &place);
    let mut row = filled(row, body)?;
    row.revision = revision;
    unit.tx()?.edit_plan(&row).await?;
    row.revision += 1;
    let shown = show_plan(unit, row).await?;
    unit.commit_audited().await?;
    Ok(Versioned(shown.revision, shown))
}

/// Removes an upkeep plan; the next one above counts then.
pub async fn remove_plan(unit: &mut UnitOfWork, plan: Uuid, revision: i32) -> AppResult<()> {
    let plan_id = plan;
    unit.begin_audit(Action::PlanRemove, TargetType::Plan, Some(plan_id), "");
    let mut row = unit
        .tx()?
        .plan(plan_id)
        .await
        .map_err(|_| AppError::unknown("plan"))?;
    let target = plan_target(unit, &row).await?;
    let place = allow_steward(unit, target).await?;
    let (target_id, target_type) = target_type_of(target);
    unit.begin_audit(Action::PlanRemove, target_type, Some(target_id), &place);
    row.revision = revision;
    unit.tx()?.remove_plan(&row).await?;
    unit.commit_audited().await?;
    Ok(())
}

/// What upkeep knows of one credential.
pub fn show_state(
    row: AccountRow,
    credential: Uuid,
    place: &str,
    name: &str,
    device: Option<&str>,
) -> Upkeep {
    Upkeep {
        credential,
        credential_path: format!("{place}/{name}"),
        device: device.unwrap_or_default().to_owned(),
        next_check_at: row.next_check_at,
        next_rotation_at: row.next_rotation_at,
        checked_at: row.checked_at,
        check_outcome: row.check_outcome.map(|outcome| outcome.0),
        rotated_at: row.rotated_at,
        rotation_outcome: row.rotation_outcome.map(|outcome| outcome.0),
        rotation_owed_at: row.rotation_owed_at,
    }
}

/// What upkeep knows, as a list shows it.
pub fn show_view(row: UpkeepView) -> Upkeep {
    Upkeep {
        credential: row.credential_id,
        credential_path: format!("{}/{}", row.place, row.credential_name),
        device: row.device_name,
        next_check_at: row.next_check_at,
        next_rotation_at: row.next_rotation_at,
        checked_at: row.checked_at,
        check_outcome: row.check_outcome.map(|outcome| outcome.0),
        rotated_at: row.rotated_at,
        rotation_outcome: row.rotation_outcome.map(|outcome| outcome.0),
        rotation_owed_at: row.rotation_owed_at,
    }
}

/// The accounts under upkeep that the asker may know of.
pub async fn accounts(
    unit: &mut UnitOfWork,
    paging: Paging<(String, Uuid)>,
) -> AppResult<Paged<Upkeep, (String, Uuid)>> {
    let (person, now) = (unit.person.id, unit.now);
    let rows = unit
        .tx()?
        .upkeep_views(person, now, paging.after, paging.limit + 1)
        .await?;
    unit.commit().await?;
    Ok(Paged::of(
        rows,
        paging.limit,
        |row| (row.credential_name.clone(), row.credential_id),
        show_view,
    ))
}

/// A job as the interface shows it.
/// Why a device could not be reached is for its stewards: to others it would tell which of its
/// ports are open.
pub fn show_job(JobView { row, for_steward }: JobView) -> Job {
    let told = for_steward || row.outcome != Some(Stored(JobOutcome::Unreachable));
    Job {
        id: row.id,
        credential: row.credential_id,
        credential_path: format!("{}/{}", row.place, row.credential_name),
        device: row.device_name,
        task: row.task.0,
        method: row.method.0,
        state: row.state.0,
        step: row.step,
        outcome: row.outcome.map(|outcome| outcome.0),
        message: if told {
            row.message
        } else {
            "the device could not be reached; a steward of it sees why".into()
        },
        asked_by: row.asked_by_name,
        cause: row.cause.0,
        queued_at: row.queued_at,
        not_before: row.not_before,
        started_at: row.started_at,
        finished_at: row.finished_at,
        attempts: row.attempts,
        has_transcript: for_steward && row.has_transcript,
        latest: row.latest,
    }
}

/// The jobs that the asker may know of, newest first.
pub async fn jobs(
    unit: &mut UnitOfWork,
    credential: Option<Uuid>,
    state: Option<JobState>,
    paging: Paging<(DateTime<Utc>, Uuid)>,
) -> AppResult<Paged<Job, (DateTime<Utc>, Uuid)>> {
    let filter = JobFilter {
        credential,
        state,
        before: paging.after,
        limit: paging.limit + 1,
    };
    let (person, now) = (unit.person.id, unit.now);
    let rows = unit.tx()?.jobs(person, now, &filter).await?;
    unit.commit().await?;
    Ok(Paged::of(
        rows,
        paging.limit,
        |job| (job.row.queued_at, job.row.id),
        show_job,
    ))
}

/// One job.
pub async fn job(unit: &mut UnitOfWork, job: Uuid) -> AppResult<Job> {
    let (person, now) = (unit.person.id, unit.now);
    let view = unit
        .tx()?
        .job_view(person, now, job)
        .await
        .map_err(|_| AppError::unknown("job"))?;
    allow_credential::<mark::List>(unit, view.row.credential_id)
        .await
        .map_err(|_| AppError::unknown("job"))?;
    unit.commit().await?;
    Ok(show_job(view))
}

/// What was said and heard in a job, for the stewards of its device: what a device says is for them.
pub async fn transcript(unit: &mut UnitOfWork, job: Uuid) -> AppResult<JobTranscript> {
    let (person, now) = (unit.person.id, unit.now);
    let view = unit
        .tx()?
        .job_view(person, now, job)
        .await
        .map_err(|_| AppError::unknown("job"))?;
    allow_credential::<mark::List>(unit, view.row.credential_id)
        .await
        .map_err(|_| AppError::unknown("job"))?;
    if !view.for_steward {
        return Err(AppError::forbidden(
            "What a device said is for the stewards of its folder.",
            "Ask one of them.",
        ));
    }
    let text = unit.tx()?.transcript(job).await?;
    unit.commit().await?;
    Ok(JobTranscript { text })
}

/// Cancels a job that waits.
pub async fn cancel(unit: &mut UnitOfWork, job: Uuid) -> AppResult<Job> {
    let target = job;
    let (person, now) = (unit.person.id, unit.now);
    unit.begin_audit(Action::UpkeepCancel, TargetType::Job, Some(target), "");
    let view = unit
        .tx()?
        .job_view(person, now, target)
        .await
        .map_err(|_| AppError::unknown("job"))?;
    unit.begin_audit(
        Action::UpkeepCancel,
        TargetType::Credential,
        Some(view.row.credential_id),
        "",
    );
    allow_credential::<mark::Edit>(unit, view.row.credential_id)
        .await
        .map_err(|fault| fault.hide("job"))?;
    unit.add_detail("job", target.to_string());
    unit.add_detail("task", view.row.task.0.word());
    unit.tx()?
        .cancel_job(target, now, "cancelled by a person")
        .await?;
    let shown = show_job(unit.tx()?.job_view(person, now, target).await?);
    unit.commit_audited().await?;
    Ok(shown)
}

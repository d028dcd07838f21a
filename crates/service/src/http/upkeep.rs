//! Upkeep plans, accounts, jobs.

use crate::jobs::queued;
use crate::plans::parse_plan;
use chrono::{DateTime, Utc};
use jexlin_api::{Job, NewJob, NewPlan, Page, Plan, PlanRules, Upkeep};
use jexlin_core::access::mark;
use jexlin_core::upkeep::day_of;
use jexlin_store::{AccountRow, JobFilter, JobView, PlanRow, Target, UpkeepView};
use rocket::{Route, delete, get, post, put, routes};
use uuid::Uuid;

use super::payload::{Call, IfMatch, Sent, Versioned, id, maybe_id, page, paging};
use crate::error::{ApiError, ApiResult};
use crate::guards::allow_credential;
use crate::guards::allow_steward;
use crate::guards::place_of;
use crate::guards::target_of;
use crate::guards::target_type_of;
use crate::unit_of_work::UnitOfWork;

pub fn routes() -> Vec<Route> {
    routes![
        plans,
        add_plan,
        change_plan,
        remove_plan,
        accounts,
        jobs,
        job,
        cancel,
        check,
        rotate
    ]
}

fn fill(mut row: PlanRow, rules: PlanRules) -> ApiResult<PlanRow> {
    if rules.rotate.is_some() && rules.rotate_days.is_some() {
        return Err(ApiError::field(
            "rotate",
            "name a rule or a number of days, not both",
        ));
    }
    if rules.hours_from.is_some() != rules.hours_to.is_some() {
        return Err(ApiError::field(
            "hours_from",
            "hours have a beginning and an end",
        ));
    }
    row.check_rule = rules.check.filter(|rule| !rule.trim().is_empty());
    row.out_of_sync = rules.out_of_sync;
    row.rotate_rule = rules.rotate.filter(|rule| !rule.trim().is_empty());
    row.rotate_days = rules.rotate_days.map(i32::from);
    row.hours_from = rules.hours_from;
    row.hours_to = rules.hours_to;
    row.time_zone = rules.time_zone;
    row.policy_id = rules.policy;
    parse_plan(&row).map_err(|problem| ApiError::field("plan", problem))?;
    Ok(row)
}

/// What a plan is set on: a folder, or the credential that is the password of its account.
async fn plan_target(unit: &mut UnitOfWork, row: &PlanRow) -> ApiResult<Target> {
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
        .ok_or_else(|| ApiError::unknown("plan"))
}

async fn show_plan(unit: &mut UnitOfWork, row: PlanRow) -> ApiResult<Plan> {
    let target = plan_target(unit, &row).await?;
    let place = match target {
        Target::Folder(folder) => unit.tx()?.path_of(folder).await?,
        Target::Credential(credential) => place_of(unit, credential).await?,
    };
    let (target, sort) = target_type_of(target);
    let rules = PlanRules {
        check: row.check_rule,
        out_of_sync: row.out_of_sync,
        rotate: row.rotate_rule,
        rotate_days: row.rotate_days.and_then(|days| u16::try_from(days).ok()),
        hours_from: row.hours_from,
        hours_to: row.hours_to,
        time_zone: row.time_zone,
        policy: row.policy_id,
    };
    Ok(Plan {
        id: row.id,
        target_type: sort.into(),
        target,
        place,
        rules,
        version: row.version,
    })
}

/// The plans that the asker may know of.
#[utoipa::path(context_path = "", responses((status = 200, body = Page<Plan>)))]
#[get("/api/v1/plans")]
pub async fn plans(mut unit: UnitOfWork) -> ApiResult<Sent<Page<Plan>>> {
    let rows = unit.tx()?.plans().await?;
    let mut items = vec![];
    for row in rows {
        let (person, now) = (unit.person.id, unit.now);
        // An account that has no password any more keeps its plan for the next one.
        let Ok(target) = plan_target(&mut unit, &row).await else {
            continue;
        };
        let reach = match target {
            Target::Folder(folder) => unit.tx()?.reach_folder(person, folder, now).await?,
            Target::Credential(credential) => {
                unit.tx()?.reach_credential(person, credential, now).await?
            }
        };
        if reach.level().is_some() {
            items.push(show_plan(&mut unit, row).await?);
        }
    }
    items.sort_by_key(|plan| plan.place.to_lowercase());
    unit.commit().await?;
    Ok(Sent(Page { items, next: None }))
}

/// Sets an upkeep plan on a folder or a credential.
#[utoipa::path(context_path = "", request_body = NewPlan, responses((status = 200, body = Plan)))]
#[post("/api/v1/plans", data = "<body>")]
pub async fn add_plan(body: Call<NewPlan>) -> ApiResult<Versioned<Plan>> {
    let Call(mut unit, body) = body;
    let target = target_of(body.folder, body.credential)?;
    let (target_id, sort) = target_type_of(target);
    unit.begin_audit("plan.add", sort, Some(target_id), "");
    let place = allow_steward(&mut unit, target).await?;
    unit.set_target(target_id, &place);
    let account = match body.credential {
        None => None,
        Some(credential) => {
            let account = unit.tx()?.account_of(credential).await?;
            let missing = || {
                ApiError::conflict(
                    "no-device",
                    "This credential is no account of a device.",
                    "Put it on a device first, or set the plan on a folder.",
                )
            };
            Some(account.ok_or_else(missing)?.id)
        }
    };
    let row = PlanRow {
        id: Uuid::now_v7(),
        organisation: unit.organisation(),
        folder_id: body.folder,
        account_id: account,
        check_rule: None,
        out_of_sync: String::new(),
        rotate_rule: None,
        rotate_days: None,
        hours_from: None,
        hours_to: None,
        time_zone: String::new(),
        policy_id: None,
        anchor: day_of(unit.now),
        version: 1,
    };
    let row = fill(row, body.rules)?;
    unit.tx()?.add_plan(&row).await?;
    let shown = show_plan(&mut unit, row).await?;
    unit.commit_audited().await?;
    Ok(Versioned(1, shown))
}

/// Changes an upkeep plan; all its rules are given anew.
#[utoipa::path(context_path = "", request_body = PlanRules, responses((status = 200, body = Plan)))]
#[put("/api/v1/plans/<plan>", data = "<body>")]
pub async fn change_plan(
    plan: &str,
    version: IfMatch,
    body: Call<PlanRules>,
) -> ApiResult<Versioned<Plan>> {
    let Call(mut unit, body) = body;
    let plan_id = id(plan)?;
    unit.begin_audit("plan.change", "plan", Some(plan_id), "");
    let row = unit
        .tx()?
        .plan(plan_id)
        .await
        .map_err(|_| ApiError::unknown("plan"))?;
    let target = plan_target(&mut unit, &row).await?;
    let place = allow_steward(&mut unit, target).await?;
    let (target_id, sort) = target_type_of(target);
    unit.begin_audit("plan.change", sort, Some(target_id), &place);
    let mut row = fill(row, body)?;
    row.version = version.0;
    unit.tx()?.change_plan(&row).await?;
    row.version += 1;
    let shown = show_plan(&mut unit, row).await?;
    unit.commit_audited().await?;
    Ok(Versioned(shown.version, shown))
}

/// Removes an upkeep plan; the next one above counts then.
#[utoipa::path(context_path = "", responses((status = 200)))]
#[delete("/api/v1/plans/<plan>")]
pub async fn remove_plan(mut unit: UnitOfWork, plan: &str, version: IfMatch) -> ApiResult<()> {
    let plan_id = id(plan)?;
    unit.begin_audit("plan.remove", "plan", Some(plan_id), "");
    let mut row = unit
        .tx()?
        .plan(plan_id)
        .await
        .map_err(|_| ApiError::unknown("plan"))?;
    let target = plan_target(&mut unit, &row).await?;
    let place = allow_steward(&mut unit, target).await?;
    let (target_id, sort) = target_type_of(target);
    unit.begin_audit("plan.remove", sort, Some(target_id), &place);
    row.version = version.0;
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
        check_outcome: row.check_outcome,
        rotated_at: row.rotated_at,
        rotation_outcome: row.rotation_outcome,
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
        check_outcome: row.check_outcome,
        rotated_at: row.rotated_at,
        rotation_outcome: row.rotation_outcome,
        rotation_owed_at: row.rotation_owed_at,
    }
}

/// The accounts under upkeep that the asker may know of.
#[utoipa::path(context_path = "", params(("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)), responses((status = 200, body = Page<Upkeep>)))]
#[get("/api/v1/upkeep?<cursor>&<limit>")]
pub async fn accounts(
    mut unit: UnitOfWork,
    cursor: Option<&str>,
    limit: Option<i64>,
) -> ApiResult<Sent<Page<Upkeep>>> {
    let paging = paging::<(String, Uuid)>(cursor, limit)?;
    let (person, now) = (unit.person.id, unit.now);
    let rows = unit
        .tx()?
        .upkeep_views(person, now, paging.after, paging.most + 1)
        .await?;
    unit.commit().await?;
    Ok(Sent(page(
        rows,
        paging.most,
        |row| (row.credential_name.clone(), row.credential_id),
        show_view,
    )))
}

/// A job as the interface shows it.
/// Why a device could not be reached is for its stewards: to others it would tell which of its
/// ports are open.
pub fn show_job(row: JobView) -> Job {
    let told = row.for_steward || row.outcome.as_deref() != Some("unreachable");
    Job {
        id: row.id,
        credential: row.credential_id,
        credential_path: format!("{}/{}", row.place, row.credential_name),
        device: row.device_name,
        task: row.task,
        way: row.way,
        state: row.state,
        step: row.step,
        outcome: row.outcome,
        message: if told {
            row.message
        } else {
            "the device could not be reached; a steward of it sees why".into()
        },
        asked_by: row.asked_by_name,
        cause: row.cause,
        queued_at: row.queued_at,
        not_before: row.not_before,
        started_at: row.started_at,
        finished_at: row.finished_at,
        attempts: row.attempts,
    }
}

/// The jobs that the asker may know of, newest first.
#[utoipa::path(context_path = "", params(("credential" = Option<String>, Query), ("state" = Option<String>, Query), ("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)), responses((status = 200, body = Page<Job>)))]
#[get("/api/v1/jobs?<credential>&<state>&<cursor>&<limit>")]
pub async fn jobs(
    mut unit: UnitOfWork,
    credential: Option<&str>,
    state: Option<String>,
    cursor: Option<&str>,
    limit: Option<i64>,
) -> ApiResult<Sent<Page<Job>>> {
    let paging = paging::<(DateTime<Utc>, Uuid)>(cursor, limit)?;
    let filter = JobFilter {
        credential: maybe_id(credential)?,
        state: state.filter(|state| !state.is_empty()),
        before: paging.after,
        most: paging.most + 1,
    };
    let (person, now) = (unit.person.id, unit.now);
    let rows = unit.tx()?.jobs(person, now, &filter).await?;
    unit.commit().await?;
    Ok(Sent(page(
        rows,
        paging.most,
        |row| (row.queued_at, row.id),
        show_job,
    )))
}

/// One job.
#[utoipa::path(context_path = "", responses((status = 200, body = Job)))]
#[get("/api/v1/jobs/<job>")]
pub async fn job(mut unit: UnitOfWork, job: &str) -> ApiResult<Sent<Job>> {
    let (person, now) = (unit.person.id, unit.now);
    let row = unit
        .tx()?
        .job_view(person, now, id(job)?)
        .await
        .map_err(|_| ApiError::unknown("job"))?;
    allow_credential::<mark::List>(&mut unit, row.credential_id)
        .await
        .map_err(|_| ApiError::unknown("job"))?;
    unit.commit().await?;
    Ok(Sent(show_job(row)))
}

async fn ask(
    mut unit: UnitOfWork,
    credential: &str,
    task: &str,
    wanted_way: Option<String>,
) -> ApiResult<Sent<Job>> {
    let target = id(credential)?;
    let account = unit.tx()?.account_of(target).await?;
    let account = account.ok_or_else(|| {
        ApiError::conflict(
            "no-device",
            "This credential is no account of a device.",
            "Put it on a device first.",
        )
    })?;
    let device = unit.tx()?.device(account.device_id).await?;
    let operated = unit.tx()?.operator_of(device.id).await?.is_some();
    let way = wanted_way.unwrap_or_else(|| if operated { "operator" } else { "self" }.to_owned());
    if !["operator", "self"].contains(&way.as_str()) {
        return Err(ApiError::field("way", "it is `operator` or `self`"));
    }
    if task == "rotation" && way == "operator" {
        if !operated {
            return Err(ApiError::conflict(
                "no-operator",
                "The device has no operator.",
                "Give it one, or rotate as the account itself: `--as-itself`.",
            ));
        }
        if device.paused_at.is_some() {
            return Err(ApiError::conflict(
                "device-paused",
                format!("The device is paused: {}.", device.paused_why),
                "Correct the operator's password and have a steward resume the device.",
            ));
        }
    }
    let (organisation, by, now) = (unit.organisation(), unit.person.id, unit.now);
    // Asking for what waits already makes it run now.
    let job = match unit.tx()?.hurry_job(account.id, task, now).await? {
        Some(waiting) => waiting,
        None => {
            // A check that waits would be in the way of a rotation, which proves as much.
            if task == "rotation"
                && let Some(check) = unit.tx()?.waiting_check(account.id).await?
            {
                unit.tx()?
                    .cancel_job(check, now, "a rotation was asked for instead")
                    .await?;
                unit.add_detail("cancelled_check", check.to_string());
            }
            let job = queued(
                organisation,
                &account,
                target,
                task,
                &way,
                "asked",
                Some(by),
                now,
            );
            unit.tx()?.add_job(&job).await?;
            job.id
        }
    };
    let view = unit.tx()?.job_view(by, now, job).await?;
    unit.add_detail("job", job.to_string());
    unit.add_detail("way", view.way.clone());
    unit.commit_audited().await?;
    unit.app.wake.notify_one();
    Ok(Sent(show_job(view)))
}

/// Cancels a job that waits.
#[utoipa::path(context_path = "", responses((status = 200, body = Job)))]
#[post("/api/v1/jobs/<job>/cancel")]
pub async fn cancel(mut unit: UnitOfWork, job: &str) -> ApiResult<Sent<Job>> {
    let target = id(job)?;
    let (person, now) = (unit.person.id, unit.now);
    unit.begin_audit("upkeep.cancel", "job", Some(target), "");
    let row = unit
        .tx()?
        .job_view(person, now, target)
        .await
        .map_err(|_| ApiError::unknown("job"))?;
    unit.begin_audit("upkeep.cancel", "credential", Some(row.credential_id), "");
    allow_credential::<mark::Edit>(&mut unit, row.credential_id)
        .await
        .map_err(|fault| fault.hide("job"))?;
    unit.add_detail("job", target.to_string());
    unit.add_detail("task", row.task.clone());
    unit.tx()?
        .cancel_job(target, now, "cancelled by hand")
        .await?;
    let shown = show_job(unit.tx()?.job_view(person, now, target).await?);
    unit.commit_audited().await?;
    Ok(Sent(shown))
}

/// Checks now whether the stored password opens the account.
#[utoipa::path(context_path = "", responses((status = 200, body = Job)))]
#[post("/api/v1/credentials/<credential>/check")]
pub async fn check(mut unit: UnitOfWork, credential: &str) -> ApiResult<Sent<Job>> {
    let target = id(credential)?;
    unit.begin_audit("upkeep.check", "credential", Some(target), "");
    allow_credential::<mark::Use>(&mut unit, target).await?;
    ask(unit, credential, "check", None).await
}

/// Rotates the password now, on the device and in the vault.
#[utoipa::path(context_path = "", request_body = NewJob, responses((status = 200, body = Job)))]
#[post("/api/v1/credentials/<credential>/rotate", data = "<body>")]
pub async fn rotate(credential: &str, body: Call<NewJob>) -> ApiResult<Sent<Job>> {
    let Call(mut unit, body) = body;
    let target = id(credential)?;
    unit.begin_audit("upkeep.rotate", "credential", Some(target), "");
    allow_credential::<mark::Edit>(&mut unit, target).await?;
    ask(unit, credential, "rotation", body.way).await
}

//! Upkeep plans, accounts, jobs.

use chrono::{DateTime, Utc};
use jexlin_api::{Job, NewJob, NewPlan, Page, Plan, PlanRules, Upkeep};
use jexlin_core::access::mark;
use jexlin_core::upkeep::{self as core_upkeep, Hours, OutOfStep, Recurrence, day_of};
use jexlin_store::{AccountRow, JobFilter, JobRow, JobView, PlanRow, Target, UpkeepView};
use rocket::{Route, delete, get, post, put, routes};
use uuid::Uuid;

use super::access::{allow_steward, place_of, sort_of, target_of};
use super::exchange::{Call, IfMatch, Sent, Versioned, id, maybe_id, page, paging};
use super::vault::allow_credential;
use crate::acting::Acting;
use crate::problem::{Answer, Fault};

pub fn routes() -> Vec<Route> {
    routes![plans, add_plan, change_plan, remove_plan, accounts, jobs, job, cancel, check, rotate]
}

/// A plan's row as core knows it.
///
/// # Errors
/// A sentence.
pub fn parse_plan(row: &PlanRow) -> Result<core_upkeep::Plan, String> {
    let rotate = match (&row.rotate_rule, row.rotate_days) {
        (Some(rule), _) => Some(Recurrence::Rule(rule.clone())),
        (None, Some(days)) => Some(Recurrence::EveryDays(u16::try_from(days).unwrap_or(0))),
        (None, None) => None,
    };
    let hours = match (&row.hours_from, &row.hours_to) {
        (Some(from), Some(to)) => Some(Hours::parse(from, to).map_err(|problem| problem.to_string())?),
        _ => None,
    };
    let out_of_step: OutOfStep = row.out_of_step.parse()?;
    core_upkeep::Plan::parse(row.check_rule.as_deref(), out_of_step, rotate, hours, &row.time_zone, row.anchor).map_err(|problem| problem.to_string())
}

fn fill(mut row: PlanRow, rules: PlanRules) -> Answer<PlanRow> {
    if rules.rotate.is_some() && rules.rotate_days.is_some() {
        return Err(Fault::field("rotate", "name a rule or a number of days, not both"));
    }
    if rules.hours_from.is_some() != rules.hours_to.is_some() {
        return Err(Fault::field("hours_from", "hours have a beginning and an end"));
    }
    row.check_rule = rules.check.filter(|rule| !rule.trim().is_empty());
    row.out_of_step = rules.out_of_step;
    row.rotate_rule = rules.rotate.filter(|rule| !rule.trim().is_empty());
    row.rotate_days = rules.rotate_days.map(i32::from);
    row.hours_from = rules.hours_from;
    row.hours_to = rules.hours_to;
    row.time_zone = rules.time_zone;
    row.policy_id = rules.policy;
    parse_plan(&row).map_err(|problem| Fault::field("plan", problem))?;
    Ok(row)
}

/// What a plan is set on: a folder, or the credential that is the password of its account.
async fn plan_target(acting: &mut Acting, row: &PlanRow) -> Answer<Target> {
    if let Some(folder) = row.folder_id {
        return Ok(Target::Folder(folder));
    }
    let account = acting.tx()?.account(row.account_id.unwrap_or_default()).await?;
    account.credential_id.map(Target::Credential).ok_or_else(|| Fault::unknown("plan"))
}

async fn show_plan(acting: &mut Acting, row: PlanRow) -> Answer<Plan> {
    let target = plan_target(acting, &row).await?;
    let place = match target {
        Target::Folder(folder) => acting.tx()?.path_of(folder).await?,
        Target::Credential(credential) => place_of(acting, credential).await?,
    };
    let (target, sort) = sort_of(target);
    let rules = PlanRules {
        check: row.check_rule,
        out_of_step: row.out_of_step,
        rotate: row.rotate_rule,
        rotate_days: row.rotate_days.and_then(|days| u16::try_from(days).ok()),
        hours_from: row.hours_from,
        hours_to: row.hours_to,
        time_zone: row.time_zone,
        policy: row.policy_id,
    };
    Ok(Plan { id: row.id, target_sort: sort.into(), target, place, rules, version: row.version })
}

/// The plans that the asker may know of.
#[utoipa::path(context_path = "", responses((status = 200, body = Page<Plan>)))]
#[get("/api/v1/plans")]
pub async fn plans(mut acting: Acting) -> Answer<Sent<Page<Plan>>> {
    let rows = acting.tx()?.plans().await?;
    let mut items = vec![];
    for row in rows {
        let (person, now) = (acting.person.id, acting.now);
        // An account that has no password any more keeps its plan for the next one.
        let Ok(target) = plan_target(&mut acting, &row).await else { continue };
        let reach = match target {
            Target::Folder(folder) => acting.tx()?.reach_folder(person, folder, now).await?,
            Target::Credential(credential) => acting.tx()?.reach_credential(person, credential, now).await?,
        };
        if reach.level().is_some() {
            items.push(show_plan(&mut acting, row).await?);
        }
    }
    items.sort_by_key(|plan| plan.place.to_lowercase());
    acting.seen().await?;
    Ok(Sent(Page { items, next: None }))
}

/// Sets an upkeep plan on a folder or a credential.
#[utoipa::path(context_path = "", request_body = NewPlan, responses((status = 200, body = Plan)))]
#[post("/api/v1/plans", data = "<body>")]
pub async fn add_plan(body: Call<NewPlan>) -> Answer<Versioned<Plan>> {
    let Call(mut acting, body) = body;
    let target = target_of(body.folder, body.credential)?;
    let (target_id, sort) = sort_of(target);
    acting.intends("plan.add", sort, Some(target_id), "");
    let place = allow_steward(&mut acting, target).await?;
    acting.naming(target_id, &place);
    let account = match body.credential {
        None => None,
        Some(credential) => {
            let account = acting.tx()?.account_of(credential).await?;
            let missing =
                || Fault::conflict("no-device", "This credential is no account of a device.", "Put it on a device first, or set the plan on a folder.");
            Some(account.ok_or_else(missing)?.id)
        }
    };
    let row = PlanRow {
        id: Uuid::now_v7(),
        organisation: acting.organisation(),
        folder_id: body.folder,
        account_id: account,
        check_rule: None,
        out_of_step: String::new(),
        rotate_rule: None,
        rotate_days: None,
        hours_from: None,
        hours_to: None,
        time_zone: String::new(),
        policy_id: None,
        anchor: day_of(acting.now),
        version: 1,
    };
    let row = fill(row, body.rules)?;
    acting.tx()?.add_plan(&row).await?;
    let shown = show_plan(&mut acting, row).await?;
    acting.done().await?;
    Ok(Versioned(1, shown))
}

/// Changes an upkeep plan; all its rules are given anew.
#[utoipa::path(context_path = "", request_body = PlanRules, responses((status = 200, body = Plan)))]
#[put("/api/v1/plans/<plan>", data = "<body>")]
pub async fn change_plan(plan: &str, version: IfMatch, body: Call<PlanRules>) -> Answer<Versioned<Plan>> {
    let Call(mut acting, body) = body;
    let plan_id = id(plan)?;
    acting.intends("plan.change", "plan", Some(plan_id), "");
    let row = acting.tx()?.plan(plan_id).await.map_err(|_| Fault::unknown("plan"))?;
    let target = plan_target(&mut acting, &row).await?;
    let place = allow_steward(&mut acting, target).await?;
    let (target_id, sort) = sort_of(target);
    acting.intends("plan.change", sort, Some(target_id), &place);
    let mut row = fill(row, body)?;
    row.version = version.0;
    acting.tx()?.change_plan(&row).await?;
    row.version += 1;
    let shown = show_plan(&mut acting, row).await?;
    acting.done().await?;
    Ok(Versioned(shown.version, shown))
}

/// Removes an upkeep plan; the next one above counts then.
#[utoipa::path(context_path = "", responses((status = 200)))]
#[delete("/api/v1/plans/<plan>")]
pub async fn remove_plan(mut acting: Acting, plan: &str, version: IfMatch) -> Answer<()> {
    let plan_id = id(plan)?;
    acting.intends("plan.remove", "plan", Some(plan_id), "");
    let mut row = acting.tx()?.plan(plan_id).await.map_err(|_| Fault::unknown("plan"))?;
    let target = plan_target(&mut acting, &row).await?;
    let place = allow_steward(&mut acting, target).await?;
    let (target_id, sort) = sort_of(target);
    acting.intends("plan.remove", sort, Some(target_id), &place);
    row.version = version.0;
    acting.tx()?.remove_plan(&row).await?;
    acting.done().await?;
    Ok(())
}

/// What upkeep knows of one credential.
pub fn show_state(row: AccountRow, credential: Uuid, place: &str, name: &str, device: Option<&str>) -> Upkeep {
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
pub async fn accounts(mut acting: Acting, cursor: Option<&str>, limit: Option<i64>) -> Answer<Sent<Page<Upkeep>>> {
    let paging = paging::<(String, Uuid)>(cursor, limit)?;
    let (person, now) = (acting.person.id, acting.now);
    let rows = acting.tx()?.upkeep_views(person, now, paging.after, paging.most + 1).await?;
    acting.seen().await?;
    Ok(Sent(page(rows, paging.most, |row| (row.credential_name.clone(), row.credential_id), show_view)))
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
        message: if told { row.message } else { "the device could not be reached; a steward of it sees why".into() },
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
pub async fn jobs(mut acting: Acting, credential: Option<&str>, state: Option<String>, cursor: Option<&str>, limit: Option<i64>) -> Answer<Sent<Page<Job>>> {
    let paging = paging::<(DateTime<Utc>, Uuid)>(cursor, limit)?;
    let filter = JobFilter { credential: maybe_id(credential)?, state: state.filter(|state| !state.is_empty()), before: paging.after, most: paging.most + 1 };
    let (person, now) = (acting.person.id, acting.now);
    let rows = acting.tx()?.jobs(person, now, &filter).await?;
    acting.seen().await?;
    Ok(Sent(page(rows, paging.most, |row| (row.queued_at, row.id), show_job)))
}

/// One job.
#[utoipa::path(context_path = "", responses((status = 200, body = Job)))]
#[get("/api/v1/jobs/<job>")]
pub async fn job(mut acting: Acting, job: &str) -> Answer<Sent<Job>> {
    let (person, now) = (acting.person.id, acting.now);
    let row = acting.tx()?.job_view(person, now, id(job)?).await.map_err(|_| Fault::unknown("job"))?;
    allow_credential::<mark::List>(&mut acting, row.credential_id).await.map_err(|_| Fault::unknown("job"))?;
    acting.seen().await?;
    Ok(Sent(show_job(row)))
}

/// A queued job for a credential on a device.
pub fn queued(
    organisation: Uuid,
    account: &AccountRow,
    credential: Uuid,
    task: &str,
    way: &str,
    cause: &str,
    asked_by: Option<Uuid>,
    now: DateTime<Utc>,
) -> JobRow {
    JobRow {
        id: Uuid::now_v7(),
        organisation,
        credential_id: credential,
        device_id: account.device_id,
        task: task.to_owned(),
        way: way.to_owned(),
        state: "queued".into(),
        step: String::new(),
        outcome: None,
        message: String::new(),
        asked_by,
        cause: cause.to_owned(),
        queued_at: now,
        not_before: now,
        started_at: None,
        finished_at: None,
        attempts: 0,
        leased_until: None,
        account_id: account.id,
        fence: 0,
        faults: 0,
    }
}

async fn ask(mut acting: Acting, credential: &str, task: &str, wanted_way: Option<String>) -> Answer<Sent<Job>> {
    let target = id(credential)?;
    let account = acting.tx()?.account_of(target).await?;
    let account = account.ok_or_else(|| Fault::conflict("no-device", "This credential is no account of a device.", "Put it on a device first."))?;
    let device = acting.tx()?.device(account.device_id).await?;
    let operated = acting.tx()?.operator_of(device.id).await?.is_some();
    let way = wanted_way.unwrap_or_else(|| if operated { "operator" } else { "self" }.to_owned());
    if !["operator", "self"].contains(&way.as_str()) {
        return Err(Fault::field("way", "it is `operator` or `self`"));
    }
    if task == "rotation" && way == "operator" {
        if !operated {
            return Err(Fault::conflict("no-operator", "The device has no operator.", "Give it one, or rotate as the account itself: `--as-itself`."));
        }
        if device.paused_at.is_some() {
            return Err(Fault::conflict(
                "device-paused",
                format!("The device is paused: {}.", device.paused_why),
                "Correct the operator's password and have a steward resume the device.",
            ));
        }
    }
    let (organisation, by, now) = (acting.organisation(), acting.person.id, acting.now);
    // Asking for what waits already makes it run now.
    let job = match acting.tx()?.hurry_job(account.id, task, now).await? {
        Some(waiting) => waiting,
        None => {
            // A check that waits would be in the way of a rotation, which proves as much.
            if task == "rotation"
                && let Some(check) = acting.tx()?.waiting_check(account.id).await?
            {
                acting.tx()?.cancel_job(check, now, "a rotation was asked for instead").await?;
                acting.noting("cancelled_check", check.to_string());
            }
            let job = queued(organisation, &account, target, task, &way, "asked", Some(by), now);
            acting.tx()?.add_job(&job).await?;
            job.id
        }
    };
    let view = acting.tx()?.job_view(by, now, job).await?;
    acting.noting("job", job.to_string());
    acting.noting("way", view.way.clone());
    acting.done().await?;
    acting.app.wake.notify_one();
    Ok(Sent(show_job(view)))
}

/// Cancels a job that waits.
#[utoipa::path(context_path = "", responses((status = 200, body = Job)))]
#[post("/api/v1/jobs/<job>/cancel")]
pub async fn cancel(mut acting: Acting, job: &str) -> Answer<Sent<Job>> {
    let target = id(job)?;
    let (person, now) = (acting.person.id, acting.now);
    acting.intends("upkeep.cancel", "job", Some(target), "");
    let row = acting.tx()?.job_view(person, now, target).await.map_err(|_| Fault::unknown("job"))?;
    acting.intends("upkeep.cancel", "credential", Some(row.credential_id), "");
    allow_credential::<mark::Edit>(&mut acting, row.credential_id).await.map_err(|fault| fault.hide("job"))?;
    acting.noting("job", target.to_string());
    acting.noting("task", row.task.clone());
    acting.tx()?.cancel_job(target, now, "cancelled by hand").await?;
    let shown = show_job(acting.tx()?.job_view(person, now, target).await?);
    acting.done().await?;
    Ok(Sent(shown))
}

/// Checks now whether the stored password opens the account.
#[utoipa::path(context_path = "", responses((status = 200, body = Job)))]
#[post("/api/v1/credentials/<credential>/check")]
pub async fn check(mut acting: Acting, credential: &str) -> Answer<Sent<Job>> {
    let target = id(credential)?;
    acting.intends("upkeep.check", "credential", Some(target), "");
    allow_credential::<mark::Use>(&mut acting, target).await?;
    ask(acting, credential, "check", None).await
}

/// Rotates the password now, on the device and in the vault.
#[utoipa::path(context_path = "", request_body = NewJob, responses((status = 200, body = Job)))]
#[post("/api/v1/credentials/<credential>/rotate", data = "<body>")]
pub async fn rotate(credential: &str, body: Call<NewJob>) -> Answer<Sent<Job>> {
    let Call(mut acting, body) = body;
    let target = id(credential)?;
    acting.intends("upkeep.rotate", "credential", Some(target), "");
    allow_credential::<mark::Edit>(&mut acting, target).await?;
    ask(acting, credential, "rotation", body.way).await
}

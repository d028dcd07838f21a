//! Upkeep plans, accounts, jobs.

use jexlin_api::{
    AccountTable, Job, JobTable, NewJob, NewPlan, Page, Plan, PlanRules, PlanTimes, Upkeep,
};
use jexlin_app::commands;
use jexlin_app::paging::MOST_ITEMS;
use jexlin_core::names::composed;
use jexlin_core::upkeep::{
    AccountSort, CheckOutcome, JobCause, JobOutcome, JobSort, JobState, Task,
};
use jexlin_core::words::Word;
use jexlin_store::{TableFilter, TableOrder};
use rocket::{FromForm, Route, delete, get, post, put, routes};

use super::payload::{Call, IfMatch, Sent, Tagged, encode_page, id, maybe_id, paging, word};
use crate::error::ApiResult;
use crate::guards::Unit;

pub fn routes() -> Vec<Route> {
    routes![
        plans,
        add_plan,
        plan_times,
        edit_plan,
        remove_plan,
        accounts,
        account_table,
        jobs,
        job_table,
        job,
        cancel,
        check,
        rotate
    ]
}

/// Lists the upkeep plans on what the caller may list. Not paged: plans are few.
#[utoipa::path(
    operation_id = "upkeep_plans",
    context_path = "",
    responses((status = 200, body = Page<Plan>)),
)]
#[get("/api/v1/plans")]
pub async fn plans(mut unit: Unit) -> ApiResult<Sent<Page<Plan>>> {
    Ok(Sent(commands::upkeep::plans(&mut unit).await?))
}

/// Sets an upkeep plan on a folder or a credential.
#[utoipa::path(
    operation_id = "upkeep_add_plan",
    context_path = "",
    request_body = NewPlan,
    responses((status = 200, body = Plan)),
)]
#[post("/api/v1/plans", data = "<body>")]
pub async fn add_plan(body: Call<NewPlan>) -> ApiResult<Tagged<Plan>> {
    let Call(mut unit, body) = body;
    Ok(Tagged(commands::upkeep::add_plan(&mut unit, body).await?))
}

/// Reads when the rules of a plan would come next. With `plan`, they count from when that plan was
/// set.
#[utoipa::path(
    operation_id = "plans_next_times",
    context_path = "",
    params(("plan" = Option<String>, Query)),
    request_body = PlanRules,
    responses((status = 200, body = PlanTimes)),
)]
#[post("/api/v1/plans/next-times?<plan>", data = "<body>")]
pub async fn plan_times(plan: Option<&str>, body: Call<PlanRules>) -> ApiResult<Sent<PlanTimes>> {
    let Call(mut unit, body) = body;
    let plan = maybe_id(plan)?;
    Ok(Sent(
        commands::upkeep::plan_times(&mut unit, plan, body).await?,
    ))
}

/// Edits an upkeep plan; all its rules are given.
#[utoipa::path(
    operation_id = "plans_edit",
    context_path = "",
    params(("If-Match" = String, Header, description = "The revision that the change is based on")),
    request_body = PlanRules,
    responses((status = 200, body = Plan)),
)]
#[put("/api/v1/plans/<plan>", data = "<body>")]
pub async fn edit_plan(
    plan: &str,
    revision: IfMatch,
    body: Call<PlanRules>,
) -> ApiResult<Tagged<Plan>> {
    let Call(mut unit, body) = body;
    Ok(Tagged(
        commands::upkeep::edit_plan(&mut unit, id(plan)?, revision.0, body).await?,
    ))
}

/// Removes an upkeep plan; the nearest one above applies then.
#[utoipa::path(
    operation_id = "upkeep_remove_plan",
    context_path = "",
    params(("If-Match" = String, Header, description = "The revision that the change is based on")),
    responses((status = 200)),
)]
#[delete("/api/v1/plans/<plan>")]
pub async fn remove_plan(mut unit: Unit, plan: &str, revision: IfMatch) -> ApiResult<()> {
    Ok(commands::upkeep::remove_plan(&mut unit, id(plan)?, revision.0).await?)
}

/// Lists the accounts under upkeep that the caller may list.
#[utoipa::path(
    operation_id = "upkeep_accounts",
    context_path = "",
    params(("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)),
    responses((status = 200, body = Page<Upkeep>)),
)]
#[get("/api/v1/upkeep?<cursor>&<limit>")]
pub async fn accounts(
    mut unit: Unit,
    cursor: Option<&str>,
    limit: Option<i64>,
) -> ApiResult<Sent<Page<Upkeep>>> {
    Ok(Sent(encode_page(
        commands::upkeep::accounts(&mut unit, paging(cursor, limit)?).await?,
    )))
}

/// What a table is narrowed by; texts are parts, in any case.
#[derive(Debug, FromForm)]
pub struct NarrowedTable<'r> {
    find: Option<&'r str>,
    credential: Option<&'r str>,
    device: Option<&'r str>,
    check: Option<&'r str>,
    task: Option<&'r str>,
    state: Option<&'r str>,
    cause: Option<&'r str>,
}

impl NarrowedTable<'_> {
    fn read(&self, exactly: &[(&'static str, Option<&str>)]) -> TableFilter {
        TableFilter {
            find: commands::credentials::words_of(self.find),
            credential: self.credential.map(composed),
            device: self.device.map(composed),
            exactly: exactly
                .iter()
                .filter_map(|(name, value)| Some((*name, (*value)?.to_owned())))
                .collect(),
        }
    }
}

/// The order of a table from what was asked for, such as `-checked`.
fn order<S: Word>(
    sort: Option<&str>,
    first: S,
    from: Option<i64>,
    limit: Option<i64>,
) -> ApiResult<TableOrder<S>> {
    let named = sort.map(|sort| sort.trim_start_matches('-'));
    Ok(TableOrder {
        sort: word("sort", named)?.unwrap_or(first),
        down: sort.is_some_and(|sort| sort.starts_with('-')),
        from: from.unwrap_or(0),
        limit: limit.unwrap_or(100).clamp(1, MOST_ITEMS),
    })
}

/// A part of the table of the accounts that the caller may list, from any row on, with the number
/// of all rows. `sort` is `credential`, `device`, `state`, `checked`, `rotated`, `next-check` or
/// `next-rotation`; with `-` before it the last come first. `check` is an outcome, or
/// `never-checked`. Each call looks at every row of the table: to read all, use the list.
#[utoipa::path(operation_id = "upkeep_account_table", context_path = "", params(
    ("find" = Option<String>, Query), ("credential" = Option<String>, Query), ("device" = Option<String>, Query), ("check" = Option<String>, Query),
    ("sort" = Option<String>, Query), ("from" = Option<i64>, Query), ("limit" = Option<i64>, Query)
), responses((status = 200, body = AccountTable)))]
#[get("/api/v1/upkeep/table?<sort>&<from>&<limit>&<narrowed..>")]
pub async fn account_table(
    mut unit: Unit,
    narrowed: NarrowedTable<'_>,
    sort: Option<&str>,
    from: Option<i64>,
    limit: Option<i64>,
) -> ApiResult<Sent<AccountTable>> {
    if narrowed.check != Some("never-checked") {
        let _: Option<CheckOutcome> = word("check", narrowed.check)?;
    }
    let filter = narrowed.read(&[("check", narrowed.check)]);
    let order = order(sort, AccountSort::Credential, from, limit)?;
    Ok(Sent(
        commands::upkeep::account_table(&mut unit, filter, order).await?,
    ))
}

/// A part of the table of the jobs that the caller may list, from any row on, with the number of
/// all rows. `sort` is `queued`, `task`, `credential`, `device`, `state` or `cause`; with `-` before
/// it the last come first. `state` is the outcome of a job that has ended, or the state of one that
/// has not. Each call looks at every row of the table: to read all, use the list.
#[utoipa::path(operation_id = "upkeep_job_table", context_path = "", params(
    ("find" = Option<String>, Query), ("credential" = Option<String>, Query), ("device" = Option<String>, Query), ("task" = Option<Task>, Query),
    ("state" = Option<String>, Query), ("cause" = Option<JobCause>, Query), ("sort" = Option<String>, Query), ("from" = Option<i64>, Query), ("limit" = Option<i64>, Query)
), responses((status = 200, body = JobTable)))]
#[get("/api/v1/jobs/table?<sort>&<from>&<limit>&<narrowed..>")]
pub async fn job_table(
    mut unit: Unit,
    narrowed: NarrowedTable<'_>,
    sort: Option<&str>,
    from: Option<i64>,
    limit: Option<i64>,
) -> ApiResult<Sent<JobTable>> {
    let task: Option<Task> = word("task", narrowed.task)?;
    let cause: Option<JobCause> = word("cause", narrowed.cause)?;
    if narrowed
        .state
        .is_some_and(|state| JobState::find(state).is_none())
    {
        let _: Option<JobOutcome> = word("state", narrowed.state)?;
    }
    let filter = narrowed.read(&[
        ("task", task.map(Word::word)),
        ("state", narrowed.state),
        ("cause", cause.map(Word::word)),
    ]);
    let order = match sort {
        None => order(Some("-queued"), JobSort::Queued, from, limit)?,
        Some(_) => order(sort, JobSort::Queued, from, limit)?,
    };
    Ok(Sent(
        commands::upkeep::job_table(&mut unit, filter, order).await?,
    ))
}

/// Lists the jobs that the caller may list, newest first.
#[utoipa::path(
    operation_id = "upkeep_jobs",
    context_path = "",
    params(("credential" = Option<String>, Query), ("state" = Option<JobState>, Query), ("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)),
    responses((status = 200, body = Page<Job>)),
)]
#[get("/api/v1/jobs?<credential>&<state>&<cursor>&<limit>")]
pub async fn jobs(
    mut unit: Unit,
    credential: Option<&str>,
    state: Option<&str>,
    cursor: Option<&str>,
    limit: Option<i64>,
) -> ApiResult<Sent<Page<Job>>> {
    Ok(Sent(encode_page(
        commands::upkeep::jobs(
            &mut unit,
            maybe_id(credential)?,
            word("state", state)?,
            paging(cursor, limit)?,
        )
        .await?,
    )))
}

/// Reads a job.
#[utoipa::path(
    operation_id = "upkeep_job",
    context_path = "",
    responses((status = 200, body = Job)),
)]
#[get("/api/v1/jobs/<job>")]
pub async fn job(mut unit: Unit, job: &str) -> ApiResult<Sent<Job>> {
    Ok(Sent(commands::upkeep::job(&mut unit, id(job)?).await?))
}

/// Cancels a waiting job.
#[utoipa::path(
    operation_id = "upkeep_cancel",
    context_path = "",
    responses((status = 200, body = Job)),
)]
#[post("/api/v1/jobs/<job>/cancel")]
pub async fn cancel(mut unit: Unit, job: &str) -> ApiResult<Sent<Job>> {
    Ok(Sent(commands::upkeep::cancel(&mut unit, id(job)?).await?))
}

/// Checks now whether the stored password opens the account.
#[utoipa::path(
    operation_id = "upkeep_check",
    context_path = "",
    responses((status = 200, body = Job)),
)]
#[post("/api/v1/credentials/<credential>/check")]
pub async fn check(mut unit: Unit, credential: &str) -> ApiResult<Sent<Job>> {
    Ok(Sent(
        commands::upkeep::check(&mut unit, id(credential)?).await?,
    ))
}

/// Rotates the password now, on the device and in the vault.
#[utoipa::path(
    operation_id = "upkeep_rotate",
    context_path = "",
    request_body = NewJob,
    responses((status = 200, body = Job)),
)]
#[post("/api/v1/credentials/<credential>/rotate", data = "<body>")]
pub async fn rotate(credential: &str, body: Call<NewJob>) -> ApiResult<Sent<Job>> {
    let Call(mut unit, body) = body;
    Ok(Sent(
        commands::upkeep::rotate(&mut unit, id(credential)?, body).await?,
    ))
}

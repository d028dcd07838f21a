//! Upkeep plans, accounts, jobs.

use jexlin_api::{
    Job, JobResult, JobResults, JobTranscript, NewJob, NewJobs, NewPlan, Page, Plan, PlanRules,
    PlanTimes, Upkeep,
};
use jexlin_app::commands;
use jexlin_core::upkeep::JobState;
use rocket::{Route, delete, get, post, put, routes};

use super::payload::{Call, IfMatch, Sent, Tagged, encode_page, id, maybe_id, paging, word};
use crate::error::{ApiResult, of_app};
use crate::guards::Unit;

pub fn routes() -> Vec<Route> {
    routes![
        plans,
        add_plan,
        plan_times,
        edit_plan,
        remove_plan,
        accounts,
        jobs,
        job,
        transcript,
        cancel,
        check,
        rehearse,
        rotate,
        add_jobs
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

/// Reads what was said and heard in a job that talked to a device by a dialogue, without secrets: for
/// the stewards of the device.
#[utoipa::path(
    operation_id = "upkeep_transcript",
    context_path = "",
    responses((status = 200, body = JobTranscript)),
)]
#[get("/api/v1/jobs/<job>/transcript")]
pub async fn transcript(mut unit: Unit, job: &str) -> ApiResult<Sent<JobTranscript>> {
    Ok(Sent(
        commands::upkeep::transcript(&mut unit, id(job)?).await?,
    ))
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
        commands::new_jobs::check(&mut unit, id(credential)?).await?,
    ))
}

/// Rehearses a rotation on the device: goes up to the change, without changing anything. The
/// transcript stays with the job.
#[utoipa::path(
    operation_id = "upkeep_rehearse",
    context_path = "",
    request_body = NewJob,
    responses((status = 200, body = Job)),
)]
#[post("/api/v1/credentials/<credential>/rehearse", data = "<body>")]
pub async fn rehearse(credential: &str, body: Call<NewJob>) -> ApiResult<Sent<Job>> {
    let Call(mut unit, body) = body;
    Ok(Sent(
        commands::new_jobs::rehearse(&mut unit, id(credential)?, body).await?,
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
        commands::new_jobs::rotate(&mut unit, id(credential)?, body).await?,
    ))
}

/// Adds a job of the same task for each of many accounts. Each has its own event in the audit log, and
/// a refusal for one does not affect the others.
#[utoipa::path(
    operation_id = "jobs_add",
    context_path = "",
    request_body = NewJobs,
    responses((status = 200, body = JobResults)),
)]
#[post("/api/v1/jobs", data = "<body>")]
pub async fn add_jobs(body: Call<NewJobs>) -> ApiResult<Sent<JobResults>> {
    let Call(mut unit, body) = body;
    let results = commands::new_jobs::add_many(&mut unit, body).await?;
    let items = results.into_iter().map(|(credential, result)| {
        let problem = result.as_ref().err().map(of_app);
        JobResult {
            credential,
            job: result.ok(),
            problem,
        }
    });
    Ok(Sent(JobResults {
        items: items.collect(),
    }))
}

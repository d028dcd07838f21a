//! Upkeep plans, jobs, and the upkeep state of accounts.

use chrono::{DateTime, Utc};
use jexlin_core::audit::TargetType;
use jexlin_core::upkeep::{
    ChangeMethod, CheckOutcome, JobCause, JobOutcome, JobState, OutOfSync, RotationOutcome, Task,
};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

use crate::problem::Problem;

/// An upkeep plan.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Plan {
    /// Identifier.
    pub id: Uuid,
    /// The folder or credential that it is set on.
    pub target_type: TargetType,
    /// The folder or credential that it is set on.
    pub target: Uuid,
    /// The path of the folder or credential that it is set on.
    pub place: String,
    /// The plan.
    #[serde(flatten)]
    pub rules: PlanRules,
    /// For `If-Match`.
    pub revision: i32,
}

/// The rules of an upkeep plan.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PlanRules {
    /// When to check: an RFC 5545 recurrence rule.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub check: Option<String>,
    /// What to do when out of sync.
    pub out_of_sync: OutOfSync,
    /// When to rotate: an RFC 5545 recurrence rule.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rotate: Option<String>,
    /// Or the number of days after the last rotation.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rotate_days: Option<u16>,
    /// The start of the hours in which rotations run, such as `22:00`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hours_from: Option<String>,
    /// The end of those hours, such as `04:00`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hours_to: Option<String>,
    /// The time zone, such as `Europe/London`.
    pub time_zone: String,
    /// The password policy; the default one when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub policy: Option<Uuid>,
}

/// When the rules of a plan come next. Each credential has its own moment shortly after, or inside
/// the hours for rotations.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct PlanTimes {
    /// The next ten checks.
    pub checks: Vec<DateTime<Utc>>,
    /// The next ten rotations; by days, as if the last one were now.
    pub rotations: Vec<DateTime<Utc>>,
}

/// Sets an upkeep plan. Exactly one of `folder` and `credential`.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewPlan {
    /// On a folder.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub folder: Option<Uuid>,
    /// On a credential.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub credential: Option<Uuid>,
    /// The plan.
    #[serde(flatten)]
    pub rules: PlanRules,
}

/// A part of the table of accounts.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AccountTable {
    /// How many rows the whole table has.
    pub total: i64,
    /// The rows of this part.
    pub items: Vec<Upkeep>,
    /// How many accounts there are by the outcome of their last check, whatever the table is
    /// filtered by.
    pub checks: Vec<CheckCount>,
}

/// How many accounts have an outcome of their last check.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CheckCount {
    /// The outcome; nothing for those that were never checked.
    #[schema(required)]
    pub outcome: Option<CheckOutcome>,
    /// How many.
    pub accounts: i64,
}

/// The upkeep state of an account.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Upkeep {
    /// The credential.
    pub credential: Uuid,
    /// Its path.
    pub credential_path: String,
    /// The device.
    pub device: String,
    /// When the next check is due.
    #[schema(required)]
    pub next_check_at: Option<DateTime<Utc>>,
    /// When the next rotation is due.
    #[schema(required)]
    pub next_rotation_at: Option<DateTime<Utc>>,
    /// When it was last checked.
    #[schema(required)]
    pub checked_at: Option<DateTime<Utc>>,
    /// The outcome of the last check.
    #[schema(required)]
    pub check_outcome: Option<CheckOutcome>,
    /// When it was last rotated.
    #[schema(required)]
    pub rotated_at: Option<DateTime<Utc>>,
    /// The outcome of the last rotation.
    #[schema(required)]
    pub rotation_outcome: Option<RotationOutcome>,
    /// Since when the rotation after a checkout has been pending.
    #[schema(required)]
    pub rotation_owed_at: Option<DateTime<Utc>>,
}

/// A job.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Job {
    /// Identifier.
    pub id: Uuid,
    /// The credential.
    pub credential: Uuid,
    /// Its path.
    pub credential_path: String,
    /// The device.
    pub device: String,
    /// The task: check or rotation.
    pub task: Task,
    /// Who changes the password on the device.
    pub method: ChangeMethod,
    /// Its state.
    pub state: JobState,
    /// The current step, while it runs.
    pub step: String,
    /// The outcome.
    #[schema(required)]
    pub outcome: Option<JobOutcome>,
    /// A message.
    pub message: String,
    /// Who asked for it; none for a plan.
    #[schema(required)]
    pub asked_by: Option<String>,
    /// The cause: `person`, `plan`, `out-of-sync` or `return`.
    pub cause: JobCause,
    /// When it was queued.
    pub queued_at: DateTime<Utc>,
    /// When it may run.
    pub not_before: DateTime<Utc>,
    /// When it began.
    #[schema(required)]
    pub started_at: Option<DateTime<Utc>>,
    /// When it ended.
    #[schema(required)]
    pub finished_at: Option<DateTime<Utc>>,
    /// The number of attempts.
    pub attempts: i32,
    /// Whether what was said and heard was kept, and the caller may read it.
    pub has_transcript: bool,
    /// Whether no later job did the same for the account.
    pub latest: bool,
}

/// Adds a job of the same task for each of many accounts.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewJobs {
    /// `check`, `rotation` or `rehearsal`.
    pub task: Task,
    /// The credentials, up to 1,000.
    pub credentials: Vec<Uuid>,
    /// `operator` or `self`; by default the operator, if the device has one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub method: Option<ChangeMethod>,
}

/// The result for one of many accounts: its job or its problem.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct JobResult {
    /// The credential.
    pub credential: Uuid,
    /// The job.
    #[schema(required)]
    pub job: Option<Job>,
    /// Why there is none.
    #[schema(required)]
    pub problem: Option<Problem>,
}

/// The results for many accounts, in the order of the request.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct JobResults {
    /// One result for each credential.
    pub items: Vec<JobResult>,
}

/// Asks for a job now.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct NewJob {
    /// `operator` or `self`; the operator when left out and the device has one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub method: Option<ChangeMethod>,
}

//! Upkeep plans, what is due, jobs and their leases.

use chrono::{DateTime, NaiveDate, Utc};
use diesel::prelude::*;
use diesel::sql_types;
use diesel_async::RunQueryDsl;
use jexlin_core::upkeep::Lease;
use uuid::Uuid;

use crate::people::one_row;
use crate::schema::{failed_login, job, plan_of, upkeep_plan, upkeep_state};
use crate::sql::statement;
use crate::{Result, Target, Tx};

/// An upkeep plan.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = upkeep_plan)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct PlanRow {
    pub id: Uuid,
    pub organisation: Uuid,
    pub folder_id: Option<Uuid>,
    pub credential_id: Option<Uuid>,
    pub check_rule: Option<String>,
    pub out_of_step: String,
    pub rotate_rule: Option<String>,
    pub rotate_days: Option<i32>,
    pub hours_from: Option<String>,
    pub hours_to: Option<String>,
    pub time_zone: String,
    pub policy_id: Option<Uuid>,
    pub anchor: NaiveDate,
    pub version: i32,
}

/// What upkeep knows of a credential on a device.
#[derive(Clone, Debug, Default, Queryable, Selectable)]
#[diesel(table_name = upkeep_state)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct StateRow {
    pub credential_id: Uuid,
    pub next_check_at: Option<DateTime<Utc>>,
    pub next_rotation_at: Option<DateTime<Utc>>,
    pub checked_at: Option<DateTime<Utc>>,
    pub check_outcome: Option<String>,
    pub rotated_at: Option<DateTime<Utc>>,
    pub rotation_outcome: Option<String>,
}

/// A job.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = job)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct JobRow {
    pub id: Uuid,
    pub organisation: Uuid,
    pub credential_id: Uuid,
    pub device_id: Uuid,
    pub task: String,
    pub way: String,
    pub state: String,
    pub step: String,
    pub outcome: Option<String>,
    pub message: String,
    pub asked_by: Option<Uuid>,
    pub cause: String,
    pub queued_at: DateTime<Utc>,
    pub not_before: DateTime<Utc>,
    pub started_at: Option<DateTime<Utc>>,
    pub finished_at: Option<DateTime<Utc>>,
    pub attempts: i32,
    pub leased_by: Option<Uuid>,
    pub leased_until: Option<DateTime<Utc>>,
}

/// A job with the names that people know.
#[derive(Clone, Debug, QueryableByName)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct JobView {
    #[diesel(sql_type = sql_types::Uuid)]
    pub id: Uuid,
    #[diesel(sql_type = sql_types::Uuid)]
    pub credential_id: Uuid,
    #[diesel(sql_type = sql_types::Text)]
    pub credential_name: String,
    #[diesel(sql_type = sql_types::Text)]
    pub place: String,
    #[diesel(sql_type = sql_types::Text)]
    pub device_name: String,
    #[diesel(sql_type = sql_types::Text)]
    pub task: String,
    #[diesel(sql_type = sql_types::Text)]
    pub way: String,
    #[diesel(sql_type = sql_types::Text)]
    pub state: String,
    #[diesel(sql_type = sql_types::Text)]
    pub step: String,
    #[diesel(sql_type = sql_types::Nullable<sql_types::Text>)]
    pub outcome: Option<String>,
    #[diesel(sql_type = sql_types::Text)]
    pub message: String,
    #[diesel(sql_type = sql_types::Nullable<sql_types::Text>)]
    pub asked_by_name: Option<String>,
    #[diesel(sql_type = sql_types::Text)]
    pub cause: String,
    #[diesel(sql_type = sql_types::Timestamptz)]
    pub queued_at: DateTime<Utc>,
    #[diesel(sql_type = sql_types::Timestamptz)]
    pub not_before: DateTime<Utc>,
    #[diesel(sql_type = sql_types::Nullable<sql_types::Timestamptz>)]
    pub started_at: Option<DateTime<Utc>>,
    #[diesel(sql_type = sql_types::Nullable<sql_types::Timestamptz>)]
    pub finished_at: Option<DateTime<Utc>>,
    #[diesel(sql_type = sql_types::Int4)]
    pub attempts: i32,
}

/// What upkeep knows, with names, for a list.
#[derive(Clone, Debug, QueryableByName)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct UpkeepView {
    #[diesel(sql_type = sql_types::Uuid)]
    pub credential_id: Uuid,
    #[diesel(sql_type = sql_types::Text)]
    pub credential_name: String,
    #[diesel(sql_type = sql_types::Text)]
    pub place: String,
    #[diesel(sql_type = sql_types::Text)]
    pub device_name: String,
    #[diesel(sql_type = sql_types::Nullable<sql_types::Timestamptz>)]
    pub next_check_at: Option<DateTime<Utc>>,
    #[diesel(sql_type = sql_types::Nullable<sql_types::Timestamptz>)]
    pub next_rotation_at: Option<DateTime<Utc>>,
    #[diesel(sql_type = sql_types::Nullable<sql_types::Timestamptz>)]
    pub checked_at: Option<DateTime<Utc>>,
    #[diesel(sql_type = sql_types::Nullable<sql_types::Text>)]
    pub check_outcome: Option<String>,
    #[diesel(sql_type = sql_types::Nullable<sql_types::Timestamptz>)]
    pub rotated_at: Option<DateTime<Utc>>,
    #[diesel(sql_type = sql_types::Nullable<sql_types::Text>)]
    pub rotation_outcome: Option<String>,
}

/// Which jobs to list.
#[derive(Clone, Debug, Default)]
pub struct JobFilter {
    /// Of this credential.
    pub credential: Option<Uuid>,
    /// In this state.
    pub state: Option<String>,
    /// Older than this.
    pub before: Option<(DateTime<Utc>, Uuid)>,
    /// At most so many.
    pub most: i64,
}

/// A job under lease, with what its worker needs to begin.
#[derive(Clone, Debug)]
pub struct LeasedJob {
    /// The job as it is now.
    pub row: JobRow,
    /// The lease for core.
    pub lease: Lease,
}

const JOBS: &str = "SELECT j.id, j.credential_id, c.name AS credential_name, coalesce(path_of(c.folder_id), '') AS place, d.name AS device_name, j.task, j.way, j.state, j.step,
    j.outcome, j.message, p.display_name AS asked_by_name, j.cause, j.queued_at, j.not_before, j.started_at, j.finished_at, j.attempts
    FROM job j JOIN credential c ON c.id = j.credential_id JOIN device d ON d.id = j.device_id LEFT JOIN person p ON p.id = j.asked_by";

impl Tx {
    /// Sets the plan of a place.
    ///
    /// # Errors
    /// [`crate::StoreError::Conflict`] when the place has one.
    pub async fn add_plan(&mut self, row: &PlanRow) -> Result<()> {
        diesel::insert_into(upkeep_plan::table).values(row).execute(self.conn()?).await?;
        self.plan_again(row).await
    }

    /// Writes a plan back, if nobody else has in the meantime.
    ///
    /// # Errors
    /// [`crate::StoreError::Stale`].
    pub async fn change_plan(&mut self, row: &PlanRow) -> Result<()> {
        let query = diesel::update(upkeep_plan::table.find(row.id).filter(upkeep_plan::version.eq(row.version))).set((
            upkeep_plan::check_rule.eq(&row.check_rule),
            upkeep_plan::out_of_step.eq(&row.out_of_step),
            upkeep_plan::rotate_rule.eq(&row.rotate_rule),
            upkeep_plan::rotate_days.eq(row.rotate_days),
            upkeep_plan::hours_from.eq(&row.hours_from),
            upkeep_plan::hours_to.eq(&row.hours_to),
            upkeep_plan::time_zone.eq(&row.time_zone),
            upkeep_plan::policy_id.eq(row.policy_id),
            upkeep_plan::version.eq(row.version + 1),
        ));
        one_row(query.execute(self.conn()?).await?)?;
        self.plan_again(row).await
    }

    /// Removes a plan.
    ///
    /// # Errors
    /// [`crate::StoreError::Stale`].
    pub async fn remove_plan(&mut self, row: &PlanRow) -> Result<()> {
        self.plan_again(row).await?;
        one_row(diesel::delete(upkeep_plan::table.find(row.id).filter(upkeep_plan::version.eq(row.version))).execute(self.conn()?).await?)
    }

    async fn plan_again(&mut self, row: &PlanRow) -> Result<()> {
        if let Some(folder) = row.folder_id {
            return self.plan_again_below(folder).await;
        }
        if let Some(credential) = row.credential_id {
            diesel::update(upkeep_state::table.find(credential)).set(upkeep_state::stale.eq(true)).execute(self.conn()?).await?;
        }
        Ok(())
    }

    /// What is due below a folder is worked out anew.
    pub(crate) async fn plan_again_below(&mut self, folder: Uuid) -> Result<()> {
        let sql = "UPDATE upkeep_state u SET stale = true FROM credential c WHERE c.id = u.credential_id AND c.folder_id IN (SELECT subtree_of($1))";
        statement(sql).bind::<sql_types::Uuid, _>(folder).execute(self.conn()?).await?;
        Ok(())
    }

    /// A plan.
    ///
    /// # Errors
    /// [`crate::StoreError::NotFound`].
    pub async fn plan(&mut self, id: Uuid) -> Result<PlanRow> {
        Ok(upkeep_plan::table.find(id).select(PlanRow::as_select()).first(self.conn()?).await?)
    }

    /// All plans.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn plans(&mut self) -> Result<Vec<PlanRow>> {
        Ok(upkeep_plan::table.order(upkeep_plan::id).select(PlanRow::as_select()).load(self.conn()?).await?)
    }

    /// The plan of exactly this place.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn plan_at(&mut self, target: Target) -> Result<Option<PlanRow>> {
        let query = upkeep_plan::table.select(PlanRow::as_select()).into_boxed();
        let query = match target {
            Target::Folder(id) => query.filter(upkeep_plan::folder_id.eq(id)),
            Target::Credential(id) => query.filter(upkeep_plan::credential_id.eq(id)),
        };
        Ok(query.first(self.conn()?).await.optional()?)
    }

    /// The plan that counts for a credential.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn plan_of(&mut self, credential: Uuid) -> Result<Option<PlanRow>> {
        let id: Option<Uuid> = diesel::select(plan_of(credential)).get_result(self.conn()?).await?;
        match id {
            Some(id) => self.plan(id).await.map(Some),
            None => Ok(None),
        }
    }

    /// What upkeep knows of a credential.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn upkeep_state(&mut self, credential: Uuid) -> Result<Option<StateRow>> {
        Ok(upkeep_state::table.find(credential).select(StateRow::as_select()).first(self.conn()?).await.optional()?)
    }

    /// States whose due times must be worked out, kept until the transaction ends.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn stale_states(&mut self, most: i64) -> Result<Vec<StateRow>> {
        let query = upkeep_state::table.filter(upkeep_state::stale.eq(true)).limit(most).for_update().skip_locked().select(StateRow::as_select());
        Ok(query.load(self.conn()?).await?)
    }

    /// Writes the due times of a credential.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn set_due(&mut self, credential: Uuid, check: Option<DateTime<Utc>>, rotation: Option<DateTime<Utc>>) -> Result<()> {
        diesel::update(upkeep_state::table.find(credential))
            .set((upkeep_state::stale.eq(false), upkeep_state::next_check_at.eq(check), upkeep_state::next_rotation_at.eq(rotation)))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// States with a check or a rotation due, kept until the transaction ends. Those with a job
    /// under way are left for later.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn due_states(&mut self, now: DateTime<Utc>, most: i64) -> Result<Vec<StateRow>> {
        let busy = job::table.filter(job::credential_id.eq(upkeep_state::credential_id)).filter(job::state.eq_any(["queued", "running"]));
        let query = upkeep_state::table
            .filter(upkeep_state::stale.eq(false))
            .filter(upkeep_state::next_check_at.le(now).or(upkeep_state::next_rotation_at.le(now)))
            .filter(diesel::dsl::not(diesel::dsl::exists(busy)))
            .limit(most)
            .for_update()
            .skip_locked()
            .select(StateRow::as_select());
        Ok(query.load(self.conn()?).await?)
    }

    /// Notes what a check found, and has the next one worked out.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn note_check(&mut self, credential: Uuid, now: DateTime<Utc>, outcome: &str) -> Result<()> {
        diesel::update(upkeep_state::table.find(credential))
            .set((upkeep_state::checked_at.eq(now), upkeep_state::check_outcome.eq(outcome), upkeep_state::stale.eq(true)))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// Notes what became of a rotation; one that was done has also proved the password.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn note_rotation(&mut self, credential: Uuid, now: DateTime<Utc>, outcome: &str) -> Result<()> {
        let state = upkeep_state::table.find(credential);
        diesel::update(state).set((upkeep_state::rotation_outcome.eq(outcome), upkeep_state::stale.eq(true))).execute(self.conn()?).await?;
        if outcome == "done" {
            let set = (upkeep_state::rotated_at.eq(now), upkeep_state::checked_at.eq(now), upkeep_state::check_outcome.eq("in step"));
            diesel::update(state).set(set).execute(self.conn()?).await?;
        }
        Ok(())
    }

    /// The accounts under upkeep in folders and on credentials that somebody holds a level on.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn upkeep_views(&mut self, person: Uuid, now: DateTime<Utc>, after: Option<(String, Uuid)>, most: i64) -> Result<Vec<UpkeepView>> {
        let (after_name, after_id) = after.unwrap_or_default();
        let sql =
            "SELECT u.credential_id, c.name AS credential_name, path_of(c.folder_id) AS place, d.name AS device_name, u.next_check_at, u.next_rotation_at,
                u.checked_at, u.check_outcome, u.rotated_at, u.rotation_outcome
            FROM upkeep_state u JOIN credential c ON c.id = u.credential_id JOIN device d ON d.id = c.device_id
            WHERE c.removed_at IS NULL AND (lower(c.name), c.id) > ($3, $4) AND level_on_credential($1, c.id, $2) IS NOT NULL
            ORDER BY lower(c.name), c.id LIMIT $5";
        let query = statement(sql)
            .bind::<sql_types::Uuid, _>(person)
            .bind::<sql_types::Timestamptz, _>(now)
            .bind::<sql_types::Text, _>(after_name.to_lowercase())
            .bind::<sql_types::Uuid, _>(after_id)
            .bind::<sql_types::BigInt, _>(most);
        Ok(query.load(self.conn()?).await?)
    }

    /// Queues a job.
    ///
    /// # Errors
    /// [`crate::StoreError::Conflict`] when one is under way for the same credential.
    pub async fn add_job(&mut self, row: &JobRow) -> Result<()> {
        diesel::insert_into(job::table).values(row).execute(self.conn()?).await?;
        Ok(())
    }

    /// Whether a job is queued or running for a credential.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn job_under_way(&mut self, credential: Uuid) -> Result<bool> {
        let query = job::table.filter(job::credential_id.eq(credential)).filter(job::state.eq_any(["queued", "running"])).count();
        let count: i64 = query.get_result(self.conn()?).await?;
        Ok(count > 0)
    }

    /// Leases the next job that may run. Jobs that a worker left running are taken over when their
    /// lease is over. No device gets more than `most_per_device` jobs at a time.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn lease_job(&mut self, worker: Uuid, now: DateTime<Utc>, until: DateTime<Utc>, most_per_device: i64) -> Result<Option<LeasedJob>> {
        #[derive(QueryableByName)]
        struct Found {
            #[diesel(sql_type = sql_types::Uuid)]
            id: Uuid,
        }
        let sql = "SELECT j.id FROM job j WHERE ((j.state = 'queued' AND j.not_before <= $1) OR (j.state = 'running' AND j.leased_until <= $1))
              AND (SELECT count(*) FROM job r WHERE r.device_id = j.device_id AND r.state = 'running' AND r.leased_until > $1) < $2
            ORDER BY j.not_before, j.id LIMIT 1 FOR UPDATE OF j SKIP LOCKED";
        let query = statement(sql).bind::<sql_types::Timestamptz, _>(now).bind::<sql_types::BigInt, _>(most_per_device);
        let found: Option<Found> = query.get_result(self.conn()?).await.optional()?;
        let Some(Found { id }) = found else { return Ok(None) };
        let row: JobRow = diesel::update(job::table.find(id))
            .set((
                job::state.eq("running"),
                job::leased_by.eq(worker),
                job::leased_until.eq(until),
                job::attempts.eq(job::attempts + 1),
                job::started_at.eq(diesel::dsl::sql::<sql_types::Nullable<sql_types::Timestamptz>>("coalesce(started_at, ")
                    .bind::<sql_types::Timestamptz, _>(now)
                    .sql(")")),
            ))
            .returning(JobRow::as_returning())
            .get_result(self.conn()?)
            .await?;
        let operator = self.device(row.device_id).await.ok().and_then(|device| device.operator_id);
        let lease = Lease { job: row.id, credential: row.credential_id, operator, until };
        Ok(Some(LeasedJob { row, lease }))
    }

    /// Notes the step a job is at, makes sure that the lease is still this worker's, and holds it
    /// on until the given time.
    ///
    /// # Errors
    /// [`crate::StoreError::Stale`] when another worker has the job.
    pub async fn job_step(&mut self, id: Uuid, worker: Uuid, step: &str, until: DateTime<Utc>) -> Result<()> {
        let query = diesel::update(job::table.find(id).filter(job::leased_by.eq(worker)).filter(job::state.eq("running")))
            .set((job::step.eq(step), job::leased_until.eq(until)));
        one_row(query.execute(self.conn()?).await?)
    }

    /// Ends a job that this worker leases.
    ///
    /// # Errors
    /// [`crate::StoreError::Stale`] when another worker has the job.
    pub async fn finish_job(&mut self, id: Uuid, worker: Uuid, state: &str, outcome: &str, message: &str, now: DateTime<Utc>) -> Result<()> {
        let query = diesel::update(job::table.find(id).filter(job::leased_by.eq(worker)).filter(job::state.eq("running"))).set((
            job::state.eq(state),
            job::outcome.eq(outcome),
            job::message.eq(message),
            job::step.eq(""),
            job::finished_at.eq(now),
            job::leased_by.eq(None::<Uuid>),
            job::leased_until.eq(None::<DateTime<Utc>>),
        ));
        one_row(query.execute(self.conn()?).await?)
    }

    /// Puts a job back, to be tried again later.
    ///
    /// # Errors
    /// [`crate::StoreError::Stale`] when another worker has the job.
    pub async fn retry_job(&mut self, id: Uuid, worker: Uuid, outcome: &str, message: &str, not_before: DateTime<Utc>) -> Result<()> {
        let query = diesel::update(job::table.find(id).filter(job::leased_by.eq(worker)).filter(job::state.eq("running"))).set((
            job::state.eq("queued"),
            job::outcome.eq(outcome),
            job::message.eq(message),
            job::step.eq(""),
            job::not_before.eq(not_before),
            job::leased_by.eq(None::<Uuid>),
            job::leased_until.eq(None::<DateTime<Utc>>),
        ));
        one_row(query.execute(self.conn()?).await?)
    }

    /// A job that waits is let run now.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn hurry_job(&mut self, credential: Uuid, now: DateTime<Utc>) -> Result<Option<Uuid>> {
        let query = diesel::update(job::table.filter(job::credential_id.eq(credential)).filter(job::state.eq("queued")))
            .set(job::not_before.eq(now))
            .returning(job::id);
        Ok(query.get_result(self.conn()?).await.optional()?)
    }

    /// A job with names.
    ///
    /// # Errors
    /// [`crate::StoreError::NotFound`].
    pub async fn job_view(&mut self, id: Uuid) -> Result<JobView> {
        let sql = format!("{JOBS} WHERE j.id = $1");
        Ok(statement(sql).bind::<sql_types::Uuid, _>(id).get_result(self.conn()?).await?)
    }

    /// Jobs on what somebody holds a level on, newest first.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn jobs(&mut self, person: Uuid, now: DateTime<Utc>, filter: &JobFilter) -> Result<Vec<JobView>> {
        let (before_at, before_id) = filter.before.unwrap_or((DateTime::from_timestamp(32_503_680_000, 0).unwrap_or(DateTime::<Utc>::MAX_UTC), Uuid::max()));
        let sql = format!(
            "{JOBS} WHERE ($3::uuid IS NULL OR j.credential_id = $3) AND ($4::text IS NULL OR j.state = $4) AND (j.queued_at, j.id) < ($5, $6)
             AND level_on_credential($1, j.credential_id, $2) IS NOT NULL ORDER BY j.queued_at DESC, j.id DESC LIMIT $7"
        );
        let query = statement(sql)
            .bind::<sql_types::Uuid, _>(person)
            .bind::<sql_types::Timestamptz, _>(now)
            .bind::<sql_types::Nullable<sql_types::Uuid>, _>(filter.credential)
            .bind::<sql_types::Nullable<sql_types::Text>, _>(filter.state.clone())
            .bind::<sql_types::Timestamptz, _>(before_at)
            .bind::<sql_types::Uuid, _>(before_id)
            .bind::<sql_types::BigInt, _>(filter.most);
        Ok(query.load(self.conn()?).await?)
    }

    /// When logins to an account failed lately, for the lockout budget.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn failed_logins(&mut self, credential: Uuid, since: DateTime<Utc>) -> Result<Vec<DateTime<Utc>>> {
        let query = failed_login::table.filter(failed_login::credential_id.eq(credential)).filter(failed_login::at.gt(since)).select(failed_login::at);
        Ok(query.load(self.conn()?).await?)
    }

    /// Notes a login that failed.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn note_failed_login(&mut self, credential: Uuid, now: DateTime<Utc>) -> Result<()> {
        let organisation = self.organisation();
        let values = (failed_login::organisation.eq(organisation), failed_login::credential_id.eq(credential), failed_login::at.eq(now));
        diesel::insert_into(failed_login::table).values(values).execute(self.conn()?).await?;
        Ok(())
    }
}

//! Upkeep plans, what is due, jobs and their leases.

use std::collections::{HashMap, HashSet};

use chrono::{DateTime, NaiveDate, Utc};
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use jexlin_core::access::Level;
use jexlin_core::upkeep::Lease;
use jexlin_core::upkeep::{
    ChangeMethod, CheckOutcome, JobCause, JobOutcome, JobState, OutOfSync, RotationOutcome, Task,
};
use uuid::Uuid;

use crate::people::one_row;
use crate::schema::{
    account, coalesce, credential, device, job, job_view, last_of, level_on_credential,
    level_on_folder, lower, next_job, path_of, person, plan_of, subtree_of, upkeep_plan,
    upkeep_view,
};
use crate::stored::Stored;
use crate::{AccountRow, CredentialRow, DeviceRow, Result, Tx};

/// An upkeep plan.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = upkeep_plan)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct PlanRow {
    pub id: Uuid,
    pub organisation: Uuid,
    pub folder_id: Option<Uuid>,
    pub account_id: Option<Uuid>,
    pub check_rule: Option<String>,
    pub out_of_sync: Stored<OutOfSync>,
    pub rotate_rule: Option<String>,
    pub rotate_days: Option<i32>,
    pub hours_from: Option<String>,
    pub hours_to: Option<String>,
    pub time_zone: String,
    pub policy_id: Option<Uuid>,
    pub anchor: NaiveDate,
    pub revision: i32,
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
    pub task: Stored<Task>,
    pub method: Stored<ChangeMethod>,
    pub state: Stored<JobState>,
    pub step: String,
    pub outcome: Option<Stored<JobOutcome>>,
    pub message: String,
    pub asked_by: Option<Uuid>,
    pub cause: Stored<JobCause>,
    pub queued_at: DateTime<Utc>,
    pub not_before: DateTime<Utc>,
    pub started_at: Option<DateTime<Utc>>,
    pub finished_at: Option<DateTime<Utc>>,
    pub attempts: i32,
    pub leased_until: Option<DateTime<Utc>>,
    pub account_id: Uuid,
    pub fence: i64,
    pub faults: i32,
}

/// A job with the names that people know, as somebody sees it.
#[derive(Clone, Debug)]
pub struct JobView {
    /// The job.
    pub row: JobRecord,
    /// Whether the one who looks is a steward of the device.
    pub for_steward: bool,
}

impl JobView {
    fn new(row: JobRecord, held_on_device: Option<i16>) -> Self {
        let held = held_on_device.and_then(Level::from_number);
        Self {
            row,
            for_steward: held == Some(Level::Steward),
        }
    }
}

/// A job with the names that people know.
#[derive(Clone, Debug, Queryable, Selectable)]
#[diesel(table_name = job_view)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct JobRecord {
    pub id: Uuid,
    pub credential_id: Uuid,
    pub credential_name: String,
    pub place: String,
    pub device_name: String,
    pub task: Stored<Task>,
    pub method: Stored<ChangeMethod>,
    pub state: Stored<JobState>,
    pub step: String,
    pub outcome: Option<Stored<JobOutcome>>,
    pub message: String,
    pub asked_by_name: Option<String>,
    pub cause: Stored<JobCause>,
    pub queued_at: DateTime<Utc>,
    pub not_before: DateTime<Utc>,
    pub started_at: Option<DateTime<Utc>>,
    pub finished_at: Option<DateTime<Utc>>,
    pub attempts: i32,
    pub has_transcript: bool,
    pub latest: bool,
}

/// What upkeep knows, with names, for a list.
#[derive(Clone, Debug, Queryable, Selectable)]
#[diesel(table_name = upkeep_view)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct UpkeepView {
    pub credential_id: Uuid,
    pub credential_name: String,
    pub place: String,
    pub device_name: String,
    pub next_check_at: Option<DateTime<Utc>>,
    pub next_rotation_at: Option<DateTime<Utc>>,
    pub checked_at: Option<DateTime<Utc>>,
    pub check_outcome: Option<Stored<CheckOutcome>>,
    pub rotated_at: Option<DateTime<Utc>>,
    pub rotation_outcome: Option<Stored<RotationOutcome>>,
    pub rotation_owed_at: Option<DateTime<Utc>>,
}

/// Which jobs to list.
#[derive(Clone, Debug, Default)]
pub struct JobFilter {
    /// Of this credential.
    pub credential: Option<Uuid>,
    /// In this state.
    pub state: Option<JobState>,
    /// Older than this.
    pub before: Option<(DateTime<Utc>, Uuid)>,
    /// At most so many.
    pub limit: i64,
}

/// A job under lease, with what its worker needs to begin.
#[derive(Clone, Debug)]
pub struct LeasedJob {
    /// The job as it is now.
    pub row: JobRow,
    /// The lease for core.
    pub lease: Lease,
}

/// What a job works with.
#[derive(Clone, Debug)]
pub struct JobFacts {
    /// Its credential.
    pub credential: CredentialRow,
    /// The path of the credential.
    pub path: String,
    /// Its device.
    pub device: DeviceRow,
    /// Its account.
    pub account: AccountRow,
    /// The display name of the person who added it.
    pub asked_by: Option<String>,
}

/// So much of a transcript is kept, in characters.
const LONGEST_TRANSCRIPT: i32 = 20_000;

impl Tx {
    /// Sets the plan of a place.
    ///
    /// # Errors
    /// [`crate::StoreError::Conflict`] when the place has one.
    pub async fn add_plan(&mut self, row: &PlanRow) -> Result<()> {
        diesel::insert_into(upkeep_plan::table)
            .values(row)
            .execute(self.conn()?)
            .await?;
        self.plan_again(row).await
    }

    /// Writes a plan back, if nobody else has in the meantime.
    ///
    /// # Errors
    /// [`crate::StoreError::Stale`].
    pub async fn edit_plan(&mut self, row: &PlanRow) -> Result<()> {
        let query = diesel::update(
            upkeep_plan::table
                .find(row.id)
                .filter(upkeep_plan::revision.eq(row.revision)),
        )
        .set((
            upkeep_plan::check_rule.eq(&row.check_rule),
            upkeep_plan::out_of_sync.eq(&row.out_of_sync),
            upkeep_plan::rotate_rule.eq(&row.rotate_rule),
            upkeep_plan::rotate_days.eq(row.rotate_days),
            upkeep_plan::hours_from.eq(&row.hours_from),
            upkeep_plan::hours_to.eq(&row.hours_to),
            upkeep_plan::time_zone.eq(&row.time_zone),
            upkeep_plan::policy_id.eq(row.policy_id),
            upkeep_plan::revision.eq(row.revision + 1),
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
        one_row(
            diesel::delete(
                upkeep_plan::table
                    .find(row.id)
                    .filter(upkeep_plan::revision.eq(row.revision)),
            )
            .execute(self.conn()?)
            .await?,
        )
    }

    async fn plan_again(&mut self, row: &PlanRow) -> Result<()> {
        if let Some(folder) = row.folder_id {
            return self.plan_again_below(folder).await;
        }
        if let Some(of) = row.account_id {
            diesel::update(account::table.find(of))
                .set(account::stale.eq(true))
                .execute(self.conn()?)
                .await?;
        }
        Ok(())
    }

    /// What is due below a folder is worked out again.
    pub(crate) async fn plan_again_below(&mut self, folder: Uuid) -> Result<()> {
        let inside = credential::table
            .filter(credential::folder_id.eq_any(diesel::select(subtree_of(folder))))
            .select(credential::id.nullable());
        diesel::update(account::table.filter(account::credential_id.eq_any(inside)))
            .set(account::stale.eq(true))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// What is due for a credential's account, if it has one, is worked out again.
    pub(crate) async fn plan_again_for(&mut self, credential: Uuid) -> Result<()> {
        diesel::update(account::table.filter(account::credential_id.eq(credential)))
            .set(account::stale.eq(true))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// A plan.
    ///
    /// # Errors
    /// [`crate::StoreError::NotFound`].
    pub async fn plan(&mut self, id: Uuid) -> Result<PlanRow> {
        Ok(upkeep_plan::table
            .find(id)
            .select(PlanRow::as_select())
            .first(self.conn()?)
            .await?)
    }

    /// All plans.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn plans(&mut self) -> Result<Vec<PlanRow>> {
        Ok(upkeep_plan::table
            .order(upkeep_plan::id)
            .select(PlanRow::as_select())
            .load(self.conn()?)
            .await?)
    }

    /// The plan that counts for an account.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn plan_of(&mut self, of: Uuid) -> Result<Option<PlanRow>> {
        let id: Option<Uuid> = diesel::select(plan_of(of)).get_result(self.conn()?).await?;
        match id {
            Some(id) => self.plan(id).await.map(Some),
            None => Ok(None),
        }
    }

    /// Accounts whose due times must be worked out, kept until the transaction ends.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn stale_accounts(&mut self, limit: i64) -> Result<Vec<AccountRow>> {
        let query = account::table
            .filter(account::stale.eq(true))
            .limit(limit)
            .for_update()
            .skip_locked()
            .select(AccountRow::as_select());
        Ok(query.load(self.conn()?).await?)
    }

    /// Writes the due times of an account.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn set_due(
        &mut self,
        of: Uuid,
        check: Option<DateTime<Utc>>,
        rotation: Option<DateTime<Utc>>,
    ) -> Result<()> {
        diesel::update(account::table.find(of))
            .set((
                account::stale.eq(false),
                account::next_check_at.eq(check),
                account::next_rotation_at.eq(rotation),
            ))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// Accounts with a check or a rotation due, kept until the transaction ends. Those with a job
    /// under way are left for later.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn due_accounts(
        &mut self,
        now: DateTime<Utc>,
        limit: i64,
    ) -> Result<Vec<AccountRow>> {
        let busy = job::table
            .filter(job::account_id.eq(account::id))
            .filter(job::state.eq_any([JobState::Queued, JobState::Running].map(Stored)));
        let query = account::table
            .filter(account::stale.eq(false))
            .filter(
                account::next_check_at
                    .le(now)
                    .or(account::next_rotation_at.le(now)),
            )
            .filter(diesel::dsl::not(diesel::dsl::exists(busy)))
            .limit(limit)
            .for_update()
            .skip_locked()
            .select(AccountRow::as_select());
        Ok(query.load(self.conn()?).await?)
    }

    /// Notes what a check found, and has the next one worked out.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn note_check(
        &mut self,
        of: Uuid,
        now: DateTime<Utc>,
        outcome: CheckOutcome,
    ) -> Result<()> {
        diesel::update(account::table.find(of))
            .set((
                account::checked_at.eq(now),
                account::check_outcome.eq(Stored(outcome)),
                account::stale.eq(true),
            ))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// Notes what became of a rotation. One that was done has also proved the password, and settles
    /// a rotation that was owed.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn note_rotation(
        &mut self,
        of: Uuid,
        now: DateTime<Utc>,
        outcome: RotationOutcome,
    ) -> Result<()> {
        let noted = (
            account::rotation_outcome.eq(Stored(outcome)),
            account::stale.eq(true),
        );
        let state = diesel::update(account::table.find(of));
        if outcome == RotationOutcome::Done {
            let settled = (
                account::rotated_at.eq(now),
                account::checked_at.eq(now),
                account::check_outcome.eq(Stored(CheckOutcome::InSync)),
                account::rotation_owed_at.eq(None::<DateTime<Utc>>),
                account::owed_next_at.eq(None::<DateTime<Utc>>),
                account::owed_tries.eq(0),
            );
            let both = state.set((noted, settled));
            both.execute(self.conn()?).await?;
        } else {
            state.set(noted).execute(self.conn()?).await?;
        }
        Ok(())
    }

    /// The accounts under upkeep in folders and on credentials that somebody holds a level on.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn upkeep_views(
        &mut self,
        person: Uuid,
        now: DateTime<Utc>,
        after: Option<(String, Uuid)>,
        limit: i64,
    ) -> Result<Vec<UpkeepView>> {
        let name = lower(upkeep_view::credential_name);
        let mut query = upkeep_view::table
            .filter(level_on_credential(person, upkeep_view::credential_id, now).is_not_null())
            .order((name, upkeep_view::credential_id))
            .limit(limit)
            .select(UpkeepView::as_select())
            .into_boxed();
        if let Some((after, id)) = after {
            let after = after.to_lowercase();
            let later = name
                .gt(after.clone())
                .or(name.eq(after).and(upkeep_view::credential_id.gt(id)));
            query = query.filter(later);
        }
        Ok(query.load(self.conn()?).await?)
    }

    /// Queues jobs, except for accounts that have one under way. Returns the identifiers of the jobs
    /// that were queued.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn add_jobs(&mut self, mut rows: Vec<JobRow>) -> Result<HashSet<Uuid>> {
        // All callers lock in one order, so there is no deadlock.
        rows.sort_by_key(|row| row.account_id);
        let query = diesel::insert_into(job::table)
            .values(&rows)
            .on_conflict_do_nothing()
            .returning(job::id);
        let added: Vec<Uuid> = query.get_results(self.conn()?).await?;
        Ok(added.into_iter().collect())
    }

    /// Leases the next job that may run. Jobs that a worker left running are taken over when their
    /// lease is over. Every lease has a higher token than the one before. No device gets more than
    /// `most_per_device` jobs at a time, and nobody who asks for jobs more than `most_per_asker`; a
    /// device that is paused gets none that needs its operator. What has the fewest running for the
    /// same device comes first.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn lease_job(
        &mut self,
        now: DateTime<Utc>,
        until: DateTime<Utc>,
        most_per_device: i64,
        most_per_asker: i64,
    ) -> Result<Option<LeasedJob>> {
        let next: Option<Uuid> = diesel::select(next_job(now, most_per_device, most_per_asker))
            .get_result(self.conn()?)
            .await?;
        let Some(id) = next else {
            return Ok(None);
        };
        let row: JobRow = diesel::update(job::table.find(id))
            .set((
                job::state.eq(Stored(JobState::Running)),
                job::leased_until.eq(until),
                job::fence.eq(job::fence + 1),
                job::faults.eq(job::faults + 1),
                job::attempts.eq(job::attempts + 1),
                job::started_at.eq(coalesce(job::started_at, now).nullable()),
            ))
            .returning(JobRow::as_returning())
            .get_result(self.conn()?)
            .await?;
        #[allow(clippy::disallowed_methods, reason = "the store hands out leases")]
        let lease = Lease::from_store(row.id, row.fence, row.credential_id, row.device_id, until);
        Ok(Some(LeasedJob { row, lease }))
    }

    /// What a job works with; nothing when its credential or its device was removed.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn job_facts(&mut self, of: &JobRow) -> Result<Option<JobFacts>> {
        let query = account::table
            .find(of.account_id)
            .inner_join(credential::table.on(credential::id.eq(of.credential_id)))
            .inner_join(device::table.on(device::id.eq(of.device_id)))
            .left_join(person::table.on(person::id.nullable().eq(of.asked_by)))
            .filter(credential::removed_at.is_null())
            .filter(device::removed_at.is_null())
            .select((
                CredentialRow::as_select(),
                path_of(credential::folder_id)
                    .assume_not_null()
                    .concat("/")
                    .concat(credential::name),
                DeviceRow::as_select(),
                AccountRow::as_select(),
                person::display_name.nullable(),
            ));
        type Found = (CredentialRow, String, DeviceRow, AccountRow, Option<String>);
        let found: Option<Found> = query.first(self.conn()?).await.optional()?;
        Ok(
            found.map(|(credential, path, device, account, asked_by)| JobFacts {
                credential,
                path,
                device,
                account,
                asked_by,
            }),
        )
    }

    /// Makes sure that a lease is still the last one of its job, and holds it on until the given
    /// time; nobody else can take the job before this transaction ends. Returns the lease as it is
    /// then.
    ///
    /// # Errors
    /// [`crate::StoreError::Stale`] when another worker has, or has had, the job.
    pub async fn hold_lease(
        &mut self,
        lease: &Lease,
        step: &str,
        until: DateTime<Utc>,
    ) -> Result<Lease> {
        let held = job::table
            .find(lease.job())
            .filter(job::fence.eq(lease.fence()))
            .filter(job::state.eq(Stored(JobState::Running)));
        let query = diesel::update(held)
            .set((job::step.eq(step), job::leased_until.eq(until)))
            .returning((job::credential_id, job::device_id));
        let found: Option<(Uuid, Uuid)> = query.get_result(self.conn()?).await.optional()?;
        let (credential, device) = found.ok_or(crate::StoreError::Stale)?;
        #[allow(clippy::disallowed_methods, reason = "the store hands out leases")]
        Ok(Lease::from_store(
            lease.job(),
            lease.fence(),
            credential,
            device,
            until,
        ))
    }

    /// Ends a job under lease.
    ///
    /// # Errors
    /// [`crate::StoreError::Stale`] when another worker has the job.
    pub async fn finish_job(
        &mut self,
        lease: &Lease,
        state: JobState,
        outcome: JobOutcome,
        message: &str,
        now: DateTime<Utc>,
    ) -> Result<()> {
        let held = job::table
            .find(lease.job())
            .filter(job::fence.eq(lease.fence()))
            .filter(job::state.eq(Stored(JobState::Running)));
        let query = diesel::update(held).set((
            job::state.eq(Stored(state)),
            job::outcome.eq(Stored(outcome)),
            job::message.eq(message),
            job::step.eq(""),
            job::finished_at.eq(now),
            job::leased_until.eq(None::<DateTime<Utc>>),
        ));
        one_row(query.execute(self.conn()?).await?)
    }

    /// Adds to what was said and heard in a job under lease; the end of it is kept.
    ///
    /// # Errors
    /// [`crate::StoreError::Stale`] when another worker has the job.
    pub async fn note_transcript(&mut self, lease: &Lease, text: &str) -> Result<()> {
        let held = job::table
            .find(lease.job())
            .filter(job::fence.eq(lease.fence()));
        let query = diesel::update(held)
            .set(job::transcript.eq(last_of(job::transcript.concat(text), LONGEST_TRANSCRIPT)));
        one_row(query.execute(self.conn()?).await?)
    }

    /// What was said and heard in a job.
    ///
    /// # Errors
    /// [`crate::StoreError::NotFound`].
    pub async fn transcript(&mut self, id: Uuid) -> Result<String> {
        Ok(job::table
            .find(id)
            .select(job::transcript)
            .first(self.conn()?)
            .await?)
    }

    /// Puts a job under lease back, to be tried again later. `faults` is how often the service
    /// itself has failed to carry it out.
    ///
    /// # Errors
    /// [`crate::StoreError::Stale`] when another worker has the job.
    pub async fn retry_job(
        &mut self,
        lease: &Lease,
        outcome: Option<JobOutcome>,
        message: &str,
        not_before: DateTime<Utc>,
        faults: i32,
    ) -> Result<()> {
        let held = job::table
            .find(lease.job())
            .filter(job::fence.eq(lease.fence()))
            .filter(job::state.eq(Stored(JobState::Running)));
        let query = diesel::update(held).set((
            job::state.eq(Stored(JobState::Queued)),
            job::outcome.eq(outcome.map(Stored)),
            job::message.eq(message),
            job::step.eq(""),
            job::not_before.eq(not_before),
            job::faults.eq(faults),
            job::leased_until.eq(None::<DateTime<Utc>>),
        ));
        one_row(query.execute(self.conn()?).await?)
    }

    /// Cancels a job that is not running, or whose lease is over.
    ///
    /// # Errors
    /// [`crate::StoreError::Conflict`] with `job_running` when it is under lease or has ended.
    pub async fn cancel_job(&mut self, id: Uuid, now: DateTime<Utc>, why: &str) -> Result<()> {
        let open = job::table.find(id).filter(
            job::state.eq(Stored(JobState::Queued)).or(job::state
                .eq(Stored(JobState::Running))
                .and(job::leased_until.le(now))),
        );
        let query = diesel::update(open).set((
            job::state.eq(Stored(JobState::Failed)),
            job::outcome.eq(Stored(JobOutcome::Cancelled)),
            job::message.eq(why),
            job::step.eq(""),
            job::finished_at.eq(now),
            job::fence.eq(job::fence + 1),
            job::leased_until.eq(None::<DateTime<Utc>>),
        ));
        if query.execute(self.conn()?).await? == 1 {
            Ok(())
        } else {
            Err(crate::StoreError::Conflict(crate::Conflict::JobRunning))
        }
    }

    /// Cancels the jobs of a device that wait.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn cancel_jobs_on(&mut self, on: Uuid, now: DateTime<Utc>, why: &str) -> Result<()> {
        let waiting: Vec<Uuid> = job::table
            .filter(job::device_id.eq(on))
            .filter(job::state.eq(Stored(JobState::Queued)))
            .select(job::id)
            .load(self.conn()?)
            .await?;
        for id in waiting {
            self.cancel_job(id, now, why).await?;
        }
        Ok(())
    }

    /// The waiting jobs of these accounts with their tasks, by account. They are locked until the
    /// transaction ends.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn waiting_jobs(&mut self, of: &[Uuid]) -> Result<HashMap<Uuid, (Uuid, Task)>> {
        let query = job::table
            .filter(job::account_id.eq_any(of))
            .filter(job::state.eq(Stored(JobState::Queued)))
            // All callers lock in one order, so there is no deadlock.
            .order(job::id)
            .select((job::account_id, job::id, job::task))
            .for_update();
        let rows: Vec<(Uuid, Uuid, Stored<Task>)> = query.load(self.conn()?).await?;
        let jobs = rows.into_iter().map(|(of, id, task)| (of, (id, task.0)));
        Ok(jobs.collect())
    }

    /// Lets a job that waits run now.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn hurry_job(&mut self, id: Uuid, now: DateTime<Utc>) -> Result<()> {
        diesel::update(job::table.find(id))
            .set(job::not_before.eq(now))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// A job with names.
    ///
    /// # Errors
    /// [`crate::StoreError::NotFound`].
    pub async fn job_view(
        &mut self,
        viewer: Uuid,
        now: DateTime<Utc>,
        id: Uuid,
    ) -> Result<JobView> {
        let (row, held): (JobRecord, Option<i16>) = job_view::table
            .find(id)
            .select((
                JobRecord::as_select(),
                level_on_folder(viewer, job_view::device_folder_id, now),
            ))
            .first(self.conn()?)
            .await?;
        Ok(JobView::new(row, held))
    }

    /// These jobs, as somebody sees them.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn job_views(
        &mut self,
        person: Uuid,
        now: DateTime<Utc>,
        ids: &[Uuid],
    ) -> Result<Vec<JobView>> {
        let query = job_view::table.filter(job_view::id.eq_any(ids)).select((
            JobRecord::as_select(),
            level_on_folder(person, job_view::device_folder_id, now),
        ));
        let rows: Vec<(JobRecord, Option<i16>)> = query.load(self.conn()?).await?;
        let views = rows.into_iter();
        Ok(views.map(|(row, held)| JobView::new(row, held)).collect())
    }

    /// Jobs on what somebody holds a level on, newest first.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn jobs(
        &mut self,
        person: Uuid,
        now: DateTime<Utc>,
        filter: &JobFilter,
    ) -> Result<Vec<JobView>> {
        let mut query = job_view::table
            .filter(level_on_credential(person, job_view::credential_id, now).is_not_null())
            .order((job_view::queued_at.desc(), job_view::id.desc()))
            .limit(filter.limit)
            .select((
                JobRecord::as_select(),
                level_on_folder(person, job_view::device_folder_id, now),
            ))
            .into_boxed();
        if let Some(credential) = filter.credential {
            query = query.filter(job_view::credential_id.eq(credential));
        }
        if let Some(state) = filter.state {
            query = query.filter(job_view::state.eq(Stored(state)));
        }
        if let Some((time, id)) = filter.before {
            let earlier = job_view::queued_at
                .lt(time)
                .or(job_view::queued_at.eq(time).and(job_view::id.lt(id)));
            query = query.filter(earlier);
        }
        let rows: Vec<(JobRecord, Option<i16>)> = query.load(self.conn()?).await?;
        Ok(rows
            .into_iter()
            .map(|(row, held)| JobView::new(row, held))
            .collect())
    }
}

//! The runners: each leases a job, performs it step by step, and writes down every step before the
//! next (promises 2 and 10). A runner that dies leaves a job whose lease runs out; whoever takes it
//! over asks the rotation machine where to begin.

use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use chrono::{DateTime, TimeDelta, Utc};
use jexlin_app::app::App;
use jexlin_app::error::{AppError, AppResult};
use jexlin_app::keyring::OpenKeys;
use jexlin_app::operators::device_facts;
use jexlin_core::audit::Event;
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::upkeep::ConnectorKind;
use jexlin_core::upkeep::JobOutcome;
use jexlin_core::upkeep::JobState;
use jexlin_core::upkeep::Task;
use jexlin_core::upkeep::account::Family;
use jexlin_core::upkeep::{DeviceFacts, Lease, NoPermit, back_off};
use jexlin_core::vault::kinds::PASSWORD;
use jexlin_core::words::Word as _;
use jexlin_devices::Connector;
use jexlin_store::{AccountRow, CredentialRow, DeviceRow, JobRow, LeasedJob, StoreError, Tx};
use tokio::sync::Semaphore;
use uuid::Uuid;

mod check;
mod listing;
mod opening;
mod rehearsal;
mod rotation;

/// How long a lease holds after each step. Longer than any step waits for a device.
const LEASE: TimeDelta = TimeDelta::seconds(60);

/// A job that the service itself could not carry out so often ends as failed.
const MOST_FAULTS: i32 = 5;
/// Nobody's jobs take more than so many places at a time.
const MOST_PER_ASKER: i64 = 6;

/// Leases jobs as long as there is a free place for one, and lets each run on its own.
pub(super) async fn forever(app: App) {
    let places = Arc::new(Semaphore::new(app.config.runners));
    loop {
        let Ok(place) = Arc::clone(&places).acquire_owned().await else {
            return;
        };
        match lease(&app).await {
            Some(Found::Job(runner)) => {
                let app = app.clone();
                tokio::spawn(async move {
                    runner.run().await;
                    // Another job of the same device may have waited for this one to end.
                    while run_one(&app).await {}
                    drop(place);
                });
                continue;
            }
            Some(Found::Closed) => continue,
            None => {}
        }
        drop(place);
        app.connectors.close_idle();
        jexlin_devices::jump_host::close_idle();
        // Other services queue too, and leases run out: look now and then without being woken.
        let _ = tokio::time::timeout(Duration::from_millis(700), app.wake.notified()).await;
    }
}

/// Leases one job and carries it out. Whether there was one.
pub async fn run_one(app: &App) -> bool {
    match lease(app).await {
        Some(Found::Job(runner)) => {
            runner.run().await;
            true
        }
        Some(Found::Closed) => true,
        None => false,
    }
}

/// What a look for a job found.
enum Found {
    Job(Box<Runner>),
    /// A job that cannot be carried out; it is closed.
    Closed,
}

/// The organisations take turns; one whose jobs cannot be read keeps no other waiting.
async fn lease(app: &App) -> Option<Found> {
    let all = super::organisations(app).await;
    let turn = app
        .turn
        .fetch_add(1, Ordering::Relaxed)
        .checked_rem(all.len())
        .unwrap_or(0);
    for organisation in all.iter().cycle().skip(turn).take(all.len()) {
        match lease_of(app, *organisation).await {
            Ok(None) => {}
            Ok(found) => return found,
            Err(fault) => tracing::warn!(%organisation, "no job can be taken: {}", fault.for_log()),
        }
    }
    None
}

async fn lease_of(app: &App, organisation: Uuid) -> AppResult<Option<Found>> {
    let keys = app.keyring.keys(&app.store, organisation).await?;
    let now = app.clock.now();
    let mut tx = app.store.begin(organisation).await?;
    let Some(LeasedJob { row, lease }) = tx
        .lease_job(now, now + LEASE, app.config.per_device, MOST_PER_ASKER)
        .await?
    else {
        tx.commit().await?;
        return Ok(None);
    };
    let close = if row.faults > MOST_FAULTS {
        Some("the service could not carry this out in several tries; its log says why")
    } else {
        None
    };
    // A credential or device that was removed meanwhile leaves nothing to do.
    let (Some(facts), None) = (tx.job_facts(&row).await?, close) else {
        let why = close.unwrap_or("the credential or its device was removed");
        tx.finish_job(&lease, JobState::Failed, JobOutcome::Refused, why, now)
            .await?;
        tx.commit().await?;
        return Ok(Some(Found::Closed));
    };
    let candidate = match row.task.0 {
        Task::Rotation => tx.candidate(row.credential_id, PASSWORD).await?,
        Task::Check | Task::Listing | Task::Rehearsal => None,
    };
    tx.commit().await?;
    Ok(Some(Found::Job(Box::new(Runner {
        app: app.clone(),
        keys,
        job: row,
        lease,
        account: facts.account,
        path: facts.path,
        credential: facts.credential,
        asked_by: facts.asked_by,
        device: facts.device.id,
        is_behind: facts.device.jump_host_id.is_some(),
        connector: facts.device.connector.0,
        device_name: facts.device.name,
        candidate,
        owes_forgiveness: false,
    }))))
}

struct Runner {
    app: App,
    keys: Arc<OpenKeys>,
    job: JobRow,
    lease: Lease,
    account: AccountRow,
    credential: CredentialRow,
    path: String,
    /// The display name of the person who added the job.
    asked_by: Option<String>,
    device: Uuid,
    /// Whether the device was behind a jump host when the job was leased.
    is_behind: bool,
    device_name: String,
    connector: ConnectorKind,
    /// The password of an earlier try of a rotation, and since when it is sent without an answer.
    candidate: Option<(i32, Option<DateTime<Utc>>)>,
    /// Whether a login has opened the account that still counts as failed.
    owes_forgiveness: bool,
}

/// Why a step ended.
enum Ended {
    /// Another worker has the job: nothing may be written any more.
    LeaseLost,
    /// The service itself failed.
    AppError(AppError),
}

type Step<T> = Result<T, Ended>;

impl From<AppError> for Ended {
    fn from(fault: AppError) -> Self {
        Self::AppError(fault)
    }
}

impl From<StoreError> for Ended {
    fn from(error: StoreError) -> Self {
        match error {
            StoreError::Stale => Self::LeaseLost,
            other => Self::AppError(other.into()),
        }
    }
}

impl From<jexlin_core::vault::SealProblem> for Ended {
    fn from(problem: jexlin_core::vault::SealProblem) -> Self {
        Self::AppError(problem.into())
    }
}

/// A message for a job that may not send a password now.
fn refusal(no: NoPermit) -> Step<String> {
    match no {
        NoPermit::LeaseOver => Err(Ended::LeaseLost),
        NoPermit::OtherBinding => Ok("no binding lets this password be sent to the device".into()),
        NoPermit::Suspended(why) => Ok(why.to_string()),
    }
}

impl Runner {
    async fn run(mut self: Box<Self>) {
        let ended = match self.job.task.0 {
            Task::Check => self.check().await,
            Task::Rotation => self.rotate().await,
            Task::Listing => self.list().await,
            Task::Rehearsal => self.rehearse().await,
        };
        match ended {
            Ok(()) => {}
            Err(Ended::LeaseLost) => {
                tracing::info!(job = %self.job.id, "another worker has the job")
            }
            Err(Ended::AppError(fault)) => {
                tracing::warn!(job = %self.job.id, "a job is tried again: {}", fault.for_log());
                if self.restore().await.is_err() {
                    // The database does not answer: the lease runs out, and the faults are counted
                    // then.
                    tracing::warn!(job = %self.job.id, "a job waits for the end of its lease");
                }
            }
        }
    }

    /// The service failed: later again, a bounded number of times.
    async fn restore(&self) -> Step<()> {
        let mut tx = self.begin().await?;
        self.forgive_in(&mut tx).await?;
        let message = "the service itself failed; it is tried again";
        tx.retry_job(
            &self.lease,
            None,
            message,
            self.now() + back_off(self.job.faults - 1),
            self.job.faults,
        )
        .await?;
        Ok(tx.commit().await?)
    }

    fn now(&self) -> DateTime<Utc> {
        self.app.clock.now()
    }

    async fn begin(&self) -> Step<Tx> {
        Ok(self.app.store.begin(self.credential.organisation).await?)
    }

    /// Begins a transaction in which nobody else can take the job; the lease holds on from now.
    async fn begin_held(&mut self, step: &str) -> Step<Tx> {
        let mut tx = self.begin().await?;
        self.lease = tx.hold_lease(&self.lease, step, self.now() + LEASE).await?;
        Ok(tx)
    }

    /// Ends a job that changes no password, with what came of it.
    async fn end_with(&mut self, mut event: Event, outcome: JobOutcome, message: &str) -> Step<()> {
        let mut tx = self.begin_held("ending").await?;
        let state = if outcome == JobOutcome::Done {
            JobState::Done
        } else {
            JobState::Failed
        };
        tx.finish_job(&self.lease, state, outcome, message, self.now())
            .await?;
        if state == JobState::Failed {
            event.outcome = jexlin_core::audit::Outcome::Failed;
        }
        event.detail.insert("message".into(), message.to_owned());
        tx.commit_with(&event, &self.keys.mac).await?;
        Ok(())
    }

    /// Whether the account is opened by an SSH key.
    fn is_key(&self) -> bool {
        self.account.family == Family::Key.word()
    }

    /// What reaches the job's device.
    fn connector(&self) -> AppResult<&dyn Connector> {
        self.app.connector(self.connector)
    }

    fn event(&self, action: Action) -> Event {
        let mut event = Event::new(
            Uuid::now_v7(),
            self.credential.organisation,
            self.now(),
            action,
        );
        event.target = self.credential.id.to_string();
        event.target_type = TargetType::Credential.word().into();
        event.target_name.clone_from(&self.path);
        event.detail.insert("job".into(), self.job.id.to_string());
        event
            .detail
            .insert("device".into(), self.device_name.clone());
        event
            .detail
            .insert("account".into(), self.account.login.clone());
        event
    }

    async fn device_row(&self, tx: &mut Tx) -> Step<DeviceRow> {
        let found = tx.device(self.device).await;
        Ok(found.map_err(|_| AppError::internal("the device of a job is gone"))?)
    }

    /// The device as it is now, as core decides about it.
    async fn device_facts(&self, tx: &mut Tx) -> Step<DeviceFacts> {
        let device = self.device_row(tx).await?;
        let (settings, _) = jexlin_app::settings::settings(tx).await?;
        Ok(device_facts(&self.app, tx, &device, &settings).await?)
    }
}

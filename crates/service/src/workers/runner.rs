//! The runners: each leases a job, performs it step by step, and writes down every step before the
//! next (promises 2 and 10). A runner that dies leaves a job whose lease runs out; whoever takes it
//! over asks the rotation machine where to begin.

use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use chrono::{DateTime, TimeDelta, Utc};
use jexlin_app::app::App;
use jexlin_app::assessment;
use jexlin_app::error::{AppError, AppResult};
use jexlin_app::failpoints;
use jexlin_app::jobs::queue;
use jexlin_app::keyring::OpenKeys;
use jexlin_app::operators::device_facts;
use jexlin_app::plans::parse_plan;
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::audit::{Event, Outcome};
use jexlin_core::policy::About;
use jexlin_core::upkeep::ChangeMethod;
use jexlin_core::upkeep::ConnectorKind;
use jexlin_core::upkeep::JobCause;
use jexlin_core::upkeep::JobOutcome;
use jexlin_core::upkeep::JobState;
use jexlin_core::upkeep::Task;
use jexlin_core::upkeep::rotation::{Heard, Next, Rotation, Stored, suspects};
use jexlin_core::upkeep::{
    Account, Binding, BoundLogin, CheckOutcome, DeviceFacts, Lease, NoPermit, Operator, RoleMark,
    RotationOutcome, back_off, budget_allows,
};
use jexlin_core::vault::ValueOrigin;
use jexlin_core::vault::VersionState;
use jexlin_core::vault::kinds::PASSWORD;
use jexlin_core::vault::{Place, Sealed, WrappedKey, open_for_device};
use jexlin_core::words::Word as _;
use jexlin_devices::{Change, Connector, MaySend, Met, Probe};
use jexlin_store::{
    AccountRow, CredentialRow, JobRow, LeasedJob, NewVersion, SealedVersion, Store, StoreError, Tx,
};
use tokio::sync::Semaphore;
use uuid::Uuid;

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
                    drop(place);
                    // Another job of the same device may have waited for this one to end.
                    app.wake.notify_one();
                });
                continue;
            }
            Some(Found::Closed) => continue,
            None => {}
        }
        drop(place);
        app.connectors.close_idle();
        // Other services queue too, and leases run out: look now and then without being woken.
        let _ = tokio::time::timeout(Duration::from_millis(700), app.wake.notified()).await;
    }
}

/// Leases and performs one job. Whether there was one.
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
    let found = (
        tx.credential(row.credential_id).await,
        tx.device(row.device_id).await,
        tx.account(row.account_id).await,
    );
    let (Ok(credential), Ok(device), Ok(account), None) = (found.0, found.1, found.2, close) else {
        let why = close.unwrap_or("the credential or its device was removed");
        tx.finish_job(&lease, JobState::Failed, JobOutcome::Refused, why, now)
            .await?;
        tx.commit().await?;
        return Ok(Some(Found::Closed));
    };
    let path = format!(
        "{}/{}",
        tx.path_of(credential.folder_id).await?,
        credential.name
    );
    tx.commit().await?;
    Ok(Some(Found::Job(Box::new(Runner {
        app: app.clone(),
        keys,
        job: row,
        lease,
        account,
        path,
        credential,
        device: device.id,
        connector: device.connector.0,
        device_name: device.name,
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
    device: Uuid,
    device_name: String,
    connector: ConnectorKind,
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

/// The account's passwords and the operator's, opened for one step.
struct Opened {
    account: Vec<BoundLogin<Account>>,
    operator: Option<BoundLogin<Operator>>,
}

impl Runner {
    async fn run(mut self: Box<Self>) {
        let ended = if self.job.task == Task::Check {
            self.check().await
        } else {
            self.rotate().await
        };
        match ended {
            Ok(()) => {}
            Err(Ended::LeaseLost) => {
                tracing::info!(job = %self.job.id, "another worker has the job")
            }
            Err(Ended::AppError(fault)) => {
                tracing::warn!(job = %self.job.id, "a job is tried again: {}", fault.for_log());
                if self.restore().await.is_err() {
                    // The database does not answer: the lease runs out, and the faults are counted then.
                    tracing::warn!(job = %self.job.id, "a job waits for the end of its lease");
                }
            }
        }
    }

    /// The service failed: later again, a bounded number of times.
    async fn restore(&self) -> Step<()> {
        let mut tx = self.begin().await?;
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

    /// The device as it is now, as core decides about it.
    async fn device_facts(&self, tx: &mut Tx) -> Step<DeviceFacts> {
        let device = tx
            .device(self.device)
            .await
            .map_err(|_| AppError::internal("the device of a job is gone"))?;
        let (settings, _) = jexlin_app::settings::settings(tx).await?;
        Ok(device_facts(&self.app, &device, &settings)?)
    }

    /// Notes the step, records on each credential that its password leaves the vault for the device,
    /// and opens them; the versions of the account's password by their numbers, none for the current
    /// one. A binding that does not count opens nothing, and says why.
    async fn open(
        &mut self,
        step: &str,
        versions: &[Option<i32>],
        with_operator: bool,
    ) -> Step<Result<Opened, String>> {
        let mut tx = self.begin_held(step).await?;
        let facts = self.device_facts(&mut tx).await?;
        let now = self.now();
        let Some(own) = tx
            .binding_of_account(self.device, self.credential.id)
            .await?
        else {
            return Ok(Err(
                "no binding lets this password be sent to the device".into()
            ));
        };
        let account_permit = match self.lease.permit::<Account>(&own.binding, &facts, now) {
            Ok(permit) => permit,
            Err(no) => return refusal(no).map(Err),
        };
        let mut withheld = vec![];
        for number in versions {
            withheld.push(
                tx.sealed_for_job(self.credential.id, PASSWORD, *number)
                    .await?,
            );
        }
        let mut operator = None;
        if with_operator {
            let Some(binding) = tx.operator_of(self.device).await? else {
                return Ok(Err("the device has no operator".into()));
            };
            let permit = match self.lease.permit::<Operator>(&binding.binding, &facts, now) {
                Ok(permit) => permit,
                Err(no) => return refusal(no).map(Err),
            };
            let credential = binding.binding.stored().credential;
            let sealed = tx.sealed_for_job(credential, PASSWORD, None).await?;
            self.record_operator(&mut tx, &binding.binding, step)
                .await?;
            operator = Some((permit, binding.login, sealed));
        }
        let mut event = self.event(Action::UpkeepSignIn);
        event.detail.insert("step".into(), step.to_owned());
        event.detail.insert("as".into(), "account".into());
        let receipt = tx.commit_with(&event, &self.keys.mac).await?;
        let mut account = vec![];
        for sealed in withheld {
            account.push(self.open_version(
                &account_permit,
                &self.account.login,
                sealed.after(&receipt)?,
            )?);
        }
        let operator = match operator {
            Some((permit, login, sealed)) => {
                Some(self.open_version(&permit, &login, sealed.after(&receipt)?)?)
            }
            None => None,
        };
        Ok(Ok(Opened { account, operator }))
    }

    /// The use of an operator is an event on the operator's own credential.
    async fn record_operator(&self, tx: &mut Tx, binding: &Binding, step: &str) -> Step<()> {
        let credential = binding.stored().credential;
        let asked_by = match self.job.asked_by {
            Some(person) => tx
                .person(person)
                .await
                .ok()
                .map(|person| person.display_name),
            None => None,
        };
        let mut event = self.event(Action::UpkeepSignIn);
        event.target = credential.to_string();
        event.target_name = tx
            .name_for_event(TargetType::Credential, credential)
            .await?
            .unwrap_or_default();
        event.detail.insert("step".into(), step.to_owned());
        event.detail.insert("as".into(), "operator".into());
        event.detail.insert("for".into(), self.path.clone());
        event.detail.insert(
            "asked_by".into(),
            asked_by.unwrap_or_else(|| self.job.cause.0.word().to_owned()),
        );
        Ok(tx.record(&event, &self.keys.mac).await?)
    }

    fn open_version<R: RoleMark>(
        &self,
        permit: &jexlin_core::upkeep::SendPermit<R>,
        login: &str,
        sealed: SealedVersion,
    ) -> Step<BoundLogin<R>> {
        let place = Place {
            organisation: self.credential.organisation,
            credential: sealed.credential,
            field: PASSWORD,
            version: sealed.number,
        };
        Ok(open_for_device(
            permit,
            login,
            &self.keys.key,
            &WrappedKey(sealed.data_key),
            &place,
            &Sealed(sealed.sealed),
        )?)
    }

    /// Notes the identity that was met at first contact, where the organisation trusts it.
    async fn note_identity<T>(&mut self, first: bool, met: Met<T>) -> Step<T> {
        if let (true, Some(presented)) = (first, &met.presented) {
            let mut tx = self.begin().await?;
            if tx.note_first_identity(self.device, &presented.key).await? {
                let mut event = self.event(Action::DeviceTrustFirstContact);
                event.target = self.device.to_string();
                event.target_type = TargetType::Device.word().into();
                event.target_name.clone_from(&self.device_name);
                event.detail.insert(
                    "identity".into(),
                    jexlin_core::upkeep::identity::fingerprint_of(&presented.key),
                );
                tx.record(&event, &self.keys.mac).await?;
            }
            tx.commit().await?;
        }
        Ok(met.result)
    }

    /// Whether one more login to an account may be tried. It counts as failed from now on, until
    /// [`Runner::login_opened`] says otherwise: logins tried at the same moment all count.
    async fn spend_login(&mut self, account: Uuid) -> Step<bool> {
        let now = self.now();
        let mut tx = self.begin_held("looking at the lockout budget").await?;
        let failures = tx.failed_logins(account, now - TimeDelta::hours(1)).await?;
        let allowed = budget_allows(&failures, now);
        if allowed {
            tx.note_failed_login(account, now).await?;
        }
        tx.commit().await?;
        Ok(allowed)
    }

    /// The login opened, or never reached the device: it does not count.
    async fn forgive_login(&self, account: Uuid) -> Step<()> {
        let mut tx = self.begin().await?;
        tx.forgive_login(account).await?;
        Ok(tx.commit().await?)
    }

    /// Logs in afresh with a version of the password, within the budget of failed logins.
    async fn probe(&mut self, step: &str, version: Option<i32>) -> Step<Probed> {
        if !self.spend_login(self.account.id).await? {
            return Ok(Probed::NoBudget);
        }
        let opened = match self.open(step, &[version], false).await? {
            Ok(opened) => opened,
            Err(why) => {
                self.forgive_login(self.account.id).await?;
                return Ok(Probed::NoAnswer(why));
            }
        };
        let Some(login) = opened.account.first() else {
            return Err(AppError::internal("nothing was opened").into());
        };
        let met = self.connector()?.check(login).await;
        let probe = self
            .note_identity(login.trusts_first_contact(), met)
            .await?;
        Ok(match probe {
            Probe::Closed => Probed::Closed,
            Probe::Opened => {
                self.forgive_login(self.account.id).await?;
                Probed::Opened
            }
            Probe::NoAnswer(why) => {
                self.forgive_login(self.account.id).await?;
                Probed::NoAnswer(why)
            }
        })
    }

    async fn check(&mut self) -> Step<()> {
        let probe = self
            .probe("signing in with the stored password", None)
            .await?;
        let mut adopted = None;
        if matches!(probe, Probed::Closed) {
            adopted = self.try_suspects().await?;
        }
        let (outcome, message) = match probe {
            Probed::Opened => (CheckOutcome::InSync, String::new()),
            Probed::Closed if adopted.is_some() => {
                (CheckOutcome::InSync, "the device has another stored password, whose change was never answered; it is the current one now".to_owned())
            }
            Probed::Closed => (CheckOutcome::OutOfSync, "the device answered, and the stored password does not open the account".to_owned()),
            Probed::NoBudget => (CheckOutcome::LockedOut, NO_BUDGET.to_owned()),
            Probed::NoAnswer(why) => (CheckOutcome::Unreachable, why),
        };
        let now = self.now();
        let mut tx = self.begin_held("writing down what was found").await?;
        if let Some(number) = adopted {
            tx.credential_locked(self.credential.id).await?;
            tx.promote_version(self.credential.id, PASSWORD, number)
                .await?;
            tx.judge_again(self.credential.id).await?;
        }
        let state = if outcome == CheckOutcome::InSync {
            JobState::Done
        } else {
            JobState::Failed
        };
        tx.finish_job(&self.lease, state, outcome.into(), &message, now)
            .await?;
        tx.note_check(self.account.id, now, outcome).await?;
        let follows = match tx.plan_of(self.account.id).await? {
            Some(row) => {
                outcome == CheckOutcome::OutOfSync
                    && tx.operator_of(self.device).await?.is_some()
                    && parse_plan(&row).is_ok_and(|plan| plan.out_of_sync.rotates())
            }
            None => false,
        };
        if follows {
            queue(
                &mut tx,
                &self.account,
                Task::Rotation,
                JobCause::OutOfSync,
                now,
            )
            .await?;
        }
        let mut event = self.event(Action::UpkeepChecked);
        event.outcome = if outcome == CheckOutcome::InSync {
            Outcome::Done
        } else {
            Outcome::Failed
        };
        event.detail.insert("found".into(), outcome.word().into());
        if let Some(number) = adopted {
            event
                .detail
                .insert("adopted_version".into(), number.to_string());
        }
        if !message.is_empty() {
            event.detail.insert("message".into(), message);
        }
        tx.commit_with(&event, &self.keys.mac).await?;
        if follows {
            self.app.wake.notify_one();
        }
        Ok(())
    }

    /// The current password does not open the account: tries the stored ones that were sent without
    /// an answer, within the budget. The number of the one that opens it.
    async fn try_suspects(&mut self) -> Step<Option<i32>> {
        let mut tx = self.begin().await?;
        let unanswered = tx.unanswered_versions(self.credential.id, PASSWORD).await?;
        tx.commit().await?;
        for number in suspects(unanswered, self.now()) {
            match self
                .probe(
                    "signing in with a password whose change was never answered",
                    Some(number),
                )
                .await?
            {
                Probed::Opened => return Ok(Some(number)),
                Probed::Closed => {}
                Probed::NoBudget | Probed::NoAnswer(_) => return Ok(None),
            }
        }
        Ok(None)
    }

    async fn rotate(&mut self) -> Step<()> {
        let mut tx = self.begin().await?;
        let kept = tx.candidate(self.credential.id, PASSWORD).await?;
        tx.commit().await?;
        let stored = match kept {
            None => Stored::Nothing,
            Some((_, None)) => Stored::Candidate,
            Some((_, Some(since))) => Stored::Unanswered(since),
        };
        let mut candidate = kept.map_or(0, |(number, _)| number);
        let mut rotation = Rotation::begin(stored, self.now());
        let mut message = String::new();
        loop {
            let heard = match rotation.next() {
                Next::Make => {
                    candidate = self.make().await?;
                    Heard::Kept
                }
                Next::Apply => {
                    self.apply(candidate, kept.and_then(|(_, since)| since), &mut message)
                        .await?
                }
                Next::TryCandidate => {
                    failpoints::point("before-verify").await;
                    let probe = self
                        .probe("signing in with the new password", Some(candidate))
                        .await?;
                    failpoints::point("after-verify").await;
                    probe.heard(&mut message)
                }
                Next::TryCurrent => self
                    .probe("signing in with the former password", None)
                    .await?
                    .heard(&mut message),
                Next::Promote => return self.promote(candidate, rotation.is_unanswered()).await,
                Next::Discard { why, outcome } => {
                    return self
                        .discard(
                            candidate,
                            rotation.is_unanswered(),
                            if why.is_empty() { message } else { why },
                            outcome,
                        )
                        .await;
                }
                Next::KeepBoth => return self.keep_both(&message).await,
                Next::Stop { outcome } => return self.stop(&message, outcome).await,
            };
            rotation = rotation.heard(heard);
        }
    }

    /// Generates a candidate and makes it durable with its event, before anything is tried. Its number.
    async fn make(&mut self) -> Step<i32> {
        failpoints::point("before-candidate").await;
        let (organisation, credential) = (self.credential.organisation, self.credential.id);
        let mut tx = self.begin_held("making a new password").await?;
        let now = self.now();
        let row = tx.credential_locked(credential).await?;
        let planned = tx
            .plan_of(self.account.id)
            .await?
            .and_then(|plan| plan.policy_id);
        let rules = assessment::rule_for_rotation(&mut tx, row.folder_id, planned)
            .await?
            .policy;
        let mut rng = self.app.rng()?;
        let about = About {
            user_name: &self.account.login,
            used_ago: None,
        };
        let password = rules
            .generate(&mut rng, about)
            .map_err(|problem| AppError::internal(problem.to_string()))?;
        let number = tx.next_number(credential, PASSWORD).await?;
        let data_key =
            self.keys
                .key
                .unwrap_data_key(organisation, credential, &WrappedKey(row.data_key))?;
        let sealed = data_key.seal(
            &mut rng,
            &Place {
                organisation,
                credential,
                field: PASSWORD,
                version: number,
            },
            &password,
        )?;
        let new = NewVersion {
            credential,
            field: PASSWORD,
            number,
            state: VersionState::Candidate,
            sealed: &sealed.0,
            now,
            by: None,
            how: ValueOrigin::Rotated,
            why: "",
            facts: serde_json::json!({}),
        };
        tx.add_version(&new).await?;
        let mut event = self.event(Action::UpkeepCandidate);
        event.detail.insert("version".into(), number.to_string());
        tx.commit_with(&event, &self.keys.mac).await?;
        failpoints::point("after-candidate").await;
        Ok(number)
    }

    /// Asks, immediately before the candidate is sent, whether the lease still holds, and marks the
    /// candidate as sent without an answer.
    async fn may_send(
        store: Store,
        organisation: Uuid,
        lease: Lease,
        credential: Uuid,
        candidate: i32,
        since: DateTime<Utc>,
        now: DateTime<Utc>,
    ) -> bool {
        let marked = async {
            let mut tx = store.begin(organisation).await?;
            tx.hold_lease(&lease, "changing the password on the device", now + LEASE)
                .await?;
            tx.mark_unanswered(credential, PASSWORD, candidate, Some(since))
                .await?;
            tx.commit().await
        };
        match marked.await {
            Ok(()) => true,
            Err(error) => {
                tracing::info!("a new password was not sent: {error}");
                false
            }
        }
    }

    async fn apply(
        &mut self,
        candidate: i32,
        unanswered: Option<DateTime<Utc>>,
        message: &mut String,
    ) -> Step<Heard> {
        let as_itself = self.job.method == ChangeMethod::Own;
        let versions: &[Option<i32>] = if as_itself {
            &[Some(candidate), None]
        } else {
            &[Some(candidate)]
        };
        let opened = match self
            .open("changing the password on the device", versions, !as_itself)
            .await?
        {
            Ok(opened) => opened,
            Err(why) => {
                *message = why;
                return Ok(Heard::NotReached);
            }
        };
        failpoints::point("before-apply").await;
        let Some(new) = opened.account.first() else {
            return Err(AppError::internal("nothing was opened").into());
        };
        let now = self.now();
        // A sending is answered when the rotation ends; an earlier one keeps its time.
        let since = unanswered.unwrap_or(now);
        let (store, organisation, lease, credential) = (
            self.app.store.clone(),
            self.credential.organisation,
            self.lease.clone(),
            self.credential.id,
        );
        let may_send: MaySend<'_> = Box::new(move || {
            Box::pin(Self::may_send(
                store,
                organisation,
                lease,
                credential,
                candidate,
                since,
                now,
            ))
        });
        let met = match (opened.account.get(1), &opened.operator) {
            (Some(current), None) => {
                // The sign-in with the current password counts like any other.
                if !self.spend_login(self.account.id).await? {
                    NO_BUDGET.clone_into(message);
                    return Ok(Heard::NotReached);
                }
                let met = self
                    .connector()?
                    .change_as_itself(current, new, may_send)
                    .await;
                if met.result != Change::AccountRefused {
                    self.forgive_login(self.account.id).await?;
                }
                met
            }
            (None, Some(operator)) => {
                self.change_as_operator(operator, new, may_send, message)
                    .await?
            }
            _ => {
                return Err(AppError::internal(
                    "the passwords of a rotation were not opened as expected",
                )
                .into());
            }
        };
        failpoints::point("after-apply").await;
        let heard = match self.note_identity(new.trusts_first_contact(), met).await? {
            Change::Applied => Heard::Applied,
            Change::Refused(why) => Heard::Refused(why),
            Change::LeaseLost => return Err(Ended::LeaseLost),
            Change::NotReached(why) => {
                *message = why;
                Heard::NotReached
            }
            Change::Lost(why) => {
                *message = why;
                Heard::Lost
            }
            Change::AccountRefused => {
                "the stored password does not open the account".clone_into(message);
                Heard::NotReached
            }
            Change::OperatorRefused => {
                OPERATOR_REFUSED.clone_into(message);
                Heard::NotReached
            }
        };
        Ok(heard)
    }

    /// The operator's sign-ins count for its own account on the device; a device that refuses its
    /// operator is left alone until a steward looks at it.
    async fn change_as_operator(
        &mut self,
        operator: &BoundLogin<Operator>,
        new: &BoundLogin<Account>,
        may_send: MaySend<'_>,
        message: &mut String,
    ) -> Step<Met<Change>> {
        // One signs in, and those that come meanwhile wait for its connection: each sign-in counts until
        // it has succeeded, and a few at once would be taken for failures.
        let turn = self.app.sign_ins.on(self.device);
        let _signing_in = if self.connector()?.has_operator(operator) {
            None
        } else if let Ok(first) = turn.clone().try_lock_owned() {
            Some(first)
        } else {
            drop(turn.lock().await);
            None
        };
        let signs_in = !self.connector()?.has_operator(operator);
        let mut tx = self.begin().await?;
        let device = tx.device(self.device).await?;
        let account = tx
            .ensure_account(&device, operator.login(), self.now())
            .await?
            .id;
        tx.commit().await?;
        if signs_in && !self.spend_login(account).await? {
            NO_BUDGET.clone_into(message);
            return Ok(Met {
                result: Change::NotReached(
                    "the operator's sign-ins failed too often within the last hour".into(),
                ),
                presented: None,
            });
        }
        let met = self
            .connector()?
            .change_as_operator(operator, new, may_send)
            .await;
        if met.result != Change::OperatorRefused {
            if signs_in {
                self.forgive_login(account).await?;
            }
            return Ok(met);
        }
        let mut tx = self.begin().await?;
        if tx
            .pause_device(self.device, self.now(), OPERATOR_REFUSED)
            .await?
        {
            let mut event = self.event(Action::DevicePause);
            event.target = self.device.to_string();
            event.target_type = TargetType::Device.word().into();
            event.target_name.clone_from(&self.device_name);
            event.outcome = Outcome::Failed;
            event
                .detail
                .insert("message".into(), OPERATOR_REFUSED.into());
            tx.commit_with(&event, &self.keys.mac).await?;
        } else {
            tx.commit().await?;
        }
        Ok(met)
    }

    async fn promote(&mut self, candidate: i32, unanswered: bool) -> Step<()> {
        failpoints::point("before-promote").await;
        let mut tx = self.begin_held("keeping the new password").await?;
        let now = self.now();
        // Whoever sets a value holds the credential first.
        tx.credential_locked(self.credential.id).await?;
        tx.promote_version(self.credential.id, PASSWORD, candidate)
            .await?;
        if !unanswered {
            tx.mark_unanswered(self.credential.id, PASSWORD, candidate, None)
                .await?;
        }
        tx.judge_again(self.credential.id).await?;
        let outcome = RotationOutcome::Done;
        tx.finish_job(&self.lease, JobState::Done, outcome.into(), "", now)
            .await?;
        tx.note_rotation(self.account.id, now, outcome).await?;
        tx.commit_with(&self.rotated(outcome, ""), &self.keys.mac)
            .await?;
        failpoints::point("after-promote").await;
        Ok(())
    }

    async fn discard(
        &mut self,
        candidate: i32,
        unanswered: bool,
        why: String,
        outcome: RotationOutcome,
    ) -> Step<()> {
        let mut tx = self.begin_held("discarding the new password").await?;
        let now = self.now();
        tx.discard_candidate(self.credential.id, PASSWORD).await?;
        if !unanswered {
            tx.mark_unanswered(self.credential.id, PASSWORD, candidate, None)
                .await?;
        }
        let why = if why.is_empty() {
            "the device still has the former password; nothing was changed".to_owned()
        } else {
            why
        };
        tx.finish_job(&self.lease, JobState::Failed, outcome.into(), &why, now)
            .await?;
        tx.note_rotation(self.account.id, now, outcome).await?;
        tx.commit_with(&self.rotated(outcome, &why), &self.keys.mac)
            .await?;
        Ok(())
    }

    async fn keep_both(&mut self, message: &str) -> Step<()> {
        let outcome = RotationOutcome::InDoubt;
        let message = format!(
            "it is not known which password the device has; both are kept, and it is tried again: {message}"
        );
        let mut tx = self.begin_held("keeping both passwords").await?;
        let now = self.now();
        tx.retry_job(
            &self.lease,
            Some(outcome.into()),
            &message,
            now + back_off(self.job.attempts - 1),
            0,
        )
        .await?;
        tx.note_rotation(self.account.id, now, outcome).await?;
        tx.commit_with(&self.rotated(outcome, &message), &self.keys.mac)
            .await?;
        Ok(())
    }

    async fn stop(&mut self, message: &str, outcome: RotationOutcome) -> Step<()> {
        let mut tx = self.begin_held("stopping").await?;
        let now = self.now();
        tx.finish_job(&self.lease, JobState::Failed, outcome.into(), message, now)
            .await?;
        tx.note_rotation(self.account.id, now, outcome).await?;
        tx.commit_with(&self.rotated(outcome, message), &self.keys.mac)
            .await?;
        Ok(())
    }

    fn rotated(&self, outcome: RotationOutcome, message: &str) -> Event {
        let mut event = self.event(Action::UpkeepRotated);
        event.outcome = match outcome {
            RotationOutcome::Done => Outcome::Done,
            RotationOutcome::Refused => Outcome::Refused,
            RotationOutcome::InDoubt | RotationOutcome::Unreachable => Outcome::Failed,
        };
        event.detail.insert("outcome".into(), outcome.word().into());
        event
            .detail
            .insert("method".into(), self.job.method.0.word().to_owned());
        event
            .detail
            .insert("cause".into(), self.job.cause.0.word().to_owned());
        if !message.is_empty() {
            event.detail.insert("message".into(), message.to_owned());
        }
        event
    }
}

/// What a login within the budget showed.
enum Probed {
    Opened,
    Closed,
    /// One more login that fails could lock the account.
    NoBudget,
    NoAnswer(String),
}

const NO_BUDGET: &str =
    "too many logins failed within the last hour; one more could lock the account";
const OPERATOR_REFUSED: &str =
    "the device does not take its operator's password; it is paused until a steward resumes it";

impl Probed {
    fn heard(self, message: &mut String) -> Heard {
        match self {
            Self::Opened => Heard::Opened,
            Self::Closed => Heard::Closed,
            Self::NoBudget => {
                NO_BUDGET.clone_into(message);
                Heard::NoAnswer
            }
            Self::NoAnswer(why) => {
                *message = why;
                Heard::NoAnswer
            }
        }
    }
}

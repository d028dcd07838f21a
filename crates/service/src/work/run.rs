//! The runners: each leases a job, performs it step by step, and writes down every step before the
//! next (promises 2 and 10). A runner that dies leaves a job whose lease runs out; whoever takes it
//! over asks the rotation machine where to begin.

use std::sync::Arc;
use std::time::Duration;

use chrono::{DateTime, TimeDelta, Utc};
use jexlin_core::audit::{Event, Outcome};
use jexlin_core::policy::About;
use jexlin_core::secret::Secret;
use jexlin_core::upkeep::rotation::{Heard, Next, Rotation};
use jexlin_core::upkeep::{BUDGET_PER_HOUR, CheckOutcome, RotationOutcome, back_off, budget_allows};
use jexlin_core::vault::kinds::PASSWORD;
use jexlin_core::vault::{Pass, Place, Sealed, WrappedKey, open};
use jexlin_devices::ssh::SignIn;
use jexlin_devices::{Change, Endpoint, Met, Probe};
use jexlin_store::{CredentialRow, LeasedJob, NewVersion, SealedVersion, Tx};
use tokio::sync::Semaphore;
use uuid::Uuid;

use super::queue;
use crate::app::App;
use crate::fault;
use crate::judging;
use crate::keyring::OpenKeys;
use crate::problem::{Answer, Fault};
use crate::routes::parse_plan;

/// How long a lease holds after each step. Longer than any step waits for a device.
const LEASE: TimeDelta = TimeDelta::seconds(60);

/// Leases jobs as long as there is a free place for one, and lets each run on its own.
pub(super) async fn forever(app: App) {
    let places = Arc::new(Semaphore::new(app.config.runners));
    loop {
        let Ok(place) = Arc::clone(&places).acquire_owned().await else { return };
        match lease(&app).await {
            Ok(Found::Job(runner)) => {
                let app = app.clone();
                tokio::spawn(async move {
                    if let Err(fault) = runner.run().await {
                        tracing::warn!("a job was left for later: {}", fault.detail());
                    }
                    drop(place);
                    // Another job of the same device may have waited for this one to end.
                    app.wake.notify_one();
                });
                continue;
            }
            Ok(Found::Gone) => continue,
            Ok(Found::Nothing) => {}
            Err(fault) => {
                tracing::warn!("no job can be taken: {}", fault.detail());
                tokio::time::sleep(Duration::from_secs(1)).await;
            }
        }
        drop(place);
        // Other services queue too, and leases run out: look now and then without being woken.
        let _ = tokio::time::timeout(Duration::from_millis(700), app.wake.notified()).await;
    }
}

/// Leases and performs one job. Whether there was one.
///
/// # Errors
/// [`Fault`]; the job stays leased and is taken over when the lease is over.
pub async fn run_one(app: &App) -> Answer<bool> {
    match lease(app).await? {
        Found::Job(runner) => runner.run().await.map(|()| true),
        Found::Gone => Ok(true),
        Found::Nothing => Ok(false),
    }
}

/// What a look for a job found.
enum Found {
    Job(Box<Runner>),
    /// A job whose credential or device is gone; it is closed.
    Gone,
    Nothing,
}

async fn lease(app: &App) -> Answer<Found> {
    for organisation in super::organisations(app).await {
        let keys = app.keyring.keys(&app.store, organisation).await?;
        let now = app.clock.now();
        let mut tx = app.store.begin(organisation).await?;
        let Some(job) = tx.lease_job(app.worker, now, now + LEASE, app.config.per_device).await? else {
            tx.commit().await?;
            continue;
        };
        // A credential or device that was removed meanwhile leaves nothing to do.
        let (credential, device) = match (tx.credential(job.row.credential_id).await, tx.device(job.row.device_id).await) {
            (Ok(credential), Ok(device)) => (credential, device),
            _ => {
                tx.finish_job(job.row.id, app.worker, "failed", "refused", "the credential or its device was removed", now).await?;
                tx.commit().await?;
                return Ok(Found::Gone);
            }
        };
        let operator = match job.lease.operator {
            // One that is gone lets the job fail in words, instead of being met again and again.
            Some(id) => tx.credential(id).await.ok(),
            None => None,
        };
        let path = format!("{}/{}", tx.path_of(credential.folder_id).await?, credential.name);
        tx.commit().await?;
        let endpoint = Endpoint { address: device.address.clone(), port: u16::try_from(device.port).unwrap_or(0), host_key: device.host_key.clone() };
        let user = user_of(&credential);
        return Ok(Found::Job(Box::new(Runner {
            app: app.clone(),
            keys,
            job,
            user,
            path,
            credential,
            operator,
            device: device.id,
            device_name: device.name,
            endpoint,
        })));
    }
    Ok(Found::Nothing)
}

fn user_of(row: &CredentialRow) -> String {
    row.fields.get("user_name").and_then(serde_json::Value::as_str).unwrap_or_default().to_owned()
}

struct Runner {
    app: App,
    keys: Arc<OpenKeys>,
    job: LeasedJob,
    credential: CredentialRow,
    operator: Option<CredentialRow>,
    user: String,
    path: String,
    device: Uuid,
    device_name: String,
    endpoint: Endpoint,
}

/// An opened password and the number of its version.
struct Opened {
    secret: Secret,
    version: i32,
}

impl Runner {
    async fn run(mut self: Box<Self>) -> Answer<()> {
        if self.job.row.task == "check" { self.check().await } else { self.rotate().await }
    }

    fn now(&self) -> DateTime<Utc> {
        self.app.clock.now()
    }

    async fn begin(&self) -> Answer<Tx> {
        Ok(self.app.store.begin(self.credential.organisation).await?)
    }

    fn event(&self, action: &str) -> Event {
        let mut event = Event::new(Uuid::now_v7(), self.credential.organisation, self.now(), action);
        event.target = self.credential.id.to_string();
        event.target_kind = "credential".into();
        event.target_name.clone_from(&self.path);
        event.detail.insert("job".into(), self.job.row.id.to_string());
        event.detail.insert("device".into(), self.device_name.clone());
        event
    }

    /// Notes the step, records that a password leaves the vault for the device, and opens it.
    async fn open(&mut self, step: &str, states: &[&str], with_operator: bool) -> Answer<(Vec<Opened>, Option<Opened>)> {
        let now = self.now();
        let mut tx = self.begin().await?;
        tx.job_step(self.job.row.id, self.app.worker, step, now + LEASE).await?;
        self.job.lease.until = now + LEASE;
        let mut withheld = vec![];
        for state in states {
            withheld.push(tx.sealed_by_state(self.credential.id, PASSWORD, state).await?);
        }
        let operator = match (&self.operator, with_operator) {
            (Some(row), true) => Some(tx.sealed_by_state(row.id, PASSWORD, "current").await?),
            _ => None,
        };
        let mut event = self.event("upkeep.sign-in");
        event.detail.insert("step".into(), step.to_owned());
        event.detail.insert("with".into(), states.iter().chain(operator.is_some().then_some(&"operator")).copied().collect::<Vec<_>>().join(", "));
        let receipt = tx.commit_with(&event, &self.keys.mac).await?;
        let lease_over = |_| Fault::internal("the lease of a job is over");
        let mut opened = vec![];
        for sealed in withheld {
            let pass = self.job.lease.pass(self.now()).map_err(lease_over)?;
            opened.push(self.open_version(&pass, sealed.after(&receipt)?)?);
        }
        let operator = match operator {
            Some(sealed) => Some(self.open_version(&self.job.lease.operator_pass(self.now()).map_err(lease_over)?, sealed.after(&receipt)?)?),
            None => None,
        };
        Ok((opened, operator))
    }

    fn open_version(&self, pass: &impl Pass, sealed: SealedVersion) -> Answer<Opened> {
        let place = Place { organisation: self.credential.organisation, credential: sealed.credential, field: PASSWORD, version: sealed.number };
        let secret = open(pass, &self.keys.key, &WrappedKey(sealed.data_key), &place, &Sealed(sealed.sealed))?;
        Ok(Opened { secret, version: sealed.number })
    }

    /// Pins the host key at first contact.
    async fn pin<T>(&mut self, met: Met<T>) -> Answer<T> {
        if let (None, Some(key)) = (&self.endpoint.host_key, &met.host_key) {
            let mut tx = self.begin().await?;
            if tx.pin_host_key(self.device, key).await? {
                let mut event = self.event("device.pin-host-key");
                event.target = self.device.to_string();
                event.target_kind = "device".into();
                event.target_name.clone_from(&self.device_name);
                event.detail.insert("host_key".into(), key.clone());
                tx.record(&event, &self.keys.mac).await?;
            }
            tx.commit().await?;
            self.endpoint.host_key = Some(key.clone());
        }
        Ok(met.what)
    }

    /// Logs in afresh with the password of a state, within the budget of failed logins.
    async fn probe(&mut self, step: &str, state: &str) -> Answer<Probe> {
        let now = self.now();
        let mut tx = self.begin().await?;
        let failures = tx.failed_logins(self.credential.id, now - TimeDelta::hours(1)).await?;
        tx.commit().await?;
        if !budget_allows(&failures, now) {
            return Ok(Probe::NoAnswer(format!("{BUDGET_PER_HOUR} logins failed within the last hour; one more could lock the account")));
        }
        let (opened, _) = self.open(step, &[state], false).await?;
        let Some(opened) = opened.first() else { return Err(Fault::internal("nothing was opened")) };
        let met = self.app.ssh.probe(&self.endpoint, SignIn { user: &self.user, password: &opened.secret, version: opened.version }).await;
        let probe = self.pin(met).await?;
        if probe == Probe::Closed {
            let mut tx = self.begin().await?;
            tx.note_failed_login(self.credential.id, now).await?;
            tx.commit().await?;
        }
        Ok(probe)
    }

    async fn check(&mut self) -> Answer<()> {
        let probe = self.probe("signing in with the stored password", "current").await?;
        let (outcome, message) = match probe {
            Probe::Opened => (CheckOutcome::InStep, String::new()),
            Probe::Closed => (CheckOutcome::OutOfStep, "the device answered, and the stored password does not open the account".to_owned()),
            Probe::NoAnswer(why) if why.contains("could lock the account") => (CheckOutcome::LockedOut, why),
            Probe::NoAnswer(why) => (CheckOutcome::Unreachable, why),
        };
        let now = self.now();
        let mut tx = self.begin().await?;
        let state = if outcome == CheckOutcome::InStep { "done" } else { "failed" };
        tx.finish_job(self.job.row.id, self.app.worker, state, outcome.word(), &message, now).await?;
        tx.note_check(self.credential.id, now, outcome.word()).await?;
        let follows = match tx.plan_of(self.credential.id).await? {
            Some(row) => outcome == CheckOutcome::OutOfStep && self.operator.is_some() && parse_plan(&row).is_ok_and(|plan| plan.out_of_step.rotates()),
            None => false,
        };
        if follows {
            queue(&mut tx, self.credential.id, self.device, "rotation", "out-of-step", now).await?;
        }
        let mut event = self.event("upkeep.checked");
        event.outcome = if outcome == CheckOutcome::InStep { Outcome::Done } else { Outcome::Failed };
        event.detail.insert("found".into(), outcome.word().into());
        if !message.is_empty() {
            event.detail.insert("message".into(), message);
        }
        tx.commit_with(&event, &self.keys.mac).await?;
        if follows {
            self.app.wake.notify_one();
        }
        Ok(())
    }

    async fn rotate(&mut self) -> Answer<()> {
        let mut tx = self.begin().await?;
        let kept = tx.has_candidate(self.credential.id).await?;
        tx.commit().await?;
        let mut rotation = Rotation::begin(kept);
        let mut message = String::new();
        loop {
            let heard = match rotation.next() {
                Next::Make => self.make().await?,
                Next::Apply => self.apply(&mut message).await?,
                Next::TryCandidate => {
                    fault::point("before-verify").await;
                    let probe = self.probe("signing in with the new password", "candidate").await?;
                    fault::point("after-verify").await;
                    heard(probe, &mut message)
                }
                Next::TryCurrent => heard(self.probe("signing in with the former password", "current").await?, &mut message),
                Next::Promote => return self.promote().await,
                Next::Discard { why, outcome } => return self.discard(if why.is_empty() { message } else { why }, outcome).await,
                Next::KeepBoth => return self.keep_both(&message).await,
                Next::Stop { outcome } => return self.stop(&message, outcome).await,
            };
            rotation = rotation.heard(heard);
        }
    }

    /// Generates a candidate and makes it durable with its event, before anything is tried.
    async fn make(&mut self) -> Answer<Heard> {
        fault::point("before-candidate").await;
        let (now, organisation, credential) = (self.now(), self.credential.organisation, self.credential.id);
        let mut tx = self.begin().await?;
        tx.job_step(self.job.row.id, self.app.worker, "making a new password", now + LEASE).await?;
        let row = tx.credential_locked(credential).await?;
        let planned = tx.plan_of(credential).await?.and_then(|plan| plan.policy_id);
        let rules = judging::rule_for_rotation(&mut tx, row.folder_id, planned).await?.policy;
        let mut rng = self.app.rng()?;
        let password = rules.generate(&mut rng, About { user_name: &self.user, used_ago: None }).map_err(|problem| Fault::internal(problem.to_string()))?;
        let number = tx.next_number(credential, PASSWORD).await?;
        let data_key = self.keys.key.unwrap_data_key(organisation, credential, &WrappedKey(row.data_key))?;
        let sealed = data_key.seal(&mut rng, &Place { organisation, credential, field: PASSWORD, version: number }, &password)?;
        let new = NewVersion {
            credential,
            field: PASSWORD,
            number,
            state: "candidate",
            sealed: &sealed.0,
            now,
            by: None,
            how: "rotated",
            why: "",
            facts: serde_json::json!({}),
        };
        tx.add_version(&new).await?;
        let mut event = self.event("upkeep.candidate");
        event.detail.insert("version".into(), number.to_string());
        tx.commit_with(&event, &self.keys.mac).await?;
        fault::point("after-candidate").await;
        Ok(Heard::Kept)
    }

    async fn apply(&mut self, message: &mut String) -> Answer<Heard> {
        let as_itself = self.job.row.way == "self";
        if !as_itself && self.operator.is_none() {
            "the device has no operator any more".clone_into(message);
            return Ok(Heard::NotReached);
        }
        let states: &[&str] = if as_itself { &["candidate", "current"] } else { &["candidate"] };
        let (opened, operator) = self.open("changing the password on the device", states, !as_itself).await?;
        fault::point("before-apply").await;
        let met = match (opened.as_slice(), &operator, &self.operator) {
            ([candidate, current], None, _) if as_itself => {
                let account = SignIn { user: &self.user, password: &current.secret, version: current.version };
                self.app.ssh.change_as_self(&self.endpoint, account, &candidate.secret).await
            }
            ([candidate], Some(opened), Some(row)) => {
                let user = user_of(row);
                let operator = SignIn { user: &user, password: &opened.secret, version: opened.version };
                self.app.ssh.change_as_operator(&self.endpoint, operator, &self.user, &candidate.secret).await
            }
            _ => return Err(Fault::internal("the passwords of a rotation were not opened as expected")),
        };
        fault::point("after-apply").await;
        Ok(match self.pin(met).await? {
            Change::Applied => Heard::Applied,
            Change::Refused(why) => Heard::Refused(why),
            Change::NotReached(why) => {
                *message = why;
                Heard::NotReached
            }
            Change::Lost(why) => {
                *message = why;
                Heard::Lost
            }
        })
    }

    async fn promote(&mut self) -> Answer<()> {
        fault::point("before-promote").await;
        let now = self.now();
        let mut tx = self.begin().await?;
        // Whoever sets a value holds the credential first.
        tx.credential_locked(self.credential.id).await?;
        tx.promote_candidate(self.credential.id, PASSWORD).await?;
        tx.judge_again(self.credential.id).await?;
        let outcome = RotationOutcome::Done;
        tx.finish_job(self.job.row.id, self.app.worker, "done", outcome.word(), "", now).await?;
        tx.note_rotation(self.credential.id, now, outcome.word()).await?;
        tx.commit_with(&self.rotated(outcome, ""), &self.keys.mac).await?;
        fault::point("after-promote").await;
        Ok(())
    }

    async fn discard(&mut self, why: String, outcome: RotationOutcome) -> Answer<()> {
        let now = self.now();
        let mut tx = self.begin().await?;
        tx.discard_candidate(self.credential.id, PASSWORD).await?;
        let why = if why.is_empty() { "the device still has the former password; nothing was changed".to_owned() } else { why };
        tx.finish_job(self.job.row.id, self.app.worker, "failed", outcome.word(), &why, now).await?;
        tx.note_rotation(self.credential.id, now, outcome.word()).await?;
        tx.commit_with(&self.rotated(outcome, &why), &self.keys.mac).await?;
        Ok(())
    }

    async fn keep_both(&mut self, message: &str) -> Answer<()> {
        let now = self.now();
        let outcome = RotationOutcome::InDoubt;
        let again = now + back_off(self.job.row.attempts - 1);
        let message = format!("it is not known which password the device has; both are kept, and it is tried again: {message}");
        let mut tx = self.begin().await?;
        tx.retry_job(self.job.row.id, self.app.worker, outcome.word(), &message, again).await?;
        tx.note_rotation(self.credential.id, now, outcome.word()).await?;
        tx.commit_with(&self.rotated(outcome, &message), &self.keys.mac).await?;
        Ok(())
    }

    async fn stop(&mut self, message: &str, outcome: RotationOutcome) -> Answer<()> {
        let now = self.now();
        let mut tx = self.begin().await?;
        tx.finish_job(self.job.row.id, self.app.worker, "failed", outcome.word(), message, now).await?;
        tx.note_rotation(self.credential.id, now, outcome.word()).await?;
        tx.commit_with(&self.rotated(outcome, message), &self.keys.mac).await?;
        Ok(())
    }

    fn rotated(&self, outcome: RotationOutcome, message: &str) -> Event {
        let mut event = self.event("upkeep.rotated");
        event.outcome = match outcome {
            RotationOutcome::Done => Outcome::Done,
            RotationOutcome::Refused => Outcome::Refused,
            RotationOutcome::InDoubt | RotationOutcome::Unreachable => Outcome::Failed,
        };
        event.detail.insert("outcome".into(), outcome.word().into());
        event.detail.insert("way".into(), self.job.row.way.clone());
        event.detail.insert("cause".into(), self.job.row.cause.clone());
        if !message.is_empty() {
            event.detail.insert("message".into(), message.to_owned());
        }
        event
    }
}

fn heard(probe: Probe, message: &mut String) -> Heard {
    match probe {
        Probe::Opened => Heard::Opened,
        Probe::Closed => Heard::Closed,
        Probe::NoAnswer(why) => {
            *message = why;
            Heard::NoAnswer
        }
    }
}

//! A rotation, step by step, so that the password is never lost.

use chrono::{DateTime, Utc};
use jexlin_app::assessment;
use jexlin_app::error::AppError;
use jexlin_app::failpoints;
use jexlin_app::operators::instructions_of;
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::audit::{Event, Outcome};
use jexlin_core::policy::About;
use jexlin_core::secret::Secret;
use jexlin_core::upkeep::ChangeMethod;
use jexlin_core::upkeep::JobState;
use jexlin_core::upkeep::rotation::{Heard, Next, Rotation, Stored, suspects};
use jexlin_core::upkeep::{Account, BoundLogin, Lease, Operator, RotationOutcome, back_off};
use jexlin_core::vault::ValueOrigin;
use jexlin_core::vault::VersionState;
use jexlin_core::vault::kinds::PASSWORD;
use jexlin_core::vault::ssh_keys::SshKey;
use jexlin_core::vault::{Place, WrappedKey};
use jexlin_core::words::Word as _;
use jexlin_devices::{Change, MaySend, Met};
use jexlin_store::{NewVersion, Store, Tx, VersionRow};
use uuid::Uuid;

use super::opening::{NO_BUDGET, Probed};
use super::{Ended, LEASE, Runner, Step};

pub(super) const OPERATOR_REFUSED: &str =
    "the device refused its operator's password; it is paused until a steward resumes it";

impl Runner {
    /// The current password does not open the account: tries the stored ones that were sent without
    /// an answer, within the budget. The number of the one that opens it.
    pub(super) async fn try_suspects(&mut self) -> Step<Option<i32>> {
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

    pub(super) async fn rotate(&mut self) -> Step<()> {
        let kept = self.candidate;
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
                Next::Make => match self.make().await? {
                    Ok(number) => {
                        candidate = number;
                        Heard::Kept
                    }
                    // Another try would make none either.
                    Err(why) => return self.stop(&why, RotationOutcome::Refused).await,
                },
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

    /// Generates a candidate and makes it durable with its event, before anything is tried. Its
    /// number, or why there can be none.
    pub(super) async fn make(&mut self) -> Step<Result<i32, String>> {
        failpoints::point("before-candidate").await;
        let (organisation, credential) = (self.credential.organisation, self.credential.id);
        let mut tx = self.begin_held("making a new password").await?;
        let now = self.now();
        let row = tx.credential_held(credential).await?;
        let mut rng = self.app.rng()?;
        let (password, facts) = match self.generate(&mut tx, row.folder_id).await? {
            Ok(made) => made,
            Err(why) => return Ok(Err(why)),
        };
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
            reason: "",
            facts,
        };
        tx.add_version(&new).await?;
        let mut event = self.event(Action::UpkeepCandidate);
        event.detail.insert("version".into(), number.to_string());
        tx.commit_with(&event, &self.keys.mac).await?;
        failpoints::point("after-candidate").await;
        Ok(Ok(number))
    }

    /// A new password, or key, as the policy wants it and the device takes it, and what may be known of
    /// it; or why the two have no password in common.
    pub(super) async fn generate(
        &self,
        tx: &mut Tx,
        folder: Uuid,
    ) -> Step<Result<(Secret, serde_json::Value), String>> {
        let mut rng = self.app.rng()?;
        if self.is_key() {
            let like = former_key(&tx.versions(self.credential.id).await?);
            let key = SshKey::generate(&mut rng, key_type(&like), &self.account.login)
                .map_err(|problem| AppError::internal(problem.to_string()))?;
            let facts = serde_json::to_value(key.facts())
                .map_err(|error| AppError::internal(error.to_string()))?;
            return Ok(Ok((key.into_text(), facts)));
        }
        let planned = tx
            .plan_of(self.account.id)
            .await?
            .and_then(|plan| plan.policy_id);
        let rules = assessment::rule_for_rotation(tx, folder, planned)
            .await?
            .policy;
        // The device takes what it takes, whatever the policy allows.
        let device = self.device_row(tx).await?;
        let rules = match instructions_of(&self.app, tx, &device).await? {
            Some(instructions) => {
                let takes = instructions.head().takes();
                rules.within(&takes.without, takes.longest)
            }
            None => rules,
        };
        let about = About {
            user_name: &self.account.login,
            used_ago: None,
        };
        Ok(match rules.generate(&mut rng, about) {
            Ok(password) => Ok((password, serde_json::json!({}))),
            Err(problem) => Err(format!(
                "no password fits both the password policy and the device: {problem}"
            )),
        })
    }

    /// Asks, immediately before the candidate is sent, whether the lease still holds, and marks the
    /// candidate as sent without an answer.
    pub(super) async fn may_send(
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

    pub(super) async fn apply(
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
    pub(super) async fn change_as_operator(
        &mut self,
        operator: &BoundLogin<Operator>,
        new: &BoundLogin<Account>,
        may_send: MaySend<'_>,
        message: &mut String,
    ) -> Step<Met<Change>> {
        // Each sign-in counts until it has succeeded, and a few at once would be taken for failures.
        // So one signs in at a time. Where its connection is kept, the others then need no sign-in; at
        // first contact it is not.
        let _signing_in = if self.connector()?.has_operator(operator) {
            None
        } else {
            let turn = self.app.sign_ins.on(self.device).lock_owned().await;
            (!self.connector()?.has_operator(operator)).then_some(turn)
        };
        let account = if self.connector()?.has_operator(operator) {
            None
        } else {
            let mut tx = self.begin().await?;
            let device = tx.device(self.device).await?;
            let (family, now) = (self.connector.family(), self.now());
            let account = tx
                .ensure_account(&device, family, operator.login(), now)
                .await?;
            tx.commit().await?;
            Some(account.id)
        };
        if let Some(account) = account
            && !self.spend_login(account).await?
        {
            NO_BUDGET.clone_into(message);
            return Ok(Met::of(
                Change::NotReached(
                    "the operator's sign-ins failed too often within the last hour".into(),
                ),
                None,
            ));
        }
        let met = self
            .connector()?
            .change_as_operator(operator, new, may_send)
            .await;
        if met.result != Change::OperatorRefused {
            if let Some(account) = account {
                self.forgive_login(account).await?;
            }
            return Ok(met);
        }
        self.pause_device().await?;
        Ok(met)
    }

    /// A device that refuses its operator is left alone until a steward looks at it.
    pub(super) async fn pause_device(&self) -> Step<()> {
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
        Ok(())
    }

    pub(super) async fn promote(&mut self, candidate: i32, unanswered: bool) -> Step<()> {
        failpoints::point("before-promote").await;
        let mut tx = self.begin_held("keeping the new password").await?;
        let now = self.now();
        // Whoever sets a value holds the credential first.
        tx.credential_held(self.credential.id).await?;
        tx.promote_version(self.credential.id, PASSWORD, candidate)
            .await?;
        if !unanswered {
            tx.mark_unanswered(self.credential.id, PASSWORD, candidate, None)
                .await?;
        }
        self.forgive_in(&mut tx).await?;
        tx.reassess(self.credential.id).await?;
        let outcome = RotationOutcome::Done;
        tx.finish_job(&self.lease, JobState::Done, outcome.into(), "", now)
            .await?;
        tx.note_rotation(self.account.id, now, outcome).await?;
        if unanswered && self.is_key() {
            // The former key may be there beside the new one: another rotation takes it out. It is
            // owed only now, since a rotation that is done settles what was owed before.
            let next = now + chrono::TimeDelta::minutes(10);
            tx.owe_rotation(self.account.id, now).await?;
            tx.owed_again(self.account.id, next).await?;
        }
        tx.commit_with(&self.rotated(outcome, ""), &self.keys.mac)
            .await?;
        failpoints::point("after-promote").await;
        Ok(())
    }

    pub(super) async fn discard(
        &mut self,
        candidate: i32,
        unanswered: bool,
        why: String,
        outcome: RotationOutcome,
    ) -> Step<()> {
        let mut tx = self.begin_held("discarding the new password").await?;
        let now = self.now();
        self.forgive_in(&mut tx).await?;
        tx.discard_candidate(self.credential.id, PASSWORD).await?;
        if !unanswered {
            tx.mark_unanswered(self.credential.id, PASSWORD, candidate, None)
                .await?;
        }
        let why = if why.is_empty() {
            "the device still has the old password; nothing was changed".to_owned()
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

    pub(super) async fn keep_both(&mut self, message: &str) -> Step<()> {
        let outcome = RotationOutcome::InDoubt;
        let message = format!(
            "it is not known which password the device has; both are kept, and the job is tried again: {message}"
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

    pub(super) async fn stop(&mut self, message: &str, outcome: RotationOutcome) -> Step<()> {
        let mut tx = self.begin_held("stopping").await?;
        let now = self.now();
        tx.finish_job(&self.lease, JobState::Failed, outcome.into(), message, now)
            .await?;
        tx.note_rotation(self.account.id, now, outcome).await?;
        tx.commit_with(&self.rotated(outcome, message), &self.keys.mac)
            .await?;
        Ok(())
    }

    pub(super) fn rotated(&self, outcome: RotationOutcome, message: &str) -> Event {
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

/// What is known of the current key of a credential: its `algorithm`, `bits` and `public_key`.
pub(super) fn former_key(versions: &[VersionRow]) -> serde_json::Value {
    let current = versions
        .iter()
        .find(|row| row.field == PASSWORD && row.state == VersionState::Current);
    current.map(|row| row.facts.clone()).unwrap_or_default()
}

/// The type of a new key in place of this one: the same, at today's least size.
fn key_type(like: &serde_json::Value) -> &'static str {
    let text = |name: &str| like.get(name).and_then(serde_json::Value::as_str);
    match text("algorithm") {
        Some("ecdsa-sha2-nistp256") => "ecdsa-p256",
        Some("ecdsa-sha2-nistp384") => "ecdsa-p384",
        Some("ssh-rsa") => match text("bits").and_then(|bits| bits.parse::<u32>().ok()) {
            Some(3073..) => "rsa-4096",
            _ => "rsa-3072",
        },
        _ => "ed25519",
    }
}

//! Opening a password for a device, and what answers there.

use std::collections::BTreeMap;

use chrono::TimeDelta;
use jexlin_app::error::AppError;
use jexlin_app::jump_hosts;
use jexlin_core::audit::{Action, Event, TargetType};
use jexlin_core::dialogue::{self, Instructions};
use jexlin_core::upkeep::rotation::Heard;
use jexlin_core::upkeep::{
    Account, BoundLogin, DeviceFacts, JumpConnection, Operator, Role, RoleMark, SendPermit,
    budget_allows,
};
use jexlin_core::vault::kinds::{ENABLE_PASSWORD, PASSWORD};
use jexlin_core::vault::{Place, Sealed, WrappedKey, add_enable_password, open_for_device};
use jexlin_core::words::Word as _;
use jexlin_devices::{Met, Probe};
use jexlin_store::{Receipt, SealedVersion, Tx, Withheld};
use uuid::Uuid;

use super::rotation::former_key;
use super::{Runner, Step, refusal};

/// The account's passwords and the operator's, opened for one step.
pub(super) struct Opened {
    pub(super) account: Vec<BoundLogin<Account>>,
    pub(super) operator: Option<BoundLogin<Operator>>,
}

/// The operator of a device before it is opened.
struct FoundOperator {
    permit: SendPermit<Operator>,
    login: String,
    sealed: Withheld<SealedVersion>,
    enable: Option<Withheld<SealedVersion>>,
    fields: BTreeMap<String, String>,
}

/// What is opened for one step of a job.
struct Wanted<'a> {
    step: &'a str,
    /// Versions of the account's password, none for the current one.
    versions: &'a [Option<i32>],
    with_operator: bool,
    /// Whether a login of the account is spent of the budget.
    spends_login: bool,
}

/// Why nothing was opened.
enum Unopened {
    /// One more login that fails could lock the account.
    NoBudget,
    Refused(String),
}

impl Unopened {
    fn words(self) -> String {
        match self {
            Self::NoBudget => NO_BUDGET.into(),
            Self::Refused(why) => why,
        }
    }
}

/// What a login within the budget showed.
pub(super) enum Probed {
    Opened,
    Closed,
    /// One more login that fails could lock the account.
    NoBudget,
    NoAnswer(String),
}

pub(super) const NO_BUDGET: &str =
    "too many logins failed within the last hour, and another failure could lock the account";

impl Probed {
    pub(super) fn heard(self, message: &mut String) -> Heard {
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

/// The log says which fields of a credential leave the vault when it is not the password alone.
fn note_fields(event: &mut Event, with_enable_password: bool) {
    if with_enable_password {
        let both = format!("{PASSWORD}, {ENABLE_PASSWORD}");
        event.detail.insert("fields".into(), both);
    }
}

/// The enable password of a credential, where the device's instructions say it.
async fn sealed_enable(
    tx: &mut Tx,
    facts: &DeviceFacts,
    credential: Uuid,
) -> Step<Option<Withheld<SealedVersion>>> {
    if !facts.dialogue.as_deref().is_some_and(Instructions::enables) {
        return Ok(None);
    }
    Ok(tx
        .sealed_for_job_if_any(credential, ENABLE_PASSWORD)
        .await?)
}

/// The fields of a credential that are texts.
pub(super) fn plain_fields(fields: &serde_json::Value) -> BTreeMap<String, String> {
    let all = fields.as_object().into_iter().flatten();
    all.filter_map(|(name, value)| Some((name.clone(), value.as_str()?.to_owned())))
        .collect()
}

impl Runner {
    /// Signs in to the jump host of the device, if there is one and nobody has yet. An event on the
    /// credential that is used says so.
    async fn reach(&mut self, step: &str) -> Step<Result<Option<JumpConnection>, String>> {
        // One that got a jump host meanwhile is not reached without: the next try knows of it.
        if !self.is_behind {
            return Ok(Ok(None));
        }
        let mut tx = self.begin_held(step).await?;
        let device = tx.device(self.device).await?;
        let facts = self.device_facts(&mut tx).await?;
        let waiting = match jump_hosts::prepare(&mut tx, &device, &facts).await? {
            Ok(Some(waiting)) => waiting,
            Ok(None) => return Ok(Ok(None)),
            Err(why) => return Ok(Err(why)),
        };
        let done_for = self.path.clone();
        let event = self
            .use_event(&mut tx, waiting.credential, Role::JumpHost, step, &done_for)
            .await?;
        let receipt = tx.commit_with(&event, &self.keys.mac).await?;
        let organisation = self.credential.organisation;
        let opened =
            jump_hosts::sign_in(&self.app, organisation, &self.keys, waiting, &receipt).await?;
        Ok(opened.map(Some))
    }

    /// Notes the step, records on each credential that its password leaves the vault for the
    /// device, and opens them; the versions of the account's password by their numbers, none for
    /// the current one. A binding that does not count opens nothing, and says why.
    pub(super) async fn open(
        &mut self,
        step: &str,
        versions: &[Option<i32>],
        with_operator: bool,
    ) -> Step<Result<Opened, String>> {
        let way = match self.reach(step).await? {
            Ok(way) => way,
            Err(why) => return Ok(Err(why)),
        };
        let wanted = Wanted {
            step,
            versions,
            with_operator,
            spends_login: false,
        };
        let opened = self.open_wanted(&wanted, way.as_ref()).await?;
        Ok(opened.map_err(Unopened::words))
    }

    /// Opens what is wanted. At first contact another job may note the identity of the device between
    /// two looks at it, so what is refused is looked at once more.
    async fn open_wanted(
        &mut self,
        wanted: &Wanted<'_>,
        way: Option<&JumpConnection>,
    ) -> Step<Result<Opened, Unopened>> {
        let first = self.open_once(wanted, way).await?;
        if matches!(first, Err(Unopened::Refused(_))) {
            return self.open_once(wanted, way).await;
        }
        Ok(first)
    }

    async fn open_once(
        &mut self,
        wanted: &Wanted<'_>,
        way: Option<&JumpConnection>,
    ) -> Step<Result<Opened, Unopened>> {
        let mut tx = self.begin_held(wanted.step).await?;
        // What cannot be opened is not tried either: the transaction takes back what was spent on it.
        if wanted.spends_login && !self.spend_login_in(&mut tx, self.account.id).await? {
            return Ok(Err(Unopened::NoBudget));
        }
        let opened = self.open_in(tx, wanted, way).await?;
        Ok(opened.map_err(Unopened::Refused))
    }

    /// The same in a transaction that has begun, which it commits where it opens something.
    async fn open_in(
        &self,
        mut tx: Tx,
        wanted: &Wanted<'_>,
        way: Option<&JumpConnection>,
    ) -> Step<Result<Opened, String>> {
        let (step, with_operator) = (wanted.step, wanted.with_operator);
        let facts = self.device_facts(&mut tx).await?;
        let account_permit = match self.account_permit(&mut tx, &facts).await? {
            Ok(permit) => permit,
            Err(why) => return Ok(Err(why)),
        };
        let former = self.former_public_key(&mut tx).await?;
        let mut withheld = vec![];
        for number in wanted.versions {
            withheld.push(
                tx.sealed_for_job(self.credential.id, PASSWORD, *number)
                    .await?,
            );
        }
        let enable = if with_operator {
            None
        } else {
            sealed_enable(&mut tx, &facts, self.credential.id).await?
        };
        let mut operator = None;
        if with_operator {
            let (found, event) = match self
                .operator_to_open(&mut tx, &facts, step, &self.path)
                .await?
            {
                Ok(found) => found,
                Err(why) => return Ok(Err(why)),
            };
            tx.record(&event, &self.keys.mac).await?;
            operator = Some(found);
        }
        let mut event = self.event(Action::UpkeepSignIn);
        note_fields(&mut event, enable.is_some());
        event.detail.insert("step".into(), step.to_owned());
        event.detail.insert("as".into(), "account".into());
        let receipt = tx.commit_with(&event, &self.keys.mac).await?;
        let enable = enable.map(|sealed| sealed.after(&receipt)).transpose()?;
        let mut account = vec![];
        for sealed in withheld {
            let login = self.open_version(
                &account_permit,
                &self.account.login,
                sealed.after(&receipt)?,
                enable.as_ref(),
            )?;
            let login = login.with_fields(plain_fields(&self.credential.fields));
            account.push(login.replacing(former.clone()).through(way));
        }
        let operator = operator
            .map(|found| self.open_found(found, &receipt, way))
            .transpose()?;
        Ok(Ok(Opened { account, operator }))
    }

    /// The operator of the device, not yet opened, and the event that opening it wants.
    async fn operator_to_open(
        &self,
        tx: &mut Tx,
        facts: &DeviceFacts,
        step: &str,
        done_for: &str,
    ) -> Step<Result<(FoundOperator, Event), String>> {
        let Some(binding) = tx.operator_of(self.device).await? else {
            return Ok(Err("the device has no operator".into()));
        };
        let permit = match self
            .lease
            .permit::<Operator>(&binding.binding, facts, self.now())
        {
            Ok(permit) => permit,
            Err(no) => return refusal(no).map(Err),
        };
        let credential = binding.binding.stored().credential;
        let sealed = tx.sealed_for_job(credential, PASSWORD, None).await?;
        let enable = sealed_enable(tx, facts, credential).await?;
        let mut event = self
            .use_event(tx, credential, Role::Operator, step, done_for)
            .await?;
        note_fields(&mut event, enable.is_some());
        let fields = plain_fields(&binding.fields);
        let found = FoundOperator {
            permit,
            login: binding.login,
            sealed,
            enable,
            fields,
        };
        Ok(Ok((found, event)))
    }

    fn open_found(
        &self,
        found: FoundOperator,
        receipt: &Receipt,
        way: Option<&JumpConnection>,
    ) -> Step<BoundLogin<Operator>> {
        let sealed = found.sealed.after(receipt)?;
        let enable = found
            .enable
            .map(|sealed| sealed.after(receipt))
            .transpose()?;
        let login = self.open_version(&found.permit, &found.login, sealed, enable.as_ref())?;
        Ok(login.with_fields(found.fields).through(way))
    }

    /// The permit to send the account's password to the device, or why there is none.
    pub(super) async fn account_permit(
        &self,
        tx: &mut Tx,
        facts: &DeviceFacts,
    ) -> Step<Result<SendPermit<Account>, String>> {
        let Some(own) = tx
            .binding_of_account(self.device, self.credential.id)
            .await?
        else {
            return Ok(Err(
                "no binding lets this password be sent to the device".into()
            ));
        };
        match self
            .lease
            .permit::<Account>(&own.binding, facts, self.now())
        {
            Ok(permit) => Ok(Ok(permit)),
            Err(no) => refusal(no).map(Err),
        }
    }

    /// The public key that a rotation replaces; none for an account with a password.
    pub(super) async fn former_public_key(&self, tx: &mut Tx) -> Step<Option<String>> {
        if !self.is_key() {
            return Ok(None);
        }
        let known = former_key(&tx.versions(self.credential.id).await?);
        let line = known.get("public_key").and_then(serde_json::Value::as_str);
        Ok(line.map(ToOwned::to_owned))
    }

    /// The same for the operator of the device alone, where no account is meant.
    pub(super) async fn open_operator(
        &mut self,
        step: &str,
    ) -> Step<Result<BoundLogin<Operator>, String>> {
        let way = match self.reach(step).await? {
            Ok(way) => way,
            Err(why) => return Ok(Err(why)),
        };
        let first = self.open_operator_once(step, way.as_ref()).await?;
        // At first contact, as in `open_wanted`.
        if first.is_err() {
            return self.open_operator_once(step, way.as_ref()).await;
        }
        Ok(first)
    }

    async fn open_operator_once(
        &mut self,
        step: &str,
        way: Option<&JumpConnection>,
    ) -> Step<Result<BoundLogin<Operator>, String>> {
        let mut tx = self.begin_held(step).await?;
        let facts = self.device_facts(&mut tx).await?;
        let (found, event) = match self
            .operator_to_open(&mut tx, &facts, step, &self.device_name)
            .await?
        {
            Ok(found) => found,
            Err(why) => return Ok(Err(why)),
        };
        let receipt = tx.commit_with(&event, &self.keys.mac).await?;
        self.open_found(found, &receipt, way).map(Ok)
    }

    /// The use of an operator, or of whoever signs in to a jump host, is an event on that credential.
    async fn use_event(
        &self,
        tx: &mut Tx,
        credential: Uuid,
        role: Role,
        step: &str,
        done_for: &str,
    ) -> Step<Event> {
        let mut event = self.event(Action::UpkeepSignIn);
        event.target = credential.to_string();
        event.target_name = tx
            .name_for_event(TargetType::Credential, credential)
            .await?
            .unwrap_or_default();
        event.detail.insert("step".into(), step.to_owned());
        event.detail.insert("as".into(), role.word().into());
        event.detail.insert("for".into(), done_for.to_owned());
        event.detail.insert(
            "asked_by".into(),
            self.asked_by
                .clone()
                .unwrap_or_else(|| self.job.cause.0.word().to_owned()),
        );
        Ok(event)
    }

    pub(super) fn open_version<R: RoleMark>(
        &self,
        permit: &SendPermit<R>,
        login: &str,
        sealed: SealedVersion,
        enable: Option<&SealedVersion>,
    ) -> Step<BoundLogin<R>> {
        let place = Place {
            organisation: self.credential.organisation,
            credential: sealed.credential,
            field: PASSWORD,
            version: sealed.number,
        };
        let opened = open_for_device(
            permit,
            login,
            &self.keys.key,
            &WrappedKey(sealed.data_key),
            &place,
            &Sealed(sealed.sealed),
        )?;
        let Some(enable) = enable else {
            return Ok(opened);
        };
        let place = Place {
            organisation: self.credential.organisation,
            credential: enable.credential,
            field: ENABLE_PASSWORD,
            version: enable.number,
        };
        Ok(add_enable_password(
            permit,
            opened,
            &self.keys.key,
            &WrappedKey(enable.data_key.clone()),
            &place,
            &Sealed(enable.sealed.clone()),
        )?)
    }

    /// Notes the identity that was met at first contact, where the organisation trusts it.
    pub(super) async fn note_identity<T>(&mut self, first: bool, met: Met<T>) -> Step<T> {
        if !met.transcript.is_empty() {
            let text = format!(
                "# {}\n{}",
                self.now().format("%Y-%m-%d %H:%M:%S UTC"),
                dialogue::written(&met.transcript)
            );
            let mut tx = self.begin().await?;
            tx.note_transcript(&self.lease, &text).await?;
            tx.commit().await?;
        }
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
    /// [`Runner::forgive_login`] says otherwise: logins tried at the same moment all count.
    pub(super) async fn spend_login(&mut self, account: Uuid) -> Step<bool> {
        let mut tx = self.begin_held("looking at the lockout budget").await?;
        let allowed = self.spend_login_in(&mut tx, account).await?;
        tx.commit().await?;
        Ok(allowed)
    }

    async fn spend_login_in(&self, tx: &mut Tx, account: Uuid) -> Step<bool> {
        let now = self.now();
        let failures = tx.failed_logins(account, now - TimeDelta::hours(1)).await?;
        let allowed = budget_allows(&failures, now);
        if allowed {
            tx.note_failed_login(account, now).await?;
        }
        Ok(allowed)
    }

    /// The login opened, or never reached the device: it does not count.
    pub(super) async fn forgive_login(&self, account: Uuid) -> Step<()> {
        let mut tx = self.begin().await?;
        tx.forgive_login(account).await?;
        Ok(tx.commit().await?)
    }

    /// Forgives a login that opened the account, in the transaction that writes down what came of it.
    pub(super) async fn forgive_in(&self, tx: &mut Tx) -> Step<()> {
        if self.owes_forgiveness {
            tx.forgive_login(self.account.id).await?;
        }
        Ok(())
    }

    /// Logs in afresh with a version of the password, within the budget of failed logins. One that
    /// opens the account counts as failed until the caller forgives it.
    pub(super) async fn probe(&mut self, step: &str, version: Option<i32>) -> Step<Probed> {
        let way = match self.reach(step).await? {
            Ok(way) => way,
            Err(why) => return Ok(Probed::NoAnswer(why)),
        };
        let wanted = Wanted {
            step,
            versions: &[version],
            with_operator: false,
            spends_login: true,
        };
        let opened = match self.open_wanted(&wanted, way.as_ref()).await? {
            Ok(opened) => opened,
            Err(Unopened::NoBudget) => return Ok(Probed::NoBudget),
            Err(Unopened::Refused(why)) => return Ok(Probed::NoAnswer(why)),
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
                self.owes_forgiveness = true;
                Probed::Opened
            }
            Probe::NoAnswer(why) => {
                self.forgive_login(self.account.id).await?;
                Probed::NoAnswer(why)
            }
        })
    }
}

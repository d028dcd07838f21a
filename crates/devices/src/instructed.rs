//! Connectors that are told how to talk to a device: by a dialogue or a recipe. How they talk is
//! theirs; what the outcome means for a check and for a change is the same, and stands here.

use async_trait::async_trait;
use jexlin_core::dialogue::{Ending, Purpose, Turn, Values};
use jexlin_core::upkeep::identity::PresentedIdentity;
use jexlin_core::upkeep::{Account, BoundLogin, ConnectorKind, Endpoint, Operator, RoleMark};

use crate::{
    Capabilities, Change, Connector, FoundAccount, Listing, MaySend, Met, Probe, TimeLimits,
};

/// Why a talk broke off.
pub(crate) enum Stopped {
    /// The device did not let the login in; nothing else was sent.
    Closed,
    /// The lease was over immediately before the first thing that changes something.
    LeaseLost,
    /// The device could not be reached, or the connection was lost; why.
    Connection(String),
}

/// What a talk came to.
pub(crate) struct Came {
    pub(crate) outcome: Result<Ending, Stopped>,
    /// Whether something that changes the device may have been sent.
    pub(crate) is_changing: bool,
    pub(crate) presented: Option<PresentedIdentity>,
    pub(crate) transcript: Vec<Turn>,
    /// The accounts that were listed.
    pub(crate) found: Vec<FoundAccount>,
}

impl Came {
    /// A talk that did not begin.
    pub(crate) const fn stopped(why: Stopped, presented: Option<PresentedIdentity>) -> Self {
        Self {
            outcome: Err(why),
            is_changing: false,
            presented,
            transcript: vec![],
            found: vec![],
        }
    }
}

/// Somebody who is told how to talk to a device.
#[async_trait]
pub(crate) trait Instructed: std::fmt::Debug + Send + Sync {
    /// The type of the devices.
    const KIND: ConnectorKind;
    /// What operators and accounts must be allowed to do there.
    const NEEDED_RIGHTS: &'static str;
    /// What a device is told that has no instructions yet.
    const MISSING: &'static str;

    /// One with these limits.
    fn new(limits: TimeLimits) -> Self;

    /// Reads the identities that a device shows.
    async fn look(&self, endpoint: &Endpoint) -> Result<Vec<PresentedIdentity>, String>;

    /// Signs in and talks; none where the device has no instructions. `may_send` is asked
    /// immediately before the first thing that changes something.
    async fn talk<R: RoleMark + Send + Sync>(
        &self,
        login: &BoundLogin<R>,
        purpose: Purpose,
        values: Values<'_>,
        may_send: MaySend<'_>,
    ) -> Option<Came>;
}

/// The connector of such a one.
#[derive(Debug)]
pub(crate) struct ByInstructions<T>(T);

/// What a talk that was to change a password came to. `wrong` is what it means that the password
/// which signs in does not count.
pub(crate) fn change(outcome: Result<Ending, Stopped>, is_changing: bool, wrong: Change) -> Change {
    let stopped = |why: String| {
        if is_changing {
            Change::Lost(why)
        } else {
            Change::NotReached(why)
        }
    };
    match outcome {
        Ok(Ending::Done) => Change::Applied,
        Ok(Ending::Refused(why)) => Change::Refused(why),
        Ok(Ending::WrongPassword) | Err(Stopped::Closed) if !is_changing => wrong,
        Ok(Ending::WrongPassword) | Err(Stopped::Closed) => {
            Change::Lost("the device then said that the password is wrong".into())
        }
        Ok(Ending::Locked(why)) => stopped(format!("the account is locked: {why}")),
        Ok(Ending::GaveUp(why)) | Err(Stopped::Connection(why)) => stopped(why),
        Err(Stopped::LeaseLost) => Change::LeaseLost,
    }
}

impl<T: Instructed> ByInstructions<T> {
    /// A connector with these limits.
    pub(crate) fn new(limits: TimeLimits) -> Self {
        Self(T::new(limits))
    }

    async fn changed<R: RoleMark + Send + Sync>(
        &self,
        login: &BoundLogin<R>,
        candidate: &BoundLogin<Account>,
        purpose: Purpose,
        values: Values<'_>,
        may_send: MaySend<'_>,
        wrong: Change,
    ) -> Met<Change> {
        if login.endpoint() != candidate.endpoint() {
            let why = "the two passwords are not of the same endpoint";
            return Met::of(Change::NotReached(why.into()), None);
        }
        match self.0.talk(login, purpose, values, may_send).await {
            None => Met::of(Change::NotReached(T::MISSING.into()), None),
            Some(came) => Met {
                result: change(came.outcome, came.is_changing, wrong),
                presented: came.presented,
                transcript: came.transcript,
            },
        }
    }
}

#[async_trait]
impl<T: Instructed> Connector for ByInstructions<T> {
    fn kind(&self) -> ConnectorKind {
        T::KIND
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            changes_as_operator: true,
            changes_as_itself: true,
        }
    }

    fn needed_rights(&self) -> &'static str {
        T::NEEDED_RIGHTS
    }

    async fn identify(&self, endpoint: &Endpoint) -> Result<Vec<PresentedIdentity>, String> {
        self.0.look(endpoint).await
    }

    async fn check(&self, account: &BoundLogin<Account>) -> Met<Probe> {
        let values = Values {
            account: account.login(),
            current: Some(account.password()),
            enable_password: account.enable_password(),
            fields: Some(account.fields()),
            ..Values::default()
        };
        // A check changes nothing, so that this is never asked.
        let never: MaySend<'_> = Box::new(|| Box::pin(async { false }));
        let Some(came) = self.0.talk(account, Purpose::Check, values, never).await else {
            return Met::of(Probe::NoAnswer(T::MISSING.into()), None);
        };
        Met {
            result: match came.outcome {
                Ok(Ending::Done) => Probe::Opened,
                Ok(Ending::WrongPassword) | Err(Stopped::Closed) => Probe::Closed,
                Ok(Ending::Locked(why)) => Probe::NoAnswer(format!("the account is locked: {why}")),
                Ok(Ending::Refused(why) | Ending::GaveUp(why)) | Err(Stopped::Connection(why)) => {
                    Probe::NoAnswer(why)
                }
                Err(Stopped::LeaseLost) => {
                    Probe::NoAnswer("a check would have changed something".into())
                }
            },
            presented: came.presented,
            transcript: came.transcript,
        }
    }

    async fn change_as_operator(
        &self,
        operator: &BoundLogin<Operator>,
        candidate: &BoundLogin<Account>,
        may_send: MaySend<'_>,
    ) -> Met<Change> {
        // Of a key nothing but signatures leaves the service.
        let password = (!operator.is_key()).then(|| operator.password());
        let values = Values {
            account: candidate.login(),
            operator: operator.login(),
            new: Some(candidate.password()),
            operator_password: password,
            enable_password: operator.enable_password(),
            fields: Some(candidate.fields()),
            ..Values::default()
        };
        let (purpose, wrong) = (Purpose::Operator, Change::OperatorRefused);
        self.changed(operator, candidate, purpose, values, may_send, wrong)
            .await
    }

    async fn change_as_itself(
        &self,
        account: &BoundLogin<Account>,
        candidate: &BoundLogin<Account>,
        may_send: MaySend<'_>,
    ) -> Met<Change> {
        let values = Values {
            account: account.login(),
            current: Some(account.password()),
            new: Some(candidate.password()),
            enable_password: account.enable_password(),
            fields: Some(account.fields()),
            ..Values::default()
        };
        let (purpose, wrong) = (Purpose::Account, Change::AccountRefused);
        self.changed(account, candidate, purpose, values, may_send, wrong)
            .await
    }

    async fn list_accounts(&self, operator: &BoundLogin<Operator>) -> Met<Listing> {
        let password = (!operator.is_key()).then(|| operator.password());
        let values = Values {
            operator: operator.login(),
            operator_password: password,
            enable_password: operator.enable_password(),
            fields: Some(operator.fields()),
            ..Values::default()
        };
        // A list changes nothing, so that this is never asked.
        let never: MaySend<'_> = Box::new(|| Box::pin(async { false }));
        let Some(came) = self.0.talk(operator, Purpose::List, values, never).await else {
            return Met::of(Listing::NoAnswer(T::MISSING.into()), None);
        };
        Met {
            result: match came.outcome {
                Ok(Ending::Done) => Listing::Found(came.found),
                Ok(Ending::WrongPassword) | Err(Stopped::Closed) => Listing::OperatorRefused,
                Ok(Ending::Locked(why)) => {
                    Listing::NoAnswer(format!("the operator is locked: {why}"))
                }
                Ok(Ending::Refused(why) | Ending::GaveUp(why)) | Err(Stopped::Connection(why)) => {
                    Listing::NoAnswer(why)
                }
                Err(Stopped::LeaseLost) => {
                    Listing::NoAnswer("a list would have changed something".into())
                }
            },
            presented: came.presented,
            transcript: came.transcript,
        }
    }
}

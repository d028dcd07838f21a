//! What every connector can be asked.

use std::future::Future;
use std::pin::Pin;

use async_trait::async_trait;
use jexlin_core::upkeep::identity::{Identity, PresentedIdentity};
use jexlin_core::upkeep::{Account, BoundLogin, ConnectorKind, Endpoint, Operator};
use uuid::Uuid;

use crate::{Change, Listing, Met, Probe};

/// The answer to [`MaySend`].
pub type Answer<'a> = Pin<Box<dyn Future<Output = bool> + Send + 'a>>;

/// Asked when everything is ready, immediately before anything is sent: whether the lease still
/// holds.
pub type MaySend<'a> = Box<dyn FnOnce() -> Answer<'a> + Send + 'a>;

/// What a connector can do beside checking a password.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Capabilities {
    /// An operator changes the passwords of other accounts.
    pub changes_as_operator: bool,
    /// An account changes its own password.
    pub changes_as_itself: bool,
}

/// Whose kept connection it is: one organisation, one operator credential, one version of its
/// password, one device at one endpoint. Never a user name at an address.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct OperatorConnection {
    /// The organisation.
    pub organisation: Uuid,
    /// The device.
    pub device: Uuid,
    /// The operator's credential.
    pub credential: Uuid,
    /// The version of its password.
    pub version: i32,
    login: String,
    address: String,
    port: u16,
    identity: String,
}

impl OperatorConnection {
    pub(crate) fn of(operator: &BoundLogin<Operator>) -> Self {
        let endpoint = operator.endpoint();
        Self {
            organisation: endpoint.organisation(),
            device: endpoint.device(),
            credential: operator.credential(),
            version: operator.version(),
            login: operator.login().to_owned(),
            address: endpoint.address().to_owned(),
            port: endpoint.port(),
            identity: Identity::to_lines(endpoint.identity()),
        }
    }
}

/// A way to reach devices.
///
/// A password reaches it only inside a [`BoundLogin`], which core makes for a confirmed binding; it
/// sends that password nowhere but to the login's endpoint, once the identity is proved.
#[async_trait]
pub trait Connector: std::fmt::Debug + Send + Sync {
    /// Which it is.
    fn kind(&self) -> ConnectorKind;

    /// What it can do.
    fn capabilities(&self) -> Capabilities;

    /// What operators and accounts must be allowed to do on the device, in a sentence for people.
    fn needed_rights(&self) -> &'static str;

    /// Reads the identities that a device shows, one for each type of key that it has. Nothing is
    /// sent to it.
    ///
    /// # Errors
    /// A sentence when nothing there shows an identity.
    async fn identify(&self, endpoint: &Endpoint) -> Result<Vec<PresentedIdentity>, String>;

    /// Checks by a fresh login whether a password opens an account.
    async fn check(&self, account: &BoundLogin<Account>) -> Met<Probe>;

    /// Changes the password of an account to that of `candidate`, as the operator of the device.
    async fn change_as_operator(
        &self,
        operator: &BoundLogin<Operator>,
        candidate: &BoundLogin<Account>,
        may_send: MaySend<'_>,
    ) -> Met<Change>;

    /// Changes the password of an account as the account itself.
    async fn change_as_itself(
        &self,
        account: &BoundLogin<Account>,
        candidate: &BoundLogin<Account>,
        may_send: MaySend<'_>,
    ) -> Met<Change>;

    /// Lists the accounts of a device, as its operator.
    async fn list_accounts(&self, operator: &BoundLogin<Operator>) -> Met<Listing>;

    /// The connections of operators that are kept open, so that only the first of many changes signs
    /// in; none where each signs in anew.
    fn kept(&self) -> Option<&dyn KeptOperators> {
        None
    }

    /// Whether an operator's connection is kept open, so that no sign-in is needed.
    fn has_operator(&self, operator: &BoundLogin<Operator>) -> bool {
        self.kept()
            .is_some_and(|kept| kept.has(&OperatorConnection::of(operator)))
    }
}

/// The connections of operators that a connector keeps open.
pub trait KeptOperators: Send + Sync {
    /// All of them.
    fn all(&self) -> Vec<OperatorConnection>;

    /// Ends one; a command that runs over it ends.
    fn close(&self, which: &OperatorConnection);

    /// Ends those that have been idle for a while.
    fn close_idle(&self);

    /// Whether there is one that can be used.
    fn has(&self, which: &OperatorConnection) -> bool;
}

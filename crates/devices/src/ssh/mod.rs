//! OpenSSH hosts (RFC 4251 to 4254): the password of an account checked by signing in, changed by
//! the operator or by the account itself.

mod account_listing;
mod command_line;
mod connection;
mod key_change;
mod password_change;
pub(crate) mod sign_in;

use std::borrow::Cow;
use std::sync::{Arc, Mutex as StdMutex};
use std::time::Duration;

use async_trait::async_trait;
use jexlin_core::secret::Secret;
use jexlin_core::upkeep::identity::PresentedIdentity;
use jexlin_core::upkeep::{Account, BoundLogin, ConnectorKind, Endpoint, Operator};
use russh::client::Msg;
use russh::{Channel, ChannelMsg, Disconnect, Preferred};
use tokio::time::timeout;

pub(crate) use self::command_line::CommandLine;
use self::connection::Session;
use self::sign_in::{IdentityWatch, KEYS, NoSession, exchange_keys};
use crate::conversation::{Heard, Terminal};
use crate::kept::Kept;
use crate::network::plain_words;
use crate::reach;
use crate::{
    Capabilities, Change, Connector, KeptOperators, Listing, MaySend, Met, OperatorConnection,
    Probe, TimeLimits,
};

/// The connector. It keeps connections of operators open, to use them again.
#[derive(Debug)]
pub struct Ssh {
    limits: TimeLimits,
    operators: Kept<Session>,
}

impl Default for Ssh {
    fn default() -> Self {
        Self::new(TimeLimits::default())
    }
}

impl Ssh {
    /// A connector with these limits.
    #[must_use]
    pub fn new(limits: TimeLimits) -> Self {
        Self {
            limits,
            operators: Kept::new(limits.idle),
        }
    }

    /// Ends a kept connection; a command that runs over it ends.
    pub(super) fn close_kept(&self, which: &OperatorConnection) {
        self.operators.close(which);
    }
}

#[async_trait]
impl Connector for Ssh {
    fn kind(&self) -> ConnectorKind {
        ConnectorKind::Ssh
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            changes_as_operator: true,
            changes_as_itself: true,
        }
    }

    fn needed_rights(&self) -> &'static str {
        "The operator signs in by password or SSH key and is root: it runs chpasswd, and runuser for keys. To list accounts it runs getent, and passwd -S and lastlog where they are there. An account that changes its own password needs passwd; one that replaces its own key needs a shell and its ~/.ssh/authorized_keys."
    }

    async fn identify(&self, endpoint: &Endpoint) -> Result<Vec<PresentedIdentity>, String> {
        let mut all: Vec<PresentedIdentity> = vec![];
        let mut last = String::new();
        let with_certificate = Preferred {
            host_key_certificates: Cow::Borrowed(&KEYS),
            ..Preferred::DEFAULT
        };
        let kinds = [&KEYS[..1], &KEYS[1..4], &KEYS[4..]].map(|keys| Preferred {
            key: Cow::Borrowed(keys),
            ..Preferred::DEFAULT
        });
        for preferred in std::iter::once(with_certificate).chain(kinds) {
            let presented = Arc::new(StdMutex::new(None));
            let watch = IdentityWatch {
                address: endpoint.address().to_owned(),
                accepted: vec![],
                trust: false,
                presented: Arc::clone(&presented),
            };
            let looking = async {
                let stream = reach::connect(endpoint)
                    .await
                    .map_err(NoSession::NoAnswer)?;
                exchange_keys(stream, watch, preferred).await
            };
            let tried = timeout(self.limits.connect, looking).await;
            match (
                presented.lock().ok().and_then(|mut slot| slot.take()),
                tried,
            ) {
                (Some(identity), _) => {
                    if !all.iter().any(|known| {
                        known.key == identity.key && known.authority == identity.authority
                    }) {
                        all.push(identity);
                    }
                }
                (None, Ok(Err(NoSession::NoAnswer(why)))) => last = why,
                (None, Ok(_)) => {}
                // It will not answer the next time either.
                (None, Err(_)) => return Err(self.silence()),
            }
        }
        if all.is_empty() { Err(last) } else { Ok(all) }
    }

    async fn check(&self, account: &BoundLogin<Account>) -> Met<Probe> {
        match self.open(account).await {
            (Ok(session), presented) => {
                // Saying goodbye is a courtesy; the answer stands already.
                let _ = timeout(
                    Duration::from_secs(2),
                    session
                        .handle
                        .disconnect(Disconnect::ByApplication, "", "en"),
                )
                .await;
                Met::of(Probe::Opened, presented)
            }
            (Err(NoSession::Closed), presented) => Met::of(Probe::Closed, presented),
            (Err(NoSession::NoAnswer(why)), presented) => Met::of(Probe::NoAnswer(why), presented),
        }
    }

    async fn change_as_operator(
        &self,
        operator: &BoundLogin<Operator>,
        candidate: &BoundLogin<Account>,
        may_send: MaySend<'_>,
    ) -> Met<Change> {
        self.operator_changes(operator, candidate, may_send).await
    }

    async fn change_as_itself(
        &self,
        account: &BoundLogin<Account>,
        candidate: &BoundLogin<Account>,
        may_send: MaySend<'_>,
    ) -> Met<Change> {
        self.account_changes(account, candidate, may_send).await
    }

    async fn list_accounts(&self, operator: &BoundLogin<Operator>) -> Met<Listing> {
        self.accounts_of(operator).await
    }

    fn kept(&self) -> Option<&dyn KeptOperators> {
        Some(&self.operators)
    }
}

/// A terminal in an SSH connection.
struct InChannel<'a>(&'a mut Channel<Msg>);

#[async_trait]
impl Terminal for InChannel<'_> {
    async fn send(&mut self, text: &Secret) -> Result<(), String> {
        let sent = self.0.data_bytes(text.expose_secret().to_vec()).await;
        sent.map_err(|error| plain_words(&error.to_string()))
    }

    async fn next(&mut self) -> Heard {
        match self.0.wait().await {
            Some(ChannelMsg::Data { data } | ChannelMsg::ExtendedData { data, .. }) => {
                Heard::Text(data.to_vec())
            }
            Some(ChannelMsg::Failure) => {
                Heard::Refused("the device does not run commands for this account".into())
            }
            Some(ChannelMsg::Eof | ChannelMsg::Close) | None => Heard::Ended,
            Some(_) => Heard::Nothing,
        }
    }
}

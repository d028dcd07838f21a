//! Command lines over SSH (RFC 4254, 6.5): devices that have no commands to run, only a prompt, and
//! are talked to by a dialogue.

use async_trait::async_trait;
use jexlin_core::dialogue::{Dialogue, Ending, Purpose, Talk, Turn, Values};
use jexlin_core::upkeep::identity::PresentedIdentity;
use jexlin_core::upkeep::{Account, BoundLogin, ConnectorKind, Endpoint, Operator, RoleMark};
use russh::client::Msg;
use russh::{Channel, Disconnect};
use tokio::time::{Duration, timeout};

use super::connection::{NoSession, Session};
use super::conversation::{BrokeOff, change, converse};
use super::{Settings, Ssh};
use crate::network::plain_words;
use crate::{Capabilities, Change, Connector, FoundAccount, MaySend, Met, Probe};

/// A farewell and the end of a connection take at most so long; the result stands already.
const LEAVING: Duration = Duration::from_secs(2);
const NO_DIALOGUE: &str = "the device has no dialogue; a steward chooses one";

/// The connector. Each talk has a connection of its own: many devices take few sessions at a time.
#[derive(Debug)]
pub struct CommandLine {
    settings: Settings,
    ssh: Ssh,
}

/// What a talk came to.
struct Talked {
    outcome: Result<Ending, BrokeOff>,
    is_changing: bool,
    presented: Option<PresentedIdentity>,
    transcript: Vec<Turn>,
}

impl CommandLine {
    /// A connector with these settings.
    #[must_use]
    pub fn new(settings: Settings) -> Self {
        Self {
            settings,
            ssh: Ssh::new(settings),
        }
    }

    /// Signs in, and talks at the prompt.
    async fn talk<R: RoleMark>(
        &self,
        login: &BoundLogin<R>,
        dialogue: &Dialogue,
        purpose: Purpose,
        values: Values<'_>,
        may_send: MaySend<'_>,
    ) -> Result<Talked, (NoSession, Option<PresentedIdentity>)> {
        let (session, presented) = self.ssh.open(login).await;
        let session = session.map_err(|why| (why, presented.clone()))?;
        let mut talked = Talked {
            outcome: Err(BrokeOff::Connection(String::new())),
            is_changing: false,
            presented,
            transcript: vec![],
        };
        match timeout(self.settings.connect, at_a_prompt(&session)).await {
            Ok(Ok(mut channel)) => {
                let (mut talk, act) = Talk::begin(dialogue, purpose, values);
                talked.outcome = match timeout(
                    self.settings.change,
                    converse(&mut channel, &mut talk, act, may_send),
                )
                .await
                {
                    Ok(outcome) => outcome,
                    Err(_) => Err(BrokeOff::Connection(format!(
                        "the talk took longer than {} seconds, at the step “{}”",
                        self.settings.change.as_secs(),
                        talk.step()
                    ))),
                };
                talked.is_changing = talk.is_changing();
                talked.transcript = talk.transcript().to_vec();
                let farewell = async {
                    if let Some(line) = talk.farewell() {
                        let _ = channel.data_bytes(line.expose_secret().to_vec()).await;
                    }
                    let _ = channel.eof().await;
                };
                let _ = timeout(LEAVING, farewell).await;
            }
            Ok(Err(why)) => talked.outcome = Err(BrokeOff::Connection(why)),
            Err(_) => talked.outcome = Err(BrokeOff::Connection(self.ssh.silence())),
        }
        let goodbye = session
            .handle
            .disconnect(Disconnect::ByApplication, "", "en");
        let _ = timeout(LEAVING, goodbye).await;
        Ok(talked)
    }

    /// Talks to change a password, and says what that came to.
    async fn change<R: RoleMark>(
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
        let Some(dialogue) = login.endpoint().dialogue() else {
            return Met::of(Change::NotReached(NO_DIALOGUE.into()), None);
        };
        match self.talk(login, dialogue, purpose, values, may_send).await {
            Err((NoSession::Closed, presented)) => Met::of(wrong, presented),
            Err((NoSession::NoAnswer(why), presented)) => {
                Met::of(Change::NotReached(why), presented)
            }
            Ok(talked) => Met {
                result: change(talked.outcome, talked.is_changing, wrong),
                presented: talked.presented,
                transcript: talked.transcript,
            },
        }
    }
}

/// A terminal with whatever the device runs for somebody who signs in.
async fn at_a_prompt(session: &Session) -> Result<Channel<Msg>, String> {
    let words = |error: russh::Error| plain_words(&error.to_string());
    let channel = session.handle.channel_open_session().await.map_err(words)?;
    channel
        .request_pty(false, "vt100", 200, 100, 0, 0, &[])
        .await
        .map_err(words)?;
    channel.request_shell(false).await.map_err(words)?;
    Ok(channel)
}

#[async_trait]
impl Connector for CommandLine {
    fn kind(&self) -> ConnectorKind {
        ConnectorKind::CommandLine
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            changes_as_operator: true,
            changes_as_itself: true,
            lists_accounts: false,
        }
    }

    fn needed_rights(&self) -> &'static str {
        "The operator signs in by password and may give the commands of the device's dialogue. What those need there, the dialogue says."
    }

    async fn identify(&self, endpoint: &Endpoint) -> Result<Vec<PresentedIdentity>, String> {
        self.ssh.identify(endpoint).await
    }

    async fn check(&self, account: &BoundLogin<Account>) -> Met<Probe> {
        let Some(dialogue) = account.endpoint().dialogue() else {
            return Met::of(Probe::NoAnswer(NO_DIALOGUE.into()), None);
        };
        if !dialogue.is_for(Purpose::Check) {
            // Signing in is all that there is to be checked.
            return self.ssh.check(account).await;
        }
        let values = Values {
            account: account.login(),
            current: Some(account.password()),
            ..Values::default()
        };
        let nothing: MaySend<'_> = Box::new(|| Box::pin(async { false }));
        match self
            .talk(account, dialogue, Purpose::Check, values, nothing)
            .await
        {
            Err((NoSession::Closed, presented)) => Met::of(Probe::Closed, presented),
            Err((NoSession::NoAnswer(why), presented)) => Met::of(Probe::NoAnswer(why), presented),
            Ok(talked) => Met {
                result: match talked.outcome {
                    Ok(Ending::Done) => Probe::Opened,
                    Ok(Ending::WrongPassword) => Probe::Closed,
                    Ok(Ending::Locked(why)) => {
                        Probe::NoAnswer(format!("the account is locked: {why}"))
                    }
                    Ok(Ending::Refused(why) | Ending::GaveUp(why))
                    | Err(BrokeOff::Connection(why)) => Probe::NoAnswer(why),
                    Err(BrokeOff::LeaseLost) => {
                        Probe::NoAnswer("a check would have changed something".into())
                    }
                },
                presented: talked.presented,
                transcript: talked.transcript,
            },
        }
    }

    async fn change_as_operator(
        &self,
        operator: &BoundLogin<Operator>,
        candidate: &BoundLogin<Account>,
        may_send: MaySend<'_>,
    ) -> Met<Change> {
        let values = Values {
            account: candidate.login(),
            operator: operator.login(),
            new: Some(candidate.password()),
            operator_password: Some(operator.password()),
            ..Values::default()
        };
        self.change(
            operator,
            candidate,
            Purpose::Operator,
            values,
            may_send,
            Change::OperatorRefused,
        )
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
            ..Values::default()
        };
        self.change(
            account,
            candidate,
            Purpose::Account,
            values,
            may_send,
            Change::AccountRefused,
        )
        .await
    }

    async fn list_accounts(
        &self,
        _: &BoundLogin<Operator>,
    ) -> Met<Result<Vec<FoundAccount>, String>> {
        Met::of(Err("a dialogue does not list accounts".into()), None)
    }
}

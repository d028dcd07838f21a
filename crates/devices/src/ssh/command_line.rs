//! Command lines over SSH (RFC 4254, 6.5): devices that have no commands to run, only a prompt, and
//! are talked to by a dialogue.

use async_trait::async_trait;
use jexlin_core::dialogue::{Ending, Purpose, Talk, Values};
use jexlin_core::upkeep::identity::PresentedIdentity;
use jexlin_core::upkeep::{BoundLogin, ConnectorKind, Endpoint, RoleMark};
use russh::client::Msg;
use russh::{Channel, Disconnect};
use tokio::time::{Duration, timeout};

use super::connection::Session;
use super::sign_in::NoSession;
use super::{InChannel, Ssh};
use crate::conversation::converse;
use crate::instructed::{Came, Instructed, Stopped};
use crate::network::plain_words;
use crate::{Connector as _, MaySend, TimeLimits};

/// A farewell and the end of a connection take at most so long; the result stands already.
const LEAVING: Duration = Duration::from_secs(2);

/// Talks at prompts. Each talk has a connection of its own: many devices take few sessions at a time.
#[derive(Debug)]
pub(crate) struct CommandLine {
    limits: TimeLimits,
    ssh: Ssh,
}

#[async_trait]
impl Instructed for CommandLine {
    const KIND: ConnectorKind = ConnectorKind::CommandLine;
    const NEEDED_RIGHTS: &'static str = "The operator signs in by password and may give the commands of the device's dialogue. What those need there, the dialogue says.";
    const MISSING: &'static str = "the device has no dialogue; a steward chooses one";

    fn new(limits: TimeLimits) -> Self {
        Self {
            limits,
            ssh: Ssh::new(limits),
        }
    }

    async fn look(&self, endpoint: &Endpoint) -> Result<Vec<PresentedIdentity>, String> {
        self.ssh.identify(endpoint).await
    }

    async fn talk<R: RoleMark + Send + Sync>(
        &self,
        login: &BoundLogin<R>,
        purpose: Purpose,
        values: Values<'_>,
        may_send: MaySend<'_>,
    ) -> Option<Came> {
        let dialogue = login.endpoint().dialogue()?;
        let (session, presented) = self.ssh.open(login).await;
        let session = match session {
            Ok(session) => session,
            Err(NoSession::Closed) => return Some(Came::stopped(Stopped::Closed, presented)),
            Err(NoSession::NoAnswer(why)) => {
                return Some(Came::stopped(Stopped::Connection(why), presented));
            }
        };
        let mut came = Came::stopped(Stopped::Connection(self.ssh.silence()), presented);
        if purpose == Purpose::Check && !dialogue.head().is_for(purpose) {
            // Signing in is all that there is to be checked.
            came.outcome = Ok(Ending::Done);
        } else {
            match timeout(self.limits.connect, at_a_prompt(&session)).await {
                Ok(Ok(mut channel)) => {
                    let (mut talk, act) = Talk::begin(dialogue, purpose, values);
                    let mut terminal = InChannel(&mut channel);
                    let talking = converse(&mut terminal, &mut talk, act, may_send);
                    came.outcome = match timeout(self.limits.change, talking).await {
                        Ok(outcome) => outcome,
                        Err(_) => Err(Stopped::Connection(format!(
                            "the talk took longer than {} seconds, at the step “{}”",
                            self.limits.change.as_secs(),
                            talk.step()
                        ))),
                    };
                    came.is_changing = talk.is_changing();
                    came.transcript = talk.transcript().to_vec();
                    came.found = talk.take_found();
                    let farewell = async {
                        if let Some(line) = talk.farewell() {
                            let _ = channel.data_bytes(line.expose_secret().to_vec()).await;
                        }
                        let _ = channel.eof().await;
                    };
                    let _ = timeout(LEAVING, farewell).await;
                }
                Ok(Err(why)) => came.outcome = Err(Stopped::Connection(why)),
                Err(_) => {}
            }
        }
        let goodbye = session
            .handle
            .disconnect(Disconnect::ByApplication, "", "en");
        let _ = timeout(LEAVING, goodbye).await;
        Some(came)
    }
}

/// Opens a terminal with the shell that the device gives to whoever signs in.
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

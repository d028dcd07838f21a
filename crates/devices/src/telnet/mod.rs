//! Command lines over Telnet (RFC 854), by a dialogue, which signs in as well. Telnet proves nothing and
//! hides nothing: passwords go only to a device of which a steward has said that this is accepted, where the
//! organisation allows that at all.

mod options;

use std::time::Duration;

use async_trait::async_trait;
use jexlin_core::dialogue::{Ending, Purpose, Talk, Values};
use jexlin_core::secret::Secret;
use jexlin_core::upkeep::identity::PresentedIdentity;
use jexlin_core::upkeep::{BoundLogin, ConnectorKind, Endpoint, RoleMark};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::time::timeout;

use self::options::{Options, typed};
use crate::MaySend;
use crate::conversation::{Heard, Terminal, converse};
use crate::instructed::{Came, Instructed, Stopped};
use crate::network::no_connection;
use crate::reach::{self, Connection};
use crate::time_limits::{TimeLimits, silence};

/// A farewell takes at most so long; the result stands already.
const LEAVING: Duration = Duration::from_secs(2);

/// Talks over Telnet.
#[derive(Debug)]
pub(crate) struct Telnet {
    limits: TimeLimits,
}

impl Telnet {
    async fn connect(&self, endpoint: &Endpoint) -> Result<Connection, String> {
        timeout(self.limits.connect, reach::connect(endpoint))
            .await
            .unwrap_or_else(|_| Err(silence(self.limits.connect)))
    }
}

/// A connection as a terminal.
struct Line {
    stream: Connection,
    options: Options,
}

impl Line {
    async fn write(&mut self, bytes: &[u8]) -> Result<(), String> {
        let written = self.stream.write_all(bytes).await;
        written.map_err(|error| no_connection(&error.to_string()))
    }
}

#[async_trait]
impl Terminal for Line {
    async fn send(&mut self, text: &Secret) -> Result<(), String> {
        let bytes = Secret::from_bytes(typed(text.expose_secret()));
        self.write(bytes.expose_secret()).await
    }

    async fn next(&mut self) -> Heard {
        let mut buffer = [0; 4096];
        match self.stream.read(&mut buffer).await {
            Ok(0) | Err(_) => Heard::Ended,
            Ok(count) => {
                let (text, answer) = self.options.read(buffer.get(..count).unwrap_or_default());
                if !answer.is_empty() && self.write(&answer).await.is_err() {
                    return Heard::Ended;
                }
                if text.is_empty() {
                    Heard::Nothing
                } else {
                    Heard::Text(text)
                }
            }
        }
    }
}

#[async_trait]
impl Instructed for Telnet {
    const KIND: ConnectorKind = ConnectorKind::Telnet;
    const NEEDED_RIGHTS: &'static str = "Telnet shows no identity and encrypts nothing: whoever is on the network between reads the passwords, and can take the device's place. Use SSH wherever the device has it. The dialogue signs in; what the operator needs there, it says.";
    const MISSING: &'static str = "the device has no dialogue; a steward chooses one";

    fn new(limits: TimeLimits) -> Self {
        Self { limits }
    }

    async fn look(&self, endpoint: &Endpoint) -> Result<Vec<PresentedIdentity>, String> {
        // There is nothing to be shown; whether somebody is there at all can be said.
        self.connect(endpoint).await.map(|_| vec![])
    }

    async fn talk<R: RoleMark + Send + Sync>(
        &self,
        login: &BoundLogin<R>,
        purpose: Purpose,
        values: Values<'_>,
        may_send: MaySend<'_>,
    ) -> Option<Came> {
        let dialogue = login.endpoint().dialogue()?;
        let stop = |why: String| Some(Came::stopped(Stopped::Connection(why), None));
        if !login.endpoint().is_accepted_unproven() {
            return stop(
                "nobody has accepted that this device proves no identity; nothing was sent".into(),
            );
        }
        if !dialogue.head().is_for(purpose) {
            return stop(
                "the dialogue does not say how this is done, beginning with the sign-in".into(),
            );
        }
        let stream = match self.connect(login.endpoint()).await {
            Ok(stream) => stream,
            Err(why) => return stop(why),
        };
        let mut line = Line {
            stream,
            options: Options::new(),
        };
        let (mut talk, act) = Talk::begin(dialogue, purpose, values);
        let talking = converse(&mut line, &mut talk, act, may_send);
        let outcome: Result<Ending, Stopped> = match timeout(self.limits.change, talking).await {
            Ok(outcome) => outcome,
            Err(_) => Err(Stopped::Connection(format!(
                "the talk took longer than {} seconds, at the step “{}”",
                self.limits.change.as_secs(),
                talk.step()
            ))),
        };
        if let Some(goodbye) = talk.farewell() {
            let _ = timeout(LEAVING, line.send(&goodbye)).await;
        }
        let _ = timeout(LEAVING, line.stream.shutdown()).await;
        Some(Came {
            outcome,
            is_changing: talk.is_changing(),
            presented: None,
            transcript: talk.transcript().to_vec(),
            found: talk.take_found(),
        })
    }
}

//! OpenSSH hosts (RFC 4251 to 4254): the password of an account checked by signing in, changed by
//! the operator with `chpasswd`, or by the account itself at the prompt of `passwd`.

use std::collections::HashMap;
use std::sync::{Arc, Mutex as StdMutex};
use std::time::Duration;

use jexlin_core::dialogue::{LINUX_PASSWD, Say, Step, Talk};
use jexlin_core::secret::{Secret, redact};
use russh::client::{AuthResult, Handle, Handler};
use russh::{ChannelMsg, Disconnect, MethodKind};
use tokio::sync::Mutex;
use tokio::time::timeout;

use crate::{Change, Endpoint, Met, Probe};

/// The most that a command may write before it is left, in bytes.
const MOST_OUTPUT: usize = 64 * 1024;

/// How long to wait for a device.
#[derive(Clone, Copy, Debug)]
pub struct Patience {
    /// For the connection, the handshake and the sign-in together.
    pub connect: Duration,
    /// For the change of a password.
    pub change: Duration,
}

impl Default for Patience {
    fn default() -> Self {
        Self { connect: Duration::from_secs(15), change: Duration::from_secs(20) }
    }
}

/// Looks at the host key: compares it with the pinned one, or notes the first.
struct KeyWatch {
    pinned: Option<String>,
    met: Arc<StdMutex<Option<String>>>,
}

impl Handler for KeyWatch {
    type Error = russh::Error;

    async fn check_server_key(&mut self, key: &russh::keys::PublicKeyOrCertificate) -> Result<bool, Self::Error> {
        let russh::keys::PublicKeyOrCertificate::PublicKey { key, .. } = key else { return Ok(false) };
        let mut key = key.clone();
        key.set_comment("");
        let Ok(line) = key.to_openssh() else { return Ok(false) };
        let line = line.trim().to_owned();
        let good = self.pinned.as_ref().is_none_or(|pinned| *pinned == line);
        if let Ok(mut met) = self.met.lock() {
            *met = Some(line);
        }
        Ok(good)
    }
}

/// Why there is no connection that is signed in.
enum NoSession {
    Closed,
    NoAnswer(String),
}

struct Session {
    handle: Handle<KeyWatch>,
    met: Option<String>,
}

/// The connector. It keeps connections of operators open, to use them again.
#[derive(Default)]
pub struct Ssh {
    patience: Patience,
    operators: Mutex<HashMap<OperatorKey, Arc<Session>>>,
}

/// One operator of one device with one password; a rotated operator signs in anew.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
struct OperatorKey {
    address: String,
    port: u16,
    host_key: Option<String>,
    user: String,
    version: i32,
}

impl std::fmt::Debug for Ssh {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Ssh")
    }
}

/// An account and a password that opens it.
#[derive(Clone, Copy, Debug)]
pub struct SignIn<'a> {
    /// The account.
    pub user: &'a str,
    /// The password.
    pub password: &'a Secret,
    /// The number of the password's version, so that a kept connection is not used with a newer one.
    pub version: i32,
}

impl Ssh {
    /// A connector that waits this long.
    #[must_use]
    pub fn new(patience: Patience) -> Self {
        Self { patience, operators: Mutex::default() }
    }

    /// Checks by a fresh login whether a password opens an account.
    pub async fn probe(&self, endpoint: &Endpoint, account: SignIn<'_>) -> Met<Probe> {
        match self.open(endpoint, account).await {
            (Ok(session), met) => {
                // Saying goodbye is a courtesy; the answer stands already.
                let _ = timeout(Duration::from_secs(2), session.handle.disconnect(Disconnect::ByApplication, "", "en")).await;
                Met { what: Probe::Opened, host_key: met }
            }
            (Err(NoSession::Closed), met) => Met { what: Probe::Closed, host_key: met },
            (Err(NoSession::NoAnswer(why)), met) => Met { what: Probe::NoAnswer(why), host_key: met },
        }
    }

    /// Changes the password of an account as the operator of the host.
    pub async fn change_as_operator(&self, endpoint: &Endpoint, operator: SignIn<'_>, user: &str, candidate: &Secret) -> Met<Change> {
        if user.is_empty() || user.contains([':', '\n', '\r', '\0']) || user.starts_with('-') {
            return Met { what: Change::Refused("an account name cannot be empty, begin with a dash or hold a colon or a line break".into()), host_key: None };
        }
        let Ok(plain) = candidate.expose_secret_text() else {
            return Met { what: Change::Refused("the new password is no text".into()), host_key: None };
        };
        let session = match self.operator_session(endpoint, operator).await {
            Ok(session) => session,
            Err((NoSession::Closed, met)) => {
                return Met { what: Change::NotReached("the operator's password does not open its account".into()), host_key: met };
            }
            Err((NoSession::NoAnswer(why), met)) => return Met { what: Change::NotReached(why), host_key: met },
        };
        let line = Secret::from_text(format!("{user}:{plain}\n"));
        let what = match timeout(self.patience.change, run(&session, "LC_ALL=C chpasswd", Some(&line))).await {
            Err(_) => Change::Lost("the device did not finish in time".into()),
            Ok(Err(Broken::Before(why))) => Change::NotReached(why),
            Ok(Err(Broken::After(why))) => Change::Lost(why),
            Ok(Ok((0, _))) => Change::Applied,
            Ok(Ok((_, output))) => Change::Refused(tidy(&output, &[candidate, operator.password])),
        };
        if matches!(what, Change::Lost(_) | Change::NotReached(_)) {
            self.operators.lock().await.retain(|_, kept| !Arc::ptr_eq(kept, &session));
        }
        Met { what, host_key: session.met.clone() }
    }

    /// Changes the password of an account as the account itself, at the host's own prompt.
    pub async fn change_as_self(&self, endpoint: &Endpoint, account: SignIn<'_>, candidate: &Secret) -> Met<Change> {
        let (session, met) = self.open(endpoint, account).await;
        let what = match session {
            Err(NoSession::Closed) => Change::NotReached("the stored password does not open the account".into()),
            Err(NoSession::NoAnswer(why)) => Change::NotReached(why),
            Ok(session) => match timeout(self.patience.change, converse(&session, account.password, candidate)).await {
                Ok(change) => change,
                Err(_) => Change::Lost("the device did not finish its prompt in time".into()),
            },
        };
        Met { what, host_key: met }
    }

    /// The kept connection of an operator, or a new one.
    async fn operator_session(&self, endpoint: &Endpoint, operator: SignIn<'_>) -> Result<Arc<Session>, (NoSession, Option<String>)> {
        let key = OperatorKey {
            address: endpoint.address.clone(),
            port: endpoint.port,
            host_key: endpoint.host_key.clone(),
            user: operator.user.to_owned(),
            version: operator.version,
        };
        let mut kept = self.operators.lock().await;
        kept.retain(|_, session| !session.handle.is_closed());
        if let Some(session) = kept.get(&key) {
            return Ok(Arc::clone(session));
        }
        // Held while connecting, so that ten jobs that begin together open one connection; the
        // patience bounds it. Other devices wait no longer than that.
        let (session, met) = self.open(endpoint, operator).await;
        let session = Arc::new(session.map_err(|why| (why, met))?);
        // Only a host that is pinned is kept: at first contact the next job must pin it.
        if endpoint.host_key.is_some() {
            kept.insert(key, Arc::clone(&session));
        }
        Ok(session)
    }

    async fn open(&self, endpoint: &Endpoint, account: SignIn<'_>) -> (Result<Session, NoSession>, Option<String>) {
        let met = Arc::new(StdMutex::new(None));
        let watch = KeyWatch { pinned: endpoint.host_key.clone(), met: Arc::clone(&met) };
        let opened = timeout(self.patience.connect, sign_in(endpoint, account, watch)).await;
        let met = met.lock().ok().and_then(|mut met| met.take());
        let changed = matches!((&endpoint.host_key, &met), (Some(pinned), Some(met)) if pinned != met);
        if changed {
            let why =
                "the host key has changed since first contact; nothing was sent. If the device was replaced, have a steward accept its new key".to_owned();
            return (Err(NoSession::NoAnswer(why)), None);
        }
        let session = match opened {
            Ok(Ok(handle)) => Ok(Session { handle, met: met.clone() }),
            Ok(Err(why)) => Err(why),
            Err(_) => Err(NoSession::NoAnswer(format!("the device did not answer within {} seconds", self.patience.connect.as_secs()))),
        };
        (session, met)
    }
}

async fn sign_in(endpoint: &Endpoint, account: SignIn<'_>, watch: KeyWatch) -> Result<Handle<KeyWatch>, NoSession> {
    let config = russh::client::Config {
        client_id: russh::SshId::Standard("SSH-2.0-Jexlin".into()),
        inactivity_timeout: Some(Duration::from_secs(120)),
        nodelay: true,
        ..Default::default()
    };
    let no_answer = |error: russh::Error| NoSession::NoAnswer(format!("no connection to the device: {}", plain_words(&error.to_string())));
    let mut handle = russh::client::connect(Arc::new(config), (endpoint.address.as_str(), endpoint.port), watch).await.map_err(no_answer)?;
    let password = account.password.expose_secret_text().map_err(|_| NoSession::NoAnswer("the stored password is no text".into()))?;
    match handle.authenticate_password(account.user, password).await.map_err(no_answer)? {
        AuthResult::Success => Ok(handle),
        AuthResult::Failure { remaining_methods, partial_success } if partial_success || !remaining_methods.contains(&MethodKind::Password) => {
            Err(NoSession::NoAnswer("the device takes no password for this account alone".into()))
        }
        AuthResult::Failure { .. } => Err(NoSession::Closed),
    }
}

/// Whether anything can have reached the device when a command broke off.
enum Broken {
    Before(String),
    After(String),
}

/// Runs a command, gives it a secret on standard input, and returns its exit status and output.
async fn run(session: &Session, command: &str, input: Option<&Secret>) -> Result<(u32, String), Broken> {
    let before = |error: russh::Error| Broken::Before(format!("the connection was lost: {}", plain_words(&error.to_string())));
    let after = |error: russh::Error| Broken::After(format!("the connection was lost: {}", plain_words(&error.to_string())));
    let mut channel = session.handle.channel_open_session().await.map_err(before)?;
    channel.exec(true, command).await.map_err(before)?;
    if let Some(input) = input {
        channel.data_bytes(input.expose_secret().to_vec()).await.map_err(after)?;
        channel.eof().await.map_err(after)?;
    }
    let mut output = vec![];
    let mut status = None;
    while let Some(message) = channel.wait().await {
        match message {
            ChannelMsg::Data { data } | ChannelMsg::ExtendedData { data, .. } => {
                output.extend_from_slice(&data);
                if output.len() > MOST_OUTPUT {
                    return Err(Broken::After("the device wrote more than anybody reads".into()));
                }
            }
            ChannelMsg::ExitStatus { exit_status } => status = Some(exit_status),
            ChannelMsg::Failure => return Err(Broken::Before("the device does not run commands for the operator".into())),
            _ => {}
        }
    }
    let output = String::from_utf8_lossy(&output).into_owned();
    status.map(|status| (status, output)).ok_or_else(|| Broken::After("the connection was lost before the device said how it went".into()))
}

/// Talks to `passwd` through a terminal.
async fn converse(session: &Session, current: &Secret, candidate: &Secret) -> Change {
    let words = |error: russh::Error| plain_words(&error.to_string());
    let mut channel = match session.handle.channel_open_session().await {
        Ok(channel) => channel,
        Err(error) => return Change::NotReached(words(error)),
    };
    // No echo: what is typed must not come back.
    if let Err(error) = channel.request_pty(false, "dumb", 200, 50, 0, 0, &[(russh::Pty::ECHO, 0)]).await {
        return Change::NotReached(words(error));
    }
    if let Err(error) = channel.exec(true, "LC_ALL=C passwd").await {
        return Change::NotReached(words(error));
    }
    let mut talk = Talk::begin(LINUX_PASSWD, vec![current, candidate]);
    let mut typed_candidate = false;
    while let Some(message) = channel.wait().await {
        let (ChannelMsg::Data { data } | ChannelMsg::ExtendedData { data, .. }) = message else {
            if matches!(message, ChannelMsg::Failure) {
                return Change::NotReached("the device does not run commands for this account".into());
            }
            continue;
        };
        let step = talk.hear(&data);
        let say = match step {
            Step::Listen => continue,
            Step::Done => return Change::Applied,
            Step::Refused(why) => return Change::Refused(why),
            Step::Lost(why) => return if typed_candidate { Change::Lost(why) } else { Change::NotReached(why) },
            Step::Type(say) => say,
        };
        let secret = match say {
            Say::Current => current,
            Say::Candidate => {
                typed_candidate = true;
                candidate
            }
        };
        let line = Secret::from_bytes([secret.expose_secret(), b"\n"].concat());
        if let Err(error) = channel.data_bytes(line.expose_secret().to_vec()).await {
            return if typed_candidate { Change::Lost(words(error)) } else { Change::NotReached(words(error)) };
        }
    }
    let why = format!("the device ended its prompt without a word that is known: {}", talk.words());
    if typed_candidate { Change::Lost(why) } else { Change::NotReached(why) }
}

/// A device's output as one line for a message.
fn tidy(output: &str, secrets: &[&Secret]) -> String {
    let words = plain_words(&redact(output, secrets));
    if words.is_empty() { "the device refused without a word".into() } else { words }
}

fn plain_words(text: &str) -> String {
    let line: String = text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
    line.split_whitespace().collect::<Vec<_>>().join(" ").chars().take(300).collect()
}

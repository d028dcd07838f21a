//! OpenSSH hosts (RFC 4251 to 4254): the password of an account checked by signing in, changed by
//! the operator with `chpasswd`, or by the account itself at the prompt of `passwd`.

use std::borrow::Cow;
use std::collections::HashMap;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex as StdMutex};
use std::time::{Duration, Instant, SystemTime};

use jexlin_core::dialogue::{LINUX_PASSWD, Say, Step, Talk};
use jexlin_core::names::show_foreign;
use jexlin_core::secret::{Secret, redact};
use jexlin_core::upkeep::identity::{Identity, PresentedIdentity, proves};
use jexlin_core::upkeep::{Account, BoundLogin, Endpoint, Operator, RoleMark};
use russh::client::{AuthResult, Handle, Handler};
use russh::keys::{Algorithm, Certificate, EcdsaCurve, HashAlg, PublicKey, PublicKeyOrCertificate};
use russh::{ChannelMsg, Disconnect, MethodKind, Preferred};
use tokio::sync::Mutex;
use tokio::time::timeout;
use uuid::Uuid;

use crate::{Change, Met, Probe};

/// The most that a command may write before it is left, in bytes.
const MOST_OUTPUT: usize = 64 * 1024;

/// How long to wait for a device.
#[derive(Clone, Copy, Debug)]
pub struct Patience {
    /// For the connection, the handshake and the sign-in together.
    pub connect: Duration,
    /// For the change of a password.
    pub change: Duration,
    /// A kept connection ends after so long without use.
    pub idle: Duration,
}

impl Default for Patience {
    fn default() -> Self {
        Self {
            connect: Duration::from_secs(15),
            change: Duration::from_secs(20),
            idle: Duration::from_secs(60),
        }
    }
}

/// Notes the identity that a device shows, and lets the key exchange end only when it is accepted.
struct IdentityWatch {
    address: String,
    accepted: Vec<Identity>,
    /// Accept whatever is shown: the organisation trusts the first contact.
    trust: bool,
    presented: Arc<StdMutex<Option<PresentedIdentity>>>,
}

fn line_of(key: &PublicKey) -> Option<String> {
    let mut key = key.clone();
    key.set_comment("");
    key.to_openssh().ok().map(|line| line.trim().to_owned())
}

/// The key that signed a host certificate which is valid for this address now.
fn authority_of(certificate: &Certificate, address: &str) -> Option<String> {
    let now = SystemTime::now()
        .duration_since(SystemTime::UNIX_EPOCH)
        .ok()?
        .as_secs();
    let signer = PublicKey::new(certificate.signature_key().clone(), "");
    let valid = certificate.cert_type().is_host()
        && certificate.critical_options().iter().next().is_none()
        && certificate
            .valid_principals()
            .iter()
            .any(|principal| principal.eq_ignore_ascii_case(address))
        && certificate
            .validate_at(now, [&signer.fingerprint(HashAlg::Sha256)])
            .is_ok();
    if valid { line_of(&signer) } else { None }
}

impl Handler for IdentityWatch {
    type Error = russh::Error;

    async fn check_server_key(
        &mut self,
        shown: &PublicKeyOrCertificate,
    ) -> Result<bool, Self::Error> {
        let Some(key) = line_of(&shown.public_key()) else {
            return Ok(false);
        };
        let authority = shown
            .certificate()
            .and_then(|certificate| authority_of(certificate, &self.address));
        let presented = PresentedIdentity { key, authority };
        let accepted = self.trust || proves(&self.accepted, &presented);
        if let Ok(mut slot) = self.presented.lock() {
            *slot = Some(presented);
        }
        Ok(accepted)
    }
}

/// Why there is no connection that is signed in.
enum NoSession {
    Closed,
    NoAnswer(String),
}

/// What was said to somebody who asked for a session, and the identity that was shown.
type Opened = (Result<Session, NoSession>, Option<PresentedIdentity>);

struct Session {
    handle: Handle<IdentityWatch>,
    presented: Option<PresentedIdentity>,
    last_used: StdMutex<Instant>,
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

type Slot = Arc<Mutex<Option<Arc<Session>>>>;

/// The connector. It keeps connections of operators open, to use them again.
#[derive(Default)]
pub struct Ssh {
    patience: Patience,
    operators: StdMutex<HashMap<OperatorConnection, Slot>>,
}

impl std::fmt::Debug for Ssh {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Ssh")
    }
}

impl OperatorConnection {
    fn of(operator: &BoundLogin<Operator>) -> Self {
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

impl Ssh {
    /// A connector that waits this long.
    #[must_use]
    pub fn new(patience: Patience) -> Self {
        Self {
            patience,
            operators: StdMutex::default(),
        }
    }

    /// Reads the identities that a device shows, one for each sort of key that it has. Nothing is
    /// sent to it: the key exchange is broken off as soon as it has shown its key.
    ///
    /// # Errors
    /// A sentence when nothing there shows a key.
    pub async fn read_identity(
        &self,
        endpoint: &Endpoint,
    ) -> Result<Vec<PresentedIdentity>, String> {
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
            let tried = timeout(self.patience.connect, connect(endpoint, watch, preferred)).await;
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

    fn silence(&self) -> String {
        format!(
            "the device did not answer within {} seconds",
            self.patience.connect.as_secs()
        )
    }

    /// Checks by a fresh login whether a password opens an account.
    pub async fn probe(&self, account: &BoundLogin<Account>) -> Met<Probe> {
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
                Met {
                    result: Probe::Opened,
                    presented,
                }
            }
            (Err(NoSession::Closed), presented) => Met {
                result: Probe::Closed,
                presented,
            },
            (Err(NoSession::NoAnswer(why)), presented) => Met {
                result: Probe::NoAnswer(why),
                presented,
            },
        }
    }

    /// Changes the password of an account to that of `candidate`, as the operator of the host.
    /// `may_send` is asked when everything is ready, immediately before anything is sent.
    pub async fn change_as_operator<F: Future<Output = bool> + Send>(
        &self,
        operator: &BoundLogin<Operator>,
        candidate: &BoundLogin<Account>,
        may_send: impl FnOnce() -> F + Send,
    ) -> Met<Change> {
        let user = candidate.login();
        let met = |result| Met {
            result,
            presented: None,
        };
        if user.is_empty() || user.contains([':', '\n', '\r', '\0']) || user.starts_with('-') {
            return met(Change::Refused("an account name cannot be empty, begin with a dash or hold a colon or a line break".into()));
        }
        if operator.endpoint() != candidate.endpoint() {
            return met(Change::NotReached(
                "operator and account are not of the same endpoint".into(),
            ));
        }
        let Ok(plain) = candidate.password().expose_secret_text() else {
            return met(Change::Refused("the new password is no text".into()));
        };
        if plain.contains(['\n', '\r', '\0']) {
            return met(Change::Refused("the new password has a line break".into()));
        }
        let session = match self.operator_session(operator).await {
            Ok(session) => session,
            Err((NoSession::Closed, presented)) => {
                return Met {
                    result: Change::OperatorRefused,
                    presented,
                };
            }
            Err((NoSession::NoAnswer(why), presented)) => {
                return Met {
                    result: Change::NotReached(why),
                    presented,
                };
            }
        };
        if let Ok(mut last) = session.last_used.lock() {
            *last = Instant::now();
        }
        let line = Secret::from_text(format!("{user}:{plain}\n"));
        let sent = AtomicBool::new(false);
        let result = match timeout(
            self.patience.change,
            run(&session, "LC_ALL=C chpasswd", &line, may_send, &sent),
        )
        .await
        {
            Err(_) if sent.load(Ordering::Relaxed) => {
                Change::Lost("the device did not finish in time".into())
            }
            Err(_) => Change::NotReached("the device did not begin in time".into()),
            Ok(Err(Broken::Before(why))) => Change::NotReached(why),
            Ok(Err(Broken::After(why))) => Change::Lost(why),
            Ok(Err(Broken::LeaseLost)) => Change::LeaseLost,
            Ok(Ok((0, _))) => Change::Applied,
            Ok(Ok((_, output))) => {
                Change::Refused(tidy(&output, &[candidate.password(), operator.password()]))
            }
        };
        if matches!(result, Change::Lost(_) | Change::NotReached(_)) {
            self.close_operator(&OperatorConnection::of(operator));
        }
        Met {
            result,
            presented: session.presented.clone(),
        }
    }

    /// Changes the password of an account as the account itself, at the host's own prompt.
    /// `may_send` is asked when everything is ready, immediately before the new password is sent.
    pub async fn change_as_self<F: Future<Output = bool> + Send>(
        &self,
        account: &BoundLogin<Account>,
        candidate: &BoundLogin<Account>,
        may_send: impl FnOnce() -> F + Send,
    ) -> Met<Change> {
        if account.endpoint() != candidate.endpoint() {
            return Met {
                result: Change::NotReached("the two passwords are not of the same endpoint".into()),
                presented: None,
            };
        }
        let (session, presented) = self.open(account).await;
        let result = match session {
            Err(NoSession::Closed) => Change::AccountRefused,
            Err(NoSession::NoAnswer(why)) => Change::NotReached(why),
            Ok(session) => {
                let talk = converse(&session, account.password(), candidate.password(), may_send);
                match timeout(self.patience.change, talk).await {
                    Ok(change) => change,
                    Err(_) => Change::Lost("the device did not finish its prompt in time".into()),
                }
            }
        };
        Met { result, presented }
    }

    /// The connections of operators that are kept open.
    #[must_use]
    pub fn kept_operators(&self) -> Vec<OperatorConnection> {
        self.operators
            .lock()
            .map(|kept| kept.keys().cloned().collect())
            .unwrap_or_default()
    }

    /// Ends a kept connection; a command that runs over it comes to its end.
    pub fn close_operator(&self, which: &OperatorConnection) {
        if let Ok(mut kept) = self.operators.lock() {
            kept.remove(which);
        }
    }

    /// Ends the kept connections that nobody has used for a while.
    pub fn close_idle(&self) {
        let Ok(mut kept) = self.operators.lock() else {
            return;
        };
        kept.retain(|_, slot| {
            // A slot that is locked is being connected.
            let Ok(session) = slot.try_lock() else {
                return true;
            };
            session.as_ref().is_some_and(|session| {
                !session.handle.is_closed()
                    && session
                        .last_used
                        .lock()
                        .is_ok_and(|last| last.elapsed() < self.patience.idle)
            })
        });
    }

    /// Whether an operator's connection is kept open, so that no sign-in is needed.
    #[must_use]
    pub fn has_operator(&self, operator: &BoundLogin<Operator>) -> bool {
        let slot = self
            .operators
            .lock()
            .ok()
            .and_then(|kept| kept.get(&OperatorConnection::of(operator)).cloned());
        slot.is_some_and(|slot| {
            slot.try_lock().is_ok_and(|session| {
                session
                    .as_ref()
                    .is_some_and(|session| !session.handle.is_closed())
            })
        })
    }

    /// The kept connection of an operator, or a new one. Each has a lock of its own: jobs that begin
    /// together open one connection, and a device that does not answer keeps nobody else waiting.
    async fn operator_session(
        &self,
        operator: &BoundLogin<Operator>,
    ) -> Result<Arc<Session>, (NoSession, Option<PresentedIdentity>)> {
        let key = OperatorConnection::of(operator);
        let slot = match self.operators.lock() {
            Ok(mut kept) => {
                // A newer version of the password: the older connections of this operator end.
                kept.retain(|other, _| {
                    (other.organisation, other.device, other.credential)
                        != (key.organisation, key.device, key.credential)
                        || *other == key
                });
                Arc::clone(kept.entry(key.clone()).or_default())
            }
            Err(_) => Slot::default(),
        };
        let mut kept = slot.lock().await;
        if let Some(session) = kept.as_ref().filter(|session| !session.handle.is_closed()) {
            return Ok(Arc::clone(session));
        }
        *kept = None;
        let (session, presented) = self.open(operator).await;
        let session = Arc::new(session.map_err(|why| (why, presented))?);
        // Only a device that has an identity is kept: at first contact the next job must prove it.
        if operator.trusts_first_contact() {
            self.close_operator(&key);
        } else {
            *kept = Some(Arc::clone(&session));
        }
        Ok(session)
    }

    async fn open<R: RoleMark>(&self, account: &BoundLogin<R>) -> Opened {
        let endpoint = account.endpoint();
        let presented = Arc::new(StdMutex::new(None));
        let watch = IdentityWatch {
            address: endpoint.address().to_owned(),
            accepted: endpoint.identity().to_vec(),
            trust: account.trusts_first_contact(),
            presented: Arc::clone(&presented),
        };
        let opened = timeout(self.patience.connect, sign_in(account, watch)).await;
        let shown: Option<PresentedIdentity> =
            presented.lock().ok().and_then(|mut slot| slot.take());
        if !account.trusts_first_contact()
            && shown
                .as_ref()
                .is_some_and(|shown| !proves(endpoint.identity(), shown))
        {
            let why = "the device did not prove its identity: it shows another host key. Nothing was sent. If it was replaced, have a steward confirm its new identity";
            return (Err(NoSession::NoAnswer(why.to_owned())), None);
        }
        let session = match opened {
            Ok(Ok(handle)) => Ok(Session {
                handle,
                presented: shown.clone(),
                last_used: StdMutex::new(Instant::now()),
            }),
            Ok(Err(why)) => Err(why),
            Err(_) => Err(NoSession::NoAnswer(self.silence())),
        };
        (session, shown)
    }
}

/// The sorts of host keys, most preferred first.
const KEYS: [Algorithm; 6] = [
    Algorithm::Ed25519,
    Algorithm::Ecdsa {
        curve: EcdsaCurve::NistP256,
    },
    Algorithm::Ecdsa {
        curve: EcdsaCurve::NistP384,
    },
    Algorithm::Ecdsa {
        curve: EcdsaCurve::NistP521,
    },
    Algorithm::Rsa {
        hash: Some(HashAlg::Sha512),
    },
    Algorithm::Rsa {
        hash: Some(HashAlg::Sha256),
    },
];

/// Asks a device for the sorts of keys that it can prove one of these identities with.
fn preferred_for(accepted: &[Identity]) -> Preferred {
    let same_sort = |known: &Algorithm, key: &Algorithm| match (known, key) {
        (Algorithm::Rsa { .. }, Algorithm::Rsa { .. }) => true,
        _ => known == key,
    };
    let mut keys: Vec<Algorithm> = vec![];
    let mut certificates = false;
    for identity in accepted {
        match identity {
            Identity::HostKey(line) => {
                let sort = PublicKey::from_openssh(line)
                    .ok()
                    .map(|key| key.algorithm());
                keys.extend(
                    KEYS.iter()
                        .filter(|known| sort.as_ref().is_some_and(|sort| same_sort(known, sort)))
                        .cloned(),
                );
            }
            Identity::HostAuthority(_) => certificates = true,
            Identity::Fingerprint(_) => keys.extend(KEYS),
        }
    }
    if keys.is_empty() {
        keys.extend(KEYS);
    }
    Preferred {
        key: Cow::Owned(keys),
        host_key_certificates: if certificates {
            Cow::Borrowed(&KEYS)
        } else {
            Cow::Borrowed(&[])
        },
        ..Preferred::DEFAULT
    }
}

/// Connects to an address that the organisation allows, as far as the end of the key exchange.
async fn connect(
    endpoint: &Endpoint,
    watch: IdentityWatch,
    preferred: Preferred,
) -> Result<Handle<IdentityWatch>, NoSession> {
    let config = russh::client::Config {
        client_id: russh::SshId::Standard("SSH-2.0-Jexlin".into()),
        inactivity_timeout: Some(Duration::from_secs(120)),
        nodelay: true,
        preferred,
        ..Default::default()
    };
    let no_answer = |why: String| {
        NoSession::NoAnswer(format!(
            "no connection to the device: {}",
            plain_words(&why)
        ))
    };
    let found = tokio::net::lookup_host((endpoint.address(), endpoint.port()))
        .await
        .map_err(|error| no_answer(error.to_string()))?;
    // What was resolved and checked is what is connected to.
    let allowed: Vec<_> = found
        .filter(|address| endpoint.rules().allow(*address))
        .collect();
    if allowed.is_empty() {
        return Err(NoSession::NoAnswer(
            "the organisation does not allow connections to this address and port".into(),
        ));
    }
    let stream = tokio::net::TcpStream::connect(allowed.as_slice())
        .await
        .map_err(|error| no_answer(error.to_string()))?;
    let _ = stream.set_nodelay(true);
    russh::client::connect_stream(Arc::new(config), stream, watch)
        .await
        .map_err(|error| no_answer(error.to_string()))
}

async fn sign_in<R: RoleMark>(
    account: &BoundLogin<R>,
    watch: IdentityWatch,
) -> Result<Handle<IdentityWatch>, NoSession> {
    let no_answer = |error: russh::Error| {
        NoSession::NoAnswer(format!(
            "no connection to the device: {}",
            plain_words(&error.to_string())
        ))
    };
    let mut handle = connect(
        account.endpoint(),
        watch,
        preferred_for(account.endpoint().identity()),
    )
    .await?;
    let password = account
        .password()
        .expose_secret_text()
        .map_err(|_| NoSession::NoAnswer("the stored password is no text".into()))?;
    match handle
        .authenticate_password(account.login(), password)
        .await
        .map_err(no_answer)?
    {
        AuthResult::Success => Ok(handle),
        AuthResult::Failure {
            remaining_methods,
            partial_success,
        } if partial_success || !remaining_methods.contains(&MethodKind::Password) => Err(
            NoSession::NoAnswer("the device takes no password for this account alone".into()),
        ),
        AuthResult::Failure { .. } => Err(NoSession::Closed),
    }
}

/// Whether anything can have reached the device when a command broke off.
enum Broken {
    Before(String),
    After(String),
    LeaseLost,
}

/// Runs a command, gives it a secret on standard input when `may_send` says yes, and returns its exit
/// status and output.
async fn run<F: Future<Output = bool> + Send>(
    session: &Session,
    command: &str,
    input: &Secret,
    may_send: impl FnOnce() -> F + Send,
    sent: &AtomicBool,
) -> Result<(u32, String), Broken> {
    let before = |error: russh::Error| {
        Broken::Before(format!(
            "the connection was lost: {}",
            plain_words(&error.to_string())
        ))
    };
    let after = |error: russh::Error| {
        Broken::After(format!(
            "the connection was lost: {}",
            plain_words(&error.to_string())
        ))
    };
    let mut channel = session
        .handle
        .channel_open_session()
        .await
        .map_err(before)?;
    channel.exec(true, command).await.map_err(before)?;
    // The device says first whether it runs commands at all.
    loop {
        match channel.wait().await {
            Some(ChannelMsg::Success) => break,
            Some(ChannelMsg::Failure) => {
                return Err(Broken::Before(
                    "the device does not run commands for the operator".into(),
                ));
            }
            Some(ChannelMsg::Eof | ChannelMsg::Close) | None => {
                return Err(Broken::Before("the device ended the connection".into()));
            }
            Some(_) => {}
        }
    }
    if !may_send().await {
        return Err(Broken::LeaseLost);
    }
    sent.store(true, Ordering::Relaxed);
    channel
        .data_bytes(input.expose_secret().to_vec())
        .await
        .map_err(after)?;
    channel.eof().await.map_err(after)?;
    let mut output = vec![];
    let mut status = None;
    while let Some(message) = channel.wait().await {
        match message {
            ChannelMsg::Data { data } | ChannelMsg::ExtendedData { data, .. } => {
                output.extend_from_slice(&data);
                if output.len() > MOST_OUTPUT {
                    return Err(Broken::After(
                        "the device wrote more than anybody reads".into(),
                    ));
                }
            }
            ChannelMsg::ExitStatus { exit_status } => status = Some(exit_status),
            _ => {}
        }
    }
    let output = String::from_utf8_lossy(&output).into_owned();
    status.map(|status| (status, output)).ok_or_else(|| {
        Broken::After("the connection was lost before the device said how it went".into())
    })
}

/// Talks to `passwd` through a terminal.
async fn converse<F: Future<Output = bool> + Send>(
    session: &Session,
    current: &Secret,
    candidate: &Secret,
    may_send: impl FnOnce() -> F + Send,
) -> Change {
    let words = |error: russh::Error| plain_words(&error.to_string());
    let mut channel = match session.handle.channel_open_session().await {
        Ok(channel) => channel,
        Err(error) => return Change::NotReached(words(error)),
    };
    // No echo: what is typed must not come back.
    if let Err(error) = channel
        .request_pty(false, "dumb", 200, 50, 0, 0, &[(russh::Pty::ECHO, 0)])
        .await
    {
        return Change::NotReached(words(error));
    }
    if let Err(error) = channel.exec(true, "LC_ALL=C passwd").await {
        return Change::NotReached(words(error));
    }
    let mut talk = Talk::begin(LINUX_PASSWD, vec![current, candidate]);
    let mut typed_candidate = false;
    let mut may_send = Some(may_send);
    while let Some(message) = channel.wait().await {
        let (ChannelMsg::Data { data } | ChannelMsg::ExtendedData { data, .. }) = message else {
            if matches!(message, ChannelMsg::Failure) {
                return Change::NotReached(
                    "the device does not run commands for this account".into(),
                );
            }
            continue;
        };
        let step = talk.hear(&data);
        let say = match step {
            Step::Listen => continue,
            Step::Done => return Change::Applied,
            Step::Refused(why) => return Change::Refused(why),
            Step::Lost(why) => {
                return if typed_candidate {
                    Change::Lost(why)
                } else {
                    Change::NotReached(why)
                };
            }
            Step::Type(say) => say,
        };
        let secret = match say {
            Say::Current => current,
            Say::Candidate => {
                if let Some(may_send) = may_send.take()
                    && !may_send().await
                {
                    return Change::LeaseLost;
                }
                typed_candidate = true;
                candidate
            }
        };
        let line = Secret::from_bytes([secret.expose_secret(), b"\n"].concat());
        if let Err(error) = channel.data_bytes(line.expose_secret().to_vec()).await {
            return if typed_candidate {
                Change::Lost(words(error))
            } else {
                Change::NotReached(words(error))
            };
        }
    }
    let why = format!(
        "the device ended its prompt without a word that is known: {}",
        talk.words()
    );
    if typed_candidate {
        Change::Lost(why)
    } else {
        Change::NotReached(why)
    }
}

/// A device's output as one line for a message.
fn tidy(output: &str, secrets: &[&Secret]) -> String {
    let words = plain_words(&redact(output, secrets));
    if words.is_empty() {
        "the device refused without a word".into()
    } else {
        words
    }
}

fn plain_words(text: &str) -> String {
    show_foreign(text).chars().take(300).collect()
}

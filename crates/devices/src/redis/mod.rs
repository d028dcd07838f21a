//! Redis servers (7 and later), over TLS: the password of an ACL user checked by AUTH, and changed by the
//! operator. What is sent for a change is the SHA-256 hash that the server keeps, so no log of the server has
//! the password.

use ::redis::aio::MultiplexedConnection;
use ::redis::{
    AsyncConnectionConfig, Cmd, ErrorKind, RedisConnectionInfo, RedisError, RedisResult, Value, cmd,
};
use async_trait::async_trait;
use jexlin_core::secret::{Secret, redact};
use jexlin_core::upkeep::identity::PresentedIdentity;
use jexlin_core::upkeep::{Account, BoundLogin, ConnectorKind, Endpoint, Operator, RoleMark};
use rand::RngExt as _;
use sha2::{Digest as _, Sha256};
use tokio::io::AsyncReadExt as _;
use tokio::time::timeout;

use crate::network::{no_connection, plain_words};
use crate::time_limits::{TimeLimits, silence};
use crate::tls;
use crate::{Capabilities, Change, Connector, FoundAccount, Listing, MaySend, Met, Probe};

/// So many bytes are read of one session, and no more.
const MOST_READ: u64 = 8 * 1024 * 1024;

/// The most accounts that are listed.
const MOST_ACCOUNTS: usize = 10_000;

/// The connector.
#[derive(Debug)]
pub struct Redis {
    limits: TimeLimits,
}

/// Why there is no session.
enum NoSession {
    /// The password does not open the user.
    Closed,
    NoAnswer(String),
}

type Session = MultiplexedConnection;

impl Redis {
    /// A connector with these limits.
    #[must_use]
    pub const fn new(limits: TimeLimits) -> Self {
        Self { limits }
    }

    /// Connects where the identity is proved, without signing in.
    async fn connect<R: RoleMark>(
        &self,
        login: &BoundLogin<R>,
    ) -> (Result<Session, NoSession>, Option<PresentedIdentity>) {
        let connected = async {
            let (stream, presented) = tls::open(login).await;
            let session = match stream {
                Ok(stream) => begin(stream).await.map_err(|error| {
                    NoSession::NoAnswer(no_connection(&words_of(&error, &[login.password()])))
                }),
                Err(why) => Err(NoSession::NoAnswer(why)),
            };
            (session, presented)
        };
        timeout(self.limits.connect, connected)
            .await
            .unwrap_or_else(|_| (Err(NoSession::NoAnswer(silence(self.limits.connect))), None))
    }

    /// Signs in where the identity is proved.
    async fn open<R: RoleMark>(
        &self,
        login: &BoundLogin<R>,
    ) -> (Result<Session, NoSession>, Option<PresentedIdentity>) {
        let (session, presented) = self.connect(login).await;
        let session = match session {
            Ok(mut session) => self.sign_in(&mut session, login).await.map(|()| session),
            Err(why) => Err(why),
        };
        (session, presented)
    }

    async fn sign_in<R: RoleMark>(
        &self,
        session: &mut Session,
        login: &BoundLogin<R>,
    ) -> Result<(), NoSession> {
        let signing = authenticate(session, login.login(), login.password());
        match timeout(self.limits.connect, signing).await {
            Ok(result) => result,
            Err(_) => Err(NoSession::NoAnswer(silence(self.limits.connect))),
        }
    }

    /// Whether a user opens with any password, so that a right one proves nothing.
    async fn opens_with_anything(
        &self,
        session: &mut Session,
        login: &BoundLogin<Account>,
    ) -> Result<bool, NoSession> {
        let guess = Secret::from_text(hex(&rand::rng().random::<[u8; 16]>()));
        let trying = authenticate(session, login.login(), &guess);
        match timeout(self.limits.connect, trying).await {
            Ok(Ok(())) => Ok(true),
            Ok(Err(NoSession::Closed)) => Ok(false),
            Ok(Err(why)) => Err(why),
            Err(_) => Err(NoSession::NoAnswer(silence(self.limits.connect))),
        }
    }

    /// Sends one change of a user's password: what the server has in its file must be what it has in
    /// memory before and after, or the next start would bring the former password back.
    async fn change(
        &self,
        mut session: Session,
        candidate: &BoundLogin<Account>,
        may_send: MaySend<'_>,
    ) -> Change {
        let user = candidate.login();
        let hash = hex(&Sha256::digest(candidate.password().expose_secret()));
        let refused = |error: &RedisError| {
            // The hash would let a reader of the message test guesses at the password.
            let words = words_of(error, &[candidate.password()]).replace(&hash, "…");
            Change::Refused(words)
        };
        let mut asked = cmd("ACL");
        match self
            .answer(&mut session, asked.arg("GETUSER").arg(user))
            .await
        {
            Err(NoAnswer::Silence(why)) => return Change::NotReached(why),
            Err(NoAnswer::Said(error)) if is_answer(&error) => return refused(&error),
            Err(NoAnswer::Said(error)) => {
                return Change::NotReached(no_connection(&words_of(&error, &[])));
            }
            // SETUSER would make a new one.
            Ok(Value::Nil) => return Change::Refused("there is no such user".into()),
            Ok(_) => {}
        }
        if !may_send().await {
            return Change::LeaseLost;
        }
        let mut save = cmd("ACL");
        save.arg("SAVE");
        let mut set = cmd("ACL");
        set.arg("SETUSER")
            .arg(user)
            .arg("resetpass")
            .arg(format!("#{hash}"));
        let mut sent = false;
        for command in [&save, &set, &save] {
            let is_change = std::ptr::eq(command, &raw const set);
            sent = sent || is_change;
            match self.answer(&mut session, command).await {
                Ok(_) => {}
                // Nothing was changed before the second, and nothing by a second that was refused.
                Err(NoAnswer::Said(error)) if is_answer(&error) && (!sent || is_change) => {
                    return refused(&error);
                }
                Err(NoAnswer::Said(error)) if sent => {
                    return Change::Lost(words_of(&error, &[candidate.password()]));
                }
                Err(NoAnswer::Said(error)) => {
                    return Change::NotReached(no_connection(&words_of(&error, &[])));
                }
                Err(NoAnswer::Silence(why)) if sent => return Change::Lost(why),
                Err(NoAnswer::Silence(why)) => return Change::NotReached(why),
            }
        }
        Change::Applied
    }

    async fn answer(&self, session: &mut Session, command: &Cmd) -> Result<Value, NoAnswer> {
        let asking = session.send_packed_command(command);
        match timeout(self.limits.change, asking).await {
            Ok(answer) => answer
                .and_then(Value::extract_error)
                .map_err(NoAnswer::Said),
            Err(_) => Err(NoAnswer::Silence(silence(self.limits.change))),
        }
    }
}

/// Why there is no answer to a command.
enum NoAnswer {
    Said(RedisError),
    Silence(String),
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

/// Speaks the protocol over a connection, without signing in and without saying who speaks.
async fn begin(stream: tls::DeviceStream) -> RedisResult<Session> {
    let (from_device, to_device) = tokio::io::split(stream);
    let bounded = tokio::io::join(from_device.take(MOST_READ), to_device);
    let nobody = RedisConnectionInfo::default().set_skip_set_lib_name();
    // How long to wait is for whoever asks.
    let config = AsyncConnectionConfig::new().set_response_timeout(None);
    let (session, driver) =
        MultiplexedConnection::new_with_config(&nobody, bounded, config).await?;
    // It ends when the session is dropped.
    tokio::spawn(driver);
    Ok(session)
}

/// Says who signs in, by name always: without one a server takes the password for that of the user
/// `default`.
async fn authenticate(
    session: &mut Session,
    user: &str,
    password: &Secret,
) -> Result<(), NoSession> {
    let mut command = cmd("AUTH");
    command.arg(user).arg(password.expose_secret());
    let answer = session
        .send_packed_command(&command)
        .await
        .and_then(Value::extract_error);
    match answer {
        Ok(Value::Okay) => Ok(()),
        Ok(_) => Err(NoSession::NoAnswer(
            "the device does not answer as a Redis server does".into(),
        )),
        Err(error) if error.code() == Some("WRONGPASS") => Err(NoSession::Closed),
        Err(error) if is_answer(&error) => Err(NoSession::NoAnswer(format!(
            "the device says: {}",
            words_of(&error, &[password])
        ))),
        Err(error) => Err(NoSession::NoAnswer(no_connection(&words_of(
            &error,
            &[password],
        )))),
    }
}

/// Whether a server said so itself, and the connection is whole.
fn is_answer(error: &RedisError) -> bool {
    matches!(error.kind(), ErrorKind::Server(_) | ErrorKind::Extension)
}

/// A server's own words, without the secrets that it was sent.
fn words_of(error: &RedisError, secrets: &[&Secret]) -> String {
    let said = error
        .detail()
        .map_or_else(|| error.to_string(), str::to_owned);
    let code = error
        .code()
        .filter(|code| *code != "ERR")
        .unwrap_or_default();
    // Before they are shortened, which could leave a part of a secret.
    plain_words(redact(&format!("{code} {said}"), secrets).trim())
}

#[async_trait]
impl Connector for Redis {
    fn kind(&self) -> ConnectorKind {
        ConnectorKind::Redis
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            changes_as_operator: true,
            changes_as_itself: false,
        }
    }

    fn needed_rights(&self) -> &'static str {
        "The server is Redis 7 or later with TLS (tls-port) and an ACL file (aclfile); users in redis.conf cannot be saved. The operator is a separate user with +acl|getuser +acl|setuser +acl|save, and +acl|users to list accounts. Anybody who may run ACL SETUSER can grant themselves every other right. A user cannot change its own password."
    }

    async fn identify(&self, endpoint: &Endpoint) -> Result<Vec<PresentedIdentity>, String> {
        timeout(self.limits.connect, tls::look(endpoint))
            .await
            .unwrap_or_else(|_| Err(silence(self.limits.connect)))
    }

    async fn check(&self, account: &BoundLogin<Account>) -> Met<Probe> {
        let (session, presented) = self.connect(account).await;
        let result = match session {
            Err(why) => Err(why),
            Ok(mut session) => match self.opens_with_anything(&mut session, account).await {
                Ok(true) => Err(NoSession::NoAnswer(
                    "this user has no password on the server (nopass): it opens with any. A rotation by the operator gives it one".into(),
                )),
                Ok(false) => self.sign_in(&mut session, account).await,
                Err(why) => Err(why),
            },
        };
        let result = match result {
            Ok(()) => Probe::Opened,
            Err(NoSession::Closed) => Probe::Closed,
            Err(NoSession::NoAnswer(why)) => Probe::NoAnswer(why),
        };
        Met::of(result, presented)
    }

    async fn change_as_operator(
        &self,
        operator: &BoundLogin<Operator>,
        candidate: &BoundLogin<Account>,
        may_send: MaySend<'_>,
    ) -> Met<Change> {
        let (session, presented) = self.open(operator).await;
        let result = match session {
            Ok(session) => self.change(session, candidate, may_send).await,
            Err(NoSession::Closed) => Change::OperatorRefused,
            Err(NoSession::NoAnswer(why)) => Change::NotReached(why),
        };
        Met::of(result, presented)
    }

    async fn change_as_itself(
        &self,
        _: &BoundLogin<Account>,
        _: &BoundLogin<Account>,
        _: MaySend<'_>,
    ) -> Met<Change> {
        Met::of(
            Change::NotReached(
                "a Redis user cannot change its own password; set an operator on the device".into(),
            ),
            None,
        )
    }

    async fn list_accounts(&self, operator: &BoundLogin<Operator>) -> Met<Listing> {
        let (session, presented) = self.open(operator).await;
        let result = match session {
            Ok(session) => timeout(self.limits.change, list(session))
                .await
                .unwrap_or_else(|_| Err(silence(self.limits.change)))
                .map_err(|why| redact(&why, &[operator.password()]))
                .into(),
            Err(NoSession::Closed) => Listing::OperatorRefused,
            Err(NoSession::NoAnswer(why)) => Listing::NoAnswer(why),
        };
        Met::of(result, presented)
    }
}

/// The users, each with whether it is on and whether it may do more than use data.
async fn list(mut session: Session) -> Result<Vec<FoundAccount>, String> {
    let broken = |error: RedisError| words_of(&error, &[]);
    let mut users = cmd("ACL");
    let names: Vec<String> = users
        .arg("USERS")
        .query_async(&mut session)
        .await
        .map_err(broken)?;
    let mut found = vec![];
    for login in names.into_iter().take(MOST_ACCOUNTS) {
        let mut one = cmd("ACL");
        let facts: Vec<Value> = one
            .arg("GETUSER")
            .arg(&login)
            .query_async(&mut session)
            .await
            .map_err(broken)?;
        let fact = |name: &str| {
            let mut pairs = facts.chunks_exact(2);
            pairs.find_map(|pair| match pair {
                [Value::BulkString(key), value] if key == name.as_bytes() => Some(value),
                _ => None,
            })
        };
        let flags: Vec<String> = fact("flags")
            .and_then(|flags| ::redis::from_redis_value(flags.clone()).ok())
            .unwrap_or_default();
        let commands: String = fact("commands")
            .and_then(|commands| ::redis::from_redis_value(commands.clone()).ok())
            .unwrap_or_default();
        found.push(FoundAccount {
            signs_in: flags.iter().any(|flag| flag == "on"),
            privileged: commands
                .split(' ')
                .find(|word| ["+@all", "+@admin", "+@dangerous", "+acl"].contains(word))
                .map(|word| format!("may use {word}")),
            login,
            ..FoundAccount::default()
        });
    }
    Ok(found)
}

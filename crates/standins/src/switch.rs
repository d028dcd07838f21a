//! A switch of the made-up family Ridge: a command line over SSH, as `demo/dialogues/ridge-switch.toml`
//! talks to it. It can be told to misbehave.

use std::collections::BTreeMap;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use russh::keys::ssh_key::LineEnding;
use russh::keys::{Algorithm, PrivateKey};
use russh::server::{Auth, Config, Handler, Msg, Server, Session};
use russh::{Channel, ChannelId, MethodKind, MethodSet};

/// The user who may change the passwords of others.
pub const KEEPER: &str = "keeper";

/// How the switch behaves.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Manner {
    /// As it should.
    #[default]
    Obeys,
    /// It writes every byte by itself.
    Dribbles,
    /// It greets with more than a screenful, and stops at each.
    Chatty,
    /// Another session is open, and it asks whether to take that over.
    AlreadyOpen,
    /// It takes no new password.
    Refuses,
    /// Its prompt is one that nobody expects.
    OtherPrompt,
    /// It says that the password is changed, and keeps the old one.
    Lies,
    /// It writes passwords back, as if they were names.
    ShowsSecrets,
    /// It never says anything after the sign-in.
    Silent,
    /// It greets without end.
    Floods,
    /// It ends the session after the new password was typed once.
    HangsUp,
    /// It asks for the new password again and again.
    AsksForEver,
    /// It does not save what was changed.
    DoesNotSave,
}

#[derive(Debug)]
struct Inner {
    manner: Manner,
    accounts: BTreeMap<String, String>,
    file: Option<PathBuf>,
    /// Every password that was tried or typed.
    told: Vec<String>,
}

impl Inner {
    fn save(&self) {
        if let Some(file) = &self.file {
            let lines: String = self
                .accounts
                .iter()
                .map(|(name, password)| format!("{name} {password}\n"))
                .collect();
            let _ = std::fs::write(file, lines);
        }
    }
}

type Shared = Arc<Mutex<Inner>>;

fn lock(inner: &Shared) -> MutexGuard<'_, Inner> {
    inner.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A running switch. It runs until the process ends.
#[derive(Clone, Debug)]
pub struct Switch {
    inner: Shared,
    port: u16,
}

impl Switch {
    /// Starts a switch with these accounts on a free port of 127.0.0.1.
    ///
    /// # Errors
    /// When it does not come up.
    pub fn temporary(accounts: &[(&str, &str)]) -> io::Result<Self> {
        let key =
            PrivateKey::random(&mut rand::rng(), Algorithm::Ed25519).map_err(io::Error::other)?;
        Self::run("127.0.0.1:0".into(), key, accounts, None)
    }

    /// Starts a switch whose key and accounts are kept in a folder; `accounts` are those of the
    /// first time.
    ///
    /// # Errors
    /// When it does not come up, or the folder cannot be used.
    pub fn start(
        folder: &Path,
        address: &str,
        port: u16,
        accounts: &[(&str, &str)],
    ) -> io::Result<Self> {
        std::fs::create_dir_all(folder)?;
        let (key_file, file) = (folder.join("host-key"), folder.join("accounts"));
        let key = if key_file.exists() {
            PrivateKey::read_openssh_file(&key_file).map_err(io::Error::other)?
        } else {
            let key = PrivateKey::random(&mut rand::rng(), Algorithm::Ed25519)
                .map_err(io::Error::other)?;
            key.write_openssh_file(&key_file, LineEnding::LF)
                .map_err(io::Error::other)?;
            key
        };
        let kept = std::fs::read_to_string(&file).unwrap_or_default();
        let kept: Vec<(&str, &str)> = kept
            .lines()
            .filter_map(|line| line.split_once(' '))
            .collect();
        let accounts = if kept.is_empty() { accounts } else { &kept };
        Self::run(format!("{address}:{port}"), key, accounts, Some(file))
    }

    fn run(
        address: String,
        key: PrivateKey,
        accounts: &[(&str, &str)],
        file: Option<PathBuf>,
    ) -> io::Result<Self> {
        let inner = Arc::new(Mutex::new(Inner {
            manner: Manner::Obeys,
            accounts: accounts
                .iter()
                .map(|(user, password)| ((*user).to_owned(), (*password).to_owned()))
                .collect(),
            file,
            told: vec![],
        }));
        let config = Config {
            keys: vec![key],
            auth_rejection_time: Duration::ZERO,
            auth_rejection_time_initial: Some(Duration::ZERO),
            methods: MethodSet::from(&[MethodKind::Password][..]),
            nodelay: true,
            ..Config::default()
        };
        let (sender, receiver) = std::sync::mpsc::channel();
        let shared = Arc::clone(&inner);
        std::thread::spawn(move || {
            let runtime = tokio::runtime::Builder::new_multi_thread()
                .worker_threads(1)
                .enable_all()
                .build();
            let Ok(runtime) = runtime else { return };
            runtime.block_on(async move {
                let bound = tokio::net::TcpListener::bind(address).await;
                let (socket, port) = match bound.and_then(|it| Ok((it.local_addr()?, it))) {
                    Ok((at, socket)) => (socket, Ok(at.port())),
                    Err(error) => {
                        let _ = sender.send(Err(error));
                        return;
                    }
                };
                let _ = sender.send(port);
                let _ = Listener(shared)
                    .run_on_socket(Arc::new(config), &socket)
                    .await;
            });
        });
        let port = receiver
            .recv()
            .map_err(|_| io::Error::other("the switch did not come up"))??;
        Ok(Self { inner, port })
    }

    /// Its port.
    #[must_use]
    pub const fn port(&self) -> u16 {
        self.port
    }

    /// From now on it behaves like this.
    pub fn behave(&self, manner: Manner) {
        lock(&self.inner).manner = manner;
    }

    /// The password of an account.
    #[must_use]
    pub fn password(&self, user: &str) -> String {
        let inner = lock(&self.inner);
        inner.accounts.get(user).cloned().unwrap_or_default()
    }

    /// Gives an account a password past its command line.
    pub fn set(&self, user: &str, password: &str) {
        lock(&self.inner)
            .accounts
            .insert(user.to_owned(), password.to_owned());
    }

    /// Every password that was tried or typed so far.
    #[must_use]
    pub fn told(&self) -> Vec<String> {
        lock(&self.inner).told.clone()
    }
}

struct Listener(Shared);

impl Server for Listener {
    type Handler = Connection;

    fn new_client(&mut self, _: Option<std::net::SocketAddr>) -> Connection {
        Connection {
            inner: Arc::clone(&self.0),
            user: String::new(),
            privileged: false,
            at: At::Prompt,
            line: String::new(),
            _channels: vec![],
        }
    }
}

/// What the switch waits for.
#[derive(Clone, Debug, PartialEq, Eq)]
enum At {
    Prompt,
    Pager,
    TakeOver,
    Enable,
    Present,
    New(String),
    Again(String, String),
}

struct Connection {
    inner: Shared,
    user: String,
    privileged: bool,
    at: At,
    line: String,
    _channels: Vec<Channel<Msg>>,
}

impl Connection {
    fn manner(&self) -> Manner {
        lock(&self.inner).manner
    }

    fn prompt(&self) -> String {
        let sign = if self.privileged { '#' } else { '>' };
        match self.manner() {
            Manner::OtherPrompt => "ridge-3 (standby) :: ".into(),
            _ => format!("\x1b[1mridge-3\x1b[0m{sign}"),
        }
    }

    /// What it writes when somebody has signed in.
    fn greeting(&mut self) -> String {
        let banner = "Ridge 3.2 - property of Osmere Water\r\n";
        match self.manner() {
            Manner::Silent => String::new(),
            Manner::Chatty => {
                self.at = At::Pager;
                let lines: String = (1..=20)
                    .map(|n| format!("notice {n}: read me\r\n"))
                    .collect();
                format!("{banner}{lines}-- more -- ")
            }
            Manner::AlreadyOpen => {
                self.at = At::TakeOver;
                format!(
                    "{banner}{} is signed in elsewhere. Take it over? [y/n] ",
                    self.user
                )
            }
            _ => format!("{banner}{}", self.prompt()),
        }
    }

    /// What it writes for a line; nothing when it hangs up.
    fn answer(&mut self, line: &str) -> Option<String> {
        let manner = self.manner();
        let hidden = matches!(
            self.at,
            At::Enable | At::Present | At::New(_) | At::Again(..)
        );
        if hidden {
            lock(&self.inner).told.push(line.to_owned());
        }
        let shown = if hidden && manner == Manner::ShowsSecrets {
            format!("{line}\r\n")
        } else {
            "\r\n".to_owned()
        };
        let own = self.user.clone();
        let known = |user: &str| lock(&self.inner).accounts.get(user).cloned();
        let mut at = At::Prompt;
        let said = match std::mem::replace(&mut self.at, At::Prompt) {
            At::Pager => String::new(),
            At::TakeOver if line == "y" => String::new(),
            At::TakeOver => return None,
            At::Enable if known(&own).as_deref() == Some(line) && own == KEEPER => {
                self.privileged = true;
                String::new()
            }
            At::Enable => "Wrong password.\r\n".into(),
            At::Present if known(&own).as_deref() == Some(line) => {
                at = At::New(own);
                "New password: ".into()
            }
            At::Present => "Wrong password.\r\n".into(),
            At::New(user) => match manner {
                Manner::HangsUp => return None,
                Manner::Refuses => "% The password was used before.\r\n".into(),
                Manner::ShowsSecrets => format!("% The password {line} was used before.\r\n"),
                _ if line.len() < 8 => "% The password is too short.\r\n".into(),
                _ => {
                    at = At::Again(user, line.to_owned());
                    "Once more: ".into()
                }
            },
            At::Again(user, new) if manner == Manner::AsksForEver => {
                at = At::Again(user, new);
                "Once more: ".into()
            }
            At::Again(_, new) if new != line => "% The two differ.\r\n".into(),
            At::Again(user, new) => {
                if manner != Manner::Lies {
                    lock(&self.inner).accounts.insert(user, new);
                }
                "Password changed.\r\n".into()
            }
            At::Prompt => {
                let words: Vec<&str> = line.split_whitespace().collect();
                match words.as_slice() {
                    [] => String::new(),
                    ["quit"] => return None,
                    ["enable"] if own == KEEPER => {
                        at = At::Enable;
                        "Password: ".into()
                    }
                    ["enable"] => "Not allowed.\r\n".into(),
                    ["user", user, "password"] if self.privileged && known(user).is_some() => {
                        at = At::New((*user).to_owned());
                        "New password: ".into()
                    }
                    ["user", _, "password"] if self.privileged => "No such user.\r\n".into(),
                    ["password"] => {
                        at = At::Present;
                        "Present password: ".into()
                    }
                    ["save"] if manner == Manner::DoesNotSave => "% The memory is full.\r\n".into(),
                    ["save"] => {
                        lock(&self.inner).save();
                        "Saved.\r\n".into()
                    }
                    _ => "Unknown command.\r\n".into(),
                }
            }
        };
        let prompt = if at == At::Prompt {
            self.prompt()
        } else {
            String::new()
        };
        self.at = at;
        Some(format!("{shown}{said}{prompt}"))
    }
}

/// Writes, as the switch's manner wants it.
fn write(
    session: &mut Session,
    channel: ChannelId,
    manner: Manner,
    text: &str,
) -> Result<(), russh::Error> {
    if manner == Manner::Dribbles {
        for byte in text.bytes() {
            session.data(channel, vec![byte])?;
        }
        return Ok(());
    }
    session.data(channel, text.as_bytes().to_vec())
}

impl Handler for Connection {
    type Error = russh::Error;

    async fn auth_password(&mut self, user: &str, password: &str) -> Result<Auth, Self::Error> {
        let mut inner = lock(&self.inner);
        inner.told.push(password.to_owned());
        if inner
            .accounts
            .get(user)
            .is_some_and(|known| known == password)
        {
            user.clone_into(&mut self.user);
            return Ok(Auth::Accept);
        }
        Ok(Auth::Reject {
            proceed_with_methods: Some(MethodSet::from(&[MethodKind::Password][..])),
            partial_success: false,
        })
    }

    async fn channel_open_session(
        &mut self,
        channel: Channel<Msg>,
        reply: russh::server::ChannelOpenHandle,
        _: &mut Session,
    ) -> Result<(), Self::Error> {
        self._channels.push(channel);
        reply.accept().await;
        Ok(())
    }

    async fn shell_request(
        &mut self,
        channel: ChannelId,
        session: &mut Session,
    ) -> Result<(), Self::Error> {
        session.channel_success(channel)?;
        let manner = self.manner();
        if manner == Manner::Floods {
            for _ in 0..40 {
                session.data(channel, vec![b'x'; 32_000])?;
            }
            return Ok(());
        }
        let greeting = self.greeting();
        write(session, channel, manner, &greeting)
    }

    async fn data(
        &mut self,
        channel: ChannelId,
        data: &[u8],
        session: &mut Session,
    ) -> Result<(), Self::Error> {
        for byte in data {
            let ends = matches!(byte, b'\r' | b'\n') || self.at == At::Pager;
            if ends {
                let line = std::mem::take(&mut self.line);
                let manner = self.manner();
                match self.answer(&line) {
                    Some(answer) => write(session, channel, manner, &answer)?,
                    None => {
                        session.eof(channel)?;
                        session.close(channel)?;
                    }
                }
                continue;
            }
            let hidden = matches!(
                self.at,
                At::Enable | At::Present | At::New(_) | At::Again(..)
            );
            if !hidden {
                session.data(channel, vec![*byte])?;
            }
            self.line.push(char::from(*byte));
        }
        Ok(())
    }
}

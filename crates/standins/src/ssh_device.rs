//! A device that speaks SSH and does what a test tells it: it writes down every password that it is
//! sent, changes passwords late, twice or never, refuses some, and accepts old ones for a while.

use std::collections::HashMap;
use std::io;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use russh::keys::{Algorithm, PrivateKey};
use russh::server::{Auth, Config, Handler, Msg, Server, Session};
use russh::{Channel, ChannelId, MethodKind, MethodSet};

/// What the device does with a change of a password.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Behaviour {
    /// Changes it and says so.
    Obeys,
    /// Says that it refuses, and changes nothing.
    Refuses,
    /// Says nothing; the change waits until [`SshDevice::apply_late`].
    AppliesLate,
    /// Says that it changed it, and keeps the old one.
    Lies,
    /// Changes it, says so, and keeps accepting the old one as well.
    AcceptsBoth,
}

#[derive(Debug)]
struct Inner {
    behaviour: Behaviour,
    accounts: HashMap<String, String>,
    /// Former passwords that are accepted as well.
    former: Vec<(String, String)>,
    /// Whatever is tried is taken.
    takes_any: bool,
    /// Every login that was tried: user and password.
    tried: Vec<(String, String)>,
    /// Every change that was sent.
    sent: Vec<(String, String)>,
    late: Vec<(String, String)>,
}

type Shared = Arc<Mutex<Inner>>;

/// A running device. It runs until the process ends.
#[derive(Clone, Debug)]
pub struct SshDevice {
    inner: Shared,
    port: u16,
}

fn lock(inner: &Shared) -> std::sync::MutexGuard<'_, Inner> {
    inner.lock().unwrap_or_else(PoisonError::into_inner)
}

impl SshDevice {
    /// Starts a device with these accounts on a free port of 127.0.0.1.
    ///
    /// # Errors
    /// When it does not come up.
    pub fn start(accounts: &[(&str, &str)]) -> io::Result<Self> {
        let inner = Arc::new(Mutex::new(Inner {
            behaviour: Behaviour::Obeys,
            accounts: accounts
                .iter()
                .map(|(user, password)| ((*user).to_owned(), (*password).to_owned()))
                .collect(),
            former: vec![],
            takes_any: false,
            tried: vec![],
            sent: vec![],
            late: vec![],
        }));
        let key =
            PrivateKey::random(&mut rand::rng(), Algorithm::Ed25519).map_err(io::Error::other)?;
        let config = Config {
            keys: vec![key],
            auth_rejection_time: Duration::ZERO,
            auth_rejection_time_initial: Some(Duration::ZERO),
            methods: MethodSet::from(&[MethodKind::Password][..]),
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
                let Ok(socket) = tokio::net::TcpListener::bind("127.0.0.1:0").await else {
                    return;
                };
                let _ = sender.send(socket.local_addr().map(|address| address.port()));
                let _ = Listener(shared)
                    .run_on_socket(Arc::new(config), &socket)
                    .await;
            });
        });
        let port = receiver
            .recv()
            .map_err(|_| io::Error::other("the device did not come up"))??;
        Ok(Self { inner, port })
    }

    /// Its port on 127.0.0.1.
    #[must_use]
    pub const fn port(&self) -> u16 {
        self.port
    }

    /// From now on it does this.
    pub fn behave(&self, behaviour: Behaviour) {
        lock(&self.inner).behaviour = behaviour;
    }

    /// From now on every password opens every account.
    pub fn take_any(&self) {
        lock(&self.inner).takes_any = true;
    }

    /// Applies the changes that wait. How many.
    pub fn apply_late(&self) -> usize {
        let mut inner = lock(&self.inner);
        let late = std::mem::take(&mut inner.late);
        let count = late.len();
        inner.accounts.extend(late);
        count
    }

    /// How many changes wait.
    #[must_use]
    pub fn waiting(&self) -> usize {
        lock(&self.inner).late.len()
    }

    /// The password of an account.
    #[must_use]
    pub fn password(&self, user: &str) -> String {
        lock(&self.inner)
            .accounts
            .get(user)
            .cloned()
            .unwrap_or_default()
    }

    /// Gives an account a password past SSH.
    pub fn set(&self, user: &str, password: &str) {
        lock(&self.inner)
            .accounts
            .insert(user.to_owned(), password.to_owned());
    }

    /// Every login that was tried so far: user and password.
    #[must_use]
    pub fn tried(&self) -> Vec<(String, String)> {
        lock(&self.inner).tried.clone()
    }

    /// Every change that was sent so far: user and password.
    #[must_use]
    pub fn sent(&self) -> Vec<(String, String)> {
        lock(&self.inner).sent.clone()
    }
}

struct Listener(Shared);

impl Server for Listener {
    type Handler = Connection;

    fn new_client(&mut self, _: Option<std::net::SocketAddr>) -> Connection {
        Connection {
            inner: Arc::clone(&self.0),
            input: HashMap::new(),
            _channels: vec![],
        }
    }
}

struct Connection {
    inner: Shared,
    input: HashMap<ChannelId, Vec<u8>>,
    _channels: Vec<Channel<Msg>>,
}

impl Handler for Connection {
    type Error = russh::Error;

    async fn auth_password(&mut self, user: &str, password: &str) -> Result<Auth, Self::Error> {
        let mut inner = lock(&self.inner);
        let pair = (user.to_owned(), password.to_owned());
        let opens = inner.takes_any
            || inner
                .accounts
                .get(user)
                .is_some_and(|known| known == password)
            || inner.former.contains(&pair);
        inner.tried.push(pair);
        Ok(if opens {
            Auth::Accept
        } else {
            Auth::Reject {
                proceed_with_methods: Some(MethodSet::from(&[MethodKind::Password][..])),
                partial_success: false,
            }
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

    async fn exec_request(
        &mut self,
        channel: ChannelId,
        _: &[u8],
        session: &mut Session,
    ) -> Result<(), Self::Error> {
        self.input.insert(channel, vec![]);
        session.channel_success(channel)
    }

    async fn data(
        &mut self,
        channel: ChannelId,
        data: &[u8],
        _: &mut Session,
    ) -> Result<(), Self::Error> {
        self.input
            .entry(channel)
            .or_default()
            .extend_from_slice(data);
        Ok(())
    }

    async fn channel_eof(
        &mut self,
        channel: ChannelId,
        session: &mut Session,
    ) -> Result<(), Self::Error> {
        let text =
            String::from_utf8_lossy(&self.input.remove(&channel).unwrap_or_default()).into_owned();
        let Some((user, password)) = text.trim_end_matches('\n').split_once(':') else {
            return Ok(());
        };
        let pair = (user.to_owned(), password.to_owned());
        let status = {
            let mut inner = lock(&self.inner);
            inner.sent.push(pair.clone());
            match inner.behaviour {
                Behaviour::Obeys => {
                    inner.accounts.insert(pair.0, pair.1);
                    Some(0)
                }
                Behaviour::AcceptsBoth => {
                    if let Some(old) = inner.accounts.insert(pair.0.clone(), pair.1) {
                        inner.former.push((pair.0, old));
                    }
                    Some(0)
                }
                Behaviour::Lies => Some(0),
                Behaviour::Refuses => Some(1),
                Behaviour::AppliesLate => {
                    inner.late.push(pair);
                    None
                }
            }
        };
        if let Some(status) = status {
            if status != 0 {
                session.data(channel, "the password is too short\n".as_bytes().to_vec())?;
            }
            session.exit_status_request(channel, status)?;
            session.eof(channel)?;
            session.close(channel)?;
        }
        Ok(())
    }
}

//! Sessions with a directory, over TLS that this service opens itself, so that the identity is proved
//! before anything is sent, and no more is read than a session can need.

use std::future::Future;
use std::time::Duration;

use jexlin_core::secret::Secret;
use jexlin_core::upkeep::identity::PresentedIdentity;
use jexlin_core::upkeep::{BoundLogin, Operator, RoleMark};
use ldap3::{Ldap as Session, LdapConnAsync, LdapConnSettings, LdapResult, Scope, StdStream};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::UnixStream;

use crate::kept::{Kept, Lasting};
use crate::network::no_connection;
use crate::tls::{self, DeviceStream};

/// So many bytes are read of one session, and no more.
const MOST_READ: u64 = 8 * 1024 * 1024;

/// Why there is no session.
pub(crate) enum NoSession {
    /// The password does not open the account.
    Closed,
    /// The password is right, and must be changed before anything else.
    OpenedOnly,
    NoAnswer(String),
}

impl NoSession {
    /// Why nothing was reached with whose password.
    pub(crate) fn words(self, whose: &str) -> String {
        match self {
            Self::NoAnswer(why) => why,
            Self::OpenedOnly => format!("{whose} password has expired"),
            Self::Closed => format!("{whose} password is wrong"),
        }
    }
}

pub(crate) type Opened = (Result<Session, NoSession>, Option<PresentedIdentity>);

/// What a refused sign-in says of the password.
pub(crate) type Judge = fn(&LdapResult, &Secret) -> NoSession;

/// Connects, proves the identity, and signs in.
pub(crate) async fn open<R: RoleMark>(login: &BoundLogin<R>, judge: Judge) -> Opened {
    let failed = |why: String| (Err(NoSession::NoAnswer(why)), None);
    let password = match login.password().expose_secret_text() {
        // Without a password a directory takes everybody for a guest, and says yes.
        Ok(password) if !password.is_empty() => password,
        _ => return failed("the stored password is no text".into()),
    };
    let (stream, presented) = tls::open(login).await;
    let session = match stream {
        Ok(stream) => sign_in(stream, login, password, judge).await,
        Err(why) => Err(NoSession::NoAnswer(why)),
    };
    (session, presented)
}

async fn sign_in<R: RoleMark>(
    stream: DeviceStream,
    login: &BoundLogin<R>,
    password: &str,
    judge: Judge,
) -> Result<Session, NoSession> {
    let broken = |why: String| NoSession::NoAnswer(no_connection(&why));
    let (ours, theirs) = UnixStream::pair().map_err(|error| broken(error.to_string()))?;
    tokio::spawn(relay(stream, ours));
    let theirs = theirs
        .into_std()
        .map_err(|error| broken(error.to_string()))?;
    let settings = LdapConnSettings::new().set_std_stream(StdStream::Unix(theirs));
    let (connection, mut session) = LdapConnAsync::with_settings(settings, "ldapi:///")
        .await
        .map_err(|error| broken(error.to_string()))?;
    tokio::spawn(async move {
        // Whoever waits for an answer learns how it ended.
        let _ = connection.drive().await;
    });
    let result = session
        .simple_bind(login.login(), password)
        .await
        .map_err(|error| broken(error.to_string()))?;
    if result.rc == 0 {
        Ok(session)
    } else {
        Err(judge(&result, login.password()))
    }
}

impl Lasting for Session {
    fn is_closed(&self) -> bool {
        Self::is_closed(&mut self.clone())
    }

    async fn answers(&self) -> bool {
        let mut asking = self.clone();
        let root = asking.search("", Scope::Base, "(objectClass=*)", vec!["1.1"]);
        root.await.is_ok()
    }
}

/// The kept session of an operator, or a new one.
pub(crate) async fn kept<F: Future<Output = Opened>>(
    operators: &Kept<Session>,
    operator: &BoundLogin<Operator>,
    within: Duration,
    open: impl Fn() -> F,
) -> Opened {
    match operators.session(operator, within, open).await {
        Ok(kept) => (Ok(Session::clone(&kept)), kept.presented.clone()),
        Err((why, presented)) => (Err(why), presented),
    }
}

/// Hands on what both sides say, until one of them ends or the device has said too much.
async fn relay(device: DeviceStream, ours: UnixStream) {
    let (from_device, mut to_device) = tokio::io::split(device);
    let (mut from_us, mut to_us) = ours.into_split();
    let mut bounded = from_device.take(MOST_READ);
    tokio::select! {
        _ = tokio::io::copy(&mut bounded, &mut to_us) => {}
        _ = tokio::io::copy(&mut from_us, &mut to_device) => {}
    }
    let _ = to_us.shutdown().await;
    let _ = to_device.shutdown().await;
}

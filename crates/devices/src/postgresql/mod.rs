//! PostgreSQL servers (14 and later), over TLS: the password of a role checked by signing in, changed by
//! the operator or by the role itself.
//!
//! Signing in is SCRAM-SHA-256-PLUS (RFC 5802, RFC 7677) bound to the certificate (RFC 5929), and
//! nothing else: a server never gets a password to read, even if it asks for one. A change sends a
//! verifier that this service computed, so that no log of the server has the password.

mod stream;

use std::sync::Arc;

use async_trait::async_trait;
use jexlin_core::upkeep::identity::{PresentedIdentity, proves};
use jexlin_core::upkeep::{Account, BoundLogin, ConnectorKind, Endpoint, Operator, RoleMark};
use postgres_protocol::escape::escape_identifier;
use postgres_protocol::password::scram_sha_256;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::time::timeout;
use tokio_postgres::config::{ChannelBinding, SslMode};
use tokio_postgres::error::SqlState;
use tokio_postgres::{Client, Config};
use tokio_rustls::TlsConnector;

use self::stream::Tls;
use crate::kept::{Kept, KeptSession, Lasting};
use crate::network::{no_connection, plain_words};
use crate::reach;
use crate::time_limits::{TimeLimits, silence};
use crate::tls::{NOT_PROVED, Watched, server_name};
use crate::{
    Capabilities, Change, Connector, FoundAccount, KeptOperators, Listing, MaySend, Met,
    OperatorConnection, Probe,
};

/// What a client sends first to speak TLS: the length, and the code of an SSLRequest.
const SSL_REQUEST: [u8; 8] = [0, 0, 0, 8, 0x04, 0xd2, 0x16, 0x2f];

/// Databases that every server has; a role that may not connect to one may to the other.
const DATABASES: [&str; 2] = ["postgres", "template1"];

/// The connector. It keeps sessions of operators open, to use them again.
#[derive(Debug)]
pub struct Postgresql {
    limits: TimeLimits,
    operators: Kept<Client>,
}

impl Lasting for Client {
    fn is_closed(&self) -> bool {
        Self::is_closed(self)
    }

    async fn answers(&self) -> bool {
        self.batch_execute("").await.is_ok()
    }
}

/// Why there is no session.
enum NoSession {
    /// The password does not open the role.
    Closed,
    /// The password is right, and there is no database that the role may connect to.
    NoDatabase,
    NoAnswer(String),
}

type Opened = (Result<Client, NoSession>, Option<PresentedIdentity>);

impl Postgresql {
    /// A connector with these limits.
    #[must_use]
    pub fn new(limits: TimeLimits) -> Self {
        Self {
            limits,
            operators: Kept::new(limits.idle),
        }
    }

    /// Signs in where the identity is proved.
    async fn open<R: RoleMark>(&self, login: &BoundLogin<R>) -> Opened {
        let mut last = (Err(NoSession::NoDatabase), None);
        for database in DATABASES {
            last = match timeout(self.limits.connect, sign_in(login, database)).await {
                Ok(opened) => opened,
                Err(_) => (Err(NoSession::NoAnswer(silence(self.limits.connect))), None),
            };
            if !matches!(last.0, Err(NoSession::NoDatabase)) {
                break;
            }
        }
        last
    }

    /// The kept session of an operator, or a new one.
    async fn operator_session(
        &self,
        operator: &BoundLogin<Operator>,
    ) -> Result<Arc<KeptSession<Client>>, (NoSession, Option<PresentedIdentity>)> {
        self.operators
            .session(operator, self.limits.connect, || self.open(operator))
            .await
    }

    /// Sends one change of a role's password.
    async fn change(&self, client: &Client, role: &str, candidate: &BoundLogin<Account>) -> Change {
        let Ok(password) = candidate.password().expose_secret_text() else {
            return Change::NotReached("the new password is not text".into());
        };
        let verifier = scram_sha_256(password.as_bytes());
        // A verifier has letters, digits and $ : + / = alone.
        let statement = format!("ALTER ROLE {role} PASSWORD '{verifier}'");
        match timeout(self.limits.change, client.batch_execute(&statement)).await {
            Ok(Ok(())) => Change::Applied,
            Ok(Err(error)) => match error.as_db_error() {
                // The server ends, or ended this session: whether it was changed is not known.
                Some(refusal) if !refusal.code().code().starts_with("57P") => {
                    // Whoever reads the message could guess at the password with a verifier.
                    Change::Refused(plain_words(&refusal.message().replace(&verifier, "…")))
                }
                _ => Change::Lost(no_connection(&error.to_string())),
            },
            Err(_) => Change::Lost(silence(self.limits.change)),
        }
    }
}

async fn sign_in<R: RoleMark>(login: &BoundLogin<R>, database: &str) -> Opened {
    let failed = |why: String| (Err(NoSession::NoAnswer(why)), None);
    let endpoint = login.endpoint();
    let (watched, name) = match (Watched::to_sign_in(login), server_name(endpoint)) {
        (Ok(watched), Ok(name)) => (watched, name),
        (Err(why), _) | (_, Err(why)) => return failed(why),
    };
    let Ok(password) = login.password().expose_secret_text() else {
        return failed("the stored password is not text".into());
    };
    let mut config = Config::new();
    config
        .user(login.login())
        .password(password)
        .dbname(database)
        .application_name("jexlin")
        .ssl_mode(SslMode::Require)
        .channel_binding(ChannelBinding::Require);
    let stream = match reach::connect(endpoint).await {
        Ok(stream) => stream,
        Err(why) => return failed(why),
    };
    let tls = Tls {
        connector: TlsConnector::from(watched.config.clone()),
        name,
    };
    let opened = config.connect_raw(stream, tls).await;
    let presented = watched.presented();
    if !login.trusts_first_contact()
        && presented
            .as_ref()
            .is_some_and(|shown| !proves(endpoint.identity(), shown))
    {
        return failed(NOT_PROVED.into());
    }
    let session = match opened {
        Ok((client, connection)) => {
            // It ends when the client is dropped.
            tokio::spawn(connection);
            Ok(client)
        }
        Err(error) => Err(no_session(&error)),
    };
    (session, presented)
}

/// What a failed sign-in says of the password.
fn no_session(error: &tokio_postgres::Error) -> NoSession {
    let Some(said) = error.as_db_error() else {
        let cause = std::error::Error::source(error).map(ToString::to_string);
        let why = cause.unwrap_or_else(|| error.to_string());
        return NoSession::NoAnswer(if why.contains("channel binding") {
            "the device does not offer SCRAM-SHA-256 for this role over this connection, and no other way of signing in is used: set password_encryption = scram-sha-256, and let the operator rotate the password".into()
        } else {
            no_connection(&why)
        });
    };
    let code = said.code();
    if *code == SqlState::INVALID_PASSWORD {
        NoSession::Closed
    } else if *code == SqlState::INVALID_CATALOG_NAME || *code == SqlState::INSUFFICIENT_PRIVILEGE {
        // The server looks for the database once it knows who asks.
        NoSession::NoDatabase
    } else {
        NoSession::NoAnswer(format!("the device says: {}", plain_words(said.message())))
    }
}

#[async_trait]
impl Connector for Postgresql {
    fn kind(&self) -> ConnectorKind {
        ConnectorKind::Postgresql
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            changes_as_operator: true,
            changes_as_itself: true,
        }
    }

    fn needed_rights(&self) -> &'static str {
        "The server offers TLS, and SCRAM-SHA-256 in pg_hba.conf (hostssl … scram-sha-256). The operator has LOGIN and CREATEROLE, from version 16 on with ADMIN OPTION on the roles whose passwords it changes; a superuser's password is changed by a superuser alone. A role that changes its own password needs nothing more."
    }

    async fn identify(&self, endpoint: &Endpoint) -> Result<Vec<PresentedIdentity>, String> {
        let look = async {
            let watched = Watched::to_look_at()?;
            let name = server_name(endpoint)?;
            let mut stream = reach::connect(endpoint).await?;
            let broken = |error: std::io::Error| no_connection(&error.to_string());
            stream.write_all(&SSL_REQUEST).await.map_err(broken)?;
            if stream.read_u8().await.map_err(broken)? != b'S' {
                return Err("the device does not offer TLS, or is no PostgreSQL server".to_owned());
            }
            let session = TlsConnector::from(watched.config.clone())
                .connect(name, stream)
                .await;
            match watched.presented() {
                Some(presented) => Ok(vec![presented]),
                None => Err(session.map_or_else(broken, |_| "no certificate was shown".into())),
            }
        };
        timeout(self.limits.connect, look)
            .await
            .unwrap_or_else(|_| Err(silence(self.limits.connect)))
    }

    async fn check(&self, account: &BoundLogin<Account>) -> Met<Probe> {
        let (session, presented) = self.open(account).await;
        let result = match session {
            Ok(_) | Err(NoSession::NoDatabase) => Probe::Opened,
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
        let client = match self.operator_session(operator).await {
            Ok(client) => client,
            Err((NoSession::Closed, presented)) => {
                return Met::of(Change::OperatorRefused, presented);
            }
            Err((why, presented)) => return Met::of(not_reached(why), presented),
        };
        let result = if may_send().await {
            let role = escape_identifier(candidate.login());
            self.change(&client, &role, candidate).await
        } else {
            Change::LeaseLost
        };
        if matches!(result, Change::Lost(_)) {
            self.operators.close(&OperatorConnection::of(operator));
        }
        Met::of(result, client.presented.clone())
    }

    async fn change_as_itself(
        &self,
        account: &BoundLogin<Account>,
        candidate: &BoundLogin<Account>,
        may_send: MaySend<'_>,
    ) -> Met<Change> {
        let (session, presented) = self.open(account).await;
        let result = match session {
            Ok(_) if !may_send().await => Change::LeaseLost,
            Ok(client) => self.change(&client, "CURRENT_USER", candidate).await,
            Err(NoSession::Closed) => Change::AccountRefused,
            Err(why) => not_reached(why),
        };
        Met::of(result, presented)
    }

    async fn list_accounts(&self, operator: &BoundLogin<Operator>) -> Met<Listing> {
        let (session, presented) = match self.operator_session(operator).await {
            Ok(client) => {
                let presented = client.presented.clone();
                (Ok(client), presented)
            }
            Err((why, presented)) => (Err(why), presented),
        };
        let result = match session {
            Ok(client) => timeout(self.limits.change, list(&client))
                .await
                .unwrap_or_else(|_| Err(silence(self.limits.change)))
                .into(),
            Err(NoSession::Closed) => Listing::OperatorRefused,
            Err(NoSession::NoDatabase) => Listing::NoAnswer(NO_DATABASE.into()),
            Err(NoSession::NoAnswer(why)) => Listing::NoAnswer(why),
        };
        Met::of(result, presented)
    }

    fn kept(&self) -> Option<&dyn KeptOperators> {
        Some(&self.operators)
    }
}

const NO_DATABASE: &str = "the role may connect to neither of the databases postgres and template1";

fn not_reached(why: NoSession) -> Change {
    Change::NotReached(match why {
        NoSession::NoAnswer(why) => why,
        NoSession::NoDatabase | NoSession::Closed => NO_DATABASE.into(),
    })
}

async fn list(client: &Client) -> Result<Vec<FoundAccount>, String> {
    let rows = client
        .query(
            "SELECT r.rolname::text, r.rolcanlogin AND (r.rolvaliduntil IS NULL OR r.rolvaliduntil > now()), r.rolsuper, r.rolcreaterole,
                    ARRAY(SELECT g.rolname::text FROM pg_auth_members m JOIN pg_roles g ON g.oid = m.roleid WHERE m.member = r.oid ORDER BY 1 LIMIT 50)
             FROM pg_roles r WHERE r.rolname !~ '^pg_' ORDER BY 1 LIMIT 10000",
            &[],
        )
        .await
        .map_err(|error| no_connection(&error.to_string()))?;
    let read = |row: &tokio_postgres::Row| -> Option<FoundAccount> {
        let why = [(2, "superuser"), (3, "may change roles")]
            .into_iter()
            .find(|(column, _)| row.try_get(*column).unwrap_or(false));
        Some(FoundAccount {
            login: row.try_get(0).ok()?,
            signs_in: row.try_get(1).ok()?,
            privileged: why.map(|(_, why)| why.into()),
            groups: row.try_get(4).ok()?,
            ..FoundAccount::default()
        })
    };
    Ok(rows.iter().filter_map(read).collect())
}

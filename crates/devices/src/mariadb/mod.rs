//! MariaDB servers (10.4 and later), over TLS: the password of a user checked by signing in, changed by
//! the operator or by the user itself.
//!
//! Signing in is by `mysql_native_password` or `ed25519`, which prove that the password is known without
//! telling it, and nothing else. A change sends what the server keeps of the password, which this
//! service computed, so that no log of the server has the password.

mod session;

use async_trait::async_trait;
use jexlin_core::secret::{Secret, redact};
use jexlin_core::upkeep::identity::PresentedIdentity;
use jexlin_core::upkeep::{Account, BoundLogin, ConnectorKind, Endpoint, Operator, RoleMark};
use mysql_common::row::Row;
use tokio::time::timeout;

use self::session::{Broken, Session, kept};
use crate::network::plain_words;
use crate::time_limits::{TimeLimits, silence};
use crate::{Capabilities, Change, Connector, FoundAccount, Listing, MaySend, Met, Probe};

/// The connector.
#[derive(Debug)]
pub struct Mariadb {
    limits: TimeLimits,
}

/// Why there is no session.
enum NoSession {
    /// The password does not open the user.
    Closed,
    NoAnswer(String),
}

/// The numbers of errors that say that a password is wrong, or that there is no such user: the server
/// does not tell them apart.
const ACCESS_DENIED: [u16; 2] = [1045, 1698];
/// The password is right and has expired: only its change is allowed.
const EXPIRED: [u16; 2] = [1820, 1862];
/// The server ends, or has ended this session: whether a statement was carried out is not known.
const ENDED: [u16; 4] = [1053, 1080, 1317, 1927];
/// The server takes passwords in the clear alone, to judge them.
const WANTS_TO_READ: u16 = 1290;

/// A user as the server knows it: users with the same name from different hosts are different users.
#[derive(Debug, PartialEq, Eq)]
struct User<'a> {
    name: &'a str,
    host: &'a str,
}

/// How a user is named.
const NAME: &str =
    "a user of a MariaDB server is written with its host as the server has it, such as duty@%";

impl<'a> User<'a> {
    /// Reads a login: a name, and the host as the server has it. There is no other way to write one,
    /// so that no user has two names here.
    ///
    /// ```text
    /// duty@%            duty from any host
    /// duty@10.20.%      duty from this network
    /// duty@osmere@%     duty@osmere from any host
    /// ```
    fn of(login: &'a str) -> Option<Self> {
        let (name, host) = login.rsplit_once('@')?;
        (!name.is_empty() && !host.is_empty()).then_some(Self { name, host })
    }
}

/// A name as a quoted name, which means the same in every mode of the server.
fn quoted(name: &str) -> String {
    format!("`{}`", name.replace('`', "``"))
}

/// A text as a value, which means the same in every mode of the server.
fn value(text: &str) -> String {
    let digits: String = text.bytes().map(|byte| format!("{byte:02x}")).collect();
    format!("CONVERT(X'{digits}' USING utf8mb4)")
}

fn text(row: &Row, column: usize) -> String {
    row.get::<Option<String>, _>(column)
        .flatten()
        .unwrap_or_default()
}

impl Mariadb {
    /// A connector with these limits.
    #[must_use]
    pub const fn new(limits: TimeLimits) -> Self {
        Self { limits }
    }

    /// Signs in where the identity is proved.
    async fn open<R: RoleMark>(
        &self,
        login: &BoundLogin<R>,
    ) -> (Result<Session, NoSession>, Option<PresentedIdentity>) {
        let Some(user) = User::of(login.login()) else {
            return (Err(NoSession::NoAnswer(NAME.into())), None);
        };
        let opening = Session::open(login, user.name);
        let Ok((session, presented)) = timeout(self.limits.connect, opening).await else {
            return (Err(NoSession::NoAnswer(silence(self.limits.connect))), None);
        };
        let session = session.map_err(|why| match why {
            Broken::Said(number, _) if ACCESS_DENIED.contains(&number) => NoSession::Closed,
            Broken::Said(_, words) => NoSession::NoAnswer(format!(
                "the device says: {}",
                plain_words(&redact(&words, &[login.password()]))
            )),
            Broken::Lost(why) => NoSession::NoAnswer(redact(&why, &[login.password()])),
        });
        (session, presented)
    }

    /// Whether the session is that of the user that was meant: a server takes the first that fits, which
    /// may be one without a name.
    async fn is_meant(&self, session: &mut Session, login: &str) -> Result<(), NoSession> {
        let asking = session.ask("SELECT CURRENT_USER()");
        let rows = match timeout(self.limits.connect, asking).await {
            Ok(Ok(rows)) => rows,
            Ok(Err(Broken::Said(number, _))) if EXPIRED.contains(&number) => return Ok(()),
            Ok(Err(Broken::Said(_, why) | Broken::Lost(why))) => {
                return Err(NoSession::NoAnswer(plain_words(&why)));
            }
            Err(_) => return Err(NoSession::NoAnswer(silence(self.limits.connect))),
        };
        let whole = rows.first().map(|row| text(row, 0)).unwrap_or_default();
        if whole == login {
            return Ok(());
        }
        let name = |login: &str| User::of(login).map(|user| user.name.to_owned());
        if name(&whole) != name(login) {
            return Err(NoSession::Closed);
        }
        Err(NoSession::NoAnswer(format!(
            "from this service, the server takes the user for {}",
            plain_words(&whole)
        )))
    }

    /// Sends one change of a user's password; whose it is, where it is not that of who signed in.
    async fn change(
        &self,
        session: &mut Session,
        plugin: &str,
        whose: &str,
        candidate: &BoundLogin<Account>,
        may_send: MaySend<'_>,
    ) -> Change {
        let Some(kept) = kept(plugin, candidate.password()) else {
            return Change::Refused(format!(
                "this user signs in by {}, whose passwords are not changed: only mysql_native_password and ed25519 are",
                plain_words(plugin)
            ));
        };
        if !may_send().await {
            return Change::LeaseLost;
        }
        // What is kept has letters, digits and * + / alone.
        let statement = format!("SET PASSWORD{whose} = '{kept}'");
        match timeout(self.limits.change, session.ask(&statement)).await {
            Ok(Ok(_)) => Change::Applied,
            Ok(Err(Broken::Said(number, words))) if ENDED.contains(&number) => {
                Change::Lost(plain_words(&words.replace(&kept, "…")))
            }
            Ok(Err(Broken::Said(number, words))) => {
                // The hash in the server's message would let a reader test guesses of the password.
                let words = redact(&words, &[candidate.password()]).replace(&kept, "…");
                let advice = if number == WANTS_TO_READ {
                    ". The server wants to read new passwords, to judge them: set strict_password_validation = OFF there, and let a password policy here judge them"
                } else {
                    ""
                };
                Change::Refused(plain_words(&words) + advice)
            }
            Ok(Err(Broken::Lost(why))) => Change::Lost(why),
            Err(_) => Change::Lost(silence(self.limits.change)),
        }
    }

    /// The user that a login means, and how it signs in.
    async fn find(&self, session: &mut Session, login: &str) -> Result<Found, Change> {
        let Some(user) = User::of(login) else {
            return Err(Change::Refused(NAME.into()));
        };
        let statement = format!(
            "SELECT plugin FROM mysql.user WHERE User = {} AND Host = {} AND is_role = 'N'",
            value(user.name),
            value(user.host)
        );
        let rows = match timeout(self.limits.change, session.ask(&statement)).await {
            Ok(Ok(rows)) => rows,
            Ok(Err(Broken::Said(_, words))) => return Err(Change::Refused(plain_words(&words))),
            Ok(Err(Broken::Lost(why))) => return Err(Change::NotReached(why)),
            Err(_) => return Err(Change::NotReached(silence(self.limits.change))),
        };
        let row = rows
            .first()
            .ok_or_else(|| Change::Refused("there is no such user".into()))?;
        Ok(Found {
            whose: format!(" FOR {}@{}", quoted(user.name), quoted(user.host)),
            plugin: text(row, 0),
        })
    }
}

/// A user that was found.
struct Found {
    /// As a part of a statement.
    whose: String,
    plugin: String,
}

/// How who signed in signs in, by what the server keeps of them.
async fn own_plugin(session: &mut Session) -> Result<String, Broken> {
    // Everybody may ask this of themselves. An expired password forbids even that, and the usual way
    // is meant then.
    match session.ask("SHOW CREATE USER CURRENT_USER()").await {
        Ok(rows) => {
            let words = rows.first().map(|row| text(row, 0)).unwrap_or_default();
            Ok(if words.contains(" IDENTIFIED VIA ed25519 ") {
                "ed25519"
            } else {
                "mysql_native_password"
            }
            .to_owned())
        }
        Err(Broken::Said(number, _)) if EXPIRED.contains(&number) => {
            Ok("mysql_native_password".to_owned())
        }
        Err(why) => Err(why),
    }
}

#[async_trait]
impl Connector for Mariadb {
    fn kind(&self) -> ConnectorKind {
        ConnectorKind::Mariadb
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            changes_as_operator: true,
            changes_as_itself: true,
        }
    }

    fn needed_rights(&self) -> &'static str {
        "The server is MariaDB 10.4 or later and offers TLS (ssl_cert, ssl_key). Users sign in by mysql_native_password or ed25519. The operator needs UPDATE on mysql.*, without which SET PASSWORD is refused, and SELECT on mysql.user, mysql.db, mysql.tables_priv and mysql.roles_mapping. SELECT can be limited to columns: of mysql.user to User, Host, plugin, is_role, Super_priv, Create_user_priv, Grant_priv, Insert_priv and Update_priv; of mysql.db to User, Host, Db, Insert_priv and Update_priv; of mysql.tables_priv to User, Host, Db, Table_name, Table_priv and Column_priv. With these rights the operator can change the password of every user, root included. A user that changes its own password needs nothing more."
    }

    async fn identify(&self, endpoint: &Endpoint) -> Result<Vec<PresentedIdentity>, String> {
        timeout(self.limits.connect, Session::look(endpoint))
            .await
            .unwrap_or_else(|_| Err(silence(self.limits.connect)))
    }

    async fn check(&self, account: &BoundLogin<Account>) -> Met<Probe> {
        let (session, presented) = self.open(account).await;
        let result = match session {
            Ok(mut session) => self.is_meant(&mut session, account.login()).await,
            Err(why) => Err(why),
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
            Ok(mut session) => match self.find(&mut session, candidate.login()).await {
                Ok(found) => {
                    let (whose, plugin) = (&found.whose, &found.plugin);
                    self.change(&mut session, plugin, whose, candidate, may_send)
                        .await
                }
                Err(why) => why,
            },
            Err(NoSession::Closed) => Change::OperatorRefused,
            Err(NoSession::NoAnswer(why)) => Change::NotReached(why),
        };
        Met::of(result, presented)
    }

    async fn change_as_itself(
        &self,
        account: &BoundLogin<Account>,
        candidate: &BoundLogin<Account>,
        may_send: MaySend<'_>,
    ) -> Met<Change> {
        let (session, presented) = self.open(account).await;
        let session = match session {
            Ok(mut session) => {
                let meant = self.is_meant(&mut session, account.login()).await;
                meant.map(|()| session)
            }
            Err(why) => Err(why),
        };
        let result = match session {
            Ok(mut session) => match timeout(self.limits.connect, own_plugin(&mut session)).await {
                Ok(Ok(plugin)) => {
                    self.change(&mut session, &plugin, "", candidate, may_send)
                        .await
                }
                Ok(Err(Broken::Said(_, words))) => Change::Refused(plain_words(&words)),
                Ok(Err(Broken::Lost(why))) => Change::NotReached(why),
                Err(_) => Change::NotReached(silence(self.limits.connect)),
            },
            Err(NoSession::Closed) => Change::AccountRefused,
            Err(NoSession::NoAnswer(why)) => Change::NotReached(why),
        };
        Met::of(result, presented)
    }

    async fn list_accounts(&self, operator: &BoundLogin<Operator>) -> Met<Listing> {
        let (session, presented) = self.open(operator).await;
        let result = match session {
            Ok(mut session) => timeout(self.limits.change, list(&mut session))
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

/// Lists the users. A user who may write to the schema `mysql`, or to one of its tables that hold
/// rights, can give itself any right, so it is privileged. So is a user with a role, granted directly
/// or through other roles, that may. Only those who may read password hashes are told which users are
/// locked, and an operator need not have that right.
async fn list(session: &mut Session) -> Result<Vec<FoundAccount>, String> {
    let rows = session
        .ask(
            "WITH RECURSIVE powerful AS (
                 SELECT u.User, u.Host FROM mysql.user u
                 WHERE 'Y' IN (Super_priv, Create_user_priv, Grant_priv, Insert_priv, Update_priv)
                 UNION
                 SELECT d.User, d.Host FROM mysql.db d
                 WHERE 'mysql' LIKE d.Db AND 'Y' IN (d.Insert_priv, d.Update_priv)
                 UNION
                 SELECT t.User, t.Host FROM mysql.tables_priv t
                 WHERE t.Db = 'mysql'
                   AND t.Table_name IN ('columns_priv', 'db', 'func', 'global_priv', 'plugin', 'procs_priv',
                                        'proxies_priv', 'roles_mapping', 'tables_priv', 'user')
                   AND CONCAT(t.Table_priv, ',', t.Column_priv) REGEXP 'Insert|Update'
             ), held AS (
                 SELECT m.User, m.Host, m.Role FROM mysql.roles_mapping m
                 UNION
                 SELECT h.User, h.Host, m.Role FROM held h
                 JOIN mysql.roles_mapping m ON m.User = h.Role AND m.Host = ''
             )
             SELECT u.User, u.Host, u.plugin,
                    EXISTS (SELECT 1 FROM powerful p WHERE p.User = u.User AND p.Host = u.Host),
                    (SELECT MIN(h.Role) FROM held h JOIN powerful p ON p.User = h.Role AND p.Host = ''
                     WHERE h.User = u.User AND h.Host = u.Host)
             FROM mysql.user u WHERE u.is_role = 'N' AND u.User <> '' ORDER BY u.User, u.Host LIMIT 10000",
        )
        .await
        .map_err(|why| match why {
            Broken::Said(_, why) | Broken::Lost(why) => plain_words(&why),
        })?;
    let nothing = Secret::from_text(String::new());
    let found = rows.iter().map(|row| FoundAccount {
        login: format!("{}@{}", text(row, 0), text(row, 1)),
        signs_in: kept(&text(row, 2), &nothing).is_some(),
        privileged: why_privileged(&text(row, 3), &text(row, 4)),
        ..FoundAccount::default()
    });
    Ok(found.collect())
}

/// The reason why a user is privileged: its own rights (`1`) or a role.
fn why_privileged(itself: &str, role: &str) -> Option<String> {
    let why = "may grant rights or change users";
    match (itself, role) {
        ("1", _) => Some(why.to_owned()),
        (_, "") => None,
        (_, role) => Some(format!("{why} with the role {role}")),
    }
}

#[cfg(test)]
mod tests {
    use super::{User, quoted, value};

    #[test]
    fn a_login_has_a_host_after_the_last_at_sign() {
        let user = |login| User::of(login).map(|user| (user.name, user.host));
        assert_eq!(user("duty@10.20.%"), Some(("duty", "10.20.%")));
        assert_eq!(user("duty@osmere@%"), Some(("duty@osmere", "%")));
        for other in ["duty", "@%", "duty@", ""] {
            assert_eq!(user(other), None, "{other}");
        }
    }

    #[test]
    fn a_name_cannot_end_its_quotes() {
        assert_eq!(quoted("a`@`%` = ''; -- "), "`a``@``%`` = ''; -- `");
        assert_eq!(value("o'r\\"), "CONVERT(X'6f27725c' USING utf8mb4)");
    }
}

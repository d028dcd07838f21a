//! Directories that speak LDAP (RFC 4511) over TLS and change passwords by RFC 3062, as OpenLDAP and 389
//! Directory Server do. An account is named by its distinguished name (RFC 4514).

pub(crate) mod session;

use std::time::Duration;

use async_trait::async_trait;
use chrono::{DateTime, NaiveDateTime, Utc};
use jexlin_core::secret::{Secret, redact};
use jexlin_core::upkeep::identity::PresentedIdentity;
use jexlin_core::upkeep::{Account, BoundLogin, ConnectorKind, Endpoint, Operator, RoleMark};
use ldap3::exop::PasswordModify;
use ldap3::{Ldap as Session, LdapResult, Scope, SearchEntry};
use tokio::time::timeout;

use self::session::{NoSession, Opened, kept, open};
use crate::kept::Kept;
use crate::network::{no_connection, plain_words};
use crate::time_limits::{TimeLimits, silence};
use crate::tls;
use crate::{
    Capabilities, Change, Connector, FoundAccount, KeptOperators, Listing, MaySend, Met,
    OperatorConnection, Probe,
};

/// The most accounts that are listed.
const MOST_ACCOUNTS: usize = 10_000;

/// Results of RFC 4511, section 4.1.9, after which something may have been done all the same.
pub(crate) const UNSURE: [u32; 4] = [
    1,  // operationsError
    51, // busy
    52, // unavailable
    80, // other
];

/// The connector. It keeps sessions of operators open, to use them again.
#[derive(Debug)]
pub struct Ldap {
    limits: TimeLimits,
    operators: Kept<Session>,
}

impl Ldap {
    /// A connector with these limits.
    #[must_use]
    pub fn new(limits: TimeLimits) -> Self {
        Self {
            limits,
            operators: Kept::new(limits.idle),
        }
    }

    /// The kept session of an operator, or a new one.
    async fn operator_session(&self, operator: &BoundLogin<Operator>) -> Opened {
        let within = self.limits.connect;
        kept(&self.operators, operator, within, || self.open(operator)).await
    }

    /// Signs in where the identity is proved.
    async fn open<R: RoleMark>(&self, login: &BoundLogin<R>) -> Opened {
        timeout(self.limits.connect, open(login, judge))
            .await
            .unwrap_or_else(|_| (Err(NoSession::NoAnswer(silence(self.limits.connect))), None))
    }

    /// Sends one change, by whoever is signed in.
    async fn change(
        &self,
        mut session: Session,
        candidate: &BoundLogin<Account>,
        present: Option<&BoundLogin<Account>>,
    ) -> Change {
        let Ok(password) = candidate.password().expose_secret_text() else {
            return Change::NotReached("the new password is not text".into());
        };
        let former = present.and_then(|present| present.password().expose_secret_text().ok());
        let request = PasswordModify {
            user_id: Some(candidate.login()),
            old_pass: former,
            new_pass: Some(password),
        };
        let result = match timeout(self.limits.change, session.extended(request)).await {
            Ok(Ok(answer)) => answer.1,
            Ok(Err(error)) => return Change::Lost(no_connection(&error.to_string())),
            Err(_) => {
                return Change::Lost(silence(self.limits.change));
            }
        };
        // A directory may say the password back.
        let mut secrets = vec![candidate.password()];
        secrets.extend(present.map(BoundLogin::password));
        let words = words_of(&result, &secrets);
        match result.rc {
            0 => Change::Applied,
            rc if UNSURE.contains(&rc) => Change::Lost(words),
            _ => Change::Refused(words),
        }
    }
}

/// What a refused sign-in says of the password.
fn judge(result: &LdapResult, password: &Secret) -> NoSession {
    match result.rc {
        49 => NoSession::Closed,
        _ => NoSession::NoAnswer(format!(
            "the device says: {}",
            words_of(result, &[password])
        )),
    }
}

/// What a directory says of a result: its own words without the secrets that it was sent, or the name
/// that the standard has for it.
pub(crate) fn words_of(result: &LdapResult, secrets: &[&Secret]) -> String {
    let name = match result.rc {
        2 => "protocol error; it may not know the Password Modify operation (RFC 3062)",
        19 => "the value breaks a constraint of the directory",
        32 => "there is no such entry",
        50 => "insufficient access rights",
        53 => "the directory is unwilling to do this",
        _ => "the directory refused",
    };
    // Before they are shortened, which could leave a part of a secret.
    let said = plain_words(&redact(&result.text, secrets));
    if said.is_empty() {
        format!("{name} (result {})", result.rc)
    } else {
        format!("{said} (result {})", result.rc)
    }
}

#[async_trait]
impl Connector for Ldap {
    fn kind(&self) -> ConnectorKind {
        ConnectorKind::Ldap
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            changes_as_operator: true,
            changes_as_itself: true,
        }
    }

    fn needed_rights(&self) -> &'static str {
        "The directory speaks LDAP over TLS (ldaps) and knows the Password Modify operation (RFC 3062). A user name is a distinguished name, such as uid=duty,ou=people,dc=osmere,dc=example. The operator may write userPassword of the accounts, and read their entries to list them. An account that changes its own password may write its own userPassword."
    }

    async fn identify(&self, endpoint: &Endpoint) -> Result<Vec<PresentedIdentity>, String> {
        timeout(self.limits.connect, tls::look(endpoint))
            .await
            .unwrap_or_else(|_| Err(silence(self.limits.connect)))
    }

    async fn check(&self, account: &BoundLogin<Account>) -> Met<Probe> {
        let (session, presented) = self.open(account).await;
        let result = match session {
            Ok(mut session) => {
                // Saying goodbye is a courtesy; the answer stands already.
                let _ = timeout(Duration::from_secs(2), session.unbind()).await;
                Probe::Opened
            }
            Err(NoSession::Closed) => Probe::Closed,
            Err(why) => Probe::NoAnswer(why.words("its")),
        };
        Met::of(result, presented)
    }

    async fn change_as_operator(
        &self,
        operator: &BoundLogin<Operator>,
        candidate: &BoundLogin<Account>,
        may_send: MaySend<'_>,
    ) -> Met<Change> {
        let (session, presented) = self.operator_session(operator).await;
        let result = match session {
            Ok(_) if !may_send().await => Change::LeaseLost,
            Ok(session) => self.change(session, candidate, None).await,
            Err(NoSession::Closed) => Change::OperatorRefused,
            Err(why) => Change::NotReached(why.words("the operator's")),
        };
        if matches!(result, Change::Lost(_)) {
            self.operators.close(&OperatorConnection::of(operator));
        }
        Met::of(result, presented)
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
            Ok(session) => self.change(session, candidate, Some(account)).await,
            Err(NoSession::Closed) => Change::AccountRefused,
            Err(why) => Change::NotReached(why.words("its")),
        };
        Met::of(result, presented)
    }

    async fn list_accounts(&self, operator: &BoundLogin<Operator>) -> Met<Listing> {
        let (session, presented) = self.operator_session(operator).await;
        let result = match session {
            Ok(session) => timeout(self.limits.change, list(session))
                .await
                .unwrap_or_else(|_| Err(silence(self.limits.change)))
                .map_err(|why| redact(&why, &[operator.password()]))
                .into(),
            Err(NoSession::Closed) => Listing::OperatorRefused,
            Err(why) => Listing::NoAnswer(why.words("the operator's")),
        };
        Met::of(result, presented)
    }

    fn kept(&self) -> Option<&dyn KeptOperators> {
        Some(&self.operators)
    }
}

/// The entries that people and programs sign in as, below every suffix of the directory.
async fn list(mut session: Session) -> Result<Vec<FoundAccount>, String> {
    let broken = |error: ldap3::LdapError| no_connection(&error.to_string());
    let (root, _) = session
        .search("", Scope::Base, "(objectClass=*)", vec!["namingContexts"])
        .await
        .map_err(broken)?
        .success()
        .map_err(broken)?;
    let suffixes: Vec<String> = root
        .into_iter()
        .filter_map(|entry| SearchEntry::construct(entry).attrs.remove("namingContexts"))
        .flatten()
        .collect();
    let mut found = vec![];
    for suffix in suffixes {
        let accounts = "(|(objectClass=posixAccount)(objectClass=inetOrgPerson)(objectClass=simpleSecurityObject))";
        let answer = session
            .search(&suffix, Scope::Subtree, accounts, FACTS.to_vec())
            .await
            .map_err(broken)?;
        for entry in answer.0 {
            if found.len() >= MOST_ACCOUNTS {
                return Ok(found);
            }
            found.push(account(SearchEntry::construct(entry)));
        }
    }
    Ok(found)
}

/// What a directory may tell of an account; one without the overlays for it tells less.
const FACTS: [&str; 4] = [
    "pwdChangedTime",
    "pwdAccountLockedTime",
    "authTimestamp",
    "memberOf",
];

fn account(entry: SearchEntry) -> FoundAccount {
    let all = |name: &str| entry.attrs.get(name);
    let one = |name: &str| all(name).and_then(|values| values.first());
    FoundAccount {
        signs_in: true,
        locked: one("pwdAccountLockedTime").map(|_| true),
        password_set_at: one("pwdChangedTime").and_then(|time| generalized_time(time)),
        signed_in_at: one("authTimestamp").and_then(|time| generalized_time(time)),
        groups: all("memberOf").cloned().unwrap_or_default(),
        login: entry.dn,
        ..FoundAccount::default()
    }
}

/// A time as directories write it (RFC 4517, section 3.3.13), in UTC.
///
/// ```text
/// 20261128234700Z    20261128234700.123456Z    20261128234700.0Z
/// ```
pub(crate) fn generalized_time(text: &str) -> Option<DateTime<Utc>> {
    let digits = text.strip_suffix('Z')?;
    let (whole, _) = digits.split_once('.').unwrap_or((digits, ""));
    let time = NaiveDateTime::parse_from_str(whole, "%Y%m%d%H%M%S").ok()?;
    Some(time.and_utc())
}

#[cfg(test)]
mod tests {
    use super::generalized_time;

    #[test]
    fn the_times_of_directories_are_read() {
        let evening = "2026-11-28T23:47:00Z".parse().ok();
        for text in ["20261128234700Z", "20261128234700.123456Z"] {
            assert_eq!(generalized_time(text), evening, "{text}");
        }
        for text in ["", "Z", "20261128", "20261328234700Z", "20261128234700+01"] {
            assert_eq!(generalized_time(text), None, "{text}");
        }
    }
}

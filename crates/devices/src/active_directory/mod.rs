//! Active Directory over LDAP with TLS: passwords by `unicodePwd` (MS-ADTS, section 3.1.1.3.1.5), and what a
//! domain controller says of an account that it does not let in.

mod entry;

use std::time::Duration;

use async_trait::async_trait;
use jexlin_core::secret::{Secret, redact};
use jexlin_core::upkeep::identity::PresentedIdentity;
use jexlin_core::upkeep::{Account, BoundLogin, ConnectorKind, Endpoint, Operator, RoleMark};
use ldap3::{Ldap as Session, LdapError, LdapResult, Mod};
use tokio::time::timeout;

use self::entry::{NAME, entry_of, list, parts};
use crate::kept::Kept;
use crate::ldap::session::{NoSession, Opened, kept, open};
use crate::ldap::{UNSURE, words_of};
use crate::network::{no_connection, plain_words};
use crate::time_limits::{TimeLimits, silence};
use crate::tls;
use crate::{
    Capabilities, Change, Connector, KeptOperators, Listing, MaySend, Met, OperatorConnection,
    Probe,
};

/// The connector. It keeps sessions of operators open, to use them again.
#[derive(Debug)]
pub struct ActiveDirectory {
    limits: TimeLimits,
    operators: Kept<Session>,
}

/// Why a domain controller does not let somebody in, by the code in its diagnostic message (a Windows
/// error, in hexadecimal).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum NotLetIn {
    /// No such account, or another password.
    WrongPassword,
    /// The password is right, and must be changed before it is used.
    Expired,
    /// For this reason, whatever the password is.
    Other(&'static str),
}

/// Reads `…, data 52e, …`.
fn not_let_in(message: &str) -> Option<NotLetIn> {
    let (_, after) = message.split_once("data ")?;
    let code = after.split([',', ' ']).next()?;
    Some(match code.to_ascii_lowercase().as_str() {
        "525" | "52e" => NotLetIn::WrongPassword,
        "532" | "773" => NotLetIn::Expired,
        "530" => NotLetIn::Other("the account may not sign in at this time"),
        "531" => NotLetIn::Other("the account may not sign in from here"),
        "533" => NotLetIn::Other("the account is disabled"),
        "701" => NotLetIn::Other("the account has expired"),
        "775" => NotLetIn::Other("the account is locked"),
        _ => return None,
    })
}

/// What a refused sign-in says of the password.
fn judge(result: &LdapResult, password: &Secret) -> NoSession {
    match (result.rc, not_let_in(&result.text)) {
        (49, Some(NotLetIn::WrongPassword)) => NoSession::Closed,
        (49, Some(NotLetIn::Expired)) => NoSession::OpenedOnly,
        (49, Some(NotLetIn::Other(why))) => NoSession::NoAnswer(why.into()),
        _ => NoSession::NoAnswer(format!(
            "the device says: {}",
            words_of(result, &[password])
        )),
    }
}

/// A password as `unicodePwd` takes it: in double quotes, as UTF-16 with the low byte first.
///
/// ```text
/// ab    22 00 61 00 62 00 22 00
/// ```
fn quoted(password: &str) -> Vec<u8> {
    format!("\"{password}\"")
        .encode_utf16()
        .flat_map(u16::to_le_bytes)
        .collect()
}

impl ActiveDirectory {
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
        if parts(login.login()).is_none() {
            return (Err(NoSession::NoAnswer(NAME.into())), None);
        }
        timeout(self.limits.connect, open(login, judge))
            .await
            .unwrap_or_else(|_| (Err(NoSession::NoAnswer(silence(self.limits.connect))), None))
    }

    /// Finds the account, and sends one change of its password, by whoever is signed in.
    async fn change(
        &self,
        mut session: Session,
        candidate: &BoundLogin<Account>,
        present: Option<&BoundLogin<Account>>,
        may_send: MaySend<'_>,
    ) -> Change {
        let text = |secret: &Secret| secret.expose_secret_text().map(quoted);
        let Ok(new) = text(candidate.password()) else {
            return Change::NotReached("the new password is not text".into());
        };
        let looking = entry_of(&mut session, candidate.login());
        let name = match timeout(self.limits.change, looking).await {
            Ok(Ok(Ok(name))) => name,
            Ok(Ok(Err(why))) => return Change::Refused(why),
            Ok(Err(error)) => return Change::NotReached(no_connection(&error.to_string())),
            Err(_) => return Change::NotReached(silence(self.limits.change)),
        };
        let attribute = b"unicodePwd".to_vec();
        let changes = match present.map(|present| text(present.password())) {
            None => vec![Mod::Replace(attribute, [new].into())],
            Some(Ok(old)) => vec![
                Mod::Delete(attribute.clone(), [old].into()),
                Mod::Add(attribute, [new].into()),
            ],
            Some(Err(_)) => return Change::NotReached("the stored password is no text".into()),
        };
        if !may_send().await {
            return Change::LeaseLost;
        }
        let result = match timeout(self.limits.change, session.modify(&name, changes)).await {
            Ok(Ok(result)) => result,
            Ok(Err(error)) => return Change::Lost(no_connection(&error.to_string())),
            Err(_) => {
                return Change::Lost(silence(self.limits.change));
            }
        };
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

#[async_trait]
impl Connector for ActiveDirectory {
    fn kind(&self) -> ConnectorKind {
        ConnectorKind::ActiveDirectory
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            changes_as_operator: true,
            changes_as_itself: true,
        }
    }

    fn needed_rights(&self) -> &'static str {
        "The domain controller offers LDAP over TLS (ldaps). A user name is the account's logon name (sAMAccountName) and the domain, such as duty@osmere.example. The operator needs the right Reset password on the accounts, granted on their organisational unit, and nothing more. On Windows, only a domain administrator can reset an administrator's password. An account that changes its own password needs no extra right; the domain's password history and minimum age apply to it."
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
            Err(NoSession::OpenedOnly) => Probe::Opened,
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
        let (session, presented) = self.operator_session(operator).await;
        let result = match session {
            Ok(session) => self.change(session, candidate, None, may_send).await,
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
            Ok(session) => {
                self.change(session, candidate, Some(account), may_send)
                    .await
            }
            Err(NoSession::Closed) => Change::AccountRefused,
            Err(why) => Change::NotReached(why.words("its")),
        };
        Met::of(result, presented)
    }

    async fn list_accounts(&self, operator: &BoundLogin<Operator>) -> Met<Listing> {
        let (session, presented) = self.operator_session(operator).await;
        let broken = |error: LdapError| plain_words(&error.to_string());
        let result = match session {
            Ok(session) => timeout(self.limits.change, list(session))
                .await
                .map_or_else(
                    |_| Err(silence(self.limits.change)),
                    |found| found.map_err(broken),
                )
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

#[cfg(test)]
mod tests {
    use super::{NotLetIn, not_let_in, quoted};

    #[test]
    fn the_codes_of_a_refused_sign_in_are_read() {
        let said = |code: &str| {
            not_let_in(&format!(
                "80090308: LdapErr: DSID-0C0903A9, comment: AcceptSecurityContext error, data {code}, v1db1"
            ))
        };
        assert_eq!(said("52e"), Some(NotLetIn::WrongPassword));
        assert_eq!(said("525"), Some(NotLetIn::WrongPassword));
        assert_eq!(said("773"), Some(NotLetIn::Expired));
        assert_eq!(said("775"), Some(NotLetIn::Other("the account is locked")));
        assert_eq!(said("57"), None);
        assert_eq!(not_let_in("invalid credentials"), None);
    }

    #[test]
    fn a_password_is_quoted_and_in_utf_16() {
        assert_eq!(quoted("aä"), [0x22, 0, 0x61, 0, 0xe4, 0, 0x22, 0]);
        assert_eq!(quoted("𝄞").len(), 8);
    }
}

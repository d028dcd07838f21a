//! Listing the accounts of an OpenSSH host, as its name service has them (`getent passwd`).

use std::sync::atomic::AtomicBool;

use jexlin_core::secret::Secret;
use jexlin_core::upkeep::{BoundLogin, Operator};
use tokio::time::timeout;

use super::Ssh;
use super::connection::NoSession;
use super::password_change::{Broken, run};
use crate::{FoundAccount, Met};

/// Ends of shells that nobody can sign in with.
const NO_SHELL: [&str; 3] = ["/nologin", "/false", "/sync"];

impl Ssh {
    pub(super) async fn accounts_of(
        &self,
        operator: &BoundLogin<Operator>,
    ) -> Met<Result<Vec<FoundAccount>, String>> {
        let session = match self.operator_session(operator).await {
            Ok(session) => session,
            Err((why, presented)) => {
                let why = match why {
                    NoSession::Closed => "the device refused the operator's password".into(),
                    NoSession::NoAnswer(why) => why,
                };
                return Met::of(Err(why), presented);
            }
        };
        let (input, sent) = (Secret::from_text(String::new()), AtomicBool::new(false));
        let may_send = Box::new(|| -> crate::Answer<'_> { Box::pin(async { true }) });
        let command = "LC_ALL=C getent passwd";
        let ran = timeout(
            self.settings.change,
            run(&session, command, &input, may_send, &sent),
        );
        let result = match ran.await {
            Ok(Ok((0, output))) => Ok(read_accounts(&output)),
            Ok(Ok((status, _))) => Err(format!("the device ended the list with status {status}")),
            Ok(Err(Broken::Before(why) | Broken::After(why))) => Err(why),
            Ok(Err(Broken::LeaseLost)) | Err(_) => {
                Err("the device did not finish in time".to_owned())
            }
        };
        Met::of(result, session.presented.clone())
    }
}

/// Reads lines of passwd(5). What is none is left out: a device writes what it likes.
pub(super) fn read_accounts(text: &str) -> Vec<FoundAccount> {
    text.lines()
        .filter_map(|line| {
            let parts: Vec<&str> = line.split(':').collect();
            let [login, _, number, _, _, _, shell] = parts.as_slice() else {
                return None;
            };
            let number: u32 = number.parse().ok()?;
            let usable = !login.is_empty()
                && login.chars().count() <= jexlin_core::upkeep::account::LONGEST_LOGIN
                && !login.chars().any(char::is_control);
            usable.then(|| FoundAccount {
                login: (*login).to_owned(),
                signs_in: !NO_SHELL.iter().any(|end| shell.ends_with(end)),
                powerful: number == 0,
            })
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn accounts_are_read_and_odd_lines_are_left_out() {
        let text = "root:x:0:0:root:/root:/bin/bash\nduty:x:1001:1001::/home/duty:/bin/sh\n\
                    sshd:x:101:65534::/run/sshd:/usr/sbin/nologin\nbroken\n:x:5:5:::\nx:x:many:1:::\n";
        let found = read_accounts(text);
        let of = |login: &str, signs_in, powerful| FoundAccount {
            login: login.into(),
            signs_in,
            powerful,
        };
        assert_eq!(
            found,
            [
                of("root", true, true),
                of("duty", true, false),
                of("sshd", false, false)
            ]
        );
    }
}

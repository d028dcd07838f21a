//! Lists the accounts of an OpenSSH host from its name service (`getent`), its shadow file and its
//! sign-in records, as far as it has them.

use std::collections::HashMap;
use std::sync::atomic::AtomicBool;

use chrono::{DateTime, NaiveDate, NaiveTime, Utc};

use jexlin_core::secret::Secret;
use jexlin_core::upkeep::{BoundLogin, Operator};
use tokio::time::timeout;

use super::Ssh;
use super::password_change::{Broken, run};
use super::sign_in::NoSession;
use crate::{FoundAccount, Listing, Met};

/// The longest listing, in bytes: about that of a host with ten thousand accounts.
const LONGEST_LISTING: usize = 4 * 1024 * 1024;

/// Shells that refuse every sign-in, by the end of their path.
const NO_SHELL: [&str; 3] = ["/nologin", "/false", "/sync"];

impl Ssh {
    pub(super) async fn accounts_of(&self, operator: &BoundLogin<Operator>) -> Met<Listing> {
        let session = match self.operator_session(operator).await {
            Ok(session) => session,
            Err((why, presented)) => {
                let listing = match why {
                    NoSession::Closed => Listing::OperatorRefused,
                    NoSession::NoAnswer(why) => Listing::NoAnswer(why),
                };
                return Met::of(listing, presented);
            }
        };
        let (input, sent) = (Secret::from_text(String::new()), AtomicBool::new(false));
        let may_send = Box::new(|| -> crate::Answer<'_> { Box::pin(async { true }) });
        let ran = timeout(
            self.limits.change,
            run(&session, COMMAND, &input, may_send, &sent, LONGEST_LISTING),
        );
        let result = match ran.await {
            Ok(Ok(ran)) if ran.status == 0 => Ok(read_accounts(&ran.words())),
            Ok(Ok(ran)) => Err(format!(
                "the device ended the list with status {}",
                ran.status
            )),
            Ok(Err(Broken::Before(why) | Broken::After(why))) => Err(why),
            Ok(Err(Broken::LeaseLost)) | Err(_) => {
                Err("the device did not finish in time".to_owned())
            }
        };
        Met::of(result.into(), session.presented.clone())
    }
}

/// Four lists one after the other. The second half says nothing on hosts that do not have it.
const COMMAND: &str = "export LC_ALL=C; getent passwd && echo :groups: && getent group; echo :passwords:; passwd -S -a 2>/dev/null; echo :sign-ins:; lastlog 2>/dev/null; true";

/// Groups whose members may become root, by the name that systems give them.
const POWERFUL_GROUPS: [&str; 3] = ["sudo", "wheel", "admin"];

/// What a list says of one account, beside passwd(5).
#[derive(Default)]
struct More<'a> {
    groups: Vec<&'a str>,
    locked: Option<bool>,
    password_set_at: Option<DateTime<Utc>>,
    signed_in_at: Option<DateTime<Utc>>,
}

/// A day as passwd(1) writes it, before and after shadow 4.14.
fn day(text: &str) -> Option<DateTime<Utc>> {
    let day = ["%m/%d/%Y", "%Y-%m-%d"]
        .iter()
        .find_map(|form| NaiveDate::parse_from_str(text, form).ok())?;
    Some(day.and_time(NaiveTime::MIN).and_utc())
}

/// The time at the end of a line of lastlog(8): `… Sat Nov 28 23:47:00 +0000 2026`.
fn time_at_end(line: &str) -> Option<DateTime<Utc>> {
    let words: Vec<&str> = line.split_whitespace().collect();
    let last = words.get(words.len().checked_sub(6)?..)?.join(" ");
    let time = DateTime::parse_from_str(&last, "%a %b %d %H:%M:%S %z %Y").ok()?;
    Some(time.to_utc())
}

/// What the lists after the first say, by login.
fn read_more<'a>(lists: [&'a str; 3]) -> HashMap<&'a str, More<'a>> {
    let [groups, passwords, sign_ins] = lists;
    let mut more: HashMap<&str, More<'_>> = HashMap::new();
    for line in groups.lines() {
        if let [group, _, _, members] = line.split(':').collect::<Vec<_>>().as_slice() {
            for member in members.split(',').filter(|member| !member.is_empty()) {
                more.entry(member).or_default().groups.push(group);
            }
        }
    }
    for line in passwords.lines() {
        if let [login, state, set, ..] = line.split_whitespace().collect::<Vec<_>>().as_slice() {
            let known = more.entry(login).or_default();
            known.locked = Some(state.starts_with('L'));
            known.password_set_at = day(set);
        }
    }
    for line in sign_ins.lines() {
        if let Some(login) = line.split_whitespace().next() {
            more.entry(login).or_default().signed_in_at = time_at_end(line);
        }
    }
    more
}

/// Reads what [`COMMAND`] writes. What is no line of such a list is left out: a device writes what it
/// likes.
pub(super) fn read_accounts(text: &str) -> Vec<FoundAccount> {
    let (accounts, rest) = text.split_once(":groups:\n").unwrap_or((text, ""));
    let (groups, rest) = rest.split_once(":passwords:\n").unwrap_or((rest, ""));
    let (passwords, sign_ins) = rest.split_once(":sign-ins:\n").unwrap_or((rest, ""));
    let mut more = read_more([groups, passwords, sign_ins]);
    accounts
        .lines()
        .filter_map(|line| {
            let parts: Vec<&str> = line.split(':').collect();
            let [login, _, number, _, _, _, shell] = parts.as_slice() else {
                return None;
            };
            let number: u32 = number.parse().ok()?;
            let more = more.remove(login).unwrap_or_default();
            let group = more
                .groups
                .iter()
                .find(|group| POWERFUL_GROUPS.contains(group));
            let privileged = if number == 0 {
                Some("user number 0".to_owned())
            } else {
                group.map(|group| format!("in the group {group}"))
            };
            Some(FoundAccount {
                login: (*login).to_owned(),
                signs_in: !NO_SHELL.iter().any(|end| shell.ends_with(end)),
                privileged,
                locked: more.locked,
                password_set_at: more.password_set_at,
                signed_in_at: more.signed_in_at,
                groups: more.groups.into_iter().map(ToOwned::to_owned).collect(),
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
                    sshd:x:101:65534::/run/sshd:/usr/sbin/nologin\nbroken\n:x:many:5:::\nx:x:many:1:::\n\
                    :groups:\nroot:x:0:\nsudo:x:27:duty,night\npumps:x:1002:duty\nbroken\n\
                    :passwords:\nroot L 11/28/2026 0 99999 7 -1\nduty P 2026-11-28 0 99999 7 -1\n\
                    :sign-ins:\nUsername Port From Latest\n\
                    root  **Never logged in**\n\
                    duty pts/0 192.0.2.9 Sat Nov 28 23:47:00 +0000 2026\n";
        let found = read_accounts(text);
        let day = "2026-11-28T00:00:00Z".parse().ok();
        assert_eq!(
            found,
            [
                FoundAccount {
                    login: "root".into(),
                    signs_in: true,
                    privileged: Some("user number 0".into()),
                    locked: Some(true),
                    password_set_at: day,
                    ..FoundAccount::default()
                },
                FoundAccount {
                    login: "duty".into(),
                    signs_in: true,
                    privileged: Some("in the group sudo".into()),
                    locked: Some(false),
                    password_set_at: day,
                    signed_in_at: "2026-11-28T23:47:00Z".parse().ok(),
                    groups: vec!["sudo".into(), "pumps".into()],
                },
                FoundAccount {
                    login: "sshd".into(),
                    ..FoundAccount::default()
                },
            ]
        );
        // A host that has nothing but passwd(5).
        let bare = read_accounts("duty:x:1001:1001::/home/duty:/bin/sh\n");
        assert!(bare.iter().all(|found| found.locked.is_none()) && bare.len() == 1);
    }
}

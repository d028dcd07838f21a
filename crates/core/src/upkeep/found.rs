//! Accounts that a device says it has.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};

use super::account::LONGEST_LOGIN;
use crate::names::show_foreign;

/// The most accounts that are taken of one device.
pub const MOST_FOUND: usize = 10_000;
/// The most groups that are kept of one account.
const MOST_GROUPS: usize = 50;
/// The longest name of a group, and the longest reason, in characters.
const LONGEST_WORDS: usize = 120;

/// An account that a device says it has. What a type of device does not tell is left open.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct FoundAccount {
    /// Its login.
    pub login: String,
    /// Whether the account can be used to sign in.
    pub signs_in: bool,
    /// Why it may do more than its own work, in words; none for an ordinary account.
    #[cfg_attr(feature = "schema", schema(required))]
    pub privileged: Option<String>,
    /// Whether it is locked.
    #[cfg_attr(feature = "schema", schema(required))]
    pub locked: Option<bool>,
    /// When its password was last set; some devices know only the day.
    #[cfg_attr(feature = "schema", schema(required))]
    pub password_set_at: Option<DateTime<Utc>>,
    /// When somebody last signed in with it.
    #[cfg_attr(feature = "schema", schema(required))]
    pub signed_in_at: Option<DateTime<Utc>>,
    /// The groups or roles that it belongs to.
    pub groups: Vec<String>,
}

impl FoundAccount {
    /// The account as it can be kept and shown: a device writes what it likes. Nothing when its login
    /// could not be one here.
    ///
    /// ```text
    /// duty, in 3,000 groups       duty, in 50 groups
    /// du\u{1b}[2Jty               nothing
    /// ```
    #[must_use]
    pub fn bounded(mut self) -> Option<Self> {
        let usable = !self.login.trim().is_empty()
            && self.login.chars().count() <= LONGEST_LOGIN
            && show_foreign(&self.login) == self.login;
        if !usable {
            return None;
        }
        let words =
            |text: &str| -> String { show_foreign(text).chars().take(LONGEST_WORDS).collect() };
        self.privileged = self.privileged.as_deref().map(words);
        self.groups.truncate(MOST_GROUPS);
        for group in &mut self.groups {
            *group = words(group);
        }
        Some(self)
    }
}

/// What a device said, as it can be kept: each login once, in order, and no more than
/// [`MOST_FOUND`].
#[must_use]
pub fn bounded(found: Vec<FoundAccount>) -> Vec<FoundAccount> {
    let mut kept: Vec<FoundAccount> = found
        .into_iter()
        .take(MOST_FOUND)
        .filter_map(FoundAccount::bounded)
        .collect();
    kept.sort_by(|a, b| a.login.cmp(&b.login));
    kept.dedup_by(|a, b| a.login == b.login);
    kept
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn account(login: &str) -> FoundAccount {
        FoundAccount {
            login: login.into(),
            ..FoundAccount::default()
        }
    }

    #[test]
    fn each_login_is_kept_once_and_one_that_could_not_be_one_is_left_out() {
        let found = ["night", "duty", "", "  ", "du\u{1b}[2Jty", "duty"].map(account);
        let kept = bounded(found.to_vec());
        let logins: Vec<&str> = kept.iter().map(|found| found.login.as_str()).collect();
        assert_eq!(logins, ["duty", "night"]);
    }

    proptest! {
        #[test]
        fn whatever_a_device_says_is_kept_within_bounds(
            login in ".{0,300}", why in ".{0,400}", groups in proptest::collection::vec(".{0,200}", 0..80),
        ) {
            let found = FoundAccount { privileged: Some(why), groups, ..account(&login) };
            if let Some(kept) = found.bounded() {
                prop_assert!(kept.login.chars().count() <= LONGEST_LOGIN);
                prop_assert!(!kept.login.chars().any(char::is_control));
                prop_assert!(kept.groups.len() <= MOST_GROUPS);
                for words in kept.groups.iter().chain(&kept.privileged) {
                    prop_assert!(words.chars().count() <= LONGEST_WORDS);
                    prop_assert!(!words.chars().any(char::is_control));
                }
            }
        }
    }
}

//! The lockout budget: failed logins lock accounts, so Jexlin spends few of them.

use chrono::{DateTime, TimeDelta, Utc};

/// Failed logins that Jexlin may cause on one account within an hour. Hosts commonly lock at five;
/// this leaves two for people.
pub const BUDGET_PER_HOUR: usize = 3;

/// Whether one more login may be tried, given when earlier ones failed.
#[must_use]
pub fn budget_allows(failures: &[DateTime<Utc>], now: DateTime<Utc>) -> bool {
    // A clock that jumped back must not forgive failures that lie in its future.
    failures
        .iter()
        .filter(|time| now - **time < TimeDelta::hours(1))
        .count()
        < BUDGET_PER_HOUR
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_third_failure_within_an_hour_is_the_last() {
        let at = |n| DateTime::from_timestamp(n, 0).unwrap();
        assert!(budget_allows(&[at(0), at(10)], at(20)));
        assert!(!budget_allows(&[at(0), at(10), at(20)], at(30)));
        assert!(budget_allows(&[at(0), at(10), at(20)], at(3600)));
        assert!(
            !budget_allows(&[at(9000), at(9000), at(9000)], at(0)),
            "a clock that jumped back"
        );
    }
}

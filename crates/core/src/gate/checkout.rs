//! The time in which the holder may reveal or use.

use chrono::{DateTime, TimeDelta, Utc};
use uuid::Uuid;

use super::{GateRevision, GateSet};
use crate::words::word_enum;

/// A checkout.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Checkout {
    /// Its identifier.
    pub id: Uuid,
    /// Of what.
    pub credential: Uuid,
    /// By whom.
    pub person: Uuid,
    /// From when.
    pub starts_at: DateTime<Utc>,
    /// Until when at the latest; the moment itself is outside.
    pub ends_at: DateTime<Utc>,
    /// When it was ended, if it was.
    pub ended_at: Option<DateTime<Utc>>,
    /// Whether the password is rotated when it ends, as the gate said when it began.
    pub rotate_on_return: bool,
    /// The gates that it was taken through, at their versions then.
    pub gates: Vec<GateRevision>,
}

word_enum! {
    /// What the table of checkouts is sorted by.
    pub enum CheckoutSort {
        /// When it began.
        From,
        /// When it ended, or ends.
        Until,
        /// The path of its credential.
        Credential,
        /// How it ended.
        Ended,
        /// Why it was taken.
        Reason,
    }
}

word_enum! {
    /// How a checkout ended.
    pub enum CheckoutEnd {
        /// The holder gave it back.
        CheckIn,
        /// Its time was over.
        Time,
        /// A steward took it back.
        Recalled,
    }
}

impl Checkout {
    /// Whether it opens the gate at `now`.
    #[must_use]
    pub fn is_open(&self, now: DateTime<Utc>) -> bool {
        self.ended_at.is_none() && self.starts_at <= now && now < self.ends_at
    }

    /// Whether its time is over and nobody has ended it yet.
    #[must_use]
    pub fn is_overdue(&self, now: DateTime<Utc>) -> bool {
        self.ended_at.is_none() && self.ends_at <= now
    }
}

/// When a checkout taken now ends: what was asked for, bounded by the strictest gate.
impl GateSet {
    /// The end of a checkout that starts `now`, for so many minutes.
    ///
    /// # Errors
    /// A sentence when the time is not between one minute and the longest that the gates allow.
    pub fn end_of(&self, now: DateTime<Utc>, minutes: i32) -> Result<DateTime<Utc>, String> {
        let longest = self.max_minutes();
        if !(1..=longest).contains(&minutes) {
            return Err(format!(
                "this gate allows 1 to {longest} minutes; {minutes} were asked for"
            ));
        }
        Ok(now + TimeDelta::minutes(i64::from(minutes)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_checkout_is_open_or_overdue_and_never_both(starts in 0i64..100, length in 1i64..100, ended in prop::option::of(0i64..200), now in -10i64..300) {
            let at = |n| DateTime::from_timestamp(n, 0).unwrap();
            let held = Checkout {
                id: Uuid::nil(), credential: Uuid::nil(), person: Uuid::nil(),
                starts_at: at(starts), ends_at: at(starts + length), ended_at: ended.map(at), rotate_on_return: false, gates: vec![],
            };
            prop_assert!(!(held.is_open(at(now)) && held.is_overdue(at(now))));
            if held.is_open(at(now)) {
                prop_assert!(now < starts + length && now >= starts && ended.is_none());
            }
        }
    }

    #[test]
    fn the_gate_bounds_the_time() {
        let gate = super::super::Gate {
            id: Uuid::nil(),
            revision: 1,
            needs_reason: true,
            needs_approval: false,
            max_minutes: 60,
            one_holder: false,
            rotate_on_return: false,
        };
        let gate = GateSet::new(vec![gate]);
        let now = DateTime::from_timestamp(0, 0).unwrap();
        assert_eq!(gate.end_of(now, 60).unwrap().timestamp(), 3600);
        assert!(gate.end_of(now, 61).is_err());
        assert!(gate.end_of(now, 0).is_err());
        assert!(gate.end_of(now, i32::MIN).is_err());
    }
}

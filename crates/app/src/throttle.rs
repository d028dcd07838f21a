//! The throttle of sign-ins and other guesses.

use chrono::{DateTime, TimeDelta, Utc};
use jexlin_store::Tx;

use crate::error::{AppError, AppResult};

/// How long the next sign-in must wait after so many failures beyond those that are free: doubling
/// from 2 seconds to 15 minutes.
pub fn wait_after(failures: i32, last: DateTime<Utc>, now: DateTime<Utc>) -> Option<i64> {
    let beyond = u32::try_from(failures - FREE_FAILURES).ok()?;
    let seconds = (2_i64 << beyond.min(9)).min(900);
    // A failure from a time that is still to come was noted before the clock jumped back. Waiting
    // for that time could take years: the next try is let through and noted at the right time. The
    // clocks of two services may differ by a little.
    if last > now + TimeDelta::minutes(1) {
        return None;
    }
    let left = (last + TimeDelta::seconds(seconds) - now)
        .num_seconds()
        .min(seconds);
    (left > 0).then_some(left)
}

/// Refuses where one of these must wait.
///
/// # Errors
/// [`AppError`] with how long, or when the database is away.
pub async fn check_throttle(tx: &mut Tx, keys: &[String], now: DateTime<Utc>) -> AppResult<()> {
    for key in keys {
        if let Some(throttle) = tx.throttle(key).await?
            && let Some(seconds) = wait_after(throttle.failures, throttle.last_failure_at, now)
        {
            return Err(AppError::throttled(seconds));
        }
    }
    Ok(())
}

/// After so many failures in a row, signing in has to wait.
const FREE_FAILURES: i32 = 5;

/// What slows guesses of one sign-in down.
///
/// A pair of name and address is slowed after a few failures. A name that is guessed from many
/// addresses, and an address that guesses many names, are slowed after more, and only where that
/// name has never signed in from that address: so neither keeps out those who are at home there.
pub struct Tries {
    pair: String,
    name: String,
    wide: [String; 2],
    origin: String,
    known: bool,
}

/// Failures of a name from anywhere, and of an address with any name, that slow nobody.
const FREE_WIDE: i32 = 25;

/// The longest wait that one address, or guesses at one name, can put on strangers there.
const LONGEST_WIDE: i64 = 60;

/// So long an address stays known.
const KNOWN_FOR: TimeDelta = TimeDelta::days(90);

/// Forgets what was tried at a person's sign-in, from wherever.
///
/// # Errors
/// When the database is away.
pub async fn forget(tx: &mut Tx, name: &str) -> AppResult<()> {
    Ok(tx.forget_failures_of(&format!("{PERSON}:{name}")).await?)
}

/// What the sign-ins of people are noted under.
pub const PERSON: &str = "person";

impl Tries {
    /// Demands that the next try may be made now, and notes it as failed.
    pub async fn begin(
        tx: &mut Tx,
        kind: &str,
        name: &str,
        origin: &str,
        now: DateTime<Utc>,
    ) -> AppResult<Self> {
        let known = tx.has_signed_in_from(name, origin, now - KNOWN_FOR).await?;
        let tries = Self {
            pair: format!("{kind}:{name} from {origin}"),
            name: name.to_owned(),
            wide: [format!("{kind}:{name}"), format!("address:{origin}")],
            origin: origin.to_owned(),
            known,
        };
        check_throttle(tx, std::slice::from_ref(&tries.pair), now).await?;
        for key in &tries.wide {
            let before = tx.throttle(key).await?;
            // An hour without a failure forgives.
            let failures = before
                .as_ref()
                .filter(|before| now - before.last_failure_at < TimeDelta::hours(1))
                .map_or(0, |before| before.failures);
            if let (false, Some(before)) = (known, &before)
                && let Some(seconds) = wait_after(
                    failures - FREE_WIDE + FREE_FAILURES,
                    before.last_failure_at,
                    now,
                )
            {
                let left =
                    (before.last_failure_at + TimeDelta::seconds(LONGEST_WIDE) - now).num_seconds();
                if left > 0 {
                    return Err(AppError::throttled(seconds.min(left)));
                }
            }
            tx.note_failure(key, failures.saturating_add(1), now)
                .await?;
        }
        let failures = tx
            .throttle(&tries.pair)
            .await?
            .map_or(0, |throttle| throttle.failures);
        tx.note_failure(&tries.pair, failures.saturating_add(1), now)
            .await?;
        Ok(tries)
    }

    /// It was right: this try is taken back, and the address is known from now on. What else an
    /// address has tried stays noted.
    pub async fn succeed(&self, tx: &mut Tx, now: DateTime<Utc>) -> AppResult<()> {
        tx.forget_failures(&self.pair).await?;
        for key in &self.wide {
            tx.take_failure_back(key).await?;
        }
        if !self.known || !self.origin.is_empty() {
            tx.note_signed_in_from(&self.name, &self.origin, now)
                .await?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn waiting_doubles_and_is_bounded() {
        let now = Utc::now();
        assert_eq!(wait_after(4, now, now), None);
        let waits: Vec<_> = (5..20)
            .map(|failures| wait_after(failures, now, now).unwrap_or(0))
            .collect();
        assert!(waits.windows(2).all(|pair| pair[0] <= pair[1]), "{waits:?}");
        assert_eq!((waits[0], waits[14]), (2, 900));
        assert_eq!(wait_after(9, now - TimeDelta::hours(1), now), None);
        assert_eq!(
            wait_after(9, now + TimeDelta::days(400), now),
            None,
            "a clock that jumped back"
        );
        assert!(
            wait_after(9, now + TimeDelta::seconds(20), now).is_some(),
            "another service's clock"
        );
    }
}

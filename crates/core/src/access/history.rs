//! Who may see former values.

use chrono::{DateTime, Utc};

use super::reference::{Credential, Grant};
use super::{Level, in_force};

/// Whether grants let their subject see former values, of a credential or, without one, of all that
/// grants on a folder reach. `grants` are those that reach the subject there, each with whether it
/// includes the history of values. One that counts is enough: it gives `reveal` or more, has not
/// ended, and is for this credential. On a folder, one that is narrowed does not count, since it
/// reaches some of the credentials only.
///
/// ```text
/// reveal on /Pumping, history           → former values of /Pumping/Weir lane/duty
/// edit on /Pumping, no history          → the current value only
/// both together                         → former values, too: the more counts
/// ```
#[must_use]
pub fn includes_history<'a>(
    grants: impl IntoIterator<Item = (&'a Grant, bool)>,
    credential: Option<&Credential>,
    now: DateTime<Utc>,
) -> bool {
    grants.into_iter().any(|(grant, history)| {
        history
            && grant.level >= Level::Reveal
            && in_force(grant.ends_at, now)
            && credential.map_or_else(|| grant.only.is_all(), |to| grant.only.fits(to))
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::access::reference::Only;
    use uuid::Uuid;

    fn at(second: i64) -> DateTime<Utc> {
        DateTime::from_timestamp(second, 0).unwrap()
    }

    fn grant(level: Level) -> Grant {
        Grant {
            id: Uuid::from_u128(1),
            subject: Uuid::from_u128(2),
            target: Uuid::from_u128(3),
            level,
            ends_at: None,
            only: Only::default(),
        }
    }

    fn host_login() -> Credential {
        Credential {
            folder: Uuid::from_u128(3),
            kind: "login".into(),
            tags: vec!["scada".into()],
        }
    }

    fn sees(grant: &Grant, history: bool, second: i64) -> bool {
        includes_history([(grant, history)], Some(&host_login()), at(second))
    }

    #[test]
    fn former_values_need_reveal_and_a_grant_with_the_history() {
        assert!(sees(&grant(Level::Reveal), true, 0));
        assert!(sees(&grant(Level::Steward), true, 0));
        assert!(!sees(&grant(Level::Use), true, 0));
        assert!(!sees(&grant(Level::Steward), false, 0));
    }

    #[test]
    fn a_grant_that_ended_gives_no_history() {
        let ends = Grant {
            ends_at: Some(at(10)),
            ..grant(Level::Edit)
        };
        assert!(sees(&ends, true, 9));
        assert!(!sees(&ends, true, 10));
    }

    #[test]
    fn a_narrowed_grant_counts_for_what_it_is_for_and_for_no_folder() {
        let narrowed = |kind: Option<&str>, tag: Option<&str>| Grant {
            only: Only {
                kind: kind.map(Into::into),
                tag: tag.map(Into::into),
            },
            ..grant(Level::Reveal)
        };
        assert!(sees(&narrowed(Some("login"), Some("scada")), true, 0));
        assert!(!sees(&narrowed(Some("certificate"), None), true, 0));
        assert!(!sees(&narrowed(None, Some("office")), true, 0));
        let tagged = narrowed(None, Some("scada"));
        assert!(!includes_history([(&tagged, true)], None, at(0)));
        let all = grant(Level::Reveal);
        assert!(includes_history([(&all, true)], None, at(0)));
    }

    #[test]
    fn one_grant_with_the_history_is_enough() {
        let (more, less) = (grant(Level::Edit), grant(Level::Reveal));
        let both = [(&more, false), (&less, true)];
        assert!(includes_history(both, Some(&host_login()), at(0)));
        assert!(!includes_history([], Some(&host_login()), at(0)));
    }
}

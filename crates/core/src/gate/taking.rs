//! Taking a checkout: whether it may be taken now, and until when it is good.

use chrono::{DateTime, Utc};
use uuid::Uuid;

use super::{GateRevision, GateSet, RequestState};

/// The request that a checkout is taken by.
#[derive(Clone, Debug)]
pub struct Asked {
    /// Its state.
    pub state: RequestState,
    /// Whether a checkout was taken by it already.
    pub used: bool,
    /// When it can no longer be used; the moment itself is outside.
    pub expires_at: DateTime<Utc>,
    /// For how long it was asked, in minutes.
    pub minutes: i32,
    /// The gates that it was asked for, at their versions then.
    pub gates: Vec<GateRevision>,
    /// Those at which somebody approved it.
    pub approved: Vec<GateRevision>,
}

/// A checkout of the same credential that nobody has ended.
#[derive(Clone, Copy, Debug)]
pub struct Held {
    /// By whom.
    pub person: Uuid,
    /// Whether its gates let only one person hold it.
    pub one_holder: bool,
}

/// Why a checkout cannot be taken.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum TakeProblem {
    /// No gate stands there.
    NoGate,
    /// The request is not approved, was used, or has expired.
    NotApproved,
    /// The gates are others than those that it was approved for.
    GatesChanged,
    /// A gate requires an approval, and there is no request.
    NeedsApproval,
    /// The time makes no sense; why.
    Minutes(String),
    /// The taker holds it already.
    HeldByTaker,
    /// Somebody else holds it, and only one person may.
    HeldByAnother,
}

/// Decides whether somebody may take a checkout, and until when. `minutes` is what they ask for
/// without a request; the strictest gate bounds either.
///
/// # Errors
/// [`TakeProblem`].
pub fn take(
    taker: Uuid,
    gates: &GateSet,
    asked: Option<&Asked>,
    minutes: Option<i32>,
    held: &[Held],
    now: DateTime<Utc>,
) -> Result<DateTime<Utc>, TakeProblem> {
    if gates.is_empty() {
        return Err(TakeProblem::NoGate);
    }
    let minutes = match asked {
        Some(asked) => {
            if asked.state != RequestState::Approved || asked.used || now >= asked.expires_at {
                return Err(TakeProblem::NotApproved);
            }
            if !gates.is_covered_by(&asked.gates) || !gates.is_approved_by(&asked.approved) {
                return Err(TakeProblem::GatesChanged);
            }
            asked.minutes.min(gates.max_minutes())
        }
        None if gates.needs_approval() => return Err(TakeProblem::NeedsApproval),
        None => minutes.unwrap_or_else(|| gates.max_minutes()),
    };
    let ends_at = gates.end_of(now, minutes).map_err(TakeProblem::Minutes)?;
    if held.iter().any(|held| held.person == taker) {
        return Err(TakeProblem::HeldByTaker);
    }
    if held
        .iter()
        .any(|held| held.one_holder || gates.one_holder())
    {
        return Err(TakeProblem::HeldByAnother);
    }
    Ok(ends_at)
}

#[cfg(test)]
mod tests {
    use chrono::TimeDelta;
    use proptest::prelude::*;

    use super::super::Gate;
    use super::*;

    const TAKER: Uuid = Uuid::from_u128(1);
    const OTHER: Uuid = Uuid::from_u128(2);
    const GATE: GateRevision = (Uuid::from_u128(5), 3);

    fn now() -> DateTime<Utc> {
        DateTime::from_timestamp(1_770_000_000, 0).unwrap()
    }

    fn gates(needs_approval: bool, one_holder: bool) -> GateSet {
        GateSet::new(vec![Gate {
            id: GATE.0,
            revision: GATE.1,
            needs_reason: false,
            needs_approval,
            max_minutes: 60,
            one_holder,
            rotate_on_return: false,
        }])
    }

    fn asked() -> Asked {
        Asked {
            state: RequestState::Approved,
            used: false,
            expires_at: now() + TimeDelta::hours(1),
            minutes: 90,
            gates: vec![GATE],
            approved: vec![GATE],
        }
    }

    #[test]
    fn an_approved_request_is_good_once_and_for_the_gates_that_it_was_asked_for() {
        let with = |asked: &Asked| take(TAKER, &gates(true, true), Some(asked), None, &[], now());
        assert_eq!(
            with(&asked()),
            Ok(now() + TimeDelta::minutes(60)),
            "the gate bounds it"
        );
        let used = Asked {
            used: true,
            ..asked()
        };
        assert_eq!(with(&used), Err(TakeProblem::NotApproved));
        let late = Asked {
            expires_at: now(),
            ..asked()
        };
        assert_eq!(with(&late), Err(TakeProblem::NotApproved));
        let waiting = Asked {
            state: RequestState::Waiting,
            ..asked()
        };
        assert_eq!(with(&waiting), Err(TakeProblem::NotApproved));
        let changed = Asked {
            gates: vec![(GATE.0, 2)],
            ..asked()
        };
        assert_eq!(with(&changed), Err(TakeProblem::GatesChanged));
        let half = Asked {
            approved: vec![],
            ..asked()
        };
        assert_eq!(with(&half), Err(TakeProblem::GatesChanged));
    }

    #[test]
    fn without_a_gate_there_is_nothing_to_take_and_an_approval_is_not_skipped() {
        let none = take(TAKER, &GateSet::default(), None, None, &[], now());
        assert_eq!(none, Err(TakeProblem::NoGate));
        let skipped = take(TAKER, &gates(true, false), None, Some(5), &[], now());
        assert_eq!(skipped, Err(TakeProblem::NeedsApproval));
    }

    proptest! {
        #[test]
        fn where_one_person_holds_it_nobody_else_takes_it(
            one_holder: bool,
            held in prop::collection::vec((any::<bool>(), any::<bool>()), 0..4),
        ) {
            let held: Vec<Held> = held
                .into_iter()
                .map(|(own, one_holder)| Held { person: if own { TAKER } else { OTHER }, one_holder })
                .collect();
            let taken = take(TAKER, &gates(false, one_holder), None, Some(30), &held, now());
            let own = held.iter().any(|held| held.person == TAKER);
            let shut = !held.is_empty() && (one_holder || held.iter().any(|held| held.one_holder));
            let wanted = match (own, shut) {
                (true, _) => Err(TakeProblem::HeldByTaker),
                (false, true) => Err(TakeProblem::HeldByAnother),
                (false, false) => Ok(now() + TimeDelta::minutes(30)),
            };
            prop_assert_eq!(taken, wanted);
        }
    }
}

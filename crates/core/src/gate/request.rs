//! Asking to pass a gate, and the answer.

use chrono::{DateTime, Utc};
use uuid::Uuid;

use crate::words::word_enum;

word_enum! {
    /// The state of a request.
    pub enum RequestState {
        /// Waits for an approver.
        Waiting,
        /// May be checked out.
        Approved,
        /// Was refused.
        Refused,
        /// Was withdrawn by who asked.
        Withdrawn,
        /// Nobody answered, or nobody checked out, in time.
        Expired,
    }
}

word_enum! {
    /// What the table of requests is sorted by.
    pub enum RequestSort {
        /// When it was asked.
        Asked,
        /// Its state.
        State,
        /// The path of its credential.
        Credential,
        /// Who asked.
        Who,
        /// For how long.
        Minutes,
        /// Why.
        Reason,
    }
}

/// What somebody wants to do with a request.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Decision {
    /// Let it pass.
    Approve,
    /// Don't.
    Refuse,
    /// Take one's own request back.
    Withdraw,
}

/// What a decision depends on.
#[derive(Clone, Debug)]
pub struct RequestFacts {
    /// Who asked.
    pub asked_by: Uuid,
    /// Its state.
    pub state: RequestState,
    /// When it expires unanswered.
    pub expires_at: DateTime<Utc>,
    /// The gates that want an approval and have none yet.
    pub open_gates: Vec<Uuid>,
    /// Those of them of which the one who decides is an approver, directly or through a group.
    pub decider_gates: Vec<Uuid>,
    /// Whether the gates that stand now are those that the request is for.
    pub gates_unchanged: bool,
    /// Whether the one who asked made the decider's sign-in, or set its password last, and others
    /// could decide.
    pub decider_owes_asker: bool,
}

/// Why a decision does not count.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum RequestProblem {
    /// Four eyes are two people.
    #[error("you cannot approve or refuse your own request")]
    Own,
    /// Only approvers answer.
    #[error("you are not an approver of this gate")]
    NoApprover,
    /// An approver whose sign-in the asker made would be the asker's own hand.
    #[error("the person who asks has set your sign-in password; another approver must decide")]
    OwesAsker,
    /// The gates are others than when it was asked.
    #[error("the conditions have changed since this was asked; it must be asked again")]
    GatesChanged,
    /// Only the asker withdraws.
    #[error("only the requester can withdraw a request")]
    NotYours,
    /// It was answered already.
    #[error("this request is no longer waiting: it is {0}")]
    Settled(RequestState),
    /// It expired.
    #[error("this request has expired; ask again")]
    Expired,
}

/// The result of a decision.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Decided {
    /// The state of the request after it.
    pub state: RequestState,
    /// The gates that it approves at.
    pub approves: Vec<Uuid>,
}

/// Whether somebody may decide a request: an approver of a gate that it needs an approval of, and
/// not the one who asked.
#[must_use]
pub fn may_decide(asked_by: Uuid, viewer: Uuid, approver_at: &[Uuid]) -> bool {
    asked_by != viewer && !approver_at.is_empty()
}

/// The state after a decision. An approval counts at every gate that names the approver; the
/// request is approved when all gates that want an approval have one.
///
/// # Errors
/// [`RequestProblem`]; the request stays as it was.
pub fn decide(
    facts: &RequestFacts,
    decider: Uuid,
    decision: Decision,
    now: DateTime<Utc>,
) -> Result<Decided, RequestProblem> {
    let own = facts.asked_by == decider;
    let to = |state| {
        Ok(Decided {
            state,
            approves: vec![],
        })
    };
    match decision {
        Decision::Withdraw if !own => return Err(RequestProblem::NotYours),
        // An approved request that was not checked out yet can still be taken back.
        Decision::Withdraw if facts.state == RequestState::Approved => {
            return to(RequestState::Withdrawn);
        }
        Decision::Withdraw => {}
        _ if own => return Err(RequestProblem::Own),
        _ if facts.decider_gates.is_empty() => return Err(RequestProblem::NoApprover),
        Decision::Approve if facts.decider_owes_asker => return Err(RequestProblem::OwesAsker),
        _ => {}
    }
    if facts.state != RequestState::Waiting {
        return Err(RequestProblem::Settled(facts.state));
    }
    if now >= facts.expires_at {
        return Err(RequestProblem::Expired);
    }
    match decision {
        Decision::Refuse => to(RequestState::Refused),
        Decision::Withdraw => to(RequestState::Withdrawn),
        Decision::Approve if !facts.gates_unchanged => Err(RequestProblem::GatesChanged),
        Decision::Approve => {
            let all = facts
                .open_gates
                .iter()
                .all(|gate| facts.decider_gates.contains(gate));
            Ok(Decided {
                state: if all {
                    RequestState::Approved
                } else {
                    RequestState::Waiting
                },
                approves: facts.decider_gates.clone(),
            })
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use strum::VariantArray as _;

    fn facts() -> RequestFacts {
        RequestFacts {
            asked_by: Uuid::from_u128(1),
            state: RequestState::Waiting,
            expires_at: DateTime::from_timestamp(100, 0).unwrap(),
            open_gates: vec![Uuid::from_u128(9)],
            decider_gates: vec![Uuid::from_u128(9)],
            gates_unchanged: true,
            decider_owes_asker: false,
        }
    }

    fn at(n: i64) -> DateTime<Utc> {
        DateTime::from_timestamp(n, 0).unwrap()
    }

    #[test]
    fn nobody_approves_their_own_even_as_an_approver() {
        assert_eq!(
            decide(&facts(), Uuid::from_u128(1), Decision::Approve, at(0)),
            Err(RequestProblem::Own)
        );
        assert_eq!(
            decide(&facts(), Uuid::from_u128(1), Decision::Refuse, at(0)),
            Err(RequestProblem::Own)
        );
        assert_eq!(
            decide(&facts(), Uuid::from_u128(2), Decision::Approve, at(0))
                .map(|decided| decided.state),
            Ok(RequestState::Approved)
        );
    }

    #[test]
    fn only_approvers_answer_and_only_the_asker_withdraws() {
        let stranger = RequestFacts {
            decider_gates: vec![],
            ..facts()
        };
        assert_eq!(
            decide(&stranger, Uuid::from_u128(2), Decision::Approve, at(0)),
            Err(RequestProblem::NoApprover)
        );
        assert_eq!(
            decide(&facts(), Uuid::from_u128(2), Decision::Withdraw, at(0)),
            Err(RequestProblem::NotYours)
        );
        assert_eq!(
            decide(&stranger, Uuid::from_u128(1), Decision::Withdraw, at(0))
                .map(|decided| decided.state),
            Ok(RequestState::Withdrawn)
        );
    }

    #[test]
    fn every_gate_that_wants_an_approval_gets_its_own() {
        let (first, second) = (Uuid::from_u128(8), Uuid::from_u128(9));
        let both = RequestFacts {
            open_gates: vec![first, second],
            decider_gates: vec![first],
            ..facts()
        };
        let decided = decide(&both, Uuid::from_u128(2), Decision::Approve, at(0)).unwrap();
        assert_eq!(
            decided,
            Decided {
                state: RequestState::Waiting,
                approves: vec![first]
            }
        );
        let rest = RequestFacts {
            open_gates: vec![second],
            decider_gates: vec![second],
            ..facts()
        };
        assert_eq!(
            decide(&rest, Uuid::from_u128(3), Decision::Approve, at(0))
                .unwrap()
                .state,
            RequestState::Approved
        );
    }

    #[test]
    fn neither_changed_conditions_nor_the_askers_own_hand_approve() {
        let changed = RequestFacts {
            gates_unchanged: false,
            ..facts()
        };
        assert_eq!(
            decide(&changed, Uuid::from_u128(2), Decision::Approve, at(0)),
            Err(RequestProblem::GatesChanged)
        );
        assert_eq!(
            decide(&changed, Uuid::from_u128(2), Decision::Refuse, at(0))
                .unwrap()
                .state,
            RequestState::Refused
        );
        let owes = RequestFacts {
            decider_owes_asker: true,
            ..facts()
        };
        assert_eq!(
            decide(&owes, Uuid::from_u128(2), Decision::Approve, at(0)),
            Err(RequestProblem::OwesAsker)
        );
    }

    proptest! {
        #[test]
        fn what_is_settled_stays_settled(state in 1usize..5, decider in 1u128..4, approve in any::<bool>(), now in 0i64..200) {
            let facts = RequestFacts { state: RequestState::VARIANTS[state], ..facts() };
            let decision = if approve { Decision::Approve } else { Decision::Refuse };
            prop_assert!(decide(&facts, Uuid::from_u128(decider), decision, at(now)).is_err());
        }

        #[test]
        fn an_expired_request_is_not_approved(decider in 2u128..4, now in 100i64..200) {
            prop_assert_eq!(decide(&facts(), Uuid::from_u128(decider), Decision::Approve, at(now)), Err(RequestProblem::Expired));
        }
    }
}

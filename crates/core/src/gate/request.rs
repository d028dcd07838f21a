//! Asking to pass a gate, and the answer.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// The state of a request.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
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

impl RequestState {
    /// All states.
    pub const ALL: [Self; 5] = [Self::Waiting, Self::Approved, Self::Refused, Self::Withdrawn, Self::Expired];

    /// The word for it.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Waiting => "waiting",
            Self::Approved => "approved",
            Self::Refused => "refused",
            Self::Withdrawn => "withdrawn",
            Self::Expired => "expired",
        }
    }
}

impl std::str::FromStr for RequestState {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        Self::ALL.into_iter().find(|state| state.word() == text).ok_or_else(|| format!("`{text}` is no state of a request"))
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
    /// Whether the one who decides is an approver of the gate, directly or through a group.
    pub decider_is_approver: bool,
}

/// Why a decision does not count.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum RequestProblem {
    /// Four eyes are two people.
    #[error("nobody approves or refuses their own request")]
    Own,
    /// Only approvers answer.
    #[error("you are no approver of this gate")]
    NoApprover,
    /// Only the asker withdraws.
    #[error("only who asked can withdraw a request")]
    NotYours,
    /// It was answered already.
    #[error("this request is no longer waiting: it is {}", .0.word())]
    Settled(RequestState),
    /// It expired.
    #[error("this request has expired; ask again")]
    Expired,
}

/// The state after a decision.
///
/// # Errors
/// [`RequestProblem`]; the request stays as it was.
pub fn decide(facts: &RequestFacts, decider: Uuid, decision: Decision, now: DateTime<Utc>) -> Result<RequestState, RequestProblem> {
    let own = facts.asked_by == decider;
    match decision {
        Decision::Withdraw if !own => return Err(RequestProblem::NotYours),
        // An approved request that was not checked out yet can still be taken back.
        Decision::Withdraw if facts.state == RequestState::Approved => return Ok(RequestState::Withdrawn),
        Decision::Withdraw => {}
        _ if own => return Err(RequestProblem::Own),
        _ if !facts.decider_is_approver => return Err(RequestProblem::NoApprover),
        _ => {}
    }
    if facts.state != RequestState::Waiting {
        return Err(RequestProblem::Settled(facts.state));
    }
    if now >= facts.expires_at {
        return Err(RequestProblem::Expired);
    }
    Ok(match decision {
        Decision::Approve => RequestState::Approved,
        Decision::Refuse => RequestState::Refused,
        Decision::Withdraw => RequestState::Withdrawn,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn facts() -> RequestFacts {
        RequestFacts {
            asked_by: Uuid::from_u128(1),
            state: RequestState::Waiting,
            expires_at: DateTime::from_timestamp(100, 0).unwrap(),
            decider_is_approver: true,
        }
    }

    fn at(n: i64) -> DateTime<Utc> {
        DateTime::from_timestamp(n, 0).unwrap()
    }

    #[test]
    fn nobody_approves_their_own_even_as_an_approver() {
        assert_eq!(decide(&facts(), Uuid::from_u128(1), Decision::Approve, at(0)), Err(RequestProblem::Own));
        assert_eq!(decide(&facts(), Uuid::from_u128(1), Decision::Refuse, at(0)), Err(RequestProblem::Own));
        assert_eq!(decide(&facts(), Uuid::from_u128(2), Decision::Approve, at(0)), Ok(RequestState::Approved));
    }

    #[test]
    fn only_approvers_answer_and_only_the_asker_withdraws() {
        let stranger = RequestFacts { decider_is_approver: false, ..facts() };
        assert_eq!(decide(&stranger, Uuid::from_u128(2), Decision::Approve, at(0)), Err(RequestProblem::NoApprover));
        assert_eq!(decide(&facts(), Uuid::from_u128(2), Decision::Withdraw, at(0)), Err(RequestProblem::NotYours));
        assert_eq!(decide(&stranger, Uuid::from_u128(1), Decision::Withdraw, at(0)), Ok(RequestState::Withdrawn));
    }

    proptest! {
        #[test]
        fn what_is_settled_stays_settled(state in 1usize..5, decider in 1u128..4, approve in any::<bool>(), now in 0i64..200) {
            let facts = RequestFacts { state: RequestState::ALL[state], ..facts() };
            let decision = if approve { Decision::Approve } else { Decision::Refuse };
            prop_assert!(decide(&facts, Uuid::from_u128(decider), decision, at(now)).is_err());
        }

        #[test]
        fn an_expired_request_is_not_approved(decider in 2u128..4, now in 100i64..200) {
            prop_assert_eq!(decide(&facts(), Uuid::from_u128(decider), Decision::Approve, at(now)), Err(RequestProblem::Expired));
        }
    }
}

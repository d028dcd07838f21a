//! Gates, requests, stages, checkouts.
//!
//! A gate stands between a level and a secret. Whoever holds `reveal` on a credential without a
//! gate passes at once; with a gate they need a checkout, which comes from an approved request or,
//! where the gate asks for no approval, from taking it with a reason. The only constructor of
//! [`Passed`] is [`pass`]; opening a secret demands it (promise 4).
//!
//! The nearest gate counts: the credential's own, else the one of the nearest folder above.
//! Adding gates up was refused: two of them, written by two stewards for two purposes, would make
//! conditions nobody set.

mod checkout;
mod request;

use std::marker::PhantomData;

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

pub use checkout::{Checkout, CheckoutEnd};
pub use request::{Decision, RequestFacts, RequestProblem, RequestState, decide};

use crate::access::{Allowed, AtLeast, mark};
use crate::vault;

/// The longest time a gate may allow, in minutes: one week.
pub const LONGEST_MINUTES: i32 = 7 * 24 * 60;

/// The conditions on reaching a credential.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Gate {
    /// Its identifier.
    pub id: Uuid,
    /// A reason must be given.
    pub needs_reason: bool,
    /// One of the approvers must approve.
    pub needs_approval: bool,
    /// The longest time of a checkout, in minutes.
    pub longest_minutes: i32,
    /// Only one person at a time holds a checkout.
    pub one_holder: bool,
    /// The password is rotated when the checkout ends.
    pub rotate_on_return: bool,
}

/// Why a gate as written makes no sense.
///
/// # Errors
/// A sentence.
pub fn check_gate(gate: &Gate, approvers: usize) -> Result<(), String> {
    if !(1..=LONGEST_MINUTES).contains(&gate.longest_minutes) {
        return Err(format!("the longest time is between 1 minute and {LONGEST_MINUTES} minutes (a week)"));
    }
    if gate.needs_approval && approvers == 0 {
        return Err("a gate that wants an approval names at least one approver".to_owned());
    }
    Ok(())
}

/// Proof that a subject may have the secret of a credential now. Only [`pass`] makes one.
#[derive(Debug)]
pub struct Passed<L: AtLeast> {
    subject: Uuid,
    credential: Uuid,
    checkout: Option<Uuid>,
    mark: PhantomData<L>,
}

impl<L: AtLeast> Passed<L> {
    /// Who passed.
    #[must_use]
    pub const fn subject(&self) -> Uuid {
        self.subject
    }

    /// The checkout that opened the gate, where there is a gate.
    #[must_use]
    pub const fn checkout(&self) -> Option<Uuid> {
        self.checkout
    }
}

impl vault::sealed::Sealed for Passed<mark::Reveal> {}
impl vault::Pass for Passed<mark::Reveal> {
    fn credential(&self) -> Uuid {
        self.credential
    }
}

/// Opens the seed of one-time codes for somebody who may use it; [`vault::one_time::code_for`]
/// alone makes one, and hands out a code only.
#[derive(Debug)]
pub(crate) struct ForCode<'a>(pub(crate) &'a Passed<mark::Use>);

impl vault::sealed::Sealed for ForCode<'_> {}
impl vault::Pass for ForCode<'_> {
    fn credential(&self) -> Uuid {
        self.0.credential
    }
}

/// Why a gate stays closed.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Stopped {
    /// No checkout that is open now.
    #[error("a gate stands before this credential: check it out first")]
    NeedsCheckout {
        /// Whether a request must be approved before.
        needs_approval: bool,
        /// Whether a reason must be given.
        needs_reason: bool,
    },
    /// The checkout that was shown is for something or somebody else, or has ended.
    #[error("the checkout has ended or is not yours")]
    NotYours,
}

/// The one decision about gates: turns a level into a pass.
///
/// # Errors
/// [`Stopped`] when a gate stands there and no open checkout of the same person for the same
/// credential is shown.
pub fn pass<L: AtLeast>(allowed: &Allowed<L>, gate: Option<&Gate>, checkout: Option<&Checkout>, now: DateTime<Utc>) -> Result<Passed<L>, Stopped> {
    let through = |checkout| Passed { subject: allowed.subject(), credential: allowed.target(), checkout, mark: PhantomData };
    match (gate, checkout) {
        (None, _) => Ok(through(None)),
        (Some(gate), None) => Err(Stopped::NeedsCheckout { needs_approval: gate.needs_approval, needs_reason: gate.needs_reason }),
        (Some(_), Some(held)) if held.is_open(now) && held.person == allowed.subject() && held.credential == allowed.target() => Ok(through(Some(held.id))),
        (Some(_), Some(_)) => Err(Stopped::NotYours),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::access::{Level, Reach};

    fn id(n: u128) -> Uuid {
        Uuid::from_u128(n)
    }

    fn at(n: i64) -> DateTime<Utc> {
        DateTime::from_timestamp(n, 0).unwrap()
    }

    fn gate() -> Gate {
        Gate { id: id(5), needs_reason: true, needs_approval: true, longest_minutes: 60, one_holder: true, rotate_on_return: true }
    }

    fn held() -> Checkout {
        Checkout { id: id(6), credential: id(2), person: id(1), starts_at: at(0), ends_at: at(100), ended_at: None, rotate_on_return: true }
    }

    fn allowed() -> Allowed<mark::Reveal> {
        Reach::from_store(id(1), id(2), Some(Level::Reveal)).allow().unwrap()
    }

    #[test]
    fn without_a_gate_the_level_is_enough() {
        let passed = pass(&allowed(), None, None, at(0)).unwrap();
        assert_eq!((passed.subject(), vault::Pass::credential(&passed), passed.checkout()), (id(1), id(2), None));
    }

    #[test]
    fn a_gate_wants_an_open_checkout_of_the_same_person_and_credential() {
        assert!(matches!(pass(&allowed(), Some(&gate()), None, at(1)), Err(Stopped::NeedsCheckout { needs_approval: true, .. })));
        assert_eq!(pass(&allowed(), Some(&gate()), Some(&held()), at(1)).unwrap().checkout(), Some(id(6)));
        for wrong in [
            Checkout { person: id(9), ..held() },
            Checkout { credential: id(9), ..held() },
            Checkout { ends_at: at(1), ..held() },
            Checkout { starts_at: at(2), ..held() },
            Checkout { ended_at: Some(at(1)), ..held() },
        ] {
            assert_eq!(pass(&allowed(), Some(&gate()), Some(&wrong), at(1)).unwrap_err(), Stopped::NotYours, "{wrong:?}");
        }
    }

    #[test]
    fn a_gate_that_cannot_be_passed_cannot_be_set() {
        assert!(check_gate(&gate(), 0).is_err());
        assert!(check_gate(&gate(), 1).is_ok());
        assert!(check_gate(&Gate { longest_minutes: 0, ..gate() }, 1).is_err());
        assert!(check_gate(&Gate { longest_minutes: LONGEST_MINUTES + 1, ..gate() }, 1).is_err());
        assert!(check_gate(&Gate { needs_approval: false, ..gate() }, 0).is_ok());
    }
}

//! Gates, requests, stages, checkouts.
//!
//! A gate stands between a level and a secret. Whoever holds `reveal` on a credential without a
//! gate passes at once; with a gate they need a checkout, which comes from an approved request or,
//! where the gate asks for no approval, from taking it with a reason. The only constructor of
//! [`Passed`] is [`pass`]; opening a secret demands it (promise 4).
//!
//! Gates add up: every gate on the way from the top to the credential, and on the device whose
//! account it is, counts. Their conditions unite, the strictest limit wins. The nearest one alone was
//! refused: whoever may set a gate below could then undo the one above. A closed folder stops grants,
//! not gates.
//!
//! A checkout is good for the gates that it was taken through, at their versions then. A gate that is
//! added or changed afterwards closes again, until it is passed itself.
//!
//! Worked example: `/Control room` asks for an approval of the shift leads and allows 120 minutes,
//! `/Control room/gateway` asks for a reason and allows 30. Together: a reason, an approval, 30
//! minutes. When the first one is changed to name other approvers, a checkout that was taken before
//! is recalled, and a request that waits is asked anew.

mod checkout;
mod request;

use std::marker::PhantomData;

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

pub use checkout::{Checkout, CheckoutEnd};
pub use request::{Decided, Decision, RequestFacts, RequestProblem, RequestState, decide};

use crate::access::{Allowed, AtLeast, mark};
use crate::vault;

/// The longest time a gate may allow, in minutes: one week.
pub const LONGEST_MINUTES: i32 = 7 * 24 * 60;

/// The conditions on reaching a credential.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Gate {
    /// Its identifier.
    pub id: Uuid,
    /// Its version: every change makes it another gate.
    pub version: i32,
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
        return Err(format!(
            "the longest time is between 1 minute and {LONGEST_MINUTES} minutes (a week)"
        ));
    }
    if gate.needs_approval && approvers == 0 {
        return Err("a gate that requires an approval names at least one approver".to_owned());
    }
    Ok(())
}

/// A gate at one of its versions.
pub type GateVersion = (Uuid, i32);

/// All gates on the way to one credential.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct GateSet(Vec<Gate>);

impl GateSet {
    /// The gates on the way, in any order.
    #[must_use]
    pub fn new(mut gates: Vec<Gate>) -> Self {
        gates.sort_by_key(|gate| gate.id);
        gates.dedup_by_key(|gate| gate.id);
        Self(gates)
    }

    /// Whether none stands there.
    #[must_use]
    pub const fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// The gates.
    #[must_use]
    pub fn gates(&self) -> &[Gate] {
        &self.0
    }

    /// Whether a reason must be given.
    #[must_use]
    pub fn needs_reason(&self) -> bool {
        self.0.iter().any(|gate| gate.needs_reason)
    }

    /// Whether somebody must approve.
    #[must_use]
    pub fn needs_approval(&self) -> bool {
        self.0.iter().any(|gate| gate.needs_approval)
    }

    /// The longest time of a checkout, in minutes.
    #[must_use]
    pub fn longest_minutes(&self) -> i32 {
        self.0
            .iter()
            .map(|gate| gate.longest_minutes)
            .min()
            .unwrap_or(LONGEST_MINUTES)
    }

    /// Whether only one person at a time holds it.
    #[must_use]
    pub fn one_holder(&self) -> bool {
        self.0.iter().any(|gate| gate.one_holder)
    }

    /// Whether the password is rotated when a checkout ends.
    #[must_use]
    pub fn rotate_on_return(&self) -> bool {
        self.0.iter().any(|gate| gate.rotate_on_return)
    }

    /// Whether what was granted for these gates at these versions is good for all that stand now.
    #[must_use]
    pub fn is_covered_by(&self, granted: &[GateVersion]) -> bool {
        self.0
            .iter()
            .all(|gate| granted.contains(&(gate.id, gate.version)))
    }

    /// Whether what was approved at these gates and versions is enough for all that want an approval.
    #[must_use]
    pub fn is_approved_by(&self, approved: &[GateVersion]) -> bool {
        self.0
            .iter()
            .filter(|gate| gate.needs_approval)
            .all(|gate| approved.contains(&(gate.id, gate.version)))
    }
}

/// Whether a change of a gate lets through what it stopped before: a condition that goes, a longer
/// time, or another set of approvers than a part of those before.
#[must_use]
pub fn is_weaker(before: (&Gate, &[Uuid]), after: (&Gate, &[Uuid])) -> bool {
    let ((old, old_approvers), (new, new_approvers)) = (before, after);
    let lost = |was: bool, is: bool| was && !is;
    lost(old.needs_reason, new.needs_reason)
        || lost(old.needs_approval, new.needs_approval)
        || lost(old.one_holder, new.one_holder)
        || lost(old.rotate_on_return, new.rotate_on_return)
        || new.longest_minutes > old.longest_minutes
        || (old.needs_approval
            && new_approvers
                .iter()
                .any(|approver| !old_approvers.contains(approver)))
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
    /// The checkout that was shown is for something or somebody else, has ended, or does not cover all
    /// gates that stand now.
    #[error("the checkout has ended, is not yours, or was taken through other gates")]
    NotYours,
}

/// The one decision about gates: turns a level into a pass.
///
/// # Errors
/// [`Stopped`] when gates stand there and no open checkout of the same person for the same credential
/// is shown that was taken through all of them as they are now.
pub fn pass<L: AtLeast>(
    allowed: &Allowed<L>,
    gates: &GateSet,
    checkout: Option<&Checkout>,
    now: DateTime<Utc>,
) -> Result<Passed<L>, Stopped> {
    let through = |checkout| Passed {
        subject: allowed.subject(),
        credential: allowed.target(),
        checkout,
        mark: PhantomData,
    };
    match checkout {
        _ if gates.is_empty() => Ok(through(None)),
        None => Err(Stopped::NeedsCheckout {
            needs_approval: gates.needs_approval(),
            needs_reason: gates.needs_reason(),
        }),
        Some(held)
            if held.is_open(now)
                && held.person == allowed.subject()
                && held.credential == allowed.target()
                && gates.is_covered_by(&held.gates) =>
        {
            Ok(through(Some(held.id)))
        }
        Some(_) => Err(Stopped::NotYours),
    }
}

#[cfg(test)]
#[allow(
    clippy::disallowed_methods,
    reason = "the tests stand in for the store"
)]
mod tests {
    use super::*;
    use crate::access::{Level, Reach};
    use proptest::prelude::*;

    fn id(n: u128) -> Uuid {
        Uuid::from_u128(n)
    }

    fn at(n: i64) -> DateTime<Utc> {
        DateTime::from_timestamp(n, 0).unwrap()
    }

    fn gate() -> Gate {
        Gate {
            id: id(5),
            version: 3,
            needs_reason: true,
            needs_approval: true,
            longest_minutes: 60,
            one_holder: true,
            rotate_on_return: true,
        }
    }

    fn gates() -> GateSet {
        GateSet::new(vec![gate()])
    }

    fn held() -> Checkout {
        Checkout {
            id: id(6),
            credential: id(2),
            person: id(1),
            starts_at: at(0),
            ends_at: at(100),
            ended_at: None,
            rotate_on_return: true,
            gates: vec![(id(5), 3)],
        }
    }

    fn allowed() -> Allowed<mark::Reveal> {
        Reach::from_store(id(1), id(2), Some(Level::Reveal))
            .allow()
            .unwrap()
    }

    #[test]
    fn without_a_gate_the_level_is_enough() {
        let passed = pass(&allowed(), &GateSet::default(), None, at(0)).unwrap();
        assert_eq!(
            (
                passed.subject(),
                vault::Pass::credential(&passed),
                passed.checkout()
            ),
            (id(1), id(2), None)
        );
    }

    #[test]
    fn a_gate_wants_an_open_checkout_of_the_same_person_and_credential() {
        assert!(matches!(
            pass(&allowed(), &gates(), None, at(1)),
            Err(Stopped::NeedsCheckout {
                needs_approval: true,
                ..
            })
        ));
        assert_eq!(
            pass(&allowed(), &gates(), Some(&held()), at(1))
                .unwrap()
                .checkout(),
            Some(id(6))
        );
        for wrong in [
            Checkout {
                person: id(9),
                ..held()
            },
            Checkout {
                credential: id(9),
                ..held()
            },
            Checkout {
                ends_at: at(1),
                ..held()
            },
            Checkout {
                starts_at: at(2),
                ..held()
            },
            Checkout {
                ended_at: Some(at(1)),
                ..held()
            },
            Checkout {
                gates: vec![(id(5), 2)],
                ..held()
            },
            Checkout {
                gates: vec![(id(6), 3)],
                ..held()
            },
        ] {
            assert_eq!(
                pass(&allowed(), &gates(), Some(&wrong), at(1)).unwrap_err(),
                Stopped::NotYours,
                "{wrong:?}"
            );
        }
    }

    #[test]
    fn a_gate_that_cannot_be_passed_cannot_be_set() {
        assert!(check_gate(&gate(), 0).is_err());
        assert!(check_gate(&gate(), 1).is_ok());
        assert!(
            check_gate(
                &Gate {
                    longest_minutes: 0,
                    ..gate()
                },
                1
            )
            .is_err()
        );
        assert!(
            check_gate(
                &Gate {
                    longest_minutes: LONGEST_MINUTES + 1,
                    ..gate()
                },
                1
            )
            .is_err()
        );
        assert!(
            check_gate(
                &Gate {
                    needs_approval: false,
                    ..gate()
                },
                0
            )
            .is_ok()
        );
    }

    #[test]
    fn a_gate_that_goes_leaves_a_checkout_good_and_one_that_comes_does_not() {
        let second = Gate {
            id: id(7),
            version: 1,
            ..gate()
        };
        let wide = Checkout {
            gates: vec![(id(5), 3), (id(7), 1)],
            ..held()
        };
        assert!(pass(&allowed(), &gates(), Some(&wide), at(1)).is_ok());
        let both = GateSet::new(vec![second, gate()]);
        assert_eq!(
            pass(&allowed(), &both, Some(&held()), at(1)).unwrap_err(),
            Stopped::NotYours
        );
    }

    fn some_gate() -> impl Strategy<Value = Gate> {
        (0u128..5, 1i32..4, any::<[bool; 4]>(), 1i32..LONGEST_MINUTES).prop_map(
            |(number, version, [reason, approval, one, rotate], longest_minutes)| Gate {
                id: id(number),
                version,
                needs_reason: reason,
                needs_approval: approval,
                longest_minutes,
                one_holder: one,
                rotate_on_return: rotate,
            },
        )
    }

    proptest! {
        #[test]
        fn a_further_gate_never_makes_it_easier(some in prop::collection::vec(some_gate(), 0..4), more in some_gate(), granted in prop::collection::vec((0u128..5, 1i32..4), 0..6)) {
            prop_assume!(!some.iter().any(|gate| gate.id == more.id));
            let (fewer, all) = (GateSet::new(some.clone()), GateSet::new([some, vec![more]].concat()));
            let granted: Vec<GateVersion> = granted.into_iter().map(|(number, version)| (id(number), version)).collect();
            prop_assert!(all.longest_minutes() <= fewer.longest_minutes());
            prop_assert!(!fewer.needs_reason() || all.needs_reason());
            prop_assert!(!fewer.needs_approval() || all.needs_approval());
            prop_assert!(!fewer.one_holder() || all.one_holder());
            prop_assert!(!fewer.rotate_on_return() || all.rotate_on_return());
            prop_assert!(!all.is_covered_by(&granted) || fewer.is_covered_by(&granted));
            prop_assert!(!all.is_approved_by(&granted) || fewer.is_approved_by(&granted));
        }

        #[test]
        fn a_change_that_is_not_weaker_asks_for_all_that_was_asked(old in some_gate(), new in some_gate()) {
            if !is_weaker((&old, &[id(1), id(2)]), (&new, &[id(1)])) {
                prop_assert!(new.longest_minutes <= old.longest_minutes);
                prop_assert!((!old.needs_reason || new.needs_reason) && (!old.needs_approval || new.needs_approval));
                prop_assert!((!old.one_holder || new.one_holder) && (!old.rotate_on_return || new.rotate_on_return));
            }
            let approving = Gate { needs_approval: true, ..old.clone() };
            prop_assert!(is_weaker((&approving, &[id(1)]), (&approving, &[id(1), id(2)])));
            prop_assert!(!is_weaker((&old, &[id(1), id(2)]), (&old, &[id(1)])));
        }
    }
}

//! Gates, requests, stages, checkouts.
//!
//! A gate stands between a level and a secret. Whoever holds `reveal` on a credential without a
//! gate passes at once; with a gate they need a checkout, which comes from an approved request or,
//! where the gate asks for no approval, from taking it with a reason. The only constructor of
//! [`Passed`] is [`pass`]; opening a secret demands it (promise 4).
//!
//! Gates add up: every gate on the way from the top to the credential, and on the device whose
//! account it is, counts. Their conditions unite, the strictest limit wins. The nearest one alone
//! was refused: whoever may set a gate below could then undo the one above. A closed folder stops
//! grants, not gates.
//!
//! A checkout is good for the gates that it was taken through, at their versions then. A gate that
//! is added or changed afterwards closes again, until it is passed itself.
//!
//! Worked example: `/Control room` asks for an approval of the shift leads and allows 120 minutes,
//! `/Control room/gateway` asks for a reason and allows 30. Together: a reason, an approval, 30
//! minutes. When the first one is changed to name other approvers, a checkout that was taken before
//! is recalled, and a request that waits is asked again.

mod checkout;
mod conditions;
mod passage;
mod pending_act;
mod request;
mod taking;

pub use checkout::{Checkout, CheckoutEnd, CheckoutSort};
pub use conditions::{Gate, GateRevision, GateSet, MAX_MINUTES, check_gate, is_weaker};
pub(crate) use passage::ForCode;
pub use passage::{Passed, Stopped, pass};
pub use pending_act::{ControlState, PendingActState, PendingActType};
pub use request::{
    Decided, Decision, RequestFacts, RequestProblem, RequestSort, RequestState, decide, may_decide,
};
pub use taking::{Asked, Held, TakeProblem, take};

#[cfg(test)]
#[allow(
    clippy::disallowed_methods,
    reason = "the tests stand in for the store"
)]
mod tests {
    use chrono::{DateTime, Utc};
    use uuid::Uuid;

    use super::*;
    use crate::access::{Allowed, Level, Reach, mark};
    use crate::vault;
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
            revision: 3,
            needs_reason: true,
            needs_approval: true,
            max_minutes: 60,
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
                    max_minutes: 0,
                    ..gate()
                },
                1
            )
            .is_err()
        );
        assert!(
            check_gate(
                &Gate {
                    max_minutes: MAX_MINUTES + 1,
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
            revision: 1,
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
        (0u128..5, 1i32..4, any::<[bool; 4]>(), 1i32..MAX_MINUTES).prop_map(
            |(number, revision, [reason, approval, one, rotate], max_minutes)| Gate {
                id: id(number),
                revision,
                needs_reason: reason,
                needs_approval: approval,
                max_minutes,
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
            let granted: Vec<GateRevision> = granted.into_iter().map(|(number, revision)| (id(number), revision)).collect();
            prop_assert!(all.max_minutes() <= fewer.max_minutes());
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
                prop_assert!(new.max_minutes <= old.max_minutes);
                prop_assert!((!old.needs_reason || new.needs_reason) && (!old.needs_approval || new.needs_approval));
                prop_assert!((!old.one_holder || new.one_holder) && (!old.rotate_on_return || new.rotate_on_return));
            }
            let approving = Gate { needs_approval: true, ..old.clone() };
            prop_assert!(is_weaker((&approving, &[id(1)]), (&approving, &[id(1), id(2)])));
            prop_assert!(!is_weaker((&old, &[id(1), id(2)]), (&old, &[id(1)])));
        }
    }
}

//! Passing gates: the proof that a subject may have a secret now.

use std::marker::PhantomData;

use chrono::{DateTime, Utc};
use uuid::Uuid;

use super::{Checkout, GateSet};
use crate::access::{Allowed, AtLeast, mark};
use crate::vault;

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
    #[error("this credential has a gate: check it out first")]
    NeedsCheckout {
        /// Whether a request must be approved before.
        needs_approval: bool,
        /// Whether a reason must be given.
        needs_reason: bool,
    },
    /// The checkout that was shown is for something or somebody else, has ended, or does not cover
    /// all gates that stand now.
    #[error("the checkout has ended, is not yours, or was made under other gates")]
    NotYours,
}

/// The one decision about gates: turns a level into a pass.
///
/// # Errors
/// [`Stopped`] when gates stand there and no open checkout of the same person for the same
/// credential is shown that was taken through all of them as they are now.
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

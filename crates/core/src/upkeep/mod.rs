//! Upkeep: plans, recurrence, the rotation state machine, the lockout budget, spreading.
//!
//! Aim: no password is ever lost (promise 2). The machine in [`rotation`] never tries anything on
//! a device before the candidate is durable, and throws no version away while it could still be
//! the one the device has. It knows nothing of SSH or PostgreSQL: a worker performs each
//! [`rotation::Next`] and tells the machine what it [`rotation::Heard`].

mod budget;
mod plan;
pub mod rotation;

use std::marker::PhantomData;

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

pub use budget::{BUDGET_PER_HOUR, budget_allows};
pub use plan::{Hours, OutOfStep, Plan, PlanProblem, Recurrence, day_of, spread};

use crate::vault;

/// What a check found.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum CheckOutcome {
    /// The stored password opens the account.
    InStep,
    /// The device answered, and the password does not open the account.
    OutOfStep,
    /// The account is locked, or would be by one more try.
    LockedOut,
    /// The device did not answer, or not as itself.
    Unreachable,
}

/// What became of a rotation.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum RotationOutcome {
    /// The device and the vault have the new password.
    Done,
    /// The device said no; both still have the old one.
    Refused,
    /// It is not known which of two passwords the device has; both are kept.
    InDoubt,
    /// The device did not answer before anything was tried.
    Unreachable,
}

impl CheckOutcome {
    /// The word for it.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::InStep => "in step",
            Self::OutOfStep => "out of step",
            Self::LockedOut => "locked out",
            Self::Unreachable => "unreachable",
        }
    }
}

impl RotationOutcome {
    /// The word for it.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Done => "done",
            Self::Refused => "refused",
            Self::InDoubt => "in doubt",
            Self::Unreachable => "unreachable",
        }
    }
}

/// A mark for [`JobPass`]: the job's own credential.
#[derive(Debug)]
pub struct Account;
/// A mark for [`JobPass`]: the operator of the job's device.
#[derive(Debug)]
pub struct Operator;

/// Proof that a job holds its lease and so may open a credential. Only [`Lease`] makes one.
#[derive(Debug)]
pub struct JobPass<M> {
    credential: Uuid,
    mark: PhantomData<M>,
}

impl<M> vault::sealed::Sealed for JobPass<M> {}
impl<M> vault::Pass for JobPass<M> {
    fn credential(&self) -> Uuid {
        self.credential
    }
}

/// A job under lease, as the store handed it out.
#[derive(Clone, Debug)]
pub struct Lease {
    /// The job.
    pub job: Uuid,
    /// The credential whose account is checked or changed.
    pub credential: Uuid,
    /// The operator credential of the device, if it has one.
    pub operator: Option<Uuid>,
    /// Until when the lease holds.
    pub until: DateTime<Utc>,
}

/// The lease is over; another worker may have the job.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("the lease of this job is over")]
pub struct LeaseOver;

impl Lease {
    /// A pass for the job's own credential.
    ///
    /// # Errors
    /// [`LeaseOver`].
    pub fn pass(&self, now: DateTime<Utc>) -> Result<JobPass<Account>, LeaseOver> {
        if now < self.until { Ok(JobPass { credential: self.credential, mark: PhantomData }) } else { Err(LeaseOver) }
    }

    /// A pass for the operator of the job's device.
    ///
    /// # Errors
    /// [`LeaseOver`], also when there is no operator.
    pub fn operator_pass(&self, now: DateTime<Utc>) -> Result<JobPass<Operator>, LeaseOver> {
        match self.operator {
            Some(credential) if now < self.until => Ok(JobPass { credential, mark: PhantomData }),
            _ => Err(LeaseOver),
        }
    }
}

/// How long to wait before trying a job in doubt again: doubling from one minute to one hour.
#[must_use]
pub fn back_off(attempt: i32) -> chrono::TimeDelta {
    let doublings = u32::try_from(attempt.clamp(0, 6)).unwrap_or(0);
    chrono::TimeDelta::minutes((1_i64 << doublings).min(60))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_lease_that_is_over_opens_nothing() {
        let at = |n| DateTime::from_timestamp(n, 0).unwrap();
        let lease = Lease { job: Uuid::nil(), credential: Uuid::from_u128(1), operator: None, until: at(10) };
        assert_eq!(vault::Pass::credential(&lease.pass(at(9)).unwrap()), Uuid::from_u128(1));
        assert!(lease.pass(at(10)).is_err());
        assert!(lease.operator_pass(at(9)).is_err());
    }

    #[test]
    fn back_off_doubles_up_to_an_hour() {
        let minutes: Vec<_> = (0..9).map(|n| back_off(n).num_minutes()).collect();
        assert_eq!(minutes, [1, 2, 4, 8, 16, 32, 60, 60, 60]);
        assert_eq!(back_off(-5).num_minutes(), 1);
    }
}

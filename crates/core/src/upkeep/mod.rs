//! Upkeep: plans, recurrence, the rotation state machine, the lockout budget, spreading.
//!
//! Aim: no password is ever lost (promise 2). The machine in [`rotation`] never tries anything on
//! a device before the candidate is durable, and throws no version away while it could still be
//! the one the device has. It knows nothing of SSH or PostgreSQL: a worker performs each
//! [`rotation::Next`] and tells the machine what it [`rotation::Heard`].

pub mod account;
pub mod authorized_keys;
mod binding;
mod budget;
mod connect;
mod connectors;
mod device_facts;
mod endpoint;
pub mod found;
pub mod identity;
mod job;
mod plan;
pub mod rotation;

use crate::words::word_enum;

pub use binding::{
    Account, Binding, BoundLogin, JumpHost, Lease, NoPermit, Operator, Role, RoleMark, SendPermit,
    StoredBinding, Suspended,
};

pub use budget::{BUDGET_PER_HOUR, budget_allows};
pub use connect::{ConnectRule, ConnectRules};
pub use connectors::ConnectorKind;
pub use device_facts::{DeviceFacts, way};
pub use endpoint::{Endpoint, JumpConnection, Route};
pub use found::FoundAccount;
pub use identity::IdentityKind;
pub use job::{
    AccountSort, ChangeMethod, DeviceIdentityState, DevicePause, DeviceSort, JobCause, JobOutcome,
    JobSort, JobState, Task, shell_word,
};
pub use plan::{Hours, NextTimes, OutOfSync, Plan, PlanProblem, Recurrence, day_of, spread};

word_enum! {
    /// What a check found.
    pub enum CheckOutcome {
        /// The stored password opens the account.
        InSync,
        /// The device answered, and the password does not open the account.
        OutOfSync,
        /// The account is locked, or would be by one more try.
        LockedOut,
        /// The device did not answer, or not as itself.
        Unreachable,
    }
}

word_enum! {
    /// What became of a rotation.
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
    fn back_off_doubles_up_to_an_hour() {
        let minutes: Vec<_> = (0..9).map(|n| back_off(n).num_minutes()).collect();
        assert_eq!(minutes, [1, 2, 4, 8, 16, 32, 60, 60, 60]);
        assert_eq!(back_off(-5).num_minutes(), 1);
    }
}

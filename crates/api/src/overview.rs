//! What waits for a person.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The rotations that ended on one day.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RotationsOnDay {
    /// The day.
    pub day: NaiveDate,
    /// How many ended with a new password.
    pub done: i64,
    /// How many did not.
    pub failed: i64,
}

/// What waits for the caller, and problems of what they are a steward of.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Overview {
    /// Requests that the caller may decide.
    pub to_decide: Vec<crate::Request>,
    /// The caller's own requests that wait or may be checked out.
    pub asked: Vec<crate::Request>,
    /// The caller's checkouts.
    pub held: Vec<crate::Checkout>,
    /// Jobs that failed or are in doubt, newest first.
    pub troubled_jobs: Vec<crate::Job>,
    /// Accounts whose last check was not `in-sync`.
    pub troubled_accounts: Vec<crate::Upkeep>,
    /// Accounts due within a day.
    pub due_soon: Vec<crate::Upkeep>,
    /// Devices of which the caller is a steward and that no passwords are sent to: with suspended
    /// bindings, or paused.
    pub devices: Vec<crate::Device>,
    /// Acts that wait for the caller's confirmation, and the caller's own that wait.
    pub pending: Vec<crate::PendingAct>,
    /// Which acts need a second person, for holders of `people` or `policy`.
    pub two_people: Vec<crate::TwoPeople>,
    /// The rotations of the last seven days, oldest first; of accounts that the caller may know of.
    pub rotations: Vec<RotationsOnDay>,
    /// How many accounts that the caller may know of have which outcome of their last check.
    pub checks: Vec<crate::CheckCount>,
}

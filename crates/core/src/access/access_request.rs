//! Requests for a level, by people who may know that something is there.

use uuid::Uuid;

use super::Level;
use crate::words::word_enum;

word_enum! {
    /// The state of an access request.
    pub enum AccessRequestState {
        /// Waits for a steward.
        Waiting,
        /// Was granted.
        Granted,
        /// Was refused.
        Refused,
        /// Was withdrawn by who asked.
        Withdrawn,
    }
}

/// Whether somebody may decide an access request: a steward of the credential, by the level that
/// they hold on it now, and not the one who asked.
#[must_use]
pub fn may_decide_access_request(asked_by: Uuid, viewer: Uuid, held: Option<Level>) -> bool {
    asked_by != viewer && held == Some(Level::Steward)
}

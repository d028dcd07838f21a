//! Acts that take a second person.

use crate::words::word_enum;

word_enum! {
    /// What waits for a second person.
    pub enum PendingActType {
        /// A gate becomes weaker.
        ChangeGate,
        /// A gate is removed.
        RemoveGate,
        /// Somebody gets duties that they lack.
        GiveDuties,
        /// Somebody gets a new sign-in password.
        ResetPassword,
        /// A client gets a new secret.
        RenewSecret,
        /// Somebody joins a group that brings power.
        JoinGroup,
        /// The settings become looser.
        ChangeSettings,
    }
}

word_enum! {
    /// The state of an act that takes a second person.
    pub enum PendingActState {
        /// Waits for a second person.
        Waiting,
        /// Was confirmed, and done.
        Confirmed,
        /// Was refused.
        Refused,
        /// Was withdrawn by who proposed it.
        Withdrawn,
        /// Nobody decided in time.
        Expired,
    }
}

word_enum! {
    /// Whether an act takes a second person.
    pub enum ControlState {
        /// It does.
        On,
        /// It does not.
        Off,
        /// It would, but there is nobody else who could confirm.
        Impossible,
    }
}

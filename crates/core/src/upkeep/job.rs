//! Jobs: the work that is done on devices.

use super::{CheckOutcome, RotationOutcome};
use crate::words::word_enum;

word_enum! {
    /// What a job does.
    pub enum Task {
        /// Finds out whether the stored password opens the account.
        Check,
        /// Gives the account a new password.
        Rotation,
        /// Finds out which accounts the device has.
        Listing,
        /// Rehearses a rotation: goes up to the change, without changing anything.
        Rehearsal,
    }
}

word_enum! {
    /// The state of a job.
    pub enum JobState {
        /// Waits for a runner.
        Queued,
        /// A runner works on it.
        Running,
        /// Has ended.
        Done,
        /// Was given up.
        Failed,
    }
}

word_enum! {
    /// By which sign-in a password is changed.
    pub enum ChangeMethod {
        /// The operator of the device changes it.
        Operator,
        /// The account changes its own.
        #[serde(rename = "self")]
        #[strum(serialize = "self")]
        Own,
    }
}

word_enum! {
    /// Why a job was queued.
    pub enum JobCause {
        /// Its plan made it due.
        Plan,
        /// A checkout ended.
        Return,
        /// A check found the password out of sync.
        OutOfSync,
        /// Somebody asked for it.
        Person,
    }
}

word_enum! {
    /// How a job ended.
    pub enum JobOutcome {
        /// The stored password opens the account.
        InSync,
        /// The device answered, and the password does not open the account.
        OutOfSync,
        /// The account is locked, or would be by one more try.
        LockedOut,
        /// The device did not answer, or not as itself.
        Unreachable,
        /// The job did what it was for: a rotation, a listing or a rehearsal.
        Done,
        /// The device said no; both still have the old password.
        Refused,
        /// It is not known which of two passwords the device has; both are kept.
        InDoubt,
        /// Somebody cancelled it before it ran.
        Cancelled,
    }
}

word_enum! {
    /// What the table of devices is sorted by.
    pub enum DeviceSort {
        /// Its name.
        Name,
        /// Its type.
        Type,
        /// The path of its folder.
        Folder,
        /// Its address.
        Address,
        /// How many accounts it has.
        Accounts,
        /// Whether its identity is confirmed.
        Identity,
        /// Whether it is paused.
        State,
    }
}

word_enum! {
    /// Whether it is known how a device proves who it is.
    pub enum DeviceIdentityState {
        /// Somebody confirmed its identity.
        Confirmed,
        /// Nobody has.
        NotConfirmed,
    }
}

word_enum! {
    /// Whether the jobs of a device run.
    pub enum DevicePause {
        /// They wait until somebody resumes them.
        Paused,
        /// They run.
        NotPaused,
    }
}

word_enum! {
    /// What the table of accounts is sorted by.
    pub enum AccountSort {
        /// The path of its credential.
        Credential,
        /// The name of its device.
        Device,
        /// The outcome of its last check.
        State,
        /// When it was last checked.
        Checked,
        /// When it was last rotated.
        Rotated,
        /// When its next check is due.
        NextCheck,
        /// When its next rotation is due.
        NextRotation,
    }
}

word_enum! {
    /// What the table of jobs is sorted by.
    pub enum JobSort {
        /// When it was queued.
        Queued,
        /// What it does.
        Task,
        /// The path of its credential.
        Credential,
        /// The name of its device.
        Device,
        /// Its outcome, or its state until it has one.
        State,
        /// Why it was queued.
        Cause,
    }
}

impl From<CheckOutcome> for JobOutcome {
    fn from(outcome: CheckOutcome) -> Self {
        match outcome {
            CheckOutcome::InSync => Self::InSync,
            CheckOutcome::OutOfSync => Self::OutOfSync,
            CheckOutcome::LockedOut => Self::LockedOut,
            CheckOutcome::Unreachable => Self::Unreachable,
        }
    }
}

impl From<RotationOutcome> for JobOutcome {
    fn from(outcome: RotationOutcome) -> Self {
        match outcome {
            RotationOutcome::Done => Self::Done,
            RotationOutcome::Refused => Self::Refused,
            RotationOutcome::InDoubt => Self::InDoubt,
            RotationOutcome::Unreachable => Self::Unreachable,
        }
    }
}

/// A word of a POSIX shell that means this text.
///
/// ```text
/// duty            duty
/// night shift     'night shift'
/// o'neil          'o'\\''neil'
/// ```
#[must_use]
pub fn shell_word(text: &str) -> String {
    let plain = |byte: u8| byte.is_ascii_alphanumeric() || b"@%+=:,./_-".contains(&byte);
    if text.bytes().all(plain) {
        text.to_owned()
    } else {
        format!("'{}'", text.replace('\'', "'\\''"))
    }
}

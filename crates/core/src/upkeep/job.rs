//! Jobs: the work that is done on devices.

use super::account::Family;
use super::{CheckOutcome, RotationOutcome};
use crate::words::word_enum;

word_enum! {
    /// What a job does.
    pub enum Task {
        /// Finds out whether the stored password opens the account.
        Check,
        /// Gives the account a new password.
        Rotation,
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
        /// The device and the vault have the new password.
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

word_enum! {
    /// How a device is reached.
    pub enum ConnectorKind {
        /// An OpenSSH host.
        Ssh,
        /// A PostgreSQL server.
        Postgresql,
        /// A directory that speaks LDAP.
        Ldap,
        /// A Redis server.
        Redis,
        /// A domain controller of Active Directory.
        ActiveDirectory,
    }
}

impl ConnectorKind {
    /// The family of the accounts that it reaches.
    #[must_use]
    pub const fn family(self) -> Family {
        match self {
            Self::Ssh => Family::Local,
            Self::Postgresql | Self::Redis => Family::Database,
            Self::Ldap | Self::ActiveDirectory => Family::Directory,
        }
    }

    /// What such a device is called.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::Ssh => "OpenSSH host",
            Self::Postgresql => "PostgreSQL server",
            Self::Ldap => "LDAP directory",
            Self::Redis => "Redis server",
            Self::ActiveDirectory => "Active Directory",
        }
    }

    /// The port where such a device usually listens.
    #[must_use]
    pub const fn usual_port(self) -> u16 {
        match self {
            Self::Ssh => 22,
            Self::Postgresql => 5432,
            Self::Ldap | Self::ActiveDirectory => 636,
            Self::Redis => 6379,
        }
    }
}

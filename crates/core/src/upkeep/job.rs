//! Jobs: the work that is done on devices.

use serde::{Deserialize, Serialize};
use strum::{Display, EnumString, IntoStaticStr, VariantArray};

use super::account::Family;
use super::{CheckOutcome, RotationOutcome};
use crate::words::{UnknownWord, unknown_word};

/// What a job does.
#[derive(
    Clone,
    Copy,
    Debug,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Serialize,
    Deserialize,
    Display,
    EnumString,
    IntoStaticStr,
    VariantArray,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case", parse_err_ty = UnknownWord, parse_err_fn = unknown_word::<Task>)]
pub enum Task {
    /// Finds out whether the stored password opens the account.
    Check,
    /// Gives the account a new password.
    Rotation,
}

/// The state of a job.
#[derive(
    Clone,
    Copy,
    Debug,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Serialize,
    Deserialize,
    Display,
    EnumString,
    IntoStaticStr,
    VariantArray,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case", parse_err_ty = UnknownWord, parse_err_fn = unknown_word::<JobState>)]
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

/// By which sign-in a password is changed.
#[derive(
    Clone,
    Copy,
    Debug,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Serialize,
    Deserialize,
    Display,
    EnumString,
    IntoStaticStr,
    VariantArray,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case", parse_err_ty = UnknownWord, parse_err_fn = unknown_word::<ChangeMethod>)]
pub enum ChangeMethod {
    /// The operator of the device changes it.
    Operator,
    /// The account changes its own.
    #[serde(rename = "self")]
    #[strum(serialize = "self")]
    Own,
}

/// Why a job was queued.
#[derive(
    Clone,
    Copy,
    Debug,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Serialize,
    Deserialize,
    Display,
    EnumString,
    IntoStaticStr,
    VariantArray,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case", parse_err_ty = UnknownWord, parse_err_fn = unknown_word::<JobCause>)]
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

/// How a job ended.
#[derive(
    Clone,
    Copy,
    Debug,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Serialize,
    Deserialize,
    Display,
    EnumString,
    IntoStaticStr,
    VariantArray,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case", parse_err_ty = UnknownWord, parse_err_fn = unknown_word::<JobOutcome>)]
pub enum JobOutcome {
    /// The stored password opens the account.
    #[serde(rename = "in sync")]
    #[strum(serialize = "in sync")]
    InSync,
    /// The device answered, and the password does not open the account.
    #[serde(rename = "out of sync")]
    #[strum(serialize = "out of sync")]
    OutOfSync,
    /// The account is locked, or would be by one more try.
    #[serde(rename = "locked out")]
    #[strum(serialize = "locked out")]
    LockedOut,
    /// The device did not answer, or not as itself.
    Unreachable,
    /// The device and the vault have the new password.
    Done,
    /// The device said no; both still have the old password.
    Refused,
    /// It is not known which of two passwords the device has; both are kept.
    #[serde(rename = "in doubt")]
    #[strum(serialize = "in doubt")]
    InDoubt,
    /// Somebody cancelled it before it ran.
    Cancelled,
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

/// How a device is reached.
#[derive(
    Clone,
    Copy,
    Debug,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Serialize,
    Deserialize,
    Display,
    EnumString,
    IntoStaticStr,
    VariantArray,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case", parse_err_ty = UnknownWord, parse_err_fn = unknown_word::<ConnectorKind>)]
pub enum ConnectorKind {
    /// An OpenSSH host.
    Ssh,
}

impl ConnectorKind {
    /// The family of the accounts that it reaches.
    #[must_use]
    pub const fn family(self) -> Family {
        match self {
            Self::Ssh => Family::Local,
        }
    }
}

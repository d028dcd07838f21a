//! Acts that take a second person.

use serde::{Deserialize, Serialize};
use strum::{Display, EnumString, IntoStaticStr, VariantArray};

use crate::words::{UnknownWord, unknown_word};

/// What waits for a second person.
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
#[strum(serialize_all = "kebab-case", parse_err_ty = UnknownWord, parse_err_fn = unknown_word::<PendingActType>)]
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

/// The state of an act that takes a second person.
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
#[strum(serialize_all = "kebab-case", parse_err_ty = UnknownWord, parse_err_fn = unknown_word::<PendingActState>)]
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

/// Whether an act takes a second person.
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
#[strum(serialize_all = "kebab-case", parse_err_ty = UnknownWord, parse_err_fn = unknown_word::<ControlState>)]
pub enum ControlState {
    /// It does.
    On,
    /// It does not.
    Off,
    /// It would, but there is nobody else who could confirm.
    Impossible,
}

//! What the service and its clients say to each other: one type per request and response.
//!
//! The network interface is JSON under `/api/v1`; errors are problem details (RFC 9457), lists are
//! [`Page`]s, and everything that two people could edit carries a `version` that goes back as
//! `If-Match`. The OpenAPI document is made from these types.

mod access;
mod audit;
mod error_code;
mod examples;
mod gate;
mod page;
mod people;
mod personal;
mod problem;
mod removal;
mod secret_text;
mod setup;
mod transfer;
mod upkeep;
mod vault;

pub use access::*;
pub use audit::*;
pub use error_code::ErrorCode;
pub use examples::examples;
pub use gate::*;
pub use page::*;
pub use people::*;
pub use personal::*;
pub use problem::*;
pub use removal::*;
pub use secret_text::*;
pub use setup::*;
pub use transfer::*;
pub use upkeep::*;
pub use vault::*;

/// The enumerations of the interface, with their words.
pub mod words {
    pub use jexlin_core::access::{AccessRequestState, IssueType, Level};
    pub use jexlin_core::audit::{Action, Outcome, TargetType};
    pub use jexlin_core::auth::Channel;
    pub use jexlin_core::gate::{
        CheckoutEnd, ControlState, PendingActState, PendingActType, RequestState,
    };
    pub use jexlin_core::people::{Duty, PersonState, PersonType, SubjectType};
    pub use jexlin_core::policy::{Finding, RuleMode};
    pub use jexlin_core::status::{ServiceState, Topic};
    pub use jexlin_core::transfer::{ExportFormat, Format, MatchKey, Matching};
    pub use jexlin_core::upkeep::{
        ChangeMethod, CheckOutcome, ConnectorKind, JobCause, JobOutcome, JobState, OutOfSync,
        RotationOutcome, Task,
    };
    pub use jexlin_core::vault::{CredentialView, RemovedType, ValueOrigin, VersionState};
    pub use jexlin_core::words::{UnknownWord, Word};
}

/// Verification of an audit export, which needs nothing but the export and the public key.
pub mod proof {
    pub use jexlin_core::audit::{Finding, Report, Verifier, verify_export};
}

pub use jexlin_core::access::Level;
pub use jexlin_core::names::parse_path;
pub use jexlin_core::names::{is_unshowable, no_formula, show_foreign};

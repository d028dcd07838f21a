//! What the service and its clients exchange: one type per request and response.
//!
//! The network interface is JSON under `/api/v1`; errors are problem details (RFC 9457), lists are
//! [`Page`]s, and everything that two people could edit carries a `revision` that goes back as
//! `If-Match`. The OpenAPI document is made from these types.

mod access_file;
mod access_issues;
mod access_requests;
mod audit;
mod auth;
mod checkouts;
mod credentials;
mod devices;
mod dialogues;
mod error_code;
mod examples;
mod explain;
mod folders;
mod gates;
mod grants;
mod groups;
mod kinds;
mod lookup;
mod overview;
mod page;
mod pending_acts;
mod people;
mod personal;
mod policies;
mod preview;
mod problem;
mod removal;
mod requests;
mod searches;
mod secret_text;
mod secrets;
mod settings;
mod setup;
mod transfer;
mod upkeep;

pub use access_file::*;
pub use access_issues::*;
pub use access_requests::*;
pub use audit::*;
pub use auth::*;
pub use checkouts::*;
pub use credentials::*;
pub use devices::*;
pub use dialogues::*;
pub use error_code::ErrorCode;
pub use examples::examples;
pub use explain::*;
pub use folders::*;
pub use gates::*;
pub use grants::*;
pub use groups::*;
pub use kinds::*;
pub use lookup::*;
pub use overview::*;
pub use page::*;
pub use pending_acts::*;
pub use people::*;
pub use personal::*;
pub use policies::*;
pub use preview::*;
pub use problem::*;
pub use removal::*;
pub use requests::*;
pub use searches::*;
pub use secret_text::*;
pub use secrets::*;
pub use settings::*;
pub use setup::*;
pub use transfer::*;
pub use upkeep::*;

/// The enumerations of the interface, with their words.
pub mod words {
    pub use jexlin_core::access::{AccessRequestState, IssueType, Level};
    pub use jexlin_core::audit::{Action, Outcome, TargetType};
    pub use jexlin_core::auth::Channel;
    pub use jexlin_core::dialogue::{InstructionsKind, Purpose, Severity};
    pub use jexlin_core::gate::{
        CheckoutEnd, ControlState, PendingActState, PendingActType, RequestState,
    };
    pub use jexlin_core::people::{Duty, PersonState, PersonType, SubjectType};
    pub use jexlin_core::policy::{Finding, RuleMode};
    pub use jexlin_core::status::{ServiceState, Topic};
    pub use jexlin_core::transfer::{ExportFormat, Format, MatchKey, Matching, Separator};
    pub use jexlin_core::upkeep::{
        ChangeMethod, CheckOutcome, ConnectorKind, IdentityKind, JobCause, JobOutcome, JobState,
        OutOfSync, Role, RotationOutcome, Task,
    };
    pub use jexlin_core::vault::kinds::FieldType;
    pub use jexlin_core::vault::{
        CredentialSort, CredentialView, RemovedType, ValueOrigin, VersionState,
    };
    pub use jexlin_core::words::{UnknownWord, Word};
    pub use strum::VariantArray;
}

/// Verification of an audit export, which needs nothing but the export and the public key.
pub mod proof {
    pub use jexlin_core::audit::{
        Finding, Report, Verifier, verify_export, verify_from_checkpoint, verify_since,
    };
}

pub use jexlin_core::access::Level;
pub use jexlin_core::names::parse_path;
pub use jexlin_core::names::{is_unshowable, no_formula, show_foreign};

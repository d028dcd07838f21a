//! What the service and its clients say to each other: one type per request and response.
//!
//! The network interface is JSON under `/api/v1`; errors are problem details (RFC 9457), lists are
//! [`Page`]s, and everything that two people could edit carries a `version` that goes back as
//! `If-Match`. The OpenAPI document is made from these types.

mod access;
mod audit;
mod bin;
mod common;
mod gate;
mod people;
mod transfer;
mod upkeep;
mod vault;

pub use access::*;
pub use audit::*;
pub use bin::*;
pub use common::*;
pub use gate::*;
pub use people::*;
pub use transfer::*;
pub use upkeep::*;
pub use vault::*;

/// Verification of an audit export, which needs nothing but the export and the public key.
pub mod proof {
    pub use jexlin_core::audit::{Finding, Report, Verifier, verify_export};
}

pub use jexlin_core::access::Level;
pub use jexlin_core::names::parse_path;
pub use jexlin_core::names::{is_unshowable, no_formula, show_foreign};

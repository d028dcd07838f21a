//! Connectors: one module per way to reach devices, behind the trait [`Connector`], and the
//! [`Registry`] of those that there are. Each can check a password and change one; none of them
//! decides anything. What a device says comes back without secrets in it.
//!
//! [`Probe`] and [`Change`] say exactly what is known, since the rotation machine in core rests on
//! the difference between "refused", "surely not reached" and "lost".

pub mod active_directory;
mod connector;
mod conversation;
pub mod http_api;
mod instructed;
pub mod jump_host;
mod kept;
pub mod ldap;
pub mod mariadb;
mod network;
pub mod postgresql;
mod reach;
pub mod redis;
mod registry;
pub mod ssh;
pub mod telnet;
mod time_limits;
mod tls;

use jexlin_core::dialogue::Turn;
use jexlin_core::upkeep::identity::PresentedIdentity;

pub use connector::{Answer, Capabilities, Connector, KeptOperators, MaySend, OperatorConnection};
pub use jexlin_core::upkeep::FoundAccount;
pub use registry::{Registry, connector};
pub use time_limits::TimeLimits;

/// What a login showed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Probe {
    /// It opened the account.
    Opened,
    /// The device answered, and the password did not open the account.
    Closed,
    /// It could not be tried; why.
    NoAnswer(String),
}

/// The result of a change of a password.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Change {
    /// The device says that it is changed.
    Applied,
    /// The device clearly refused, in these words.
    Refused(String),
    /// The device could not be reached or signed in to, and nothing was sent; why.
    NotReached(String),
    /// The connection was lost after something may have been sent; why.
    Lost(String),
    /// The device does not take the operator's password; nothing was sent for the account.
    OperatorRefused,
    /// The device does not take the account's own password; nothing else was sent.
    AccountRefused,
    /// The lease was over when everything was ready; nothing was sent for the account.
    LeaseLost,
}

/// What came of reading the accounts of a device.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Listing {
    /// These are there.
    Found(Vec<FoundAccount>),
    /// The device does not take the operator's password.
    OperatorRefused,
    /// They could not be read; why.
    NoAnswer(String),
}

impl Listing {
    /// The accounts.
    ///
    /// # Errors
    /// Why there are none, in words.
    pub fn found(self) -> Result<Vec<FoundAccount>, String> {
        match self {
            Self::Found(found) => Ok(found),
            Self::OperatorRefused => Err("the device does not take the operator's password".into()),
            Self::NoAnswer(why) => Err(why),
        }
    }
}

impl From<Result<Vec<FoundAccount>, String>> for Listing {
    fn from(result: Result<Vec<FoundAccount>, String>) -> Self {
        match result {
            Ok(found) => Self::Found(found),
            Err(why) => Self::NoAnswer(why),
        }
    }
}

/// A result together with the identity that was met.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Met<T> {
    /// The result.
    pub result: T,
    /// What the device showed, if it got as far as showing it.
    pub presented: Option<PresentedIdentity>,
    /// What was said and heard, without secrets, where there was a dialogue.
    pub transcript: Vec<Turn>,
}

impl<T> Met<T> {
    /// A result without a dialogue.
    pub const fn of(result: T, presented: Option<PresentedIdentity>) -> Self {
        Self {
            result,
            presented,
            transcript: vec![],
        }
    }
}

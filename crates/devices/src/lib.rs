//! Connectors: one file per sort of device. Each can check a password and change one; none of
//! them decides anything. What a device says comes back without secrets in it.
//!
//! [`Probe`] and [`Change`] say exactly what is known, since the rotation machine in core rests on
//! the difference between "refused", "surely not reached" and "lost".

pub mod ssh;

/// Where a device is and what it must prove to be itself.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Endpoint {
    /// Host name or address.
    pub address: String,
    /// TCP port.
    pub port: u16,
    /// The host key pinned at first contact, as an OpenSSH public key line; none before that.
    pub host_key: Option<String>,
}

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

/// What a change of a password came to.
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
}

/// A result together with the host key that was met, to be pinned if none was.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Met<T> {
    /// The result.
    pub what: T,
    /// The host key as an OpenSSH public key line, if the device got as far as showing it.
    pub host_key: Option<String>,
}

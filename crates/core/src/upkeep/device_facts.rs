//! A device as it is now, as far as decisions about it need that.

use std::sync::Arc;

use uuid::Uuid;

use super::connect::ConnectRules;
use super::connectors::ConnectorKind;
use crate::dialogue::Instructions;

/// A device as it is now.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DeviceFacts {
    /// The device.
    pub device: Uuid,
    /// Its type.
    pub connector: ConnectorKind,
    /// Where it is.
    pub address: String,
    /// Its port.
    pub port: u16,
    /// Its accepted identities, one a line; empty when none was confirmed.
    pub identity: String,
    /// How it is talked to, where its connector asks for that.
    pub dialogue: Option<Arc<Instructions>>,
    /// The device through which it is reached, if it is not reached directly. That one is: what stands
    /// here for it is not looked at.
    pub jump_host: Option<Box<DeviceFacts>>,
    /// Whether the organisation lets passwords go to devices that prove no identity, where a steward
    /// has accepted it.
    pub allows_unproven: bool,
    /// Whether the organisation trusts whatever answers first.
    pub trust_first_contact: bool,
    /// Where the organisation lets the service connect to.
    pub rules: ConnectRules,
}

impl DeviceFacts {
    /// The digest of its dialogue; empty when it has none.
    #[must_use]
    pub fn dialogue_digest(&self) -> &str {
        self.dialogue.as_deref().map_or("", |it| it.head().digest())
    }

    /// Through which jump host it is reached, as a binding keeps it: that one's address, port and
    /// identity; empty when directly.
    #[must_use]
    pub fn way(&self) -> String {
        let host = self.jump_host.as_deref();
        host.map_or_else(String::new, |it| way(&it.address, it.port, &it.identity))
    }

    /// Whether its operator signs in with a client certificate.
    #[must_use]
    pub fn shows_certificate(&self) -> bool {
        match self.dialogue.as_deref() {
            Some(Instructions::Recipe(recipe)) => recipe.shows_certificate(),
            _ => false,
        }
    }
}

/// A jump host as bindings keep it.
#[must_use]
pub fn way(address: &str, port: u16, identity: &str) -> String {
    format!("{address} port {port}\n{identity}")
}

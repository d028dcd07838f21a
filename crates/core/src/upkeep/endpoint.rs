//! Endpoints: where a password may be sent, and which way leads there.

use std::sync::Arc;

use uuid::Uuid;

use super::connect::ConnectRules;
use super::device_facts::DeviceFacts;
use super::identity::Identity;
use crate::dialogue::{Dialogue, Instructions};
use crate::recipe::Recipe;

/// Where a password may be sent, and what must be proved first.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Endpoint {
    pub(super) organisation: Uuid,
    pub(super) device: Uuid,
    pub(super) address: String,
    pub(super) port: u16,
    pub(super) identity: Vec<Identity>,
    pub(super) dialogue: Option<Arc<Instructions>>,
    pub(super) rules: ConnectRules,
    pub(super) way: Way,
}

/// The way to an endpoint.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Way {
    Direct,
    Behind {
        host: Uuid,
        connection: Option<JumpConnection>,
    },
}

impl Way {
    pub(super) fn to(device: &DeviceFacts) -> Self {
        match &device.jump_host {
            None => Self::Direct,
            Some(host) => Self::Behind {
                host: host.device,
                connection: None,
            },
        }
    }

    fn through(self, open: Option<&JumpConnection>) -> Self {
        match (self, open) {
            (Self::Behind { host, .. }, Some(open)) if open.host == host => Self::Behind {
                host,
                connection: Some(open.clone()),
            },
            (way, _) => way,
        }
    }
}

/// How an endpoint is reached.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Route<'a> {
    /// By a connection of the service's own.
    Direct,
    /// Through this connection to its jump host.
    Through(&'a JumpConnection),
    /// Not at all: it is behind a jump host without an open connection.
    NotOpen,
}

/// A connection to a jump host: one organisation, one credential, one version of its password, one
/// host at one endpoint. Never a user name at an address.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct JumpConnection {
    organisation: Uuid,
    host: Uuid,
    credential: Uuid,
    version: i32,
    login: String,
    address: String,
    port: u16,
    identity: String,
}

impl JumpConnection {
    pub(super) fn to(endpoint: &Endpoint, credential: Uuid, version: i32, login: &str) -> Self {
        Self {
            organisation: endpoint.organisation,
            host: endpoint.device,
            credential,
            version,
            login: login.to_owned(),
            address: endpoint.address.clone(),
            port: endpoint.port,
            identity: Identity::to_lines(&endpoint.identity),
        }
    }

    /// Whether it is another connection of the same credential to the same jump host.
    #[must_use]
    pub fn replaces(&self, other: &Self) -> bool {
        let of = |it: &Self| (it.organisation, it.host, it.credential);
        of(self) == of(other) && self != other
    }
}

impl Endpoint {
    /// An endpoint that is only looked at: the identity of whatever answers there is read, and
    /// nothing is sent. It accepts no identity, so that no password can follow.
    #[must_use]
    pub fn to_look_at(organisation: Uuid, device: &DeviceFacts) -> Self {
        Self {
            organisation,
            device: device.device,
            address: device.address.clone(),
            port: device.port,
            identity: vec![],
            dialogue: None,
            rules: device.rules.clone(),
            way: Way::to(device),
        }
    }

    /// The same, reached through a connection to its jump host. One to another host changes nothing,
    /// and the endpoint is not reached.
    #[must_use]
    pub fn through(self, open: Option<&JumpConnection>) -> Self {
        Self {
            way: self.way.through(open),
            ..self
        }
    }

    /// The connection to its jump host, if it is reached through one.
    #[must_use]
    pub const fn connection(&self) -> Option<&JumpConnection> {
        match self.route() {
            Route::Through(open) => Some(open),
            Route::Direct | Route::NotOpen => None,
        }
    }

    /// How it is reached.
    #[must_use]
    pub const fn route(&self) -> Route<'_> {
        match &self.way {
            Way::Direct => Route::Direct,
            Way::Behind {
                connection: Some(open),
                ..
            } => Route::Through(open),
            Way::Behind { .. } => Route::NotOpen,
        }
    }

    /// The organisation.
    #[must_use]
    pub const fn organisation(&self) -> Uuid {
        self.organisation
    }

    /// The device.
    #[must_use]
    pub const fn device(&self) -> Uuid {
        self.device
    }

    /// Host name or address.
    #[must_use]
    pub fn address(&self) -> &str {
        &self.address
    }

    /// The port.
    #[must_use]
    pub const fn port(&self) -> u16 {
        self.port
    }

    /// The accepted identities.
    #[must_use]
    pub fn identity(&self) -> &[Identity] {
        &self.identity
    }

    /// Whether it is accepted that the device proves no identity.
    #[must_use]
    pub fn is_accepted_unproven(&self) -> bool {
        self.identity == [Identity::Unproven]
    }

    /// The dialogue with its command line, if that is how it is talked to.
    #[must_use]
    pub fn dialogue(&self) -> Option<&Dialogue> {
        match self.dialogue.as_deref() {
            Some(Instructions::Dialogue(dialogue)) => Some(dialogue),
            _ => None,
        }
    }

    /// The recipe of its requests, if that is how it is talked to.
    #[must_use]
    pub fn recipe(&self) -> Option<&Recipe> {
        match self.dialogue.as_deref() {
            Some(Instructions::Recipe(recipe)) => Some(recipe),
            _ => None,
        }
    }

    /// Where the service may connect to.
    #[must_use]
    pub const fn rules(&self) -> &ConnectRules {
        &self.rules
    }
}

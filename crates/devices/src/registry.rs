//! The connectors that there are.

use std::sync::Arc;

use jexlin_core::upkeep::ConnectorKind;

use crate::active_directory::ActiveDirectory;
use crate::http_api::HttpApi;
use crate::instructed::ByInstructions;
use crate::ldap::Ldap;
use crate::mariadb::Mariadb;
use crate::postgresql::Postgresql;
use crate::redis::Redis;
use crate::ssh::{self, CommandLine, Ssh};
use crate::telnet::Telnet;
use crate::{Connector, OperatorConnection, TimeLimits};

/// The settings of a connector.
#[derive(Clone, Copy, Debug)]
pub enum Settings {
    /// Of OpenSSH hosts.
    Ssh(ssh::Settings),
    /// Of PostgreSQL servers.
    Postgresql(TimeLimits),
    /// Of directories that speak LDAP.
    Ldap(TimeLimits),
    /// Of MariaDB servers.
    Mariadb(TimeLimits),
    /// Of Redis servers.
    Redis(TimeLimits),
    /// Of command lines over SSH.
    CommandLine(ssh::Settings),
    /// Of command lines over Telnet.
    Telnet(TimeLimits),
    /// Of HTTP APIs.
    HttpApi(TimeLimits),
    /// Of domain controllers of Active Directory.
    ActiveDirectory(TimeLimits),
}

impl Settings {
    /// The connector with these settings.
    #[must_use]
    pub fn connector(self) -> Arc<dyn Connector> {
        match self {
            Self::Ssh(settings) => Arc::new(Ssh::new(settings)),
            Self::CommandLine(settings) => Arc::new(ByInstructions(CommandLine::new(settings))),
            Self::Telnet(settings) => Arc::new(ByInstructions(Telnet::new(settings))),
            Self::HttpApi(settings) => Arc::new(ByInstructions(HttpApi::new(settings))),
            Self::Postgresql(settings) => Arc::new(Postgresql::new(settings)),
            Self::Ldap(settings) => Arc::new(Ldap::new(settings)),
            Self::Mariadb(settings) => Arc::new(Mariadb::new(settings)),
            Self::Redis(settings) => Arc::new(Redis::new(settings)),
            Self::ActiveDirectory(settings) => Arc::new(ActiveDirectory::new(settings)),
        }
    }
}

/// The connectors of a service, each by its kind.
#[derive(Clone, Debug)]
pub struct Registry(Arc<[Arc<dyn Connector>]>);

impl Registry {
    /// The connectors with these settings; of two with the same kind the first counts.
    #[must_use]
    pub fn new(settings: impl IntoIterator<Item = Settings>) -> Self {
        Self(settings.into_iter().map(Settings::connector).collect())
    }

    /// The connector of a kind; none when this service has none.
    #[must_use]
    pub fn get(&self, kind: ConnectorKind) -> Option<&dyn Connector> {
        self.0
            .iter()
            .find(|connector| connector.kind() == kind)
            .map(AsRef::as_ref)
    }

    /// All of them.
    pub fn iter(&self) -> impl Iterator<Item = &dyn Connector> {
        self.0.iter().map(AsRef::as_ref)
    }

    /// The connections of operators that any of them keeps open.
    #[must_use]
    pub fn kept_operators(&self) -> Vec<OperatorConnection> {
        self.iter()
            .filter_map(|connector| connector.kept())
            .flat_map(|kept| kept.all())
            .collect()
    }

    /// Ends a kept connection, whichever connector has it.
    pub fn close_operator(&self, which: &OperatorConnection) {
        self.iter()
            .filter_map(|connector| connector.kept())
            .for_each(|kept| kept.close(which));
    }

    /// Ends the kept connections that nobody has used for a while.
    pub fn close_idle(&self) {
        self.iter()
            .filter_map(|connector| connector.kept())
            .for_each(|kept| kept.close_idle());
    }
}

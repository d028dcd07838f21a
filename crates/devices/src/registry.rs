//! The connectors that there are, by the lines of [`jexlin_core::connectors!`].

use std::sync::Arc;

use jexlin_core::upkeep::ConnectorKind;

use crate::active_directory::ActiveDirectory;
use crate::http_api::HttpApi;
use crate::instructed::ByInstructions;
use crate::ldap::Ldap;
use crate::mariadb::Mariadb;
use crate::postgresql::Postgresql;
use crate::redis::Redis;
use crate::ssh::{CommandLine, Ssh};
use crate::telnet::Telnet;
use crate::{Connector, OperatorConnection, TimeLimits};

/// Makes the connectors of the lines of the registry.
macro_rules! makers {
    ($($(#[$about:meta])* $kind:ident, $connector:ty, $facts:expr;)*) => {
        /// The connector of a kind, with these limits.
        #[must_use]
        pub fn connector(kind: ConnectorKind, limits: TimeLimits) -> Arc<dyn Connector> {
            match kind {
                $(ConnectorKind::$kind => Arc::new(<$connector>::new(limits)),)*
            }
        }
    };
}

jexlin_core::connectors!(makers);

/// The connectors of a service, each by its kind.
#[derive(Clone, Debug)]
pub struct Registry(Arc<[Arc<dyn Connector>]>);

impl Registry {
    /// All connectors, with these limits.
    #[must_use]
    pub fn new(limits: TimeLimits) -> Self {
        let all = ConnectorKind::ALL.iter();
        Self(all.map(|kind| connector(*kind, limits)).collect())
    }

    /// The connector of a kind.
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

#[cfg(test)]
mod tests {
    use super::{ConnectorKind, Registry, TimeLimits};

    #[test]
    fn every_type_of_device_has_the_connector_that_its_line_names() {
        let registry = Registry::new(TimeLimits::default());
        let kinds: Vec<ConnectorKind> = registry.iter().map(|it| it.kind()).collect();
        assert_eq!(kinds, ConnectorKind::ALL);
    }
}

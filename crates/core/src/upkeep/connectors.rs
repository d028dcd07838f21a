//! The connectors that there are, a line for each: everything that the rest of the product knows of
//! a type of device stands here.

use super::account::Family;
use super::job::shell_word;
use crate::dialogue::InstructionsKind;
use crate::words::word_enum;

/// What is known of a type of device.
#[derive(Clone, Copy, Debug)]
struct Facts {
    /// What such a device is called.
    label: &'static str,
    /// The port where it usually listens.
    port: u16,
    /// The family of the accounts that are reached by password.
    family: Family,
    /// By what it is talked to, where an administrator says that.
    instructions: Option<InstructionsKind>,
    /// Whether an account there can be opened by an SSH key.
    takes_keys: bool,
    /// Whether it can show who it is.
    proves_identity: bool,
    /// The program of a shell that somebody signs in with by hand, if there is one.
    program: Option<Program>,
}

impl Facts {
    /// What holds for most types.
    const USUAL: Self = Self {
        label: "",
        port: 0,
        family: Family::Local,
        instructions: None,
        takes_keys: false,
        proves_identity: true,
        program: None,
    };
}

/// A program that people sign in to a device with.
#[derive(Clone, Copy, Debug)]
enum Program {
    Ssh,
    Telnet,
    Psql,
    Mariadb,
    RedisCli,
    Ldapsearch,
}

/// The registry of connectors. Each line has the type of the devices, the type of the crate
/// `jexlin-devices` that talks to them, and what is known of them. The order is that of every list
/// that people choose from.
///
/// The macro hands the lines to another one: to `kinds` here, which makes [`ConnectorKind`] of them,
/// and to one of `jexlin-devices`, which makes the connectors. So none of them can be forgotten in
/// one place, and a connector is added by its file and one line.
#[macro_export]
macro_rules! connectors {
    ($then:ident) => {
        $then! {
            /// An OpenSSH host.
            Ssh, Ssh, Facts { label: "OpenSSH host", port: 22, takes_keys: true, program: Some(Program::Ssh), ..Facts::USUAL };
            /// A command line over SSH, by a dialogue.
            CommandLine, ByInstructions<CommandLine>, Facts { label: "Command line over SSH", port: 22, instructions: Some(InstructionsKind::Dialogue), program: Some(Program::Ssh), ..Facts::USUAL };
            /// A command line over Telnet, by a dialogue.
            Telnet, ByInstructions<Telnet>, Facts { label: "Command line over Telnet", port: 23, instructions: Some(InstructionsKind::Dialogue), proves_identity: false, program: Some(Program::Telnet), ..Facts::USUAL };
            /// An HTTP API over TLS, by a recipe.
            HttpApi, ByInstructions<HttpApi>, Facts { label: "HTTP API", port: 443, family: Family::Application, instructions: Some(InstructionsKind::Recipe), ..Facts::USUAL };
            /// A directory that speaks LDAP.
            Ldap, Ldap, Facts { label: "LDAP directory", port: 636, family: Family::Directory, program: Some(Program::Ldapsearch), ..Facts::USUAL };
            /// A domain controller of Active Directory.
            ActiveDirectory, ActiveDirectory, Facts { label: "Active Directory", port: 636, family: Family::Directory, program: Some(Program::Ldapsearch), ..Facts::USUAL };
            /// A PostgreSQL server.
            Postgresql, Postgresql, Facts { label: "PostgreSQL server", port: 5432, family: Family::Database, program: Some(Program::Psql), ..Facts::USUAL };
            /// A MariaDB server.
            Mariadb, Mariadb, Facts { label: "MariaDB server", port: 3306, family: Family::Database, program: Some(Program::Mariadb), ..Facts::USUAL };
            /// A Redis server.
            Redis, Redis, Facts { label: "Redis server", port: 6379, family: Family::Database, program: Some(Program::RedisCli), ..Facts::USUAL };
        }
    };
}

/// Makes [`ConnectorKind`] of the lines.
macro_rules! kinds {
    ($($(#[$about:meta])* $kind:ident, $connector:ty, $facts:expr;)*) => {
        word_enum! {
            /// How a device is reached.
            pub enum ConnectorKind { $($(#[$about])* $kind,)* }
        }

        impl ConnectorKind {
            const fn facts(self) -> Facts {
                match self {
                    $(Self::$kind => $facts,)*
                }
            }
        }
    };
}

connectors!(kinds);

impl ConnectorKind {
    /// All of them, in the order of the registry.
    pub const ALL: &[Self] = <Self as strum::VariantArray>::VARIANTS;

    /// Whether an account there can be opened by an SSH key.
    #[must_use]
    pub const fn takes_keys(self) -> bool {
        self.facts().takes_keys
    }

    /// Whether such a device can show who it is. Passwords go to others only where somebody has
    /// accepted that.
    #[must_use]
    pub const fn proves_identity(self) -> bool {
        self.facts().proves_identity
    }

    /// The family of the accounts that it reaches by password.
    #[must_use]
    pub const fn family(self) -> Family {
        self.facts().family
    }

    /// The kind of credential that its accounts usually are.
    #[must_use]
    pub const fn usual_kind(self) -> &'static str {
        match self.family() {
            Family::Local | Family::Key | Family::Application => "device-admin",
            Family::Database => "database-account",
            Family::Directory => "directory-account",
        }
    }

    /// What such a device is called.
    #[must_use]
    pub const fn label(self) -> &'static str {
        self.facts().label
    }

    /// By what such a device is talked to, where an administrator says that.
    #[must_use]
    pub const fn instructions(self) -> Option<InstructionsKind> {
        self.facts().instructions
    }

    /// The port where such a device usually listens.
    #[must_use]
    pub const fn usual_port(self) -> u16 {
        self.facts().port
    }

    /// The line of a shell that connects to such a device as somebody, who is asked for the password.
    /// Nothing where a name would be taken for an option; whatever else is in a name means itself.
    #[must_use]
    pub fn connection_line(self, user: &str, address: &str, port: u16) -> Option<String> {
        let wrong = |text: &str| {
            text.is_empty() || text.starts_with('-') || text.chars().any(char::is_control)
        };
        if wrong(user) || wrong(address) {
            return None;
        }
        let (who, host) = (shell_word(user), shell_word(address));
        Some(match self.facts().program? {
            Program::Ssh => {
                format!("ssh -p {port} {}", shell_word(&format!("{user}@{address}")))
            }
            Program::Psql => format!("psql -h {host} -p {port} -U {who} postgres"),
            Program::Mariadb => {
                // A host after the name is what the server calls it, not what is signed in with.
                let name = user.rsplit_once('@').map_or(user, |(name, _)| name);
                format!(
                    "mariadb --ssl -h {host} -P {port} -u {} -p",
                    shell_word(name)
                )
            }
            Program::Telnet => format!("telnet {host} {port}"),
            Program::RedisCli => {
                format!("redis-cli --tls -h {host} -p {port} --user {who} --askpass")
            }
            Program::Ldapsearch => {
                let host = if address.contains(':') {
                    format!("[{address}]")
                } else {
                    address.to_owned()
                };
                let at = shell_word(&format!("ldaps://{host}:{port}"));
                format!("ldapsearch -x -W -H {at} -D {who} -s base -b ''")
            }
        })
    }
}

#[cfg(test)]
mod tests {
    use std::collections::HashSet;

    use super::ConnectorKind;
    use crate::words::Word as _;

    #[test]
    fn every_line_is_whole_and_none_says_what_another_says() {
        let mut labels = HashSet::new();
        for kind in ConnectorKind::ALL {
            assert!(!kind.label().is_empty() && kind.usual_port() > 0, "{kind}");
            assert!(labels.insert(kind.label()), "{kind}");
            // What the database takes for the word of a connector.
            let word = kind.word();
            assert!(word.len() <= 40 && word.starts_with(|it: char| it.is_ascii_lowercase()));
            assert!(
                word.bytes()
                    .all(|it| it == b'-' || it.is_ascii_lowercase() || it.is_ascii_digit())
            );
        }
    }

    #[test]
    fn a_line_connects_and_what_somebody_wrote_into_a_name_runs_nothing() {
        let line = |kind: ConnectorKind, user: &str| kind.connection_line(user, "192.0.2.7", 22);
        assert_eq!(
            line(ConnectorKind::Ssh, "duty").as_deref(),
            Some("ssh -p 22 duty@192.0.2.7")
        );
        assert_eq!(
            line(ConnectorKind::Postgresql, "night shift").as_deref(),
            Some("psql -h 192.0.2.7 -p 22 -U 'night shift' postgres")
        );
        assert_eq!(
            line(ConnectorKind::Ssh, "$(reboot)").as_deref(),
            Some("ssh -p 22 '$(reboot)@192.0.2.7'")
        );
        assert_eq!(
            line(ConnectorKind::Redis, "o'neil; id").as_deref(),
            Some("redis-cli --tls -h 192.0.2.7 -p 22 --user 'o'\\''neil; id' --askpass")
        );
        assert_eq!(
            ConnectorKind::Ldap.connection_line("uid=duty,dc=osmere", "2001:db8::7", 636),
            Some("ldapsearch -x -W -H 'ldaps://[2001:db8::7]:636' -D uid=duty,dc=osmere -s base -b ''".into())
        );
        for wrong in ["-oProxyCommand=id", "", "duty\nid"] {
            assert_eq!(line(ConnectorKind::Ssh, wrong), None, "{wrong}");
        }
    }
}

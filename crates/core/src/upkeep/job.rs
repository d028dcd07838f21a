//! Jobs: the work that is done on devices.

use super::account::Family;
use super::{CheckOutcome, RotationOutcome};
use crate::dialogue::InstructionsKind;
use crate::words::word_enum;

word_enum! {
    /// What a job does.
    pub enum Task {
        /// Finds out whether the stored password opens the account.
        Check,
        /// Gives the account a new password.
        Rotation,
        /// Finds out which accounts the device has.
        Listing,
        /// Rehearses a rotation: goes up to the change, without changing anything.
        Rehearsal,
    }
}

word_enum! {
    /// The state of a job.
    pub enum JobState {
        /// Waits for a runner.
        Queued,
        /// A runner works on it.
        Running,
        /// Has ended.
        Done,
        /// Was given up.
        Failed,
    }
}

word_enum! {
    /// By which sign-in a password is changed.
    pub enum ChangeMethod {
        /// The operator of the device changes it.
        Operator,
        /// The account changes its own.
        #[serde(rename = "self")]
        #[strum(serialize = "self")]
        Own,
    }
}

word_enum! {
    /// Why a job was queued.
    pub enum JobCause {
        /// Its plan made it due.
        Plan,
        /// A checkout ended.
        Return,
        /// A check found the password out of sync.
        OutOfSync,
        /// Somebody asked for it.
        Person,
    }
}

word_enum! {
    /// How a job ended.
    pub enum JobOutcome {
        /// The stored password opens the account.
        InSync,
        /// The device answered, and the password does not open the account.
        OutOfSync,
        /// The account is locked, or would be by one more try.
        LockedOut,
        /// The device did not answer, or not as itself.
        Unreachable,
        /// The job did what it was for: a rotation, a listing or a rehearsal.
        Done,
        /// The device said no; both still have the old password.
        Refused,
        /// It is not known which of two passwords the device has; both are kept.
        InDoubt,
        /// Somebody cancelled it before it ran.
        Cancelled,
    }
}

word_enum! {
    /// What the table of devices is sorted by.
    pub enum DeviceSort {
        /// Its name.
        Name,
        /// Its type.
        Type,
        /// The path of its folder.
        Folder,
        /// Its address.
        Address,
        /// How many accounts it has.
        Accounts,
        /// Whether its identity is confirmed.
        Identity,
        /// Whether it is paused.
        State,
    }
}

word_enum! {
    /// Whether it is known how a device proves who it is.
    pub enum DeviceIdentityState {
        /// Somebody confirmed its identity.
        Confirmed,
        /// Nobody has.
        NotConfirmed,
    }
}

word_enum! {
    /// Whether the jobs of a device run.
    pub enum DevicePause {
        /// They wait until somebody resumes them.
        Paused,
        /// They run.
        NotPaused,
    }
}

word_enum! {
    /// What the table of accounts is sorted by.
    pub enum AccountSort {
        /// The path of its credential.
        Credential,
        /// The name of its device.
        Device,
        /// The outcome of its last check.
        State,
        /// When it was last checked.
        Checked,
        /// When it was last rotated.
        Rotated,
        /// When its next check is due.
        NextCheck,
        /// When its next rotation is due.
        NextRotation,
    }
}

word_enum! {
    /// What the table of jobs is sorted by.
    pub enum JobSort {
        /// When it was queued.
        Queued,
        /// What it does.
        Task,
        /// The path of its credential.
        Credential,
        /// The name of its device.
        Device,
        /// Its outcome, or its state until it has one.
        State,
        /// Why it was queued.
        Cause,
    }
}

impl From<CheckOutcome> for JobOutcome {
    fn from(outcome: CheckOutcome) -> Self {
        match outcome {
            CheckOutcome::InSync => Self::InSync,
            CheckOutcome::OutOfSync => Self::OutOfSync,
            CheckOutcome::LockedOut => Self::LockedOut,
            CheckOutcome::Unreachable => Self::Unreachable,
        }
    }
}

impl From<RotationOutcome> for JobOutcome {
    fn from(outcome: RotationOutcome) -> Self {
        match outcome {
            RotationOutcome::Done => Self::Done,
            RotationOutcome::Refused => Self::Refused,
            RotationOutcome::InDoubt => Self::InDoubt,
            RotationOutcome::Unreachable => Self::Unreachable,
        }
    }
}

word_enum! {
    /// How a device is reached.
    pub enum ConnectorKind {
        /// An OpenSSH host.
        Ssh,
        /// A PostgreSQL server.
        Postgresql,
        /// A directory that speaks LDAP.
        Ldap,
        /// A Redis server.
        Redis,
        /// A domain controller of Active Directory.
        ActiveDirectory,
        /// A command line over SSH, by a dialogue.
        CommandLine,
        /// An HTTP API over TLS, by a recipe.
        HttpApi,
        /// A MariaDB server.
        Mariadb,
        /// A command line over Telnet, by a dialogue.
        Telnet,
    }
}

impl ConnectorKind {
    /// Whether an account there can be opened by an SSH key.
    #[must_use]
    pub const fn takes_keys(self) -> bool {
        matches!(self, Self::Ssh)
    }

    /// Whether such a device can show who it is. Passwords go to others only where somebody has
    /// accepted that.
    #[must_use]
    pub const fn proves_identity(self) -> bool {
        !matches!(self, Self::Telnet)
    }

    /// The family of the accounts that it reaches by password.
    #[must_use]
    pub const fn family(self) -> Family {
        match self {
            Self::Ssh | Self::CommandLine | Self::Telnet => Family::Local,
            Self::Postgresql | Self::Mariadb | Self::Redis => Family::Database,
            Self::Ldap | Self::ActiveDirectory => Family::Directory,
            Self::HttpApi => Family::Application,
        }
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
        match self {
            Self::Ssh => "OpenSSH host",
            Self::Postgresql => "PostgreSQL server",
            Self::Ldap => "LDAP directory",
            Self::Redis => "Redis server",
            Self::Mariadb => "MariaDB server",
            Self::ActiveDirectory => "Active Directory",
            Self::CommandLine => "Command line over SSH",
            Self::Telnet => "Command line over Telnet",
            Self::HttpApi => "HTTP API",
        }
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
        Some(match self {
            Self::Ssh | Self::CommandLine => {
                format!("ssh -p {port} {}", shell_word(&format!("{user}@{address}")))
            }
            Self::Postgresql => format!("psql -h {host} -p {port} -U {who} postgres"),
            Self::Mariadb => {
                // A host after the name is what the server calls it, not what is signed in with.
                let name = user.rsplit_once('@').map_or(user, |(name, _)| name);
                format!(
                    "mariadb --ssl -h {host} -P {port} -u {} -p",
                    shell_word(name)
                )
            }
            Self::Telnet => format!("telnet {host} {port}"),
            // Where on the device to sign in, its recipe does not say.
            Self::HttpApi => return None,
            Self::Redis => {
                format!("redis-cli --tls -h {host} -p {port} --user {who} --askpass")
            }
            Self::Ldap | Self::ActiveDirectory => {
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

    /// By what such a device is talked to, where an administrator says that.
    #[must_use]
    pub const fn instructions(self) -> Option<InstructionsKind> {
        match self {
            Self::CommandLine | Self::Telnet => Some(InstructionsKind::Dialogue),
            Self::HttpApi => Some(InstructionsKind::Recipe),
            _ => None,
        }
    }

    /// The port where such a device usually listens.
    #[must_use]
    pub const fn usual_port(self) -> u16 {
        match self {
            Self::Ssh | Self::CommandLine => 22,
            Self::Postgresql => 5432,
            Self::Ldap | Self::ActiveDirectory => 636,
            Self::Redis => 6379,
            Self::Mariadb => 3306,
            Self::Telnet => 23,
            Self::HttpApi => 443,
        }
    }
}

/// A word of a POSIX shell that means this text.
///
/// ```text
/// duty            duty
/// night shift     'night shift'
/// o'neil          'o'\\''neil'
/// ```
#[must_use]
pub fn shell_word(text: &str) -> String {
    let plain = |byte: u8| byte.is_ascii_alphanumeric() || b"@%+=:,./_-".contains(&byte);
    if text.bytes().all(plain) {
        text.to_owned()
    } else {
        format!("'{}'", text.replace('\'', "'\\''"))
    }
}

#[cfg(test)]
mod tests {
    use super::ConnectorKind;

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

//! A domain controller of Active Directory as a device: Samba's, with accounts of its own, on a loopback
//! address of its own. It needs root.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::process::{Child, Command};

use crate::database_server::certificates;
use crate::{spawn_tied, wait_for_port};

/// The domain.
pub const DOMAIN: &str = "osmere.example";

/// The port of LDAP over TLS.
pub const PORT: u16 = 636;

/// A running domain controller. It stops when dropped, and with this process at the latest.
#[derive(Debug)]
pub struct DomainController {
    folder: PathBuf,
    address: String,
    child: Child,
}

impl Drop for DomainController {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
        let _ = fs::remove_dir_all(&self.folder);
    }
}

/// Runs Samba's own tool to its end.
fn tool(folder: &Path, arguments: &[&str]) -> io::Result<()> {
    let mut command = Command::new("samba-tool");
    command.args(arguments);
    if !arguments.contains(&"provision") {
        let at = |name: &str| folder.join(name).display().to_string();
        command.args(["-H", &at("private/sam.ldb"), "-s", &at("etc/smb.conf")]);
    }
    let output = command.output()?;
    if output.status.success() {
        return Ok(());
    }
    let said = [output.stdout, output.stderr].concat();
    Err(io::Error::other(
        String::from_utf8_lossy(&said).into_owned(),
    ))
}

/// Passwords of any length and history, no least age, and accounts that are locked after three wrong
/// ones.
const RULES: [&str; 8] = [
    "domain",
    "passwordsettings",
    "set",
    "--complexity=off",
    "--history-length=0",
    "--min-pwd-age=0",
    "--min-pwd-length=7",
    "--account-lockout-threshold=3",
];

impl DomainController {
    /// Starts one for a test, with accounts and their passwords. `rotator` may reset the passwords
    /// of those that are no administrators.
    ///
    /// # Errors
    /// Samba's or openssl's own words.
    pub fn temporary(accounts: &[(&str, &str)]) -> io::Result<Self> {
        let number = std::process::id();
        let address = format!("127.11.{}.{}", number / 250 % 250, number % 250 + 1);
        let folder = std::env::temp_dir().join(format!("jexlin-domain-{number}"));
        let _ = fs::remove_dir_all(&folder);
        fs::create_dir_all(&folder)?;
        certificates(&folder, &address)?;
        let place = folder.display().to_string();
        tool(
            &folder,
            &[
                "domain",
                "provision",
                "--server-role=dc",
                "--dns-backend=SAMBA_INTERNAL",
                "--realm=OSMERE.EXAMPLE",
                "--domain=OSMERE",
                "--host-name=dc1",
                "--adminpass=Administrator-tide-1",
                &format!("--targetdir={place}"),
                &format!("--option=interfaces={address}/8"),
                "--option=bind interfaces only=yes",
                "--option=vfs objects=",
            ],
        )?;
        let file = folder.join("etc/smb.conf");
        let settings = fs::read_to_string(&file)?;
        let more = format!(
            "[global]\n\tserver services = ldap\n\tlog level = 3\n\ttls certfile = {place}/tls.pem\n\ttls keyfile = {place}/tls.key\n\ttls cafile = {place}/ca.pem"
        );
        fs::write(&file, settings.replacen("[global]", &more, 1))?;
        tool(&folder, &RULES)?;
        for (name, password) in accounts {
            tool(&folder, &["user", "create", name, password])?;
        }
        tool(
            &folder,
            &["group", "addmembers", "Account Operators", "rotator"],
        )?;
        let (configuration, log) = (
            file.display().to_string(),
            fs::File::create(folder.join("said"))?,
        );
        let said = log.try_clone()?;
        let child = spawn_tied("/usr/sbin/samba", "KILL", move |command| {
            command
                .args(["-s", &configuration, "-i", "-M", "single"])
                .stdout(said)
                .stderr(log);
        })?;
        let server = Self {
            folder,
            address,
            child,
        };
        wait_for_port(&server.address, PORT)?;
        Ok(server)
    }

    /// Its address; the port is [`PORT`].
    #[must_use]
    pub fn address(&self) -> &str {
        &self.address
    }

    /// The certificate of its authority, in PEM.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn authority(&self) -> io::Result<String> {
        fs::read_to_string(self.folder.join("ca.pem"))
    }

    /// Disables an account.
    ///
    /// # Errors
    /// Samba's own words.
    pub fn disable(&self, name: &str) -> io::Result<()> {
        tool(&self.folder, &["user", "disable", name])
    }

    /// Has an account change its password at the next sign-in.
    ///
    /// # Errors
    /// Samba's own words.
    pub fn expire(&self, name: &str, password: &str) -> io::Result<()> {
        let password = format!("--newpassword={password}");
        let arguments = ["user", "setpassword", name, &password];
        tool(
            &self.folder,
            &[&arguments[..], &["--must-change-at-next-login"]].concat(),
        )
    }

    /// All that it has logged.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn log(&self) -> io::Result<String> {
        let said = fs::read(self.folder.join("said"))?;
        Ok(String::from_utf8_lossy(&said).into_owned())
    }
}

//! An LDAP directory as a device, OpenLDAP or 389 Directory Server: over TLS alone, with accounts of
//! its own.

mod ds_389;

use std::fs;
use std::io;
use std::path::PathBuf;
use std::process::{Child, Command};

use crate::database_server::certificates;
use crate::{spawn_tied, wait_for_port};

/// What every name ends with.
pub const SUFFIX: &str = "dc=osmere,dc=example";

/// A running directory. It stops when dropped, and with this process at the latest.
#[derive(Debug)]
pub struct DirectoryServer {
    folder: PathBuf,
    /// Where it writes what it does, in its folder.
    log: &'static str,
    port: u16,
    child: Child,
}

impl Drop for DirectoryServer {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
        let _ = fs::remove_dir_all(&self.folder);
    }
}

/// Runs a program to its end, with a text on its standard input.
fn run(command: &mut Command) -> io::Result<()> {
    let output = command.output()?;
    if output.status.success() {
        Ok(())
    } else {
        Err(io::Error::other(String::from_utf8_lossy(&output.stderr)))
    }
}

/// The entries of a directory: an operator `cn=rotator`, and accounts `uid=NAME,ou=people`, each with
/// its password. `more` is added to the first of them.
fn entries(operator: &str, accounts: &[(&str, &str)], more: &str) -> String {
    let mut entries = format!(
        "dn: {SUFFIX}\nobjectClass: organization\nobjectClass: dcObject\ndc: osmere\no: Osmere Water\n{more}
dn: cn=rotator,{SUFFIX}\nobjectClass: organizationalRole\nobjectClass: simpleSecurityObject\ncn: rotator\nuserPassword: {operator}\n
dn: ou=people,{SUFFIX}\nobjectClass: organizationalUnit\nou: people\n\n"
    );
    for (name, password) in accounts {
        entries.push_str(&format!("dn: uid={name},ou=people,{SUFFIX}\nobjectClass: inetOrgPerson\nuid: {name}\ncn: {name}\nsn: {name}\nuserPassword: {password}\n\n"));
    }
    entries
}

/// A new folder of a directory, with its certificates, and a port for it.
fn folder() -> io::Result<(PathBuf, u16)> {
    let port = crate::free_port()?;
    let folder =
        std::env::temp_dir().join(format!("jexlin-directory-{}-{port}", std::process::id()));
    fs::create_dir_all(&folder)?;
    certificates(&folder, "127.0.0.1")?;
    Ok((folder, port))
}

impl DirectoryServer {
    /// Starts OpenLDAP in a temporary folder, with an operator `cn=rotator` and accounts
    /// `uid=NAME,ou=people`, each with its password.
    ///
    /// # Errors
    /// slapd's or openssl's own words.
    pub fn temporary(operator: &str, accounts: &[(&str, &str)]) -> io::Result<Self> {
        let (folder, port) = folder()?;
        fs::create_dir(folder.join("data"))?;
        let at = |name: &str| folder.join(name).display().to_string();
        let configuration = format!(
            "include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/inetorgperson.schema
modulepath /usr/lib/ldap
moduleload back_mdb
pidfile {}
TLSCertificateFile {}
TLSCertificateKeyFile {}
password-hash {{SSHA}}
database mdb
suffix {SUFFIX}
directory {}
access to attrs=userPassword by dn.exact=cn=rotator,{SUFFIX} write by self write by anonymous auth by * none
access to * by users read by * none
",
            at("pid"),
            at("tls.pem"),
            at("tls.key"),
            at("data"),
        );
        fs::write(folder.join("slapd.conf"), configuration)?;
        fs::write(folder.join("entries.ldif"), entries(operator, accounts, ""))?;
        run(Command::new("/usr/sbin/slapadd")
            .args(["-f", "slapd.conf", "-l", "entries.ldif"])
            .current_dir(&folder))?;
        let (configuration, log) = (at("slapd.conf"), fs::File::create(folder.join("log"))?);
        let child = spawn_tied("/usr/sbin/slapd", "KILL", move |command| {
            command
                .args(["-f", &configuration, "-d", "stats"])
                .args(["-h", &format!("ldaps://127.0.0.1:{port}/")])
                .stderr(log);
        })?;
        let server = Self {
            folder,
            log: "log",
            port,
            child,
        };
        wait_for_port("127.0.0.1", port)?;
        Ok(server)
    }

    /// Its port on 127.0.0.1.
    #[must_use]
    pub const fn port(&self) -> u16 {
        self.port
    }

    /// The certificate of its authority, in PEM.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn authority(&self) -> io::Result<String> {
        fs::read_to_string(self.folder.join("ca.pem"))
    }

    /// All that it has logged.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn log(&self) -> io::Result<String> {
        fs::read_to_string(self.folder.join(self.log))
    }
}

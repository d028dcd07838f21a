//! A MariaDB server as a device: with TLS alone, users of its own, and a log that keeps every statement.

use std::fs;
use std::io;
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};

use crate::database_server::certificates;
use crate::{is_root, spawn_tied, wait_for_port};

/// A running server. It stops when dropped, and with this process at the latest.
#[derive(Debug)]
pub struct MariadbServer {
    folder: PathBuf,
    address: String,
    port: u16,
    child: Child,
    remove: bool,
}

impl Drop for MariadbServer {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
        if self.remove {
            let _ = fs::remove_dir_all(&self.folder);
        }
    }
}

/// What an operator may do, and no more.
pub const OPERATOR_RIGHTS: [&str; 5] = [
    "GRANT UPDATE ON mysql.* TO rotator",
    "GRANT SELECT (User, Host, plugin, is_role, Super_priv, Create_user_priv, Grant_priv, Insert_priv, Update_priv) ON mysql.user TO rotator",
    "GRANT SELECT (User, Host, Db, Insert_priv, Update_priv) ON mysql.db TO rotator",
    "GRANT SELECT (User, Host, Db, Table_name, Table_priv, Column_priv) ON mysql.tables_priv TO rotator",
    "GRANT SELECT ON mysql.roles_mapping TO rotator",
];

/// As root, the account that Debian's package makes.
const ACCOUNT: &str = "mysql";

fn checked(what: &str, command: &mut Command) -> io::Result<String> {
    let output = command.output()?;
    if output.status.success() {
        Ok(String::from_utf8_lossy(&output.stdout).into_owned())
    } else {
        Err(io::Error::other(format!(
            "{what} failed: {}",
            String::from_utf8_lossy(&output.stderr).trim()
        )))
    }
}

fn make(folder: &Path, address: &str) -> io::Result<()> {
    fs::set_permissions(folder, fs::Permissions::from_mode(0o755))?;
    certificates(folder, address)?;
    let mut install = Command::new("mariadb-install-db");
    install
        .args(["--no-defaults", "--auth-root-authentication-method=normal"])
        .args(["--skip-test-db", "--skip-name-resolve"])
        .arg(format!("--datadir={}", folder.join("data").display()));
    if is_root() {
        install.arg(format!("--user={ACCOUNT}"));
    }
    checked("mariadb-install-db", &mut install)?;
    if is_root() {
        let mut give = Command::new("chown");
        checked("chown", give.args(["-R", ACCOUNT]).arg(folder))?;
    }
    Ok(())
}

fn launch(folder: &Path, address: &str, port: u16) -> io::Result<Child> {
    let at = |name: &str| folder.join(name).display().to_string();
    let mut settings = vec!["--no-defaults".to_owned()];
    for (name, value) in [
        ("datadir", at("data")),
        ("socket", at("socket")),
        ("pid-file", at("pid")),
        ("port", port.to_string()),
        ("bind-address", address.to_owned()),
        ("ssl-cert", at("tls.pem")),
        ("ssl-key", at("tls.key")),
        ("general-log", "1".to_owned()),
        ("general-log-file", at("log")),
        ("innodb-buffer-pool-size", "16M".to_owned()),
        ("performance-schema", "OFF".to_owned()),
        ("plugin-load-add", "auth_ed25519".to_owned()),
    ] {
        settings.push(format!("--{name}={value}"));
    }
    settings.push("--skip-name-resolve".to_owned());
    let errors = fs::File::create(folder.join("errors"))?;
    const SERVER: &str = "/usr/sbin/mariadbd";
    // Becoming another user unties a process from its parent: it is tied again afterwards.
    let program = if is_root() { "setpriv" } else { SERVER };
    let child = spawn_tied(program, "KILL", move |command| {
        if is_root() {
            let user = [format!("--reuid={ACCOUNT}"), format!("--regid={ACCOUNT}")];
            command
                .args(user)
                .args(["--clear-groups", "--pdeathsig", "KILL", "--", SERVER]);
        }
        command.args(&settings).stdout(Stdio::null()).stderr(errors);
    })?;
    wait_for_port(address, port)?;
    Ok(child)
}

impl MariadbServer {
    /// Starts one for a test, in a temporary folder that goes with it.
    ///
    /// # Errors
    /// MariaDB's or openssl's own words.
    pub fn temporary(users: &[&str]) -> io::Result<Self> {
        let port = crate::free_port()?;
        let folder =
            std::env::temp_dir().join(format!("jexlin-mariadb-{}-{port}", std::process::id()));
        let mut server = Self::start(&folder, "127.0.0.1", port, users)?;
        server.remove = true;
        Ok(server)
    }

    /// Starts the server of a folder, made first if it is not there yet, with users as SQL makes
    /// them. Its certificate is signed by an authority of its own.
    ///
    /// # Errors
    /// MariaDB's or openssl's own words.
    pub fn start(folder: &Path, address: &str, port: u16, users: &[&str]) -> io::Result<Self> {
        let new = !folder.join("users").exists();
        if new {
            let _ = fs::remove_dir_all(folder);
            fs::create_dir_all(folder)?;
            make(folder, address)?;
        }
        let server = Self {
            child: launch(folder, address, port)?,
            folder: folder.to_owned(),
            address: address.to_owned(),
            port,
            remove: false,
        };
        if new {
            for user in users {
                server.sql(user)?;
            }
            // Whoever starts it again finds that it is complete.
            fs::write(folder.join("users"), "")?;
        }
        Ok(server)
    }

    /// Its port.
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

    /// Runs SQL as root, past TLS.
    ///
    /// # Errors
    /// MariaDB's own words.
    pub fn sql(&self, sql: &str) -> io::Result<String> {
        let mut client = Command::new("mariadb");
        client
            .args([
                "--no-defaults",
                "--user=root",
                "--batch",
                "--skip-column-names",
            ])
            .arg(format!("--socket={}", self.folder.join("socket").display()))
            .args(["--execute", sql]);
        checked("mariadb", &mut client)
    }

    /// Whether a password opens a user, over TLS as everybody else comes.
    #[must_use]
    pub fn opens(&self, user: &str, password: &str) -> bool {
        Command::new("mariadb")
            .args(["--no-defaults", "--ssl", "--execute=SELECT 1"])
            .arg(format!("--host={}", self.address))
            .arg(format!("--port={}", self.port))
            .arg(format!("--user={user}"))
            .env("MYSQL_PWD", password)
            .output()
            .is_ok_and(|output| output.status.success())
    }

    /// All that the server has logged.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn log(&self) -> io::Result<String> {
        let log = fs::read(self.folder.join("log"))?;
        Ok(String::from_utf8_lossy(&log).into_owned())
    }
}

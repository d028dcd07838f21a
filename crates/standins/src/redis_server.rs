//! A Redis server as a device: over TLS alone, with users in an ACL file.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::process::Child;

use crate::database_server::certificates;
use crate::{spawn_tied, wait_for_port};

/// A running server. It stops when dropped, and with this process at the latest.
#[derive(Debug)]
pub struct RedisServer {
    folder: PathBuf,
    address: String,
    port: u16,
    child: Child,
    remove: bool,
}

impl Drop for RedisServer {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
        if self.remove {
            let _ = fs::remove_dir_all(&self.folder);
        }
    }
}

/// What an operator may do, and no more.
pub const OPERATOR_RIGHTS: &str = "-@all +acl|getuser +acl|setuser +acl|save +acl|users";

fn launch(folder: &Path, address: &str, port: u16) -> io::Result<Child> {
    let at = |name: &str| folder.join(name).display().to_string();
    let mut settings = vec!["--port".to_owned(), "0".to_owned()];
    for (name, value) in [
        ("tls-port", port.to_string()),
        ("bind", address.to_owned()),
        ("dir", folder.display().to_string()),
        ("aclfile", at("users.acl")),
        ("tls-cert-file", at("tls.pem")),
        ("tls-key-file", at("tls.key")),
        ("tls-ca-cert-file", at("ca.pem")),
        ("tls-auth-clients", "no".to_owned()),
        ("loglevel", "debug".to_owned()),
        ("logfile", at("log")),
        ("save", String::new()),
    ] {
        settings.extend([format!("--{name}"), value]);
    }
    let child = spawn_tied("/usr/bin/redis-server", "KILL", move |command| {
        command.args(&settings);
    })?;
    wait_for_port(address, port)?;
    Ok(child)
}

impl RedisServer {
    /// Starts one for a test, in a temporary folder that goes with it.
    ///
    /// # Errors
    /// Redis's or openssl's own words.
    pub fn temporary(users: &[&str]) -> io::Result<Self> {
        let port = crate::free_port()?;
        let folder =
            std::env::temp_dir().join(format!("jexlin-redis-{}-{port}", std::process::id()));
        let mut server = Self::start(&folder, "127.0.0.1", port, users)?;
        server.remove = true;
        Ok(server)
    }

    /// Starts the server of a folder, made first if it is not there yet, with users as lines of an
    /// ACL file have them, such as `night on >password ~* +@read`. Nobody else may do anything.
    ///
    /// # Errors
    /// Redis's or openssl's own words.
    pub fn start(folder: &Path, address: &str, port: u16, users: &[&str]) -> io::Result<Self> {
        fs::create_dir_all(folder)?;
        if !folder.join("users.acl").exists() {
            certificates(folder, address)?;
            let lines: String = std::iter::once(&"default off")
                .chain(users)
                .map(|user| format!("user {user}\n"))
                .collect();
            fs::write(folder.join("users.acl"), lines)?;
        }
        Ok(Self {
            child: launch(folder, address, port)?,
            folder: folder.to_owned(),
            address: address.to_owned(),
            port,
            remove: false,
        })
    }

    /// Starts it again: it knows what its file says.
    ///
    /// # Errors
    /// Redis's own words.
    pub fn restart(&mut self) -> io::Result<()> {
        let _ = self.child.kill();
        let _ = self.child.wait();
        self.child = launch(&self.folder, &self.address, self.port)?;
        Ok(())
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

    /// All that it has logged, and what its file of users says.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn written(&self) -> io::Result<String> {
        let log = fs::read_to_string(self.folder.join("log"))?;
        Ok(log + &fs::read_to_string(self.folder.join("users.acl"))?)
    }

    /// The file of users, to be made unwritable or read.
    #[must_use]
    pub fn users_file(&self) -> PathBuf {
        self.folder.join("users.acl")
    }
}

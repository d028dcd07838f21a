//! A whole Linux host on an address of loopback, with accounts, host key and `/etc` of its own.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};

use crate::{spawn_tied, wait_so_long};

const SCRIPT: &str = include_str!("host.sh");

/// A running host. It ends when dropped, and with this process at the latest.
#[derive(Debug)]
pub struct Host {
    folder: PathBuf,
    name: String,
    address: String,
    port: u16,
    child: Option<Child>,
    remove: bool,
}

impl Host {
    /// Starts the host of a folder; its accounts are made when the folder is new, and keep their
    /// passwords when it is not.
    ///
    /// # Errors
    /// When it does not come up; its log is in the folder.
    pub fn start(
        folder: &Path,
        name: &str,
        address: &str,
        port: u16,
        accounts: &[(&str, &str)],
    ) -> io::Result<Self> {
        fs::create_dir_all(folder)?;
        let list: String = accounts
            .iter()
            .map(|(user, password)| format!("{user} {password}\n"))
            .collect();
        fs::write(folder.join("accounts"), list)?;
        let mut host = Self {
            folder: folder.to_owned(),
            name: name.to_owned(),
            address: address.to_owned(),
            port,
            child: None,
            remove: false,
        };
        host.run()?;
        Ok(host)
    }

    /// A host for tests in a temporary folder that goes with it.
    ///
    /// # Errors
    /// As [`Host::start`].
    pub fn temporary(name: &str, accounts: &[(&str, &str)]) -> io::Result<Self> {
        let folder = std::env::temp_dir().join(format!(
            "jexlin-host-{}-{}",
            std::process::id(),
            crate::cluster::random_hex()?.get(..8).unwrap_or_default()
        ));
        let mut host = Self::start(&folder, name, "127.0.0.1", crate::free_port()?, accounts)?;
        host.remove = true;
        Ok(host)
    }

    fn run(&mut self) -> io::Result<()> {
        if std::net::TcpStream::connect((self.address.as_str(), self.port)).is_ok() {
            return Err(io::Error::other(format!(
                "{} port {} is taken",
                self.address, self.port
            )));
        }
        let log = fs::OpenOptions::new()
            .create(true)
            .append(true)
            .open(self.folder.join("log"))?;
        let (folder, name, address, port) = (
            self.folder.clone(),
            self.name.clone(),
            self.address.clone(),
            self.port,
        );
        let child = spawn_tied("unshare", "KILL", move |command| {
            command.args([
                "--mount",
                "--uts",
                "--pid",
                "--fork",
                "--kill-child=KILL",
                "--",
                "/bin/bash",
                "-c",
                SCRIPT,
                "host",
            ]);
            command
                .arg(&folder)
                .args([&name, &address, &port.to_string()])
                .arg(folder.join("accounts"));
            command
                .stdin(Stdio::null())
                .stdout(Stdio::null())
                .stderr(log);
        })?;
        self.child = Some(child);
        // The first start adds the accounts: a few dozen in a second.
        let accounts = fs::read_to_string(self.folder.join("accounts"))?;
        let seconds = 20 + accounts.lines().count() / 8;
        wait_so_long(&self.address, self.port, seconds)
    }

    /// Its address.
    #[must_use]
    pub fn address(&self) -> &str {
        &self.address
    }

    /// Its port.
    #[must_use]
    pub const fn port(&self) -> u16 {
        self.port
    }

    /// Switches it off.
    ///
    /// # Errors
    /// When it cannot be ended.
    pub fn stop(&mut self) -> io::Result<()> {
        if let Some(mut child) = self.child.take() {
            child.kill()?;
            child.wait()?;
            for _ in 0..100 {
                if std::net::TcpStream::connect((self.address.as_str(), self.port)).is_err() {
                    break;
                }
                std::thread::sleep(std::time::Duration::from_millis(20));
            }
        }
        Ok(())
    }

    /// Switches it on again with the accounts as they are.
    ///
    /// # Errors
    /// As [`Host::start`].
    pub fn start_again(&mut self) -> io::Result<()> {
        self.run()
    }

    /// Runs a command on the host as its root, past SSH: for tests that prepare or look.
    ///
    /// # Errors
    /// The command's own words.
    pub fn inside(&self, script: &str) -> io::Result<String> {
        let parent = self
            .child
            .as_ref()
            .map(Child::id)
            .ok_or_else(|| io::Error::other("the host is off"))?;
        let found = Command::new("pgrep")
            .args(["-P", &parent.to_string()])
            .output()?;
        let inner = String::from_utf8_lossy(&found.stdout)
            .lines()
            .next()
            .unwrap_or_default()
            .trim()
            .to_owned();
        // The host's root has a home of its own.
        let script = format!("export HOME=$(getent passwd root | cut -d: -f6); {script}");
        let output = Command::new("nsenter")
            .args([
                "-t",
                &inner,
                "-m",
                "-p",
                "-u",
                "--",
                "/bin/bash",
                "-c",
                &script,
            ])
            .output()?;
        if output.status.success() {
            Ok(String::from_utf8_lossy(&output.stdout).into_owned())
        } else {
            Err(io::Error::other(
                String::from_utf8_lossy(&output.stderr).into_owned(),
            ))
        }
    }

    /// Its `/etc`, to be changed while it is off.
    #[must_use]
    pub fn etc(&self) -> std::path::PathBuf {
        self.folder.join("etc")
    }

    /// Whether a password opens an account, asked of the host's own shadow file.
    ///
    /// # Errors
    /// When the host cannot be asked.
    pub fn opens(&self, user: &str, password: &str) -> io::Result<bool> {
        let script = format!(
            "python3 - <<'PY'\nimport crypt\nline = [l for l in open('/etc/shadow') if l.startswith({user:?} + ':')][0]\nhash = line.split(':')[1]\nprint('yes' if crypt.crypt({password:?}, hash) == hash else 'no')\nPY"
        );
        Ok(self.inside(&script)?.trim() == "yes")
    }
}

impl Drop for Host {
    fn drop(&mut self) {
        let _ = self.stop();
        if self.remove {
            let _ = fs::remove_dir_all(&self.folder);
        }
    }
}

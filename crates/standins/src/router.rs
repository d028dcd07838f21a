//! A router: FRR's BGP daemon with its own command line on Telnet, and nobody to route for.

use std::fs;
use std::io;
use std::path::PathBuf;
use std::process::{Child, Stdio};

use crate::{spawn_tied, wait_for_port};

/// A running daemon. It stops when dropped, and with this process at the latest.
#[derive(Debug)]
pub struct Router {
    folder: PathBuf,
    port: u16,
    child: Child,
}

impl Drop for Router {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
        let _ = fs::remove_dir_all(&self.folder);
    }
}

impl Router {
    /// Starts one for a test, in a temporary folder that goes with it.
    ///
    /// # Errors
    /// When it does not come up.
    pub fn temporary(password: &str, enable: Option<&str>) -> io::Result<Self> {
        let port = crate::free_port()?;
        let folder =
            std::env::temp_dir().join(format!("jexlin-router-{}-{port}", std::process::id()));
        fs::create_dir_all(&folder)?;
        let enable = enable.map_or_else(String::new, |text| format!("enable password {text}\n"));
        let config = format!("hostname r1\npassword {password}\n{enable}");
        fs::write(folder.join("router.conf"), config)?;
        Ok(Self {
            child: Self::launch(&folder, port)?,
            folder,
            port,
        })
    }

    fn launch(folder: &std::path::Path, port: u16) -> io::Result<Child> {
        let at = |name: &str| folder.join(name).display().to_string();
        let settings = [
            ("--config_file", at("router.conf")),
            ("--pid_file", at("pid")),
            ("--vty_socket", folder.display().to_string()),
            ("--vty_addr", "127.0.0.1".to_owned()),
            ("--vty_port", port.to_string()),
            ("--bgp_port", "0".to_owned()),
        ];
        let child = spawn_tied("/usr/lib/frr/bgpd", "KILL", move |command| {
            for (name, value) in &settings {
                command.args([*name, value]);
            }
            command
                .args(["--no_kernel", "--skip_runas", "--no_zebra"])
                .stdout(Stdio::null())
                .stderr(Stdio::null());
        })?;
        wait_for_port("127.0.0.1", port)?;
        Ok(child)
    }

    /// Starts it again: it knows what its file says.
    ///
    /// # Errors
    /// When it does not come up.
    pub fn restart(&mut self) -> io::Result<()> {
        let _ = self.child.kill();
        let _ = self.child.wait();
        self.child = Self::launch(&self.folder, self.port)?;
        Ok(())
    }

    /// Its port.
    #[must_use]
    pub const fn port(&self) -> u16 {
        self.port
    }
}

//! The world around Jexlin for the demo, the tests and the benches: PostgreSQL clusters, whole
//! Linux hosts with accounts of their own, and devices that misbehave on purpose.
//!
//! The clusters and hosts are the real programs from Debian's packages on loopback. A host lives in
//! mount and process namespaces of its own with a private copy of `/etc`, so that the machine's
//! own accounts are never touched. Everything ends with the process that started it.

pub mod api_servers;
pub mod cloud_console;
pub mod cluster;
pub mod command_line;
pub mod database_server;
pub mod demo_hosts;
pub mod directory_server;
pub mod domain_controller;
pub mod host;
pub mod mariadb_server;
pub mod misbehaving_device;
pub mod redis_server;
pub mod router;
pub mod secret_search;
pub mod ssh_device;

use std::io;
use std::process::{Child, Command};
use std::sync::mpsc;

/// Whether this process may make namespaces and other users' processes.
#[must_use]
pub fn is_root() -> bool {
    Command::new("id")
        .arg("-u")
        .output()
        .is_ok_and(|out| out.stdout.trim_ascii() == b"0")
}

/// A port on loopback that nobody listens on now.
///
/// # Errors
/// When there is none.
pub fn free_port() -> io::Result<u16> {
    Ok(std::net::TcpListener::bind("127.0.0.1:0")?
        .local_addr()?
        .port())
}

/// Spawns a child that is killed when this process ends, however it ends.
///
/// The kernel ties the child to the thread that made it, so that thread is kept for ever.
///
/// # Errors
/// When the program cannot be started.
pub fn spawn_tied(
    program: &str,
    signal: &str,
    rest: impl FnOnce(&mut Command) + Send + 'static,
) -> io::Result<Child> {
    let (sender, receiver) = mpsc::channel();
    let (program, signal) = (program.to_owned(), signal.to_owned());
    std::thread::spawn(move || {
        let mut command = Command::new("setpriv");
        command.args(["--pdeathsig", &signal, "--", &program]);
        rest(&mut command);
        let spawned = command.spawn();
        let good = spawned.is_ok();
        // Whoever asked waits for this; if it is gone, the child ends with the process.
        let _ = sender.send(spawned);
        if good {
            loop {
                std::thread::park();
            }
        }
    });
    receiver
        .recv()
        .map_err(|_| io::Error::other("the thread that starts programs is gone"))?
}

/// Waits until something answers on a TCP port, at most 20 seconds.
///
/// # Errors
/// When nothing does.
pub fn wait_for_port(address: &str, port: u16) -> io::Result<()> {
    wait_so_long(address, port, 20)
}

/// The same for what takes longer, in seconds.
pub(crate) fn wait_so_long(address: &str, port: u16, seconds: usize) -> io::Result<()> {
    for _ in 0..seconds * 20 {
        if std::net::TcpStream::connect((address, port)).is_ok() {
            return Ok(());
        }
        std::thread::sleep(std::time::Duration::from_millis(50));
    }
    Err(io::Error::other(format!(
        "nothing answers on {address} port {port} after {seconds} seconds"
    )))
}

//! The search for secrets in the connectors' tests: it finds one in the log, and there is a log to search.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing,
    reason = "what cannot be set up ends the test"
)]

mod rig;

use std::time::Duration;

use jexlin_devices::ssh::Ssh;
use jexlin_devices::{Connector as _, Probe, TimeLimits};
use jexlin_standins::ssh_device::SshDevice;
use rig::place;
use rig::watch::{remember, result, watched};

#[tokio::test]
async fn a_secret_in_the_log_is_found_and_the_libraries_below_write_to_that_log() {
    let device = SshDevice::start(&[("duty", "Duty-tide-1")]).expect("a device");
    let time = Duration::from_secs(5);
    let ssh = watched(Ssh::new(TimeLimits {
        connect: time,
        change: time,
        idle: time,
    }));
    let login = place("127.0.0.1", device.port()).account("duty", "Duty-tide-1");
    assert_eq!(ssh.check(&login).await.result, Probe::Opened);
    let (found, logged) = result();
    assert_eq!(found, Vec::<String>::new());
    assert!(logged > 20, "the SSH library writes every step: {logged}");
    remember("Spring-tide-77");
    tracing::debug!(sent = ?b"Spring-tide-77".as_slice(), "as a list of bytes");
    assert_eq!(result().0.len(), 1);
}

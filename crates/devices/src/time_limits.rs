//! How long a connector waits for a device.

use std::time::Duration;

/// How long to wait for a device.
#[derive(Clone, Copy, Debug)]
pub struct TimeLimits {
    /// For the connection, the handshake and the sign-in together, and for a check.
    pub connect: Duration,
    /// For the change of a password.
    pub change: Duration,
    /// A kept connection of an operator ends after so long without use.
    pub idle: Duration,
}

impl Default for TimeLimits {
    fn default() -> Self {
        Self {
            connect: Duration::from_secs(15),
            change: Duration::from_secs(20),
            idle: Duration::from_secs(60),
        }
    }
}

/// What is said of a device that keeps silent.
pub(crate) fn silence(within: Duration) -> String {
    format!(
        "the device did not answer within {} seconds",
        within.as_secs()
    )
}

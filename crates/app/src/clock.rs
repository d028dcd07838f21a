//! What time it is: the machine's, or one that the demo steps.

use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};

use chrono::{DateTime, SubsecRound as _, Utc};

/// A clock.
#[derive(Clone, Debug, Default)]
pub enum Clock {
    /// The machine's.
    #[default]
    Machine,
    /// Stands still until it is stepped; microseconds since 1970.
    Stepped(Arc<AtomicI64>),
    /// The machine's, and as many seconds more or less as a file says: how a test lets the clock
    /// of a whole service jump. In a release build there is none.
    #[cfg(debug_assertions)]
    Shifted(std::path::PathBuf),
}

impl Clock {
    /// The machine's clock. In a debug build, it is shifted when `JEXLIN_CLOCK_SHIFT` names a file
    /// and stands still from now on when `JEXLIN_CLOCK_STOPPED` is set, so that a test of waiting
    /// times gives the same answer on a slow machine.
    #[must_use]
    pub fn of_the_machine() -> Self {
        #[cfg(debug_assertions)]
        if let Ok(file) = std::env::var("JEXLIN_CLOCK_SHIFT") {
            return Self::Shifted(file.into());
        }
        #[cfg(debug_assertions)]
        if std::env::var_os("JEXLIN_CLOCK_STOPPED").is_some() {
            let now = Utc::now().timestamp_micros();
            return Self::Stepped(Arc::new(AtomicI64::new(now)));
        }
        Self::Machine
    }

    /// Now, in microseconds as PostgreSQL keeps them.
    #[must_use]
    pub fn now(&self) -> DateTime<Utc> {
        match self {
            Self::Machine => Utc::now().trunc_subsecs(6),
            Self::Stepped(at) => {
                DateTime::from_timestamp_micros(at.load(Ordering::SeqCst)).unwrap_or_default()
            }
            #[cfg(debug_assertions)]
            Self::Shifted(file) => {
                let seconds = std::fs::read_to_string(file)
                    .ok()
                    .and_then(|text| text.trim().parse().ok())
                    .unwrap_or(0);
                (Utc::now() + chrono::TimeDelta::seconds(seconds)).trunc_subsecs(6)
            }
        }
    }
}

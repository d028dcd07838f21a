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
}

impl Clock {
    /// Now, in microseconds as PostgreSQL keeps them.
    #[must_use]
    pub fn now(&self) -> DateTime<Utc> {
        match self {
            Self::Machine => Utc::now().trunc_subsecs(6),
            Self::Stepped(at) => DateTime::from_timestamp_micros(at.load(Ordering::SeqCst)).unwrap_or_default(),
        }
    }
}

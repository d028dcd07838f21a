//! The commands without HTTP: an application on a real database, and people who act through units
//! of work.

#![allow(
    clippy::expect_used,
    clippy::panic,
    clippy::unwrap_used,
    reason = "what cannot be set up ends the test"
)]

mod access;
mod osmere;
mod units_of_work;
mod vault;

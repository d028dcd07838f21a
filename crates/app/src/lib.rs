//! What the product does: commands and queries over core, store and devices. No HTTP, no command
//! line.
//!
//! ```text
//! who acts ─► UnitOfWork (session, one transaction in one organisation)
//!              │ begin_audit(what, on what)        a refusal is recorded from this
//!              ▼
//!            command ─► core decides ─► store ─► commit_audited(): event + action commit together
//! ```
//!
//! A command takes a [`unit_of_work::UnitOfWork`] and arguments, and returns a value or an
//! [`error::AppError`]. Routes, workers and tests call the same commands.

pub mod app;
pub mod assessment;
pub mod clock;
pub mod commands;
pub mod config;
pub mod error;
pub mod failpoints;
pub mod file_reader;
pub mod guards;
mod import_progress;
pub mod jobs;
pub mod jump_hosts;
pub mod keyring;
pub mod kinds;
pub mod leaked_passwords;
pub mod open_personal_folders;
pub mod operators;
pub mod paging;
pub mod plans;
pub mod revalidation;
pub mod services;
pub mod sessions;
pub mod settings;
pub mod throttle;
pub mod unit_of_work;

pub use app::App;

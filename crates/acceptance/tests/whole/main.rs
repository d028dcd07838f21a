//! Whole-product tests: the service, its database, the client, the console in a browser, and real
//! hosts. One program, so that they share one cluster and as many run at a time as there are cores.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing,
    reason = "what cannot be set up ends the test"
)]

mod access_file;
mod access_issues;
mod access_requests;
mod administration;
mod audit;
mod auth;
mod client;
mod clipboard;
mod clocks;
mod command_lines;
mod console;
mod console_quality;
mod database_servers;
mod examples;
mod files;
mod kinds;
mod organise;
mod passwords;
mod people_and_files;
mod personal;
mod programs;
mod recovery;
mod removal;
mod sharing;
mod tables;
mod tls;
mod transfer;
mod upkeep;
mod vault;

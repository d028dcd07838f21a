//! The service: HTTP routes, workers, live events, and the console's files.
//!
//! ```text
//! request ─► UnitOfWork (session, one transaction in one organisation)
//!              │ begin_audit(what, on what)        a refusal is recorded from this
//!              ▼
//!            route ─► core decides ─► store ─► commit_audited(): event + action commit together
//! workers ─► sealer · scheduler · runners      any number of services, one database
//! ```

pub mod app;
pub mod assessment;
pub mod clock;
pub mod config;
pub mod error;
mod examination;
pub mod failpoints;
pub mod foreign;
mod guards;
pub mod headers;
pub mod http;
mod import_progress;
mod jobs;
pub mod keyring;
mod kinds;
pub mod leaked_passwords;
pub mod open_folders;
mod plans;
mod settings;
pub mod throttle;
pub mod unit_of_work;
pub mod workers;

pub use app::App;

/// The whole service as a Rocket, ready to launch or to be driven in process.
#[must_use]
pub fn rocket(app: App, figment: rocket::figment::Figment) -> rocket::Rocket<rocket::Build> {
    rocket::custom(figment)
        .manage(app)
        .attach(headers::Headers)
        .attach(unit_of_work::Refusals)
        .mount("/", http::all())
        .register("/", http::catchers())
}

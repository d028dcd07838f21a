//! The service: routes, workers, live news, and the console's files.
//!
//! ```text
//! request ─► Acting (session, one transaction in one organisation)
//!              │ intends(what, on what)        a refusal is recorded from this
//!              ▼
//!            route ─► core decides ─► store ─► done(): event + action commit together
//! workers ─► sealer · scheduler · runners      any number of services, one database
//! ```

pub mod acting;
pub mod app;
pub mod clock;
pub mod config;
mod examination;
pub mod fault;
pub mod foreign;
pub mod headers;
pub mod judging;
pub mod keyring;
pub mod leaks;
pub mod problem;
pub mod routes;
pub mod work;

pub use app::App;

/// The whole service as a Rocket, ready to launch or to be driven in process.
#[must_use]
pub fn rocket(app: App, figment: rocket::figment::Figment) -> rocket::Rocket<rocket::Build> {
    rocket::custom(figment).manage(app).attach(headers::Headers).attach(acting::Refusals).mount("/", routes::all()).register("/", routes::catchers())
}

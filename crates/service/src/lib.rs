//! The service: HTTP routes over the commands of `jexlin_app`, workers, live events, and the
//! console's files.
//!
//! ```text
//! request ─► guards (token, origin) ─► route: parse ─► command of jexlin_app ─► present
//! workers ─► sealer · scheduler · runners · assessor      any number of services, one database
//! ```

pub mod error;
pub mod guards;
pub mod headers;
pub mod http;
pub mod metrics;
pub mod tls;
pub mod workers;

pub use jexlin_app::App;

/// The whole service as a Rocket, ready to launch or to be driven in process.
#[must_use]
pub fn rocket(app: App, figment: rocket::figment::Figment) -> rocket::Rocket<rocket::Build> {
    rocket::custom(figment)
        .manage(app)
        .attach(headers::Headers)
        .attach(guards::Refusals)
        .mount("/", http::all())
        .register("/", http::catchers())
}

/// Logs on which port a listener beside the service's own listens.
pub(crate) fn log_port(what: &'static str) -> rocket::fairing::AdHoc {
    rocket::fairing::AdHoc::on_liftoff(what, move |rocket| {
        Box::pin(async move {
            tracing::info!("{what} on port {}", rocket.config().port);
        })
    })
}

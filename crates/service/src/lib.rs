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

/// A listener beside the service's own, which logs `what` is done on which port.
pub(crate) fn listener(
    what: &'static str,
    address: &str,
    port: u16,
) -> rocket::Rocket<rocket::Build> {
    let figment = rocket::figment::Figment::from(rocket::Config::release_default())
        .merge(("address", address))
        .merge(("port", port))
        .merge(("log_level", "off"))
        .merge(("cli_colors", false))
        .merge(("ident", false));
    let log_port = rocket::fairing::AdHoc::on_liftoff(what, move |rocket| {
        Box::pin(async move {
            tracing::info!("{what} on port {}", rocket.config().port);
        })
    });
    rocket::custom(figment).attach(log_port)
}

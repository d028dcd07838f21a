//! The number of each request, and the headers that every answer carries.

use rocket::fairing::{Fairing, Info, Kind};
use rocket::http::Header;
use rocket::{Request, Response};
use uuid::Uuid;

/// Puts them on.
#[derive(Debug)]
pub struct Headers;

/// The request's number, for the caller and the log.
#[must_use]
pub fn request_id(request: &Request<'_>) -> Uuid {
    *request.local_cache(Uuid::now_v7)
}

const POLICY: &str = "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; connect-src 'self'; manifest-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'";

#[rocket::async_trait]
impl Fairing for Headers {
    fn info(&self) -> Info {
        Info {
            name: "headers",
            kind: Kind::Response,
        }
    }

    async fn on_response<'r>(&self, request: &'r Request<'_>, response: &mut Response<'r>) {
        response.remove_header("Server");
        response.set_header(Header::new("Content-Security-Policy", POLICY));
        response.set_header(Header::new("X-Content-Type-Options", "nosniff"));
        response.set_header(Header::new("Referrer-Policy", "no-referrer"));
        response.set_header(Header::new("Cross-Origin-Opener-Policy", "same-origin"));
        response.set_header(Header::new("X-Request-Id", request_id(request).to_string()));
        let app = request.rocket().state::<jexlin_app::App>();
        if app.is_some_and(|app| app.config.secure_cookies) {
            // Whoever came by TLS once comes by TLS for two years.
            response.set_header(Header::new("Strict-Transport-Security", "max-age=63072000"));
        }
        if request.uri().path().starts_with("/api/") {
            response.set_header(Header::new("Cache-Control", "no-store"));
        }
    }
}

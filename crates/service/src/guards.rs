//! Who sends a request: their token, where they come from, and the unit of work that begins with
//! it.

use std::net::{IpAddr, SocketAddr};
use std::ops::{Deref, DerefMut};

use crate::tls::Peers;
use jexlin_app::App;
use jexlin_app::error::{AppError, AppResult};
use jexlin_app::unit_of_work::{PendingAudit, Stranger, UnitOfWork};
use jexlin_core::auth::read_token;
use rocket::Response;
use rocket::fairing::{Fairing, Info, Kind};
use rocket::http::{Method, Status};
use rocket::outcome::Outcome;
use rocket::request::{FromRequest, Request};

use crate::error::last_error;

/// The cookie of the console's session.
pub const COOKIE: &str = "jexlin_session";
/// The header that only the console's own scripts can set on a request with that cookie.
pub const CONSOLE_HEADER: &str = "Jexlin-Console";

fn pending_audit(request: &Request<'_>) -> PendingAudit {
    request.local_cache(PendingAudit::default).clone()
}

fn token_of(request: &Request<'_>) -> AppResult<String> {
    if let Some(header) = request.headers().get_one("Authorization") {
        return header
            .strip_prefix("Bearer ")
            .map(str::to_owned)
            .ok_or_else(|| AppError::signed_out("The Authorization header has no bearer token."));
    }
    let Some(cookie) = request.cookies().get(COOKIE) else {
        return Err(AppError::signed_out("This needs a session."));
    };
    let safe = matches!(
        request.method(),
        Method::Get | Method::Head | Method::Options
    );
    if !safe && request.headers().get_one(CONSOLE_HEADER).is_none() {
        return Err(AppError::forbidden(
            "A request with the console's cookie did not come from the console.",
            "Use the console, or a bearer token.",
        ));
    }
    Ok(cookie.value().to_owned())
}

/// From where a request comes: the other end of the connection, or, when that is a trusted proxy,
/// the nearest address in `Forwarded` (RFC 7239) or `X-Forwarded-For` that is none.
#[must_use]
pub fn origin_of(request: &Request<'_>) -> String {
    let Some(remote) = request.remote() else {
        return String::new();
    };
    let peer = request
        .rocket()
        .state::<Peers>()
        .map_or(remote.ip().to_canonical(), |peers| peers.of(remote));
    let Some(app) = request.rocket().state::<App>() else {
        return peer.to_string();
    };
    let trusted = |ip: IpAddr| {
        app.config
            .trusted_proxies
            .iter()
            .any(|network| network.contains(&ip))
    };
    if !trusted(peer) {
        return peer.to_string();
    }
    let mut hops: Vec<IpAddr> = vec![];
    for value in request.headers().get("Forwarded") {
        hops.extend(value.split(',').filter_map(|hop| {
            hop.split(';').find_map(|part| {
                part.trim()
                    .to_ascii_lowercase()
                    .strip_prefix("for=")
                    .and_then(read_hop)
            })
        }));
    }
    if hops.is_empty() {
        hops.extend(
            request
                .headers()
                .get("X-Forwarded-For")
                .flat_map(|value| value.split(',').filter_map(read_hop)),
        );
    }
    hops.into_iter()
        .rev()
        .find(|hop| !trusted(*hop))
        .unwrap_or(peer)
        .to_string()
}

/// An address of a `Forwarded` or `X-Forwarded-For` header, with or without a port.
fn read_hop(text: &str) -> Option<IpAddr> {
    let text = text.trim().trim_matches('"');
    let ip = text
        .parse::<IpAddr>()
        .ok()
        .or_else(|| text.parse::<SocketAddr>().ok().map(|address| address.ip()));
    let ip = ip.or_else(|| text.trim_start_matches('[').split(']').next()?.parse().ok());
    ip.map(|ip| ip.to_canonical())
}

/// Demands that a request has a token at all.
///
/// # Errors
/// [`AppError`].
pub fn demand_token(request: &Request<'_>) -> AppResult<()> {
    read_token(&token_of(request)?)
        .map(|_| ())
        .ok_or_else(|| AppError::signed_out("The token is not valid."))
}

/// Begins the unit of work of whoever sent a request.
///
/// # Errors
/// [`AppError`] when there is no session that counts.
pub async fn begin(request: &Request<'_>) -> AppResult<UnitOfWork> {
    let app = request
        .rocket()
        .state::<App>()
        .ok_or_else(|| AppError::internal("no app"))?;
    if !app.keyring.is_open() {
        return Err(AppError::locked());
    }
    let token = token_of(request)?;
    UnitOfWork::of_token(app, &token, &origin_of(request), pending_audit(request)).await
}

/// The unit of work of whoever sent the request; a route that names it cannot run without a
/// session.
#[derive(Debug)]
pub struct Unit(pub UnitOfWork);

impl Deref for Unit {
    type Target = UnitOfWork;

    fn deref(&self) -> &UnitOfWork {
        &self.0
    }
}

impl DerefMut for Unit {
    fn deref_mut(&mut self) -> &mut UnitOfWork {
        &mut self.0
    }
}

#[rocket::async_trait]
impl<'r> FromRequest<'r> for Unit {
    type Error = ();

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, (Status, ()), Status> {
        match begin(request).await {
            Ok(unit) => Outcome::Success(Self(unit)),
            Err(error) => {
                // The catcher answers with this.
                *last_error(request) = Some(error);
                Outcome::Error((Status::Unauthorized, ()))
            }
        }
    }
}

/// Somebody without a session who sent a request.
#[derive(Debug)]
pub struct Visitor {
    /// Who.
    pub stranger: Stranger,
    /// Whether the console's own scripts sent it.
    pub from_console: bool,
}

#[rocket::async_trait]
impl<'r> FromRequest<'r> for Visitor {
    type Error = std::convert::Infallible;

    async fn from_request(
        request: &'r Request<'_>,
    ) -> Outcome<Self, (Status, Self::Error), Status> {
        Outcome::Success(Self {
            stranger: Stranger {
                audit: pending_audit(request),
                origin: origin_of(request),
            },
            from_console: request.headers().get_one(CONSOLE_HEADER).is_some(),
        })
    }
}

/// Records refusals: a request that said what it intended and was answered with a refusal.
#[derive(Debug)]
pub struct Refusals;

#[rocket::async_trait]
impl Fairing for Refusals {
    fn info(&self) -> Info {
        Info {
            name: "refusals",
            kind: Kind::Response,
        }
    }

    async fn on_response<'r>(&self, request: &'r Request<'_>, response: &mut Response<'r>) {
        if response.status().code < 400 {
            return;
        }
        let (error, app) = (last_error(request).clone(), request.rocket().state::<App>());
        let (Some(error), Some(app)) = (error, app) else {
            return;
        };
        if let Err(trouble) = pending_audit(request).record_refusal(app, &error).await {
            tracing::error!(request = %crate::headers::request_id(request), "a refusal could not be recorded: {}", trouble.detail());
        }
    }
}

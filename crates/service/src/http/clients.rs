//! Clients: programs that sign in by the client credentials grant of OAuth 2.0 (RFC 6749, 4.4).

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use jexlin_api::{ClientSecret, NewClient, PendingAct};
use jexlin_app::App;
use jexlin_app::commands;
use jexlin_app::error::AppError;
use rocket::form::Form;
use rocket::http::{ContentType, Header, Status};
use rocket::request::{FromRequest, Outcome as Guard, Request};
use rocket::response::{self, Responder, Response};
use rocket::{FromForm, Route, State, post, routes};

use super::payload::{Call, Decided, Sent, id};
use crate::error::ApiResult;
use crate::guards::{Unit, Visitor};

/// What a client sends for a token.
#[derive(Debug, FromForm)]
pub struct Asked<'r> {
    grant_type: &'r str,
    client_id: Option<&'r str>,
    client_secret: Option<&'r str>,
}

/// The name and secret of a client in the header `Authorization`, where clients are to put it.
#[derive(Debug, Default)]
pub struct Basic(Option<(String, String)>);

#[rocket::async_trait]
impl<'r> FromRequest<'r> for Basic {
    type Error = std::convert::Infallible;

    async fn from_request(request: &'r Request<'_>) -> Guard<Self, Self::Error> {
        let read = || {
            let encoded = request
                .headers()
                .get_one("Authorization")?
                .strip_prefix("Basic ")?;
            let text = String::from_utf8(STANDARD.decode(encoded).ok()?).ok()?;
            let (name, secret) = text.split_once(':')?;
            // RFC 6749, 2.3.1: both are encoded as in a form first.
            let plain = |part: &str| {
                url::form_urlencoded::parse(format!("x={part}").as_bytes())
                    .next()
                    .map(|(_, value)| value.into_owned())
            };
            Some((plain(name)?, plain(secret)?))
        };
        Guard::Success(Self(read()))
    }
}

/// An answer of the token endpoint, in the form of RFC 6749.
#[derive(Debug)]
pub struct Told {
    status: u16,
    body: serde_json::Value,
}

impl<'r> Responder<'r, 'static> for Told {
    fn respond_to(self, request: &'r Request<'_>) -> response::Result<'static> {
        let mut response = Response::build_from(self.body.to_string().respond_to(request)?);
        response
            .status(Status::new(self.status))
            .header(ContentType::JSON)
            .header(Header::new("Cache-Control", "no-store"));
        if self.status == 401 {
            response.header(Header::new("WWW-Authenticate", "Basic realm=\"jexlin\""));
        }
        response.ok()
    }
}

fn refused(status: u16, error: &str, description: &str) -> Told {
    Told {
        status,
        body: serde_json::json!({"error": error, "error_description": description}),
    }
}

pub fn routes() -> Vec<Route> {
    routes![add, renew, token]
}

/// Adds a client. Its secret is in this response only.
#[utoipa::path(
    operation_id = "clients_add",
    context_path = "",
    request_body = NewClient,
    responses((status = 200, body = ClientSecret)),
)]
#[post("/api/v1/clients", data = "<body>")]
pub async fn add(body: Call<NewClient>) -> ApiResult<Sent<ClientSecret>> {
    let Call(mut unit, body) = body;
    Ok(Sent(commands::clients::add(&mut unit, body).await?))
}

/// Issues a new secret to a client; the old secret and its tokens stop working. It may wait for a
/// second person, who then gets the secret.
#[utoipa::path(
    operation_id = "clients_renew",
    context_path = "",
    responses((status = 200, body = ClientSecret), (status = 202, body = PendingAct)),
)]
#[post("/api/v1/clients/<client>/secret")]
pub async fn renew(mut unit: Unit, client: &str) -> ApiResult<Decided<ClientSecret>> {
    Ok(Decided(
        commands::clients::renew(&mut unit, id(client)?).await?,
    ))
}

/// Issues a token to a client: the token endpoint of RFC 6749 for `grant_type=client_credentials`.
/// Name and secret are in the header `Authorization` (Basic), or in the form.
#[utoipa::path(
    operation_id = "clients_token",
    context_path = "",
    request_body(content = Object, content_type = "application/x-www-form-urlencoded"),
    responses((status = 200, body = Object)),
)]
#[post("/api/v1/oauth/token", data = "<form>")]
pub async fn token(
    app: &State<App>,
    form: Form<Asked<'_>>,
    basic: Basic,
    visitor: Visitor,
) -> ApiResult<Told> {
    if !app.keyring.is_open() {
        return Err(AppError::locked().into());
    }
    if form.grant_type != "client_credentials" {
        return Ok(refused(
            400,
            "unsupported_grant_type",
            "grant_type is client_credentials",
        ));
    }
    let given = basic
        .0
        .or_else(|| Some((form.client_id?.to_owned(), form.client_secret?.to_owned())));
    let Some((name, secret)) = given else {
        return Ok(refused(
            401,
            "invalid_client",
            "name and secret of the client are missing",
        ));
    };
    match commands::clients::token(app, &name, &secret, &visitor.stranger).await? {
        Some(access) => Ok(Told {
            status: 200,
            body: serde_json::json!({"access_token": access.token.expose_secret(), "token_type": "Bearer", "expires_in": access.seconds}),
        }),
        None => Ok(refused(
            401,
            "invalid_client",
            "the name or the secret is wrong, or the client may not sign in",
        )),
    }
}

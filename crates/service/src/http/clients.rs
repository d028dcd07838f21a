//! Clients: programs that sign in by the client credentials grant of OAuth 2.0 (RFC 6749, 4.4).

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use chrono::TimeDelta;
use jexlin_api::{ClientSecret, NewClient, PendingAct, SecretText};
use jexlin_core::audit::{Event, Outcome};
use jexlin_core::secret::Secret;
use jexlin_core::vault::sign_in::{new_token, read_token};
use jexlin_store::{PersonRow, SessionRow};
use rocket::form::Form;
use rocket::http::{ContentType, Header, Status};
use rocket::request::{FromRequest, Outcome as Guard, Request};
use rocket::response::{self, Responder, Response};
use rocket::{FromForm, Route, State, post, routes};
use uuid::Uuid;

use super::names::named;
use super::payload::{Call, Sent, id};
use super::people::show;
use super::second_person::Act;
use super::second_person::MaybePending;
use super::second_person::propose;
use crate::app::App;
use crate::error::{ApiError, ApiResult};
use crate::throttle::Tries;
use crate::unit_of_work::{StrangerSlot, UnitOfWork, begin_stranger_audit};

pub fn routes() -> Vec<Route> {
    routes![add, renew, token]
}

/// So long an access token is good, in minutes.
const MINUTES: i64 = 60;

fn text(secret: &Secret) -> ApiResult<SecretText> {
    Ok(SecretText::new(
        secret
            .expose_secret_text()
            .map_err(|error| ApiError::internal(error.to_string()))?
            .to_owned(),
    ))
}

/// Adds a client. Its secret is in this answer alone.
#[utoipa::path(context_path = "", request_body = NewClient, responses((status = 200, body = ClientSecret)))]
#[post("/api/v1/clients", data = "<body>")]
pub async fn add(body: Call<NewClient>) -> ApiResult<Sent<ClientSecret>> {
    let Call(mut unit, body) = body;
    unit.begin_audit("client.add", "person", None, &body.name);
    unit.duty("people")?;
    let (secret, hash) = new_token(&mut unit.app.rng()?, unit.organisation());
    let row = PersonRow {
        id: Uuid::now_v7(),
        organisation: unit.organisation(),
        sign_in_name: named("name", &body.name)?,
        display_name: named("display_name", &body.display_name)?,
        password_phc: None,
        state: "active".into(),
        duties: vec![],
        created_at: unit.now,
        version: 1,
        sort: "client".into(),
        secret_hash: Some(hash.to_vec()),
        sign_in_by: None,
    };
    unit.tx()?.add_person(&row).await?;
    unit.set_target(row.id, &row.sign_in_name);
    unit.commit_audited().await?;
    Ok(Sent(ClientSecret {
        client: show(row),
        secret: text(&secret)?,
    }))
}

/// A client whose secret the asker may renew.
pub async fn client_to_renew(unit: &mut UnitOfWork, target: Uuid) -> ApiResult<PersonRow> {
    unit.duty("people")?;
    let row = unit
        .tx()?
        .person(target)
        .await
        .map_err(|_| ApiError::unknown("client"))?;
    if row.sort != "client" {
        return Err(ApiError::unknown("client"));
    }
    unit.set_target(target, &row.sign_in_name);
    Ok(row)
}

/// Renews the secret of a client, in the transaction that is under way.
pub async fn renew_now(unit: &mut UnitOfWork, mut row: PersonRow) -> ApiResult<Secret> {
    let (secret, hash) = new_token(&mut unit.app.rng()?, unit.organisation());
    row.secret_hash = Some(hash.to_vec());
    let now = unit.now;
    unit.tx()?.change_person(&row).await?;
    unit.tx()?.end_sessions_of(row.id, None, now).await?;
    Ok(secret)
}

/// Gives a client another secret; the old one and its tokens stop working. It waits for a second person,
/// who is told the secret.
#[utoipa::path(context_path = "", responses((status = 200, body = ClientSecret), (status = 202, body = PendingAct)))]
#[post("/api/v1/clients/<client>/secret")]
pub async fn renew(mut unit: UnitOfWork, client: &str) -> ApiResult<MaybePending<ClientSecret>> {
    let target = id(client)?;
    unit.begin_audit("client.secret", "person", Some(target), "");
    let row = client_to_renew(&mut unit, target).await?;
    let act = Act::RenewSecret {
        client: target,
        version: row.version,
    };
    if let Some(pending) = propose(
        &mut unit,
        act,
        &format!("Renew the secret of {}", row.display_name),
    )
    .await?
    {
        return Ok(MaybePending::Pending(pending));
    }
    let secret = renew_now(&mut unit, row.clone()).await?;
    unit.commit_audited().await?;
    let version = row.version + 1;
    Ok(MaybePending::Done(
        version,
        ClientSecret {
            client: show(PersonRow { version, ..row }),
            secret: text(&secret)?,
        },
    ))
}

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

/// A token for a client: the token endpoint of RFC 6749 for `grant_type=client_credentials`. Name and
/// secret are in the header `Authorization` (Basic), or in the form.
#[utoipa::path(context_path = "", request_body(content = Object, content_type = "application/x-www-form-urlencoded"), responses((status = 200, body = Object)))]
#[post("/api/v1/oauth/token", data = "<form>")]
pub async fn token(
    app: &State<App>,
    form: Form<Asked<'_>>,
    basic: Basic,
    stranger: StrangerSlot,
) -> ApiResult<Told> {
    if !app.keyring.is_open() {
        return Err(ApiError::locked());
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
    let wrong = || {
        refused(
            401,
            "invalid_client",
            "name and secret do not belong together, or the client may not sign in",
        )
    };
    let Some((organisation, hash)) = read_token(&secret) else {
        return Ok(wrong());
    };
    if !app
        .store
        .organisations()
        .await?
        .iter()
        .any(|(id, _)| *id == organisation)
    {
        return Ok(wrong());
    }
    begin_stranger_audit(&stranger, organisation, &name, "session.sign-in");
    let now = app.clock.now();
    let mut tx = app.store.begin(organisation).await?;
    let tries = Tries::begin(
        &mut tx,
        "client",
        &name.to_lowercase(),
        &stranger.origin,
        now,
    )
    .await?;
    let found = tx.person_by_name(&name.to_lowercase()).await?;
    let person = found.filter(|row| {
        row.sort == "client"
            && row.state == "active"
            && row.secret_hash.as_deref() == Some(&hash[..])
    });
    let Some(person) = person else {
        let open = app.keyring.keys(&app.store, organisation).await?;
        if tx
            .count_stranger_refusal("session.sign-in", &stranger.origin, now)
            .await?
        {
            let mut event = Event::new(Uuid::now_v7(), organisation, now, "session.sign-in");
            event.origin.clone_from(&stranger.origin);
            event.target_type = "person".into();
            event.target_name = name.chars().filter(|c| !c.is_control()).take(200).collect();
            event.outcome = Outcome::Refused;
            event.detail.insert("channel".into(), "program".into());
            tx.commit_with(&event, &open.mac).await?;
        } else {
            tx.commit().await?;
        }
        return Ok(wrong());
    };
    let open = app.keyring.keys(&app.store, organisation).await?;
    let (token, hash) = new_token(&mut app.rng()?, organisation);
    let session = SessionRow {
        id: Uuid::now_v7(),
        organisation,
        person_id: person.id,
        token_hash: hash.to_vec(),
        channel: "program".into(),
        created_at: now,
        last_used_at: now,
        ends_at: now + TimeDelta::minutes(MINUTES),
        ended_at: None,
    };
    let mut event = Event::new(Uuid::now_v7(), organisation, now, "session.sign-in");
    event.actor = person.id.to_string();
    event.actor_name.clone_from(&person.display_name);
    event.origin.clone_from(&stranger.origin);
    event.target = person.id.to_string();
    event.target_type = "person".into();
    event.target_name.clone_from(&person.sign_in_name);
    event.detail.insert("channel".into(), "program".into());
    tries.succeed(&mut tx, now).await?;
    tx.add_session(&session).await?;
    tx.commit_with(&event, &open.mac).await?;
    let token = text(&token)?;
    Ok(Told {
        status: 200,
        body: serde_json::json!({"access_token": token.expose_secret(), "token_type": "Bearer", "expires_in": MINUTES * 60}),
    })
}

//! Signing in and out, and what slows guesses down.

use crate::throttle::{Tries, check_throttle};
use chrono::TimeDelta;
use jexlin_api::{ChangePassword, Me, SecretText, SignIn, SignedIn};
use jexlin_core::audit::{Event, Outcome};
use jexlin_core::secret::Secret;
use jexlin_core::vault::sign_in::{check_password, hash_password, new_token, verify_password};
use jexlin_store::{PersonRow, SessionRow};
use rocket::http::{Cookie, CookieJar, SameSite};
use rocket::{Route, State, get, post, routes};
use uuid::Uuid;

use super::payload::{Body, Call, Sent};
use crate::app::App;
use crate::error::{ApiError, ApiResult};
use crate::unit_of_work::{COOKIE, StrangerSlot, UnitOfWork, begin_stranger_audit};

/// The duties that there are.
pub const DUTIES: [&str; 7] = [
    "people", "folders", "access", "policy", "audit", "export", "recovery",
];

pub fn routes() -> Vec<Route> {
    routes![sign_in, sign_out, me, change_password]
}

/// A secret of the interface as one of core.
pub fn secret(text: &SecretText) -> Secret {
    Secret::from_text(text.expose_secret().to_owned())
}

async fn find_organisation(app: &App, named: Option<&str>) -> ApiResult<(Uuid, String)> {
    let organisations = app.store.organisations().await?;
    if organisations.is_empty() {
        return Err(ApiError::needs_setup());
    }
    match named.filter(|name| !name.is_empty()) {
        Some(name) => organisations
            .into_iter()
            .find(|(_, known)| known.to_lowercase() == name.to_lowercase())
            .ok_or_else(ApiError::sign_in),
        None if organisations.len() == 1 => organisations
            .into_iter()
            .next()
            .ok_or_else(ApiError::sign_in),
        None => Err(ApiError::field(
            "organisation",
            "there are several organisations; name one",
        )),
    }
}

/// Signs in.
#[utoipa::path(context_path = "", request_body = SignIn, responses((status = 200, body = SignedIn)))]
#[post("/api/v1/sign-in", data = "<body>")]
pub async fn sign_in(
    app: &State<App>,
    body: Body<SignIn>,
    stranger: StrangerSlot,
    cookies: &CookieJar<'_>,
) -> ApiResult<Sent<SignedIn>> {
    let Body(body) = body;
    if !app.keyring.is_open() {
        return Err(if app.store.organisations().await?.is_empty() {
            ApiError::needs_setup()
        } else {
            ApiError::locked()
        });
    }
    let channel = match body.channel.as_str() {
        channel @ ("console" | "client") => channel.to_owned(),
        _ => return Err(ApiError::field("channel", "it is `console` or `client`")),
    };
    let (organisation, organisation_name) =
        find_organisation(app, body.organisation.as_deref()).await?;
    begin_stranger_audit(
        &stranger,
        organisation,
        &body.sign_in_name,
        "session.sign-in",
    );
    let now = app.clock.now();
    let name = body.sign_in_name.trim().to_lowercase();
    let name: String = name.chars().take(200).collect();
    // The console's cookie comes from the console alone: no other site signs its visitor in here.
    if channel == "console" && !stranger.from_console {
        return Err(ApiError::forbidden(
            "A sign-in to the console did not come from the console.",
            "Use the console, or the channel `client`.",
        ));
    }

    // The throttle is read and a failure noted beforehand in one transaction, so that a hundred
    // guesses at the same moment do not all pass; a success takes the note back.
    let mut tx = app.store.begin(organisation).await?;
    let tries = Tries::begin(&mut tx, "person", &name, &stranger.origin, now).await?;
    let person = tx.person_by_name(&name).await?;
    tx.commit().await?;

    let permit = app
        .hashing
        .acquire()
        .await
        .map_err(|error| ApiError::internal(error.to_string()))?;
    let phc = person
        .as_ref()
        .filter(|person| person.state == "active")
        .and_then(|person| person.password_phc.clone());
    let password = secret(&body.password);
    // A name that nobody has takes as long as one that somebody has.
    let verified = tokio::task::spawn_blocking(move || {
        let known = phc.is_some();
        let stand_in = "$argon2id$v=19$m=19456,t=2,p=1$c29tZS1zYWx0LWZvci1uby1vbmU$lm6aDrbB/8Wme8jM8CqsfWl0ocIKCmsUEcfPRgd8MDw".to_owned();
        verify_password(&phc.unwrap_or(stand_in), &password) && known
    })
    .await
    .map_err(|error| ApiError::internal(error.to_string()))?;
    drop(permit);
    let Some(person) = person.filter(|_| verified) else {
        return Err(ApiError::sign_in());
    };

    let keys = app.keyring.keys(&app.store, organisation).await?;
    let mut rng = app.rng()?;
    let (token, hash) = new_token(&mut rng, organisation);
    let ends_at = now + TimeDelta::hours(app.config.session_hours);
    let session = SessionRow {
        id: Uuid::now_v7(),
        organisation,
        person_id: person.id,
        token_hash: hash.to_vec(),
        channel: channel.clone(),
        created_at: now,
        last_used_at: now,
        ends_at,
        ended_at: None,
    };
    let mut event = Event::new(Uuid::now_v7(), organisation, now, "session.sign-in");
    event.actor = person.id.to_string();
    event.actor_name.clone_from(&person.display_name);
    event.origin.clone_from(&stranger.origin);
    event.target = person.id.to_string();
    event.target_type = "person".into();
    event.target_name.clone_from(&person.sign_in_name);
    event.outcome = Outcome::Done;
    event.detail.insert("channel".into(), channel.clone());
    let mut tx = app.store.begin(organisation).await?;
    tries.succeed(&mut tx, now).await?;
    tx.add_session(&session).await?;
    tx.commit_with(&event, &keys.mac).await?;

    let token = SecretText::new(
        token
            .expose_secret_text()
            .map_err(|error| ApiError::internal(error.to_string()))?
            .to_owned(),
    );
    let token = if channel == "console" {
        let cookie = Cookie::build((COOKIE, token.expose_secret().to_owned()))
            .path("/")
            .http_only(true)
            .same_site(SameSite::Strict)
            .secure(app.config.secure_cookies);
        cookies.add(cookie);
        None
    } else {
        Some(token)
    };
    Ok(Sent(SignedIn {
        token,
        ends_at,
        me: me_of(&person, organisation_name),
    }))
}

fn me_of(person: &PersonRow, organisation: String) -> Me {
    Me {
        id: person.id,
        sign_in_name: person.sign_in_name.clone(),
        display_name: person.display_name.clone(),
        duties: person.duties.clone(),
        organisation,
    }
}

/// Signs out; the session is over at once.
#[utoipa::path(context_path = "", responses((status = 200)))]
#[post("/api/v1/sign-out")]
pub async fn sign_out(mut unit: UnitOfWork, cookies: &CookieJar<'_>) -> ApiResult<()> {
    let (person, name, session, now) = (
        unit.person.id,
        unit.person.sign_in_name.clone(),
        unit.session.id,
        unit.now,
    );
    unit.begin_audit("session.sign-out", "person", Some(person), &name);
    unit.tx()?.end_session(session, now).await?;
    // The session ends with this very act.
    unit.tx()?.answer_to(None);
    unit.commit_audited().await?;
    unit.app.personal.close(session);
    cookies.remove(Cookie::build(COOKIE).path("/"));
    Ok(())
}

/// Who is signed in.
#[utoipa::path(context_path = "", responses((status = 200, body = Me)))]
#[get("/api/v1/me")]
pub async fn me(mut unit: UnitOfWork) -> ApiResult<Sent<Me>> {
    unit.commit().await?;
    Ok(Sent(me_of(&unit.person, unit.keys.name.clone())))
}

/// Changes one's own sign-in password; all other sessions end.
#[utoipa::path(context_path = "", request_body = ChangePassword, responses((status = 200)))]
#[post("/api/v1/me/password", data = "<body>")]
pub async fn change_password(body: Call<ChangePassword>) -> ApiResult<()> {
    let Call(mut unit, body) = body;
    let (id, name) = (unit.person.id, unit.person.sign_in_name.clone());
    unit.begin_audit("person.password", "person", Some(id), &name);
    let (present, new) = (secret(&body.present), secret(&body.new));
    check_password(&new).map_err(|problem| ApiError::field("new", problem))?;
    // A stolen session does not guess the present password.
    let (organisation, now) = (unit.organisation(), unit.now);
    let tries = format!("present:{id}");
    let mut tx = unit.app.store.begin(organisation).await?;
    check_throttle(&mut tx, std::slice::from_ref(&tries), now).await?;
    let failures = tx
        .throttle(&tries)
        .await?
        .map_or(0, |throttle| throttle.failures);
    tx.note_failure(&tries, failures.saturating_add(1), now)
        .await?;
    tx.commit().await?;
    let phc = unit.person.password_phc.clone().unwrap_or_default();
    let permit = unit
        .app
        .hashing
        .clone()
        .acquire_owned()
        .await
        .map_err(|error| ApiError::internal(error.to_string()))?;
    let mut rng = unit.app.rng()?;
    let hashed = tokio::task::spawn_blocking(move || {
        verify_password(&phc, &present).then(|| hash_password(&mut rng, &new))
    })
    .await;
    drop(permit);
    let hashed = hashed.map_err(|error| ApiError::internal(error.to_string()))?;
    let hashed = hashed
        .ok_or_else(|| {
            ApiError::forbidden(
                "The present password is not right.",
                "Check it; nothing was changed.",
            )
        })?
        .map_err(ApiError::internal)?;
    let row = PersonRow {
        password_phc: Some(hashed),
        ..unit.person.clone()
    };
    let (session, now) = (unit.session.id, unit.now);
    unit.tx()?.forget_failures(&tries).await?;
    unit.tx()?.change_person(&row).await?;
    unit.tx()?.end_sessions_of(id, Some(session), now).await?;
    unit.commit_audited().await?;
    Ok(())
}

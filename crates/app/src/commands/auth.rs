//! Signing in and out, and what slows guesses down.

use chrono::TimeDelta;
use jexlin_api::{ChangePassword, Me, SecretText, SignIn, SignedIn};
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::auth::{
    Ceremony, Channel, Progress, Refused, check_password, hash_password, verify_password,
};
use jexlin_core::secret::Secret;
use jexlin_store::PersonRow;
use uuid::Uuid;

use crate::app::App;
use crate::error::{AppError, AppResult};
use crate::sessions::{NewSession, new_session};
use crate::throttle::{PERSON, Tries, check_throttle};
use crate::unit_of_work::{Stranger, UnitOfWork};

/// A secret of the interface as one of core.
pub fn secret(text: &SecretText) -> Secret {
    Secret::from_text(text.expose_secret().to_owned())
}

pub(super) async fn find_organisation(app: &App, named: Option<&str>) -> AppResult<(Uuid, String)> {
    let organisations = app.store.organisations().await?;
    if organisations.is_empty() {
        return Err(AppError::needs_setup());
    }
    match named.filter(|name| !name.is_empty()) {
        Some(name) => organisations
            .into_iter()
            .find(|(_, known)| known.to_lowercase() == name.to_lowercase())
            .ok_or_else(AppError::sign_in),
        None if organisations.len() == 1 => organisations
            .into_iter()
            .next()
            .ok_or_else(AppError::sign_in),
        None => Err(AppError::field(
            "organisation",
            "the service has several organisations; name one",
        )),
    }
}

fn me_of(person: &PersonRow, organisation: String) -> Me {
    Me {
        id: person.id,
        sign_in_name: person.sign_in_name.clone(),
        display_name: person.display_name.clone(),
        duties: person.held_duties(),
        organisation,
    }
}

/// Who is signed in.
pub async fn me(unit: &mut UnitOfWork) -> AppResult<Me> {
    unit.commit().await?;
    Ok(me_of(&unit.person, unit.keys.name.clone()))
}

/// Changes one's own sign-in password; all other sessions end.
pub async fn change_password(unit: &mut UnitOfWork, body: ChangePassword) -> AppResult<()> {
    let (id, name) = (unit.person.id, unit.person.sign_in_name.clone());
    unit.begin_audit(
        Action::PersonChangePassword,
        TargetType::Person,
        Some(id),
        &name,
    );
    let (present, new) = (secret(&body.present), secret(&body.new));
    check_password(&new).map_err(|problem| AppError::field("new", problem))?;
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
        .map_err(|error| AppError::internal(error.to_string()))?;
    let mut rng = unit.app.rng()?;
    let hashed = tokio::task::spawn_blocking(move || {
        verify_password(&phc, &present).then(|| hash_password(&mut rng, &new))
    })
    .await;
    drop(permit);
    let hashed = hashed.map_err(|error| AppError::internal(error.to_string()))?;
    let hashed = hashed
        .ok_or_else(|| {
            AppError::forbidden(
                "The current password is wrong.",
                "Check it and try again; nothing was changed.",
            )
        })?
        .map_err(AppError::internal)?;
    let row = PersonRow {
        password_phc: Some(hashed),
        ..unit.person.clone()
    };
    let (session, now) = (unit.session.id, unit.now);
    unit.tx()?.forget_failures(&tries).await?;
    unit.tx()?.edit_person(&row).await?;
    unit.tx()?.end_sessions_of(id, Some(session), now).await?;
    unit.commit_audited().await?;
    Ok(())
}

/// A hash that nobody has the password of.
const NOBODYS_PASSWORD: &str = "$argon2id$v=19$m=19456,t=2,p=1$c29tZS1zYWx0LWZvci1uby1vbmU$lm6aDrbB/8Wme8jM8CqsfWl0ocIKCmsUEcfPRgd8MDw";

/// Signs in.
pub async fn sign_in(app: &App, body: SignIn, stranger: &Stranger) -> AppResult<SignedIn> {
    if !app.keyring.is_open() {
        return Err(if app.store.organisations().await?.is_empty() {
            AppError::needs_setup()
        } else {
            AppError::locked()
        });
    }
    if body.channel == Channel::Program {
        return Err(AppError::field("channel", "must be console or client"));
    }
    let (organisation, organisation_name) =
        find_organisation(app, body.organisation.as_deref()).await?;
    stranger.audit.begin_stranger(
        organisation,
        &body.sign_in_name,
        Action::SessionSignIn,
        &stranger.origin,
    );
    let now = app.clock.now();
    let name = body.sign_in_name.trim().to_lowercase();
    let name: String = name.chars().take(200).collect();
    // The throttle is read and a failure noted beforehand in one transaction, so that a hundred
    // guesses at the same moment do not all pass; a success takes the note back.
    let mut tx = app.store.begin(organisation).await?;
    let tries = Tries::begin(&mut tx, PERSON, &name, &stranger.origin, now).await?;
    let person = tx.person_by_name(&name).await?;
    tx.commit().await?;

    let permit = app
        .hashing
        .acquire()
        .await
        .map_err(|error| AppError::internal(error.to_string()))?;
    let ceremony = person.as_ref().and_then(|person| {
        let (kind, state) = (person.person_type.0, person.state.0);
        Ceremony::start(person.id, kind, state, body.channel).ok()
    });
    let phc = person
        .as_ref()
        .and_then(|person| person.password_phc.clone());
    let password = secret(&body.password);
    // A name that nobody has takes as long as one that somebody has.
    let progress = tokio::task::spawn_blocking(move || match (ceremony, phc) {
        (Some(ceremony), Some(phc)) => ceremony.password(&phc, &password),
        _ => {
            let _ = verify_password(NOBODYS_PASSWORD, &password);
            Err(Refused)
        }
    })
    .await
    .map_err(|error| AppError::internal(error.to_string()))?;
    drop(permit);
    let (Some(person), Ok(Progress::Done(signed_in))) = (person, progress) else {
        return Err(AppError::sign_in());
    };

    let keys = app.keyring.keys(&app.store, organisation).await?;
    let ends_at = now + TimeDelta::hours(app.config.session_hours);
    let NewSession { row, token, event } =
        new_session(app, &signed_in, &person, now, ends_at, &stranger.origin)?;
    let mut tx = app.store.begin(organisation).await?;
    tries.succeed(&mut tx, now).await?;
    tx.add_session(&row).await?;
    tx.commit_with(&event, &keys.mac).await?;

    let token = SecretText::new(
        token
            .expose_secret_text()
            .map_err(|error| AppError::internal(error.to_string()))?
            .to_owned(),
    );
    Ok(SignedIn {
        token: Some(token),
        ends_at,
        me: me_of(&person, organisation_name),
    })
}

/// Signs out; the session is over at once.
pub async fn sign_out(unit: &mut UnitOfWork) -> AppResult<()> {
    let (person, name, session, now) = (
        unit.person.id,
        unit.person.sign_in_name.clone(),
        unit.session.id,
        unit.now,
    );
    unit.begin_audit(
        Action::SessionSignOut,
        TargetType::Person,
        Some(person),
        &name,
    );
    unit.tx()?.end_session(session, now).await?;
    // The session ends with this very act.
    unit.tx()?.answer_to(None);
    unit.commit_audited().await?;
    unit.app.personal.close(session);
    Ok(())
}

//! Clients: programs that sign in by the client credentials grant of OAuth 2.0 (RFC 6749, 4.4).

use chrono::TimeDelta;
use jexlin_api::{ClientSecret, NewClient, SecretText};
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::audit::{Event, Outcome};
use jexlin_core::auth::{Ceremony, Channel, Progress, new_token, read_token};
use jexlin_core::people::PersonState;
use jexlin_core::people::PersonType;
use jexlin_core::secret::Secret;
use jexlin_core::words::Word as _;
use jexlin_store::PersonRow;
use uuid::Uuid;

use super::names::named;
use super::people::show;
use super::second_person::Act;
use super::second_person::MaybePending;
use super::second_person::propose;
use crate::app::App;
use crate::error::{AppError, AppResult};
use crate::sessions::{NewSession, new_session};
use crate::throttle::Tries;
use crate::unit_of_work::{Stranger, UnitOfWork};

/// So long an access token is good, in minutes.
const MINUTES: i64 = 60;

fn text(secret: &Secret) -> AppResult<SecretText> {
    Ok(SecretText::new(
        secret
            .expose_secret_text()
            .map_err(|error| AppError::internal(error.to_string()))?
            .to_owned(),
    ))
}

/// Adds a client. Its secret is in this answer alone.
pub async fn add(unit: &mut UnitOfWork, body: NewClient) -> AppResult<ClientSecret> {
    unit.begin(Action::ClientAdd, TargetType::Person, None, &body.name)?;
    let (secret, hash) = new_token(&mut unit.app.rng()?, unit.organisation());
    let row = PersonRow {
        id: Uuid::now_v7(),
        organisation: unit.organisation(),
        sign_in_name: named("name", &body.name)?,
        display_name: named("display_name", &body.display_name)?,
        password_phc: None,
        state: PersonState::Active.into(),
        duties: vec![],
        created_at: unit.now,
        revision: 1,
        person_type: PersonType::Client.into(),
        secret_hash: Some(hash.to_vec()),
        sign_in_by: None,
    };
    unit.tx()?.add_person(&row).await?;
    unit.set_target(row.id, &row.sign_in_name);
    unit.commit_audited().await?;
    Ok(ClientSecret {
        client: show(row),
        secret: text(&secret)?,
    })
}

/// A client whose secret the asker may renew.
pub async fn client_to_renew(unit: &mut UnitOfWork, target: Uuid) -> AppResult<PersonRow> {
    let row = unit
        .tx()?
        .person(target)
        .await
        .map_err(|_| AppError::unknown("client"))?;
    if row.person_type != PersonType::Client {
        return Err(AppError::unknown("client"));
    }
    unit.set_target(target, &row.sign_in_name);
    Ok(row)
}

/// Renews the secret of a client, in the transaction that is under way.
pub async fn renew_now(unit: &mut UnitOfWork, mut row: PersonRow) -> AppResult<Secret> {
    let (secret, hash) = new_token(&mut unit.app.rng()?, unit.organisation());
    row.secret_hash = Some(hash.to_vec());
    let now = unit.now;
    unit.tx()?.edit_person(&row).await?;
    unit.tx()?.end_sessions_of(row.id, None, now).await?;
    Ok(secret)
}

/// Gives a client another secret; the old one and its tokens stop working. It waits for a second
/// person, who is told the secret.
pub async fn renew(unit: &mut UnitOfWork, client: Uuid) -> AppResult<MaybePending<ClientSecret>> {
    let target = client;
    unit.begin(Action::ClientRenew, TargetType::Person, Some(target), "")?;
    let row = client_to_renew(unit, target).await?;
    let act = Act::RenewSecret {
        client: target,
        revision: row.revision,
    };
    if let Some(pending) = propose(
        unit,
        act,
        &format!("Renew the secret of {}", row.display_name),
    )
    .await?
    {
        return Ok(MaybePending::Pending(pending));
    }
    let secret = renew_now(unit, row.clone()).await?;
    unit.commit_audited().await?;
    let revision = row.revision + 1;
    Ok(MaybePending::Done(
        revision,
        ClientSecret {
            client: show(PersonRow { revision, ..row }),
            secret: text(&secret)?,
        },
    ))
}

/// An access token of a client.
#[derive(Debug)]
pub struct AccessToken {
    /// The token.
    pub token: SecretText,
    /// For so long it can be used.
    pub seconds: i64,
}

/// A token for a client; none when its name and secret do not belong together, or it may not sign
/// in.
pub async fn token(
    app: &App,
    name: &str,
    secret: &str,
    stranger: &Stranger,
) -> AppResult<Option<AccessToken>> {
    let Some((organisation, hash)) = read_token(secret) else {
        return Ok(None);
    };
    if !app
        .store
        .organisations()
        .await?
        .iter()
        .any(|(id, _)| *id == organisation)
    {
        return Ok(None);
    }
    stranger
        .audit
        .begin_stranger(organisation, name, Action::SessionSignIn, &stranger.origin);
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
    let signed_in = found.as_ref().and_then(|row| {
        let ceremony =
            Ceremony::start(row.id, row.person_type.0, row.state.0, Channel::Program).ok()?;
        match ceremony.client_secret(row.secret_hash.as_deref(), &hash) {
            Ok(Progress::Done(signed_in)) => Some(signed_in),
            _ => None,
        }
    });
    let (Some(person), Some(signed_in)) = (found, signed_in) else {
        let open = app.keyring.keys(&app.store, organisation).await?;
        if tx
            .count_stranger_refusal(Action::SessionSignIn, &stranger.origin, now)
            .await?
        {
            let mut event = Event::new(Uuid::now_v7(), organisation, now, Action::SessionSignIn);
            event.origin.clone_from(&stranger.origin);
            event.target_type = TargetType::Person.word().into();
            event.target_name = name.chars().filter(|c| !c.is_control()).take(200).collect();
            event.outcome = Outcome::Refused;
            event
                .detail
                .insert("channel".into(), Channel::Program.word().into());
            tx.commit_with(&event, &open.mac).await?;
        } else {
            tx.commit().await?;
        }
        return Ok(None);
    };
    let open = app.keyring.keys(&app.store, organisation).await?;
    let ends_at = now + TimeDelta::minutes(MINUTES);
    let NewSession { row, token, event } =
        new_session(app, &signed_in, &person, now, ends_at, &stranger.origin)?;
    tries.succeed(&mut tx, now).await?;
    tx.add_session(&row).await?;
    tx.commit_with(&event, &open.mac).await?;
    Ok(Some(AccessToken {
        token: text(&token)?,
        seconds: MINUTES * 60,
    }))
}

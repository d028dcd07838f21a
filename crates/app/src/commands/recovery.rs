//! Recovery when the only administrator has lost the password. A person with access to the service's
//! machine and the root key's passphrase can already open every secret, so they may reset a password.
//! The audit log records it.

use jexlin_core::audit::{Action, Event, TargetType};
use jexlin_core::auth::hash_password;
use jexlin_core::people::{PersonState, PersonType};
use jexlin_core::secret::Secret;
use jexlin_core::words::Word as _;
use uuid::Uuid;

use crate::app::App;
use crate::error::{AppError, AppResult};
use crate::keyring;

/// Opens the root key with its passphrase, where the service manager does not hold it.
///
/// # Errors
/// The passphrase is wrong, or the file is not there.
pub async fn open_root(app: &App, passphrase: Secret) -> AppResult<()> {
    let folder = app.config.folder.clone();
    let opened = tokio::task::spawn_blocking(move || keyring::read_root_keys(&folder, &passphrase))
        .await
        .map_err(|error| AppError::internal(error.to_string()))?;
    opened?.into_iter().for_each(|root| app.keyring.open(root));
    Ok(())
}

/// Resets the sign-in password of a person and ends their sessions. The root key must be open.
/// Duties and state stay as they are.
///
/// # Errors
/// No such person, one who may not sign in, or a root key that is not of this database.
pub async fn reset_password(
    app: &App,
    organisation: Option<&str>,
    name: &str,
    password: &Secret,
) -> AppResult<String> {
    let (organisation, _) = super::auth::find_organisation(app, organisation).await?;
    let mut tx = app.store.begin(organisation).await?;
    let row = tx.organisation_row().await?;
    let keys = app.keyring.open_organisation(&row)?;
    let mut person = tx
        .person_by_name(&name.trim().to_lowercase())
        .await?
        .filter(|person| person.person_type == PersonType::Person)
        .ok_or_else(|| AppError::unknown("person"))?;
    if person.state != PersonState::Active {
        return Err(AppError::field(
            "person",
            format!(
                "{} is {}: only somebody who is active can sign in",
                person.display_name,
                person.state.0.word()
            ),
        ));
    }
    let now = app.clock.now();
    person.password_phc =
        Some(hash_password(&mut app.rng()?, password).map_err(AppError::internal)?);
    person.sign_in_by = None;
    tx.edit_person(&person).await?;
    tx.end_sessions_of(person.id, None, now).await?;
    crate::throttle::forget(&mut tx, &person.sign_in_name).await?;
    let mut event = Event::new(Uuid::now_v7(), organisation, now, Action::PersonRecover);
    event.origin = "the machine of the service".into();
    event.target = person.id.to_string();
    event.target_type = TargetType::Person.word().into();
    event.target_name.clone_from(&person.sign_in_name);
    event.detail.insert(
        "duties".into(),
        person
            .duties
            .iter()
            .map(|duty| duty.0.word())
            .collect::<Vec<_>>()
            .join(", "),
    );
    crate::revalidation::revalidate(&mut tx, &keys.mac, now).await?;
    tx.commit_with(&event, &keys.mac).await?;
    Ok(person.display_name)
}

//! The first set-up.

use jexlin_api::ErrorCode;
use jexlin_api::{Setup, Status};
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::audit::{Event, Signer};
use jexlin_core::auth::{check_password, hash_password};
use jexlin_core::names::Name;
use jexlin_core::people::Duty;
use jexlin_core::people::PersonState;
use jexlin_core::people::PersonType;
use jexlin_core::policy::PasswordPolicy;
use jexlin_core::vault::{OrganisationKey, RootKey};
use jexlin_core::words::Word as _;
use jexlin_store::Stored;
use jexlin_store::{OrganisationRow, PersonRow, PolicyRow};
use strum::VariantArray as _;
use uuid::Uuid;

use super::auth::secret;
use super::status::status;
use crate::app::App;
use crate::error::{AppError, AppResult};
use crate::keyring;
use crate::unit_of_work::Stranger;

/// The first administrator and the name of the organisation, as the form gives them.
fn administrator(app: &App, body: &Setup) -> AppResult<(PersonRow, Name)> {
    let parse = |field: &'static str, text: &str| {
        Name::parse(text).map_err(|problem| AppError::field(field, problem.to_string()))
    };
    let name = parse("organisation", &body.organisation)?;
    let sign_in_name = parse("sign_in_name", &body.sign_in_name)?;
    let display_name = parse("display_name", &body.display_name)?;
    let password = secret(&body.password);
    check_password(&password).map_err(|problem| AppError::field("password", problem))?;
    let phc = hash_password(&mut app.rng()?, &password).map_err(AppError::internal)?;
    let row = PersonRow {
        id: Uuid::now_v7(),
        organisation: Uuid::now_v7(),
        sign_in_name: sign_in_name.into_string(),
        display_name: display_name.into_string(),
        password_phc: Some(phc),
        state: PersonState::Active.into(),
        duties: Duty::VARIANTS.iter().copied().map(Stored).collect(),
        created_at: app.clock.now(),
        revision: 1,
        person_type: PersonType::Person.into(),
        secret_hash: None,
        sign_in_by: None,
    };
    Ok((row, name))
}

/// The root key: the service manager's, or a new one with the file that its passphrase opens.
fn root_key(app: &App, body: &Setup) -> AppResult<(RootKey, Option<String>)> {
    if app.keyring.is_open() {
        return Ok((app.keyring.root_for_setup()?, None));
    }
    let passphrase = body
        .passphrase
        .as_ref()
        .ok_or_else(|| AppError::field("passphrase", "the root key needs a passphrase"))?;
    let mut rng = app.rng()?;
    let root = RootKey::generate(&mut rng);
    let file = root
        .protect(&mut rng, &secret(passphrase))
        .map_err(|problem| AppError::field("passphrase", problem.to_string()))?;
    Ok((root, Some(file)))
}

/// Writes the file of a new root key, where there is none.
fn write_root_key(app: &App, file: &str) -> AppResult<()> {
    let path = keyring::root_key_path(&app.config.folder);
    if path.exists() {
        return Err(AppError::conflict(
            ErrorCode::RootKeyExists,
            "There is a root key file already, perhaps of another database.",
            "Move root-key.json away, or start with the database that it belongs to.",
        ));
    }
    keyring::write_private(&path, file).map_err(|error| {
        AppError::internal(format!("the root key file cannot be written: {error}"))
    })
}

/// The password policy that every organisation begins with.
fn default_policy(organisation: Uuid) -> AppResult<PolicyRow> {
    let rules = serde_json::to_value(PasswordPolicy::default())
        .map_err(|error| AppError::internal(error.to_string()))?;
    Ok(PolicyRow {
        id: Uuid::now_v7(),
        organisation,
        name: "Standard".into(),
        rules,
        is_default: true,
        revision: 1,
    })
}

/// First-run set-up: the organisation, its first administrator, and the root key.
pub async fn setup(app: &App, body: Setup, stranger: &Stranger) -> AppResult<Status> {
    let mut opening = app.opening.lock().await;
    if !app.store.organisations().await?.is_empty() {
        return Err(AppError::conflict(
            ErrorCode::AlreadySetUp,
            "There is already an organisation.",
            "Sign in.",
        ));
    }
    if !opening
        .code
        .as_ref()
        .is_some_and(|code| code.same_as(&secret(&body.code)))
    {
        return Err(AppError::forbidden(
            "The set-up code is wrong.",
            "Read it from the file `setup-code` in the service's folder.",
        ));
    }
    let (administrator, name) = administrator(app, &body)?;
    let mut rng = app.rng()?;
    let (root, file) = root_key(app, &body)?;
    let (organisation, now) = (administrator.organisation, administrator.created_at);
    let (key, wrapped) = OrganisationKey::generate(&mut rng, &root, organisation)?;
    let seed = jexlin_core::vault::Key::generate(&mut rng);
    let log_key_sealed = key.seal_signing_key(&mut rng, organisation, seed.expose_key())?;
    let log_origin = format!("jexlin/{organisation}");
    let signer = Signer::new(&log_origin, seed.expose_key());
    let mut tx = app.store.begin(organisation).await?;
    tx.add_organisation(&OrganisationRow {
        id: organisation,
        name: name.as_str().to_owned(),
        wrapped_key: wrapped.0,
        log_origin,
        log_key_sealed: log_key_sealed.0,
        log_verifier: signer.verifier().to_text(),
        created_at: now,
        locked_at: None,
        root_key: root.name(),
        next_wrapped_key: None,
        next_root_key: None,
        key_number: key.number(),
        former_key: None,
    })
    .await?;
    tx.add_person(&administrator).await?;
    tx.add_policy(&default_policy(organisation)?).await?;
    let mut event = Event::new(Uuid::now_v7(), organisation, now, Action::OrganisationSetup);
    event.actor = administrator.id.to_string();
    event.actor_name.clone_from(&administrator.display_name);
    event.origin.clone_from(&stranger.origin);
    event.target = organisation.to_string();
    event.target_type = TargetType::Organisation.word().into();
    event.target_name = name.into_string();
    tx.record(&event, &key.event_key()).await?;
    // The key file first: an organisation whose key was never written would be lost.
    if let Some(file) = file {
        write_root_key(app, &file)?;
    }
    tx.commit_recorded().await?;
    app.keyring.open(root);
    opening.code = None;
    // Used up; an old file would only mislead.
    let _ = std::fs::remove_file(app.config.folder.join("setup-code"));
    drop(opening);
    Ok(status(app).await)
}

//! The first set-up, and locking and unlocking the vault.

use jexlin_api::ErrorCode;
use jexlin_api::{LockVault, Setup, Status, Unlock};
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::audit::{Event, Signer};
use jexlin_core::auth::{check_password, hash_password};
use jexlin_core::names::{Name, check_note};
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
use crate::unit_of_work::{Stranger, UnitOfWork};

/// Unlocks the vaults of all organisations with the open root key.
///
/// # Errors
/// When the root key is not the one of this database; then it is forgotten again.
pub async fn open_all(app: &App, origin: &str, refused: u32) -> AppResult<()> {
    for (id, name) in app.store.organisations().await? {
        let mut tx = app.store.begin(id).await?;
        let row = tx.organisation_row().await?;
        if row.locked_at.is_some() {
            tx.set_locked(None).await?;
        }
        let keys = match app.keyring.open_organisation(&row) {
            Ok(keys) => keys,
            Err(fault) => {
                app.keyring.lock();
                return Err(fault);
            }
        };
        let mut event = Event::new(Uuid::now_v7(), id, app.clock.now(), Action::VaultUnlock);
        event.origin = origin.to_owned();
        event.target = id.to_string();
        event.target_type = TargetType::Organisation.word().into();
        event.target_name = name;
        event
            .detail
            .insert("refused_before".into(), refused.to_string());
        event
            .detail
            .insert("root_keys".into(), app.keyring.root_names().join(", "));
        if let Some(time) = row.locked_at {
            event
                .detail
                .insert("locked_since".into(), time.to_rfc3339());
        }
        tx.commit_with(&event, &keys.mac).await?;
    }
    Ok(())
}

/// First-run set-up: the organisation, its first administrator, and the root key.
pub async fn setup(app: &App, body: Setup, stranger: &Stranger) -> AppResult<Status> {
    let mut opening = app.opening.lock().await;
    if !app.store.organisations().await?.is_empty() {
        return Err(AppError::conflict(
            ErrorCode::AlreadySetUp,
            "There is an organisation already.",
            "Sign in.",
        ));
    }
    if !opening
        .code
        .as_ref()
        .is_some_and(|code| code.same_as(&secret(&body.code)))
    {
        return Err(AppError::forbidden(
            "The set-up code is not the one that the service wrote.",
            "Read it from the file `setup-code` in the service's folder.",
        ));
    }
    let name = Name::parse(&body.organisation)
        .map_err(|problem| AppError::field("organisation", problem.to_string()))?;
    let sign_in_name = Name::parse(&body.sign_in_name)
        .map_err(|problem| AppError::field("sign_in_name", problem.to_string()))?;
    let display_name = Name::parse(&body.display_name)
        .map_err(|problem| AppError::field("display_name", problem.to_string()))?;
    let password = secret(&body.password);
    check_password(&password).map_err(|problem| AppError::field("password", problem))?;

    let mut rng = app.rng()?;
    let (root, file) = if app.keyring.is_open() {
        (app.keyring.root_for_setup()?, None)
    } else {
        let passphrase = body
            .passphrase
            .as_ref()
            .ok_or_else(|| AppError::field("passphrase", "the root key needs a passphrase"))?;
        let root = RootKey::generate(&mut rng);
        let file = root
            .protect(&mut rng, &secret(passphrase))
            .map_err(|problem| AppError::field("passphrase", problem.to_string()))?;
        (root, Some(file))
    };
    let organisation = Uuid::now_v7();
    let now = app.clock.now();
    let (key, wrapped) = OrganisationKey::generate(&mut rng, &root, organisation)?;
    let seed = jexlin_core::vault::Key::generate(&mut rng);
    let log_key_sealed = key.seal_signing_key(&mut rng, organisation, seed.expose_key())?;
    let log_origin = format!("jexlin/{organisation}");
    let signer = Signer::new(&log_origin, seed.expose_key());
    let administrator = PersonRow {
        id: Uuid::now_v7(),
        organisation,
        sign_in_name: sign_in_name.into_string(),
        display_name: display_name.into_string(),
        password_phc: Some(hash_password(&mut rng, &password).map_err(AppError::internal)?),
        state: PersonState::Active.into(),
        duties: Duty::VARIANTS.iter().copied().map(Stored).collect(),
        created_at: now,
        version: 1,
        person_type: PersonType::Person.into(),
        secret_hash: None,
        sign_in_by: None,
    };
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
    let rules = serde_json::to_value(PasswordPolicy::default())
        .map_err(|error| AppError::internal(error.to_string()))?;
    tx.add_policy(&PolicyRow {
        id: Uuid::now_v7(),
        organisation,
        name: "Standard".into(),
        rules,
        is_default: true,
        version: 1,
    })
    .await?;
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
        let path = keyring::root_key_path(&app.config.folder);
        if path.exists() {
            return Err(AppError::conflict(
                ErrorCode::RootKeyExists,
                "There is a root key file already, of another database perhaps.",
                "Move root-key.json away, or start with the database that it belongs to.",
            ));
        }
        keyring::write_private(&path, &file).map_err(|error| {
            AppError::internal(format!("the root key file cannot be written: {error}"))
        })?;
    }
    tx.commit_recorded().await?;
    app.keyring.open(root);
    opening.code = None;
    // Used up; an old file would only mislead.
    let _ = std::fs::remove_file(app.config.folder.join("setup-code"));
    drop(opening);
    Ok(status(app).await)
}

/// Locks the vault of the organisation on all services at once. They forget its keys, and until it
/// is unlocked with the root key's passphrase no service opens a secret, sends one to a device, or
/// signs anyone in.
pub async fn lock_vault(unit: &mut UnitOfWork, body: LockVault) -> AppResult<Status> {
    let organisation = unit.organisation();
    unit.begin(
        Action::VaultLock,
        TargetType::Organisation,
        Some(organisation),
        "",
    )?;
    let reason = body.reason.trim();
    if reason.is_empty() {
        return Err(AppError::field(
            "reason",
            "a reason is required; it is recorded in the audit log",
        ));
    }
    check_note(reason).map_err(|problem| AppError::field("reason", problem))?;
    let name = unit.tx()?.organisation_row().await?.name;
    unit.set_target(organisation, &name);
    unit.add_detail("reason", reason);
    let now = unit.now;
    unit.tx()?.set_locked(Some(now)).await?;
    unit.commit_audited().await?;
    crate::services::forget_locked_keys(&unit.app).await?;
    Ok(status(&unit.app).await)
}

/// Opens the vault with the root key's passphrase.
pub async fn unlock(app: &App, body: Unlock, stranger: &Stranger) -> AppResult<Status> {
    // One at a time: guessing costs a second of Argon2id each.
    let mut opening = app.opening.lock().await;
    let (organisations, open) = (
        app.store.organisations().await?,
        app.store.open_organisations().await?,
    );
    // While the root key changes, the next one is opened beside the one that counts.
    let next = keyring::root_key_name_in(&keyring::next_root_key_path(&app.config.folder));
    let holds_next = next.is_none_or(|next| app.keyring.root_names().contains(&next));
    if app.keyring.is_open() && open.len() == organisations.len() && holds_next {
        return Ok(status(app).await);
    }
    if organisations.is_empty() {
        return Err(AppError::needs_setup());
    }
    let (folder, passphrase) = (app.config.folder.clone(), secret(&body.passphrase));
    let opened = tokio::task::spawn_blocking(move || keyring::read_root_keys(&folder, &passphrase))
        .await
        .map_err(|error| AppError::internal(error.to_string()))?;
    let roots = opened.inspect_err(|_| {
        opening.refused += 1;
        tracing::warn!(origin = %stranger.origin, "opening the vault was refused");
    })?;
    roots.into_iter().for_each(|root| app.keyring.open(root));
    open_all(app, &stranger.origin, opening.refused).await?;
    opening.refused = 0;
    drop(opening);
    crate::services::tell_of_this_service(app).await?;
    app.wake.notify_one();
    Ok(status(app).await)
}

//! The first set-up, and locking and unlocking the vault.

use jexlin_api::{LockVault, Setup, Status, Unlock};
use jexlin_core::audit::{Event, Signer};
use jexlin_core::names::{Name, check_note};
use jexlin_core::policy::PasswordPolicy;
use jexlin_core::vault::sign_in::{check_password, hash_password};
use jexlin_core::vault::{OrganisationKey, RootKey};
use jexlin_store::{OrganisationRow, PersonRow, PolicyRow};
use rocket::{Route, State, post, routes};
use uuid::Uuid;

use super::auth::{DUTIES, secret};
use super::payload::{Body, Call, Sent};
use super::status::status;
use crate::app::App;
use crate::error::{ApiError, ApiResult};
use crate::keyring;
use crate::unit_of_work::StrangerSlot;

pub fn routes() -> Vec<Route> {
    routes![setup, lock_vault, unlock]
}

/// First-run set-up: the organisation, its first administrator, and the root key.
#[utoipa::path(context_path = "", request_body = Setup, responses((status = 200, body = Status)))]
#[post("/api/v1/setup", data = "<body>")]
pub async fn setup(
    app: &State<App>,
    body: Body<Setup>,
    stranger: StrangerSlot,
) -> ApiResult<Sent<Status>> {
    let Body(body) = body;
    let mut opening = app.opening.lock().await;
    if !app.store.organisations().await?.is_empty() {
        return Err(ApiError::conflict(
            "already-set-up",
            "There is an organisation already.",
            "Sign in.",
        ));
    }
    if !opening
        .code
        .as_ref()
        .is_some_and(|code| code.same_as(&secret(&body.code)))
    {
        return Err(ApiError::forbidden(
            "The set-up code is not the one that the service wrote.",
            "Read it from the file `setup-code` in the service's folder.",
        ));
    }
    let name = Name::parse(&body.organisation)
        .map_err(|problem| ApiError::field("organisation", problem.to_string()))?;
    let sign_in_name = Name::parse(&body.sign_in_name)
        .map_err(|problem| ApiError::field("sign_in_name", problem.to_string()))?;
    let display_name = Name::parse(&body.display_name)
        .map_err(|problem| ApiError::field("display_name", problem.to_string()))?;
    let password = secret(&body.password);
    check_password(&password).map_err(|problem| ApiError::field("password", problem))?;

    let mut rng = app.rng()?;
    let (root, file) = if app.keyring.is_open() {
        (app.keyring.root_for_setup()?, None)
    } else {
        let passphrase = body
            .passphrase
            .as_ref()
            .ok_or_else(|| ApiError::field("passphrase", "the root key needs a passphrase"))?;
        let root = RootKey::generate(&mut rng);
        let file = root
            .protect(&mut rng, &secret(passphrase))
            .map_err(|problem| ApiError::field("passphrase", problem.to_string()))?;
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
        password_phc: Some(hash_password(&mut rng, &password).map_err(ApiError::internal)?),
        state: "active".into(),
        duties: DUTIES.map(str::to_owned).to_vec(),
        created_at: now,
        version: 1,
        sort: "person".into(),
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
        .map_err(|error| ApiError::internal(error.to_string()))?;
    tx.add_policy(&PolicyRow {
        id: Uuid::now_v7(),
        organisation,
        name: "Standard".into(),
        rules,
        is_default: true,
        version: 1,
    })
    .await?;
    let mut event = Event::new(Uuid::now_v7(), organisation, now, "organisation.setup");
    event.actor = administrator.id.to_string();
    event.actor_name.clone_from(&administrator.display_name);
    event.origin.clone_from(&stranger.origin);
    event.target = organisation.to_string();
    event.target_type = "organisation".into();
    event.target_name = name.into_string();
    tx.record(&event, &key.event_key()).await?;
    // The key file first: an organisation whose key was never written would be lost.
    if let Some(file) = file {
        let path = keyring::root_key_path(&app.config.folder);
        if path.exists() {
            return Err(ApiError::conflict(
                "root-key-exists",
                "There is a root key file already, of another database perhaps.",
                "Move root-key.json away, or start with the database that it belongs to.",
            ));
        }
        keyring::write_private(&path, &file).map_err(|error| {
            ApiError::internal(format!("the root key file cannot be written: {error}"))
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

/// Locks the vault of the organisation on all services at once. They forget its keys, and until it is
/// unlocked with the root key's passphrase no service opens a secret, sends one to a device, or signs
/// anyone in.
#[utoipa::path(context_path = "", request_body = LockVault, responses((status = 200, body = Status)))]
#[post("/api/v1/lock", data = "<body>")]
pub async fn lock_vault(app: &State<App>, body: Call<LockVault>) -> ApiResult<Sent<Status>> {
    let Call(mut unit, body) = body;
    let organisation = unit.organisation();
    unit.begin_audit("vault.lock", "organisation", Some(organisation), "");
    unit.duty("recovery")?;
    let reason = body.reason.trim();
    if reason.is_empty() {
        return Err(ApiError::field(
            "reason",
            "a reason is required; it is recorded in the audit log",
        ));
    }
    check_note(reason).map_err(|problem| ApiError::field("reason", problem))?;
    let name = unit.tx()?.organisation_row().await?.name;
    unit.set_target(organisation, &name);
    unit.add_detail("reason", reason);
    let now = unit.now;
    unit.tx()?.set_locked(Some(now)).await?;
    unit.commit_audited().await?;
    crate::workers::forget_locked_keys(app).await?;
    Ok(status(app).await)
}

/// Opens the vault with the root key's passphrase.
#[utoipa::path(context_path = "", request_body = Unlock, responses((status = 200, body = Status)))]
#[post("/api/v1/unlock", data = "<body>")]
pub async fn unlock(
    app: &State<App>,
    body: Body<Unlock>,
    stranger: StrangerSlot,
) -> ApiResult<Sent<Status>> {
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
        return Err(ApiError::needs_setup());
    }
    let (folder, passphrase) = (app.config.folder.clone(), secret(&body.0.passphrase));
    let opened = tokio::task::spawn_blocking(move || keyring::read_root_keys(&folder, &passphrase))
        .await
        .map_err(|error| ApiError::internal(error.to_string()))?;
    let roots = opened.inspect_err(|_| {
        opening.refused += 1;
        tracing::warn!(origin = %stranger.origin, "opening the vault was refused");
    })?;
    roots.into_iter().for_each(|root| app.keyring.open(root));
    open_all(app, &stranger.origin, opening.refused).await?;
    opening.refused = 0;
    drop(opening);
    crate::workers::tell_of_this_service(app).await?;
    app.wake.notify_one();
    Ok(status(app).await)
}

/// Unlocks the vaults of all organisations with the open root key.
///
/// # Errors
/// When the root key is not the one of this database; then it is forgotten again.
pub async fn open_all(app: &App, origin: &str, refused: u32) -> ApiResult<()> {
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
        let mut event = Event::new(Uuid::now_v7(), id, app.clock.now(), "vault.unlock");
        event.origin = origin.to_owned();
        event.target = id.to_string();
        event.target_type = "organisation".into();
        event.target_name = name;
        event
            .detail
            .insert("refused_before".into(), refused.to_string());
        event
            .detail
            .insert("root_keys".into(), app.keyring.root_names().join(", "));
        if let Some(at) = row.locked_at {
            event.detail.insert("locked_since".into(), at.to_rfc3339());
        }
        tx.commit_with(&event, &keys.mac).await?;
    }
    Ok(())
}

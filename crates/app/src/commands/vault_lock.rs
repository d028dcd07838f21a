//! Locking the vault, and unlocking it with the root key.

use jexlin_api::{LockVault, Status, Unlock};
use jexlin_core::audit::Event;
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::names::check_note;
use jexlin_core::vault::RootKey;
use jexlin_core::words::Word as _;
use uuid::Uuid;

use super::auth::secret;
use super::status::status;
use crate::app::App;
use crate::error::{AppError, AppResult};
use crate::keyring;
use crate::unit_of_work::{Stranger, UnitOfWork};

/// Unlocks the vaults of all organisations with these root keys and those that are open.
///
/// # Errors
/// When the root key is not the one of this database; then it is forgotten again.
pub async fn open_all(app: &App, roots: Vec<RootKey>, origin: &str, refused: u32) -> AppResult<()> {
    let _turn = app.keyring.turn().await;
    roots.into_iter().for_each(|root| app.keyring.open(root));
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
    open_all(app, roots, &stranger.origin, opening.refused).await?;
    opening.refused = 0;
    drop(opening);
    crate::services::tell_of_this_service(app).await?;
    app.wake.notify_one();
    Ok(status(app).await)
}

//! What the services on one database know of each other: which run, which root keys they hold, and
//! whose vault is locked.

use jexlin_store::ServiceRow;

use crate::app::App;
use crate::error::{AppError, AppResult};
use crate::keyring;
use crate::operators::close_stale_operators;

/// What this service is called among the others: its machine, address and port.
#[must_use]
pub fn name(app: &App) -> String {
    let host = std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
    let (address, port) = (&app.config.address, app.config.port);
    format!("{}, {address}:{port}", host.trim())
}

/// Notes that this service runs, and which root keys it has open and will find again after a
/// restart.
///
/// # Errors
/// [`crate::error::AppError`] when the database cannot be asked.
pub async fn tell_of_this_service(app: &App) -> AppResult<()> {
    let folder = &app.config.folder;
    let files = [
        keyring::root_key_path(folder),
        keyring::next_root_key_path(folder),
    ];
    let managed = keyring::root_key_from_manager(app.config.credentials.as_deref())
        .ok()
        .flatten()
        .map(|root| root.name());
    let kept: Vec<String> = files
        .iter()
        .filter_map(|file| keyring::root_key_name_in(file))
        .chain(managed)
        .collect();
    let row = ServiceRow {
        id: app.id,
        name: name(app),
        root_keys: app
            .keyring
            .root_names()
            .into_iter()
            .filter(|name| kept.contains(name))
            .collect(),
        seen_at: app.clock.now(),
    };
    Ok(app.store.service_runs(&row).await?)
}

/// Puts the file of the next root key in the place of the present one's once no organisation's key
/// is under that any more, and forgets the former. The former file is kept: backups from before
/// need it.
///
/// # Errors
/// [`crate::error::AppError`].
pub async fn settle_root_key(app: &App) -> AppResult<()> {
    // The request that finished the change and the news of it both come here. The second would take
    // the new file for the former one, and keep that in its place.
    static ONE_AT_A_TIME: tokio::sync::Mutex<()> = tokio::sync::Mutex::const_new(());
    let _turn = ONE_AT_A_TIME.lock().await;
    let mut counting = std::collections::BTreeSet::new();
    for (id, _) in app.store.organisations().await? {
        let mut tx = app.store.begin(id).await?;
        let row = tx.organisation_row().await?;
        tx.commit().await?;
        counting.insert(row.root_key);
        counting.extend(row.next_root_key);
    }
    let folder = &app.config.folder;
    let (present, next) = (
        keyring::root_key_path(folder),
        keyring::next_root_key_path(folder),
    );
    let name = keyring::root_key_name_in(&next);
    if counting.len() != 1 || counting.contains("") {
        return Ok(());
    }
    if name.is_some_and(|name| counting.contains(&name)) {
        let trouble = |error: std::io::Error| {
            AppError::internal(format!(
                "the next root key file cannot take its place: {error}"
            ))
        };
        if let Ok(text) = std::fs::read_to_string(&present) {
            keyring::write_private(&keyring::previous_root_key_path(folder), &text)
                .map_err(trouble)?;
        }
        keyring::rename_durably(&next, &present).map_err(trouble)?;
        tracing::info!(
            "the next root key has taken the place of the former one, which is in root-key.previous.json"
        );
    }
    if app
        .keyring
        .root_names()
        .iter()
        .any(|name| counting.contains(name))
    {
        app.keyring.keep_root(|name| counting.contains(name));
    }
    Ok(())
}

/// Forgets the keys of organisations whose vault was locked, on this service or another.
///
/// # Errors
/// [`crate::error::AppError`] when the database cannot be asked.
pub async fn forget_locked_keys(app: &App) -> AppResult<()> {
    if !app.keyring.is_open() {
        // A root key that comes from the service manager is there again once the vault is opened.
        if let Ok(Some(root)) = keyring::root_key_from_manager(app.config.credentials.as_deref())
            && !app.store.open_organisations().await?.is_empty()
        {
            app.keyring.open(root);
        }
        return Ok(());
    }
    // Before the first organisation there is nothing to close.
    if app.store.organisations().await?.is_empty() {
        return Ok(());
    }
    if app.keyring.keep_open(&app.store).await? {
        // What is open beside it closes with it: people open their own folders again by themselves.
        app.personal
            .sessions()
            .into_iter()
            .for_each(|session| app.personal.close(session));
        close_stale_operators(app).await;
    }
    Ok(())
}

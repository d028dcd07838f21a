//! The workers: the sealer, the scheduler, the runners of jobs, and the ear for live news.
//!
//! Any number of services run them on one database (promise 10): the sealer holds the frontier's
//! row, the scheduler skips rows that another has locked, and jobs are leased.

mod assessor;
mod key_change;
mod runner;
mod scheduler;
mod sealer;

use std::time::Duration;

use jexlin_store::ServiceRow;
use uuid::Uuid;

use crate::app::App;
use crate::error::{ApiError, ApiResult};
use crate::keyring;

pub use assessor::judge_once;
pub use key_change::rekey_once;
pub use runner::{device_facts, run_one};
pub use scheduler::schedule_once;
pub use sealer::Seals;

/// Starts all workers of this process. They run until it ends.
pub fn start(app: &App) {
    for_ever("sealer", app, sealer::forever);
    for_ever("scheduler", app, scheduler::forever);
    for_ever("judge", app, assessor::forever);
    for_ever("ear for live news", app, hear);
    for_ever("watch for locked vaults", app, watch_locks);
    for_ever("mover of data keys", app, key_change::forever);
    for_ever("runner", app, runner::forever);
}

/// Begins a worker anew when it ended, which none of them should: a defect in one round must not
/// stop the work of all rounds to come.
fn for_ever<F>(name: &'static str, app: &App, work: fn(App) -> F)
where
    F: Future<Output = ()> + Send + 'static,
{
    let app = app.clone();
    tokio::spawn(async move {
        loop {
            if let Err(error) = tokio::spawn(work(app.clone())).await {
                tracing::error!("the {name} stopped and is started again: {error}");
            }
            tokio::time::sleep(Duration::from_secs(1)).await;
        }
    });
}

/// Listens for news of this and other services; tries again for ever.
async fn hear(app: App) {
    loop {
        if let Err(why) = jexlin_store::listen(&app.config.database, &app.news).await {
            tracing::warn!("live news are interrupted: {why}");
        }
        tokio::time::sleep(Duration::from_secs(2)).await;
    }
}

/// Notes that this service runs, and which root keys it has open and will find again after a restart.
///
/// # Errors
/// [`crate::error::ApiError`] when the database cannot be asked.
pub async fn tell_of_this_service(app: &App) -> ApiResult<()> {
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
    let host = std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
    let row = ServiceRow {
        id: app.id,
        name: format!(
            "{}, {}:{}",
            host.trim(),
            app.config.address,
            app.config.port
        ),
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

/// Puts the file of the next root key in the place of the present one's once no organisation's key is
/// under that any more, and forgets the former. The former file is kept: backups from before need it.
///
/// # Errors
/// [`crate::error::ApiError`].
pub async fn settle_root_key(app: &App) -> ApiResult<()> {
    // The request that finished the change and the news of it both come here. The second would take the
    // new file for the former one, and keep that in its place.
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
            ApiError::internal(format!(
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
/// [`crate::error::ApiError`] when the database cannot be asked.
pub async fn forget_locked_keys(app: &App) -> ApiResult<()> {
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
    if app.keyring.keep(&app.store.open_organisations().await?) {
        // What is open beside it closes with it: people open their own folders again by themselves.
        app.personal
            .sessions()
            .into_iter()
            .for_each(|session| app.personal.close(session));
        runner::close_stale_operators(app).await;
    }
    Ok(())
}

/// Hears at once that a vault was closed, and looks now and then in case the news were lost.
async fn watch_locks(app: App) {
    let mut news = app.news.subscribe();
    let mut round = 0_u32;
    loop {
        if round.is_multiple_of(10)
            && let Err(fault) = tell_of_this_service(&app).await
        {
            tracing::warn!(
                "other services are not told of this one: {}",
                fault.detail()
            );
        }
        if keyring::next_root_key_path(&app.config.folder).exists()
            && let Err(fault) = settle_root_key(&app).await
        {
            tracing::warn!("the change of the root key waits: {}", fault.detail());
        }
        round = round.wrapping_add(1);
        let heard = tokio::time::timeout(Duration::from_secs(1), async {
            while !matches!(news.recv().await, Ok(news) if news.topic == "organisation") {}
        });
        let _ = heard.await;
        if let Err(fault) = forget_locked_keys(&app).await {
            tracing::warn!(
                "whether a vault was closed cannot be seen: {}",
                fault.detail()
            );
        }
    }
}

/// The organisations that work can be done for: none while the vault is locked.
async fn organisations(app: &App) -> Vec<Uuid> {
    if !app.keyring.is_open() {
        return vec![];
    }
    match app.store.open_organisations().await {
        Ok(all) => all.into_iter().map(|one| one.id).collect(),
        Err(error) => {
            tracing::warn!("no work: {error}");
            vec![]
        }
    }
}

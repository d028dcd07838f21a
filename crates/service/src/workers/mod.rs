//! The workers: the sealer, the scheduler, the runners of jobs, and the ear for live news.
//!
//! Any number of services run them on one database (promise 10): the sealer holds the frontier's
//! row, the scheduler skips rows that another has locked, and jobs are leased.

mod assessor;
mod key_change;
mod runner;
mod scheduler;
mod sealer;

use jexlin_core::status::Topic;
use std::time::Duration;

use uuid::Uuid;

use jexlin_app::App;
use jexlin_app::keyring;
use jexlin_app::services::{forget_locked_keys, settle_root_key, tell_of_this_service};

pub use assessor::assess_once;
pub use key_change::rekey_once;
pub use runner::run_one;
pub use scheduler::schedule_once;
pub use sealer::Seals;

/// Starts all workers of this process. They run until it ends.
pub fn start(app: &App) {
    for_ever("sealer", app, sealer::forever);
    for_ever("scheduler", app, scheduler::forever);
    for_ever("assess", app, assessor::forever);
    for_ever("ear for live news", app, hear);
    for_ever("watch for locked vaults", app, watch_locks);
    for_ever("mover of data keys", app, key_change::forever);
    for_ever("runner", app, runner::forever);
}

/// Restarts a worker that ended, which none of them should: a defect in one round must not
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
                fault.for_log()
            );
        }
        if keyring::next_root_key_path(&app.config.folder).exists()
            && let Err(fault) = settle_root_key(&app).await
        {
            tracing::warn!("the change of the root key waits: {}", fault.for_log());
        }
        round = round.wrapping_add(1);
        let heard = tokio::time::timeout(Duration::from_secs(1), async {
            while !matches!(news.recv().await, Ok(news) if news.topic == Topic::Organisation) {}
        });
        let _ = heard.await;
        if let Err(fault) = forget_locked_keys(&app).await {
            tracing::warn!(
                "whether a vault was closed cannot be seen: {}",
                fault.for_log()
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
        Ok(all) => all.into_iter().map(|entry| entry.id).collect(),
        Err(error) => {
            tracing::warn!("no work: {error}");
            vec![]
        }
    }
}

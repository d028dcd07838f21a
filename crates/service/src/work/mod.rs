//! The workers: the sealer, the scheduler, the runners of jobs, and the ear for live news.
//!
//! Any number of services run them on one database (promise 10): the sealer holds the frontier's
//! row, the scheduler skips rows that another has locked, and jobs are leased.

mod judge;
mod run;
mod schedule;
mod seal;

use std::time::Duration;

use chrono::{DateTime, Utc};
use jexlin_core::upkeep::back_off;
use jexlin_store::{AccountRow, CheckoutRow, StoreError, Tx};
use uuid::Uuid;

use crate::app::App;
use crate::problem::Answer;

pub use judge::judge_once;
pub use run::{device_facts, run_one};
pub use schedule::schedule_once;
pub use seal::Seals;

/// Starts all workers of this process. They run until it ends.
pub fn start(app: &App) {
    for_ever("sealer", app, seal::forever);
    for_ever("scheduler", app, schedule::forever);
    for_ever("judge", app, judge::forever);
    for_ever("ear for live news", app, hear);
    for_ever("watch for locked vaults", app, watch_locks);
    for_ever("runner", app, run::forever);
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
                tracing::error!("the {name} broke off and begins anew: {error}");
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

/// Forgets the keys of organisations whose vault somebody has closed, on this service or another.
///
/// # Errors
/// [`crate::problem::Fault`] when the database cannot be asked.
pub async fn forget_locked_keys(app: &App) -> Answer<()> {
    if !app.keyring.is_open() {
        // A root key that comes from the service manager is there again once the vault is opened.
        if let Ok(Some(root)) = crate::keyring::root_key_from_manager(app.config.credentials.as_deref())
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
        app.personal.sessions().into_iter().for_each(|session| app.personal.close(session));
        run::close_stale_operators(app).await;
    }
    Ok(())
}

/// Hears at once that a vault was closed, and looks now and then in case the news were lost.
async fn watch_locks(app: App) {
    let mut news = app.news.subscribe();
    loop {
        let heard = tokio::time::timeout(Duration::from_secs(1), async { while !matches!(news.recv().await, Ok(news) if news.topic == "organisation") {} });
        let _ = heard.await;
        if let Err(fault) = forget_locked_keys(&app).await {
            tracing::warn!("whether a vault was closed cannot be seen: {}", fault.detail());
        }
    }
}

/// The organisations that work can be done for: none while the vault is locked.
async fn organisations(app: &App) -> Vec<Uuid> {
    if !app.keyring.is_open() {
        return vec![];
    }
    match app.store.open_organisations().await {
        Ok(all) => all,
        Err(error) => {
            tracing::warn!("no work: {error}");
            vec![]
        }
    }
}

/// Notes the rotation that a checkout's end asks for as owed, if its gate said so and the credential
/// is the password of an account. Only a rotation that is done clears it. Whether one is owed.
///
/// # Errors
/// [`crate::problem::Fault`].
pub async fn owe_rotation(tx: &mut Tx, checkout: &CheckoutRow, now: DateTime<Utc>) -> Answer<bool> {
    if !checkout.rotate_on_return {
        return Ok(false);
    }
    let Some(account) = tx.account_of(checkout.credential_id).await? else { return Ok(false) };
    tx.owe_rotation(account.id, now).await?;
    // At once, unless another job is under way; the scheduler sees to it otherwise.
    if queue(tx, &account, "rotation", "return", now).await? {
        tx.owed_again(account.id, now + back_off(0)).await?;
    }
    Ok(true)
}

/// Queues a job unless one is under way. Whether it was queued.
async fn queue(tx: &mut Tx, account: &AccountRow, task: &str, cause: &str, now: DateTime<Utc>) -> Answer<bool> {
    let Some(credential) = account.credential_id else { return Ok(false) };
    let way = if tx.operator_of(account.device_id).await?.is_some() { "operator" } else { "self" };
    let organisation = tx.organisation();
    let job = crate::routes::queued(organisation, account, credential, task, way, cause, None, now);
    // A conflict would end the transaction: look first. The row of the credential is held, so that
    // nobody queues another in between.
    tx.credential_locked(credential).await?;
    if tx.job_under_way(account.id).await? {
        return Ok(false);
    }
    match tx.add_job(&job).await {
        Ok(()) => Ok(true),
        Err(StoreError::Conflict(_)) => Ok(false),
        Err(error) => Err(error.into()),
    }
}

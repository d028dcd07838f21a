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

/// The organisations that work can be done for: none while the vault is locked.
async fn organisations(app: &App) -> Vec<Uuid> {
    if !app.keyring.is_open() {
        return vec![];
    }
    match app.store.organisations().await {
        Ok(all) => all.into_iter().map(|(id, _)| id).collect(),
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

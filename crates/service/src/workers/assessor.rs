//! Assesses again what rules, folders or the file of leaked passwords have changed for.

use std::collections::HashMap;
use std::time::Duration;

use jexlin_app::app::App;
use jexlin_app::assessment;
use jexlin_app::error::AppResult;
use jexlin_core::audit::Action;
use jexlin_core::audit::Event;
use jexlin_core::vault::kinds::PASSWORD;
use uuid::Uuid;

/// So many passwords a round and transaction.
const BATCH: i64 = 100;
const PAUSE: Duration = Duration::from_millis(700);

pub(super) async fn forever(app: App) {
    let mut stamps = HashMap::new();
    loop {
        if let Err(fault) = assess_once(&app, &mut stamps).await {
            tracing::warn!("assessment waits: {}", fault.for_log());
            tokio::time::sleep(Duration::from_secs(1)).await;
        }
        tokio::time::sleep(PAUSE).await;
    }
}

/// One round over all organisations. `stamps` is what was last seen of the file of leaked passwords
/// in each. How many were assessed.
///
/// # Errors
/// [`jexlin_app::error::AppError`].
pub async fn assess_once(app: &App, stamps: &mut HashMap<Uuid, String>) -> AppResult<usize> {
    let (mut done, mut last) = (0, None);
    for organisation in super::organisations(app).await {
        // One organisation's trouble is no other's.
        match assess_organisation(app, organisation, stamps).await {
            Ok(count) => done += count,
            Err(fault) => {
                tracing::warn!(%organisation, "assessment goes on with the next organisation: {}", fault.for_log());
                last = Some(fault);
            }
        }
    }
    last.map_or(Ok(done), Err)
}

async fn assess_organisation(
    app: &App,
    organisation: Uuid,
    stamps: &mut HashMap<Uuid, String>,
) -> AppResult<usize> {
    let mut done = 0;
    let stamp = app.leaks.stamp();
    if stamps.get(&organisation) != Some(&stamp) {
        let mut tx = app.store.begin(organisation).await?;
        if tx.note("leaked passwords", &stamp).await? {
            tx.reassess_all(None).await?;
        }
        tx.commit().await?;
        stamps.insert(organisation, stamp);
    }
    let keys = app.keyring.keys(&app.store, organisation).await?;
    loop {
        let mut tx = app.store.begin(organisation).await?;
        let stale = tx.to_assess(PASSWORD, BATCH).await?;
        if stale.is_empty() {
            tx.commit().await?;
            return Ok(done);
        }
        for item in &stale {
            assessment::again(&mut tx, app, &keys, item).await?;
        }
        // Values were opened here, though nothing of them left: the log says so.
        let mut event = Event::new(
            Uuid::now_v7(),
            organisation,
            app.clock.now(),
            Action::VaultAssess,
        );
        event
            .detail
            .insert("passwords".into(), stale.len().to_string());
        tx.commit_with(&event, &keys.mac).await?;
        done += stale.len();
    }
}

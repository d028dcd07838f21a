//! Moves data keys from an organisation's former key to its present one.
//!
//! Everything that is known of it is in the database: a service that is killed leaves whole
//! transactions behind, and any other goes on from there.

use std::time::Duration;

use jexlin_app::app::App;
use jexlin_app::error::{AppError, AppResult};
use jexlin_core::audit::Event;
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::policy::fingerprint_sealed;
use jexlin_core::vault::{Place, Sealed, WrappedKey};
use jexlin_core::words::Word as _;
use uuid::Uuid;

/// How many data keys move in one transaction.
const AT_ONCE: i64 = 100;

/// Moves the data keys of all organisations whose key has changed. How many moved.
///
/// # Errors
/// [`AppError`] of the last organisation where it could not go on.
pub async fn rekey_once(app: &App) -> AppResult<usize> {
    let (mut moved, mut last) = (0, None);
    for organisation in super::organisations(app).await {
        match rekey(app, organisation).await {
            Ok(count) => moved += count,
            Err(fault) => {
                tracing::warn!(%organisation, "data keys wait: {}", fault.for_log());
                last = Some(fault);
            }
        }
    }
    last.map_or(Ok(moved), Err)
}

async fn rekey(app: &App, organisation: Uuid) -> AppResult<usize> {
    let keys = app.keyring.keys(&app.store, organisation).await?;
    if !keys.key.is_changing() {
        return Ok(0);
    }
    let number = keys.key.number();
    let (mut moved, mut after) = (0, Uuid::nil());
    loop {
        let mut tx = app.store.begin(organisation).await?;
        let batch = tx.to_rewrap(number, after, AT_ONCE).await?;
        let Some(last) = batch.last() else {
            tx.commit().await?;
            break;
        };
        after = last.credential;
        for entry in &batch {
            let wrapped = keys.key.rewrap(
                &mut app.rng()?,
                organisation,
                entry.credential,
                &WrappedKey(entry.data_key.clone()),
            )?;
            // The fingerprints that find reuse are made with a key below the organisation's.
            for version in tx.fingerprinted(entry.credential).await? {
                let place = Place {
                    organisation,
                    credential: entry.credential,
                    field: &version.field,
                    version: version.number,
                };
                let fingerprint =
                    fingerprint_sealed(&keys.key, &wrapped, &place, &Sealed(version.sealed))?;
                tx.fingerprint_anew(
                    entry.credential,
                    &version.field,
                    version.number,
                    &fingerprint,
                )
                .await?;
            }
            tx.rewrapped(entry.credential, &wrapped.0, number).await?;
        }
        moved += batch.len();
        tx.commit().await?;
    }
    finish(app, organisation).await?;
    Ok(moved)
}

/// Forgets the former key, unless a data key or an event still needs it.
async fn finish(app: &App, organisation: Uuid) -> AppResult<()> {
    let keys = app.keyring.keys(&app.store, organisation).await?;
    let number = keys.key.number();
    let mut tx = app.store.begin(organisation).await?;
    let row = tx.organisation_row().await?;
    if row.key_number != number
        || row.former_key.is_none()
        || tx.left_to_rewrap(number).await? > 0
        || tx.awaits_former_key(&keys.mac).await?
    {
        return Ok(tx.commit().await?);
    }
    tx.forget_former_key().await?;
    let mut event = Event::new(
        Uuid::now_v7(),
        organisation,
        app.clock.now(),
        Action::OrganisationKeyMoved,
    );
    event.target = organisation.to_string();
    event.target_type = TargetType::Organisation.word().into();
    event.target_name.clone_from(&row.name);
    event.detail.insert("key_number".into(), number.to_string());
    tx.commit_with(&event, &keys.mac).await?;
    app.keyring.keep_open(&app.store).await?;
    Ok(())
}

pub(super) async fn forever(app: App) {
    loop {
        // What could not be moved was told, and is tried again.
        let _: Result<usize, AppError> = rekey_once(&app).await;
        tokio::time::sleep(Duration::from_secs(2)).await;
    }
}

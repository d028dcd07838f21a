//! Devices as core decides about them, and the kept connections of their operators.

use std::sync::Arc;

use jexlin_core::dialogue::Instructions;
use jexlin_core::policy::settings::Settings;
use jexlin_core::upkeep::{ConnectRules, DeviceFacts};
use jexlin_core::vault::VersionState;
use jexlin_core::vault::kinds::PASSWORD;
use jexlin_devices::jump_host;
use jexlin_store::{DeviceRow, Tx};

use crate::app::App;
use crate::error::{AppError, AppResult};
use crate::jump_hosts;

/// The dialogue or recipe of a device that has one.
///
/// # Errors
/// [`AppError`] when it cannot be read.
pub async fn instructions_of(
    app: &App,
    tx: &mut Tx,
    device: &DeviceRow,
) -> AppResult<Option<Arc<Instructions>>> {
    let Some(id) = device.dialogue_id else {
        return Ok(None);
    };
    let row = tx.dialogue(id).await?;
    Ok(Some(app.dialogues.get(id, || row.text)?))
}

/// A device as core decides about it.
///
/// # Errors
/// [`AppError`] when the organisation's rules cannot be read.
pub async fn device_facts(
    app: &App,
    tx: &mut Tx,
    device: &DeviceRow,
    settings: &Settings,
) -> AppResult<DeviceFacts> {
    let dialogue = instructions_of(app, tx, device).await?;
    let rules = ConnectRules::new(&settings.connect_to, app.never_connect_to.to_vec())
        .map_err(AppError::internal)?;
    let facts = |row: &DeviceRow| DeviceFacts {
        device: row.id,
        connector: row.connector.0,
        address: row.address.clone(),
        port: u16::try_from(row.port).unwrap_or(0),
        identity: row.identity.clone(),
        dialogue: None,
        jump_host: None,
        allows_unproven: settings.unproven_devices,
        trust_first_contact: settings.trust_first_contact,
        rules: rules.clone(),
    };
    let jump_host = tx.jump_host(device).await?;
    Ok(DeviceFacts {
        dialogue,
        jump_host: jump_host.as_ref().map(|host| Box::new(facts(host))),
        ..facts(device)
    })
}

/// Ends the kept connections of operators whose password is no longer the current one, or whose
/// binding does not count any more.
pub async fn close_stale_operators(app: &App) {
    if !app.keyring.is_open() {
        jump_host::close_all();
    }
    for kept in app.connectors.kept_operators() {
        let still = async {
            let mut tx = app.store.begin(kept.organisation).await?;
            let device = tx.device(kept.device).await?;
            let current = tx.versions(kept.credential).await?.iter().any(|row| {
                row.field == PASSWORD
                    && row.state == VersionState::Current
                    && row.number == kept.version
            });
            let (settings, _) = crate::settings::settings(&mut tx).await?;
            let facts = device_facts(app, &mut tx, &device, &settings).await?;
            let bound = tx.operator_of(kept.device).await?;
            let reached = jump_hosts::counts(&mut tx, &device, &facts).await?;
            tx.commit().await?;
            let bound = bound.is_some_and(|bound| {
                bound.binding.stored().credential == kept.credential
                    && bound.binding.stored().check(&facts).is_ok()
            });
            Ok::<bool, AppError>(
                current && bound && reached && device.paused_at.is_none() && app.keyring.is_open(),
            )
        };
        // What cannot be looked at is not relied on.
        if !still.await.unwrap_or(false) {
            app.connectors.close_operator(&kept);
        }
    }
}

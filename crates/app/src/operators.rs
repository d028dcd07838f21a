//! Devices as core decides about them, and the kept connections of their operators.

use jexlin_core::policy::settings::Settings;
use jexlin_core::upkeep::{ConnectRules, DeviceFacts};
use jexlin_core::vault::VersionState;
use jexlin_core::vault::kinds::PASSWORD;
use jexlin_store::{DeviceRow, Tx};

use crate::app::App;
use crate::error::{AppError, AppResult};

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
    let dialogue = match device.dialogue_id {
        Some(id) => {
            let row = tx.dialogue(id).await?;
            Some(app.dialogues.get(id, || row.text)?)
        }
        None => None,
    };
    Ok(DeviceFacts {
        device: device.id,
        connector: device.connector.0,
        address: device.address.clone(),
        port: u16::try_from(device.port).unwrap_or(0),
        identity: device.identity.clone(),
        dialogue,
        allows_unproven: settings.unproven_devices,
        trust_first_contact: settings.trust_first_contact,
        rules: ConnectRules::new(&settings.connect_to, app.never_connect_to.to_vec())
            .map_err(AppError::internal)?,
    })
}

/// Ends the kept connections of operators whose password is no longer the current one, or whose
/// binding does not count any more.
pub async fn close_stale_operators(app: &App) {
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
            tx.commit().await?;
            let bound = bound.is_some_and(|bound| {
                bound.binding.stored().credential == kept.credential
                    && bound.binding.stored().check(&facts).is_ok()
            });
            Ok::<bool, AppError>(
                current && bound && device.paused_at.is_none() && app.keyring.is_open(),
            )
        };
        // What cannot be looked at is not relied on.
        if !still.await.unwrap_or(false) {
            app.connectors.close_operator(&kept);
        }
    }
}

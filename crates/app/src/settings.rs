//! The settings of an organisation.

use jexlin_core::policy::settings::Settings;
use jexlin_store::Tx;

use crate::error::{AppError, AppResult};

/// The settings of an organisation.
///
/// # Errors
/// [`AppError`].
pub async fn settings(tx: &mut Tx) -> AppResult<(Settings, i32)> {
    let row = tx.settings().await?;
    let settings = serde_json::from_value(row.body)
        .map_err(|error| AppError::internal(format!("stored settings: {error}")))?;
    Ok((settings, row.revision))
}

//! The settings of an organisation.

use jexlin_core::policy::settings::Settings;
use jexlin_store::Tx;

use crate::error::{ApiError, ApiResult};

/// The settings of an organisation.
///
/// # Errors
/// [`ApiError`].
pub async fn settings(tx: &mut Tx) -> ApiResult<(Settings, i32)> {
    let row = tx.settings().await?;
    let settings = serde_json::from_value(row.body)
        .map_err(|error| ApiError::internal(format!("stored settings: {error}")))?;
    Ok((settings, row.version))
}

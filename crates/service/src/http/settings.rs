//! The settings of the organisation.

use jexlin_api::SettingsItem;
use jexlin_app::commands;
use jexlin_core::policy::settings::Settings;
use rocket::{Route, get, put, routes};

use super::payload::{Call, Decided, IfMatch, Tagged};
use crate::error::ApiResult;
use crate::guards::Unit;

pub fn routes() -> Vec<Route> {
    routes![settings, edit_settings]
}

/// Reads the settings of the organisation. Everybody may read them.
#[utoipa::path(
    operation_id = "settings_read",
    context_path = "",
    responses((status = 200, body = SettingsItem)),
)]
#[get("/api/v1/settings")]
pub async fn settings(mut unit: Unit) -> ApiResult<Tagged<SettingsItem>> {
    Ok(Tagged(commands::settings::settings(&mut unit).await?))
}

/// Edits the settings; all of them are given.
#[utoipa::path(
    operation_id = "settings_edit",
    context_path = "",
    params(("If-Match" = String, Header, description = "The revision that the change is based on")),
    request_body = Settings,
    responses((status = 200, body = SettingsItem)),
)]
#[put("/api/v1/settings", data = "<body>")]
pub async fn edit_settings(
    revision: IfMatch,
    body: Call<Settings>,
) -> ApiResult<Decided<SettingsItem>> {
    let Call(mut unit, settings) = body;
    Ok(Decided(
        commands::settings::edit_settings(&mut unit, revision.0, settings).await?,
    ))
}

//! The settings of the organisation.

use jexlin_api::SettingsItem;
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::policy::settings::Settings;
use jexlin_store::SettingsRow;

use super::second_person::Act;
use super::second_person::MaybePending;
use super::second_person::propose;
use crate::error::{AppError, AppResult};
use crate::paging::Versioned;
use crate::unit_of_work::UnitOfWork;

/// What the organisation has set. Everybody may know it: it tells how long things are shown and
/// kept.
pub async fn settings(unit: &mut UnitOfWork) -> AppResult<Versioned<SettingsItem>> {
    let (settings, revision) = crate::settings::settings(unit.tx()?).await?;
    unit.commit().await?;
    Ok(Versioned(revision, SettingsItem { settings, revision }))
}

/// Changes it; all of it is given.
pub async fn edit_settings(
    unit: &mut UnitOfWork,
    revision: i32,
    settings: Settings,
) -> AppResult<MaybePending<SettingsItem>> {
    unit.begin(Action::SettingsEdit, TargetType::Settings, None, "")?;
    settings
        .check()
        .map_err(|(field, problem)| AppError::field(field, problem))?;
    let (before, _) = crate::settings::settings(unit.tx()?).await?;
    let value = |settings: &Settings| {
        serde_json::to_value(settings).map_err(|error| AppError::internal(error.to_string()))
    };
    let (old, new) = (value(&before)?, value(&settings)?);
    for (name, value) in new
        .as_object()
        .into_iter()
        .flatten()
        .filter(|(name, value)| old.get(name.as_str()) != Some(value))
    {
        unit.add_detail(name, value.to_string());
    }
    if before.is_loosened_by(&settings) {
        let act = Act::ChangeSettings {
            settings: Box::new(settings.clone()),
            revision,
        };
        if let Some(pending) = propose(
            unit,
            act,
            "Let one person do what needed two, or trust devices on first contact",
        )
        .await?
        {
            return Ok(MaybePending::Pending(pending));
        }
    }
    let row = SettingsRow {
        organisation: unit.organisation(),
        body: new,
        revision,
    };
    unit.tx()?.edit_settings(&row).await?;
    unit.commit_audited().await?;
    Ok(MaybePending::Done(
        revision + 1,
        SettingsItem {
            settings,
            revision: revision + 1,
        },
    ))
}

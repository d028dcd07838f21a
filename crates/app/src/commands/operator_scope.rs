//! Where a credential may be used as an operator or as a jump account.

use jexlin_api::OperatorScope;
use jexlin_core::access::mark;
use jexlin_core::audit::{Action, TargetType};
use jexlin_store::ScopeEntry;
use uuid::Uuid;

use crate::error::{AppError, AppResult};
use crate::guards::allow_credential;
use crate::unit_of_work::UnitOfWork;

async fn show_scope(unit: &mut UnitOfWork, credential: Uuid) -> AppResult<OperatorScope> {
    let mut scope = OperatorScope::default();
    for entry in unit.tx()?.operator_scope(credential).await? {
        match entry {
            ScopeEntry::Device(device) => {
                if let Ok(row) = unit.tx()?.device(device).await {
                    scope.paths.push(format!(
                        "{}/{}",
                        unit.tx()?.path_of(row.folder_id).await?,
                        row.name
                    ));
                }
                scope.devices.push(device);
            }
            ScopeEntry::Folder(folder) => {
                scope.paths.push(unit.tx()?.path_of(folder).await?);
                scope.folders.push(folder);
            }
        }
    }
    scope.paths.sort();
    Ok(scope)
}

/// Where a credential may be used as an operator, for its stewards.
pub async fn read_scope(unit: &mut UnitOfWork, credential: Uuid) -> AppResult<OperatorScope> {
    let target = credential;
    allow_credential::<mark::Steward>(unit, target).await?;
    let shown = show_scope(unit, target).await?;
    unit.commit().await?;
    Ok(shown)
}

/// Says where a credential may be used as an operator, in place of what was said before.
pub async fn set_scope(
    unit: &mut UnitOfWork,
    credential: Uuid,
    body: OperatorScope,
) -> AppResult<OperatorScope> {
    let target = credential;
    unit.begin_audit(
        Action::CredentialOperatorScope,
        TargetType::Credential,
        Some(target),
        "",
    );
    allow_credential::<mark::Steward>(unit, target).await?;
    let (person, now) = (unit.person.id, unit.now);
    let mut entries = vec![];
    for device in &body.devices {
        let row = unit
            .tx()?
            .device(*device)
            .await
            .map_err(|_| AppError::unknown("device"))?;
        if unit
            .tx()?
            .reach_folder(person, row.folder_id, now)
            .await?
            .level()
            .is_none()
        {
            return Err(AppError::unknown("device"));
        }
        entries.push(ScopeEntry::Device(*device));
    }
    for folder in &body.folders {
        if unit
            .tx()?
            .reach_folder(person, *folder, now)
            .await?
            .level()
            .is_none()
        {
            return Err(AppError::unknown("folder"));
        }
        entries.push(ScopeEntry::Folder(*folder));
    }
    unit.tx()?.set_operator_scope(target, &entries).await?;
    let shown = show_scope(unit, target).await?;
    unit.add_detail("scope", shown.paths.join(", "));
    unit.commit_audited().await?;
    Ok(shown)
}

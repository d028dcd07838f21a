//! The bin: what was removed, restored in one step, or purged.

use chrono::{DateTime, TimeDelta, Utc};
use jexlin_api::ErrorCode;
use jexlin_api::Removed;
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::vault::RemovedType;
use jexlin_core::words::Word as _;
use jexlin_store::{Conflict, RemovalRow, StoreError};
use uuid::Uuid;

use crate::error::{AppError, AppResult};
use crate::paging::{Paged, Paging};
use crate::unit_of_work::UnitOfWork;

/// A new act of removing by the person who acts.
pub fn removal(
    unit: &UnitOfWork,
    target_type: RemovedType,
    target: Uuid,
    path: String,
    folder: Uuid,
    credentials: i32,
) -> RemovalRow {
    RemovalRow {
        id: Uuid::now_v7(),
        organisation: unit.organisation(),
        target_type: target_type.into(),
        target,
        path,
        folder_id: folder,
        credentials,
        removed_at: unit.now,
        removed_by: Some(unit.person.id),
        restored_at: None,
        purged_at: None,
    }
}

/// What is in the bin of the folders that the asker is a steward of, newest first.
pub async fn list(
    unit: &mut UnitOfWork,
    paging: Paging<(DateTime<Utc>, Uuid)>,
) -> AppResult<Paged<Removed, (DateTime<Utc>, Uuid)>> {
    let (person, now) = (unit.person.id, unit.now);
    let (settings, _) = crate::settings::settings(unit.tx()?).await?;
    let rows = unit
        .tx()?
        .in_bin(person, now, paging.after, paging.limit + 1)
        .await?;
    unit.commit().await?;
    let purged_from = |at: DateTime<Utc>| {
        (settings.bin_days > 0).then(|| at + TimeDelta::days(settings.bin_days.into()))
    };
    Ok(Paged::of(
        rows,
        paging.limit,
        |view| (view.row.removed_at, view.row.id),
        |view| Removed {
            id: view.row.id,
            purged_from: purged_from(view.row.removed_at),
            target_type: view.row.target_type.0,
            path: view.row.path,
            credentials: view.row.credentials,
            removed_at: view.row.removed_at,
            removed_by: view.removed_by_name,
        },
    ))
}

/// Demands to be a steward of all places where it was.
async fn removed(unit: &mut UnitOfWork, target: Uuid) -> AppResult<RemovalRow> {
    let (person, now) = (unit.person.id, unit.now);
    let row = unit
        .tx()?
        .removal(target)
        .await
        .map_err(|_| AppError::unknown("thing in the bin"))?;
    if !unit.tx()?.steward_of_removed(person, target, now).await? {
        return Err(AppError::unknown("thing in the bin"));
    }
    unit.set_target(row.target, &row.path);
    Ok(row)
}

/// Puts back what was removed, all of it in one step.
pub async fn restore(unit: &mut UnitOfWork, removal: Uuid) -> AppResult<()> {
    let target = removal;
    unit.begin_audit(Action::BinRestore, TargetType::Removal, Some(target), "");
    let row = removed(unit, target).await?;
    unit.add_detail("type", row.target_type.0.word());
    unit.add_detail("credentials", row.credentials.to_string());
    let now = unit.now;
    unit.tx()?
        .restore_removal(&row, now)
        .await
        .map_err(|error| match error {
            StoreError::Conflict(Conflict::FolderRemoved) => AppError::conflict(
                ErrorCode::FolderRemoved,
                "The folder that it was in is in the bin too.",
                "Restore that folder first: jexlin bin list.",
            ),
            StoreError::Conflict(Conflict::DeviceRemoved) => AppError::conflict(
                ErrorCode::DeviceRemoved,
                "The device that it is an account of is in the bin.",
                "Restore that device first: jexlin bin list.",
            ),
            StoreError::Conflict(conflict) if conflict.is_name_taken() => AppError::conflict(
                ErrorCode::NameTaken,
                "Something else has its name there now.",
                "Rename what is there now, then restore this.",
            ),
            other => other.into(),
        })?;
    unit.commit_audited().await?;
    Ok(())
}

/// Deletes permanently what was removed. Nothing brings it back.
pub async fn purge(unit: &mut UnitOfWork, removal: Uuid) -> AppResult<()> {
    let target = removal;
    unit.begin_audit(Action::BinPurge, TargetType::Removal, Some(target), "");
    let row = removed(unit, target).await?;
    unit.add_detail("type", row.target_type.0.word());
    let now = unit.now;
    match unit.tx()?.purge_stopped(target, false).await? {
        None => {}
        Some("checked_out") => {
            return Err(AppError::conflict(
                ErrorCode::Held,
                "It is checked out.",
                "Wait until it is checked in, or have a steward recall it.",
            ));
        }
        Some(_) => {
            return Err(AppError::conflict(
                ErrorCode::JobUnderWay,
                "A job is under way for it, or a rotation is in doubt: the device could have either password.",
                "Restore it, and let the rotation end first.",
            ));
        }
    }
    let count = unit.tx()?.purge_removal(target, now).await?;
    unit.add_detail("credentials", count.to_string());
    unit.commit_audited().await?;
    Ok(())
}

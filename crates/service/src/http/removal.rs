//! The bin: what was removed, restored in one step, or purged.

use chrono::{DateTime, TimeDelta, Utc};
use jexlin_api::{Page, Removed};
use jexlin_store::{RemovalRow, StoreError};
use rocket::{Route, delete, get, post, routes};
use uuid::Uuid;

use super::payload::{Sent, id, page, paging};
use crate::error::{ApiError, ApiResult};
use crate::unit_of_work::UnitOfWork;

pub fn routes() -> Vec<Route> {
    routes![list, restore, purge]
}

/// A new act of removing by whoever acts.
pub fn removal(
    unit: &UnitOfWork,
    sort: &str,
    target: Uuid,
    path: String,
    folder: Uuid,
    credentials: i32,
) -> RemovalRow {
    RemovalRow {
        id: Uuid::now_v7(),
        organisation: unit.organisation(),
        sort: sort.into(),
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
#[utoipa::path(context_path = "", params(("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)), responses((status = 200, body = Page<Removed>)))]
#[get("/api/v1/bin?<cursor>&<limit>")]
pub async fn list(
    mut unit: UnitOfWork,
    cursor: Option<&str>,
    limit: Option<i64>,
) -> ApiResult<Sent<Page<Removed>>> {
    let paging = paging::<(DateTime<Utc>, Uuid)>(cursor, limit)?;
    let (person, now) = (unit.person.id, unit.now);
    let (settings, _) = crate::settings::settings(unit.tx()?).await?;
    let rows = unit
        .tx()?
        .in_bin(person, now, paging.after, paging.most + 1)
        .await?;
    unit.commit().await?;
    let purged_from = |at: DateTime<Utc>| {
        (settings.bin_days > 0).then(|| at + TimeDelta::days(settings.bin_days.into()))
    };
    Ok(Sent(page(
        rows,
        paging.most,
        |view| (view.row.removed_at, view.row.id),
        |view| Removed {
            id: view.row.id,
            purged_from: purged_from(view.row.removed_at),
            sort: view.row.sort,
            path: view.row.path,
            credentials: view.row.credentials,
            removed_at: view.row.removed_at,
            removed_by: view.removed_by_name,
        },
    )))
}

/// Demands to be a steward of all places where it was.
async fn removed(unit: &mut UnitOfWork, target: Uuid) -> ApiResult<RemovalRow> {
    let (person, now) = (unit.person.id, unit.now);
    let row = unit
        .tx()?
        .removal(target)
        .await
        .map_err(|_| ApiError::unknown("thing in the bin"))?;
    if !unit.tx()?.steward_of_removed(person, target, now).await? {
        return Err(ApiError::unknown("thing in the bin"));
    }
    unit.set_target(row.target, &row.path);
    Ok(row)
}

/// Puts back what was removed, all of it in one step.
#[utoipa::path(context_path = "", responses((status = 200)))]
#[post("/api/v1/bin/<removal>/restore")]
pub async fn restore(mut unit: UnitOfWork, removal: &str) -> ApiResult<()> {
    let target = id(removal)?;
    unit.begin_audit("bin.restore", "removal", Some(target), "");
    let row = removed(&mut unit, target).await?;
    unit.add_detail("sort", row.sort.clone());
    unit.add_detail("credentials", row.credentials.to_string());
    let now = unit.now;
    unit.tx()?
        .restore_removal(&row, now)
        .await
        .map_err(|error| match error {
            StoreError::Conflict(what) if what == "folder_removed" => ApiError::conflict(
                "folder-removed",
                "The folder that it was in is in the bin itself.",
                "Put that folder back first: jexlin bin list.",
            ),
            StoreError::Conflict(what) if what == "device_removed" => ApiError::conflict(
                "device-removed",
                "The device that it is an account of is in the bin.",
                "Put that device back first: jexlin bin list.",
            ),
            StoreError::Conflict(what) if what.ends_with("_name") => ApiError::conflict(
                "name-taken",
                "Something else has its name there meanwhile.",
                "Rename what is there now, then put this back.",
            ),
            other => other.into(),
        })?;
    unit.commit_audited().await?;
    Ok(())
}

/// Empties for good what was removed. Nothing brings it back.
#[utoipa::path(context_path = "", responses((status = 200)))]
#[delete("/api/v1/bin/<removal>")]
pub async fn purge(mut unit: UnitOfWork, removal: &str) -> ApiResult<()> {
    let target = id(removal)?;
    unit.begin_audit("bin.purge", "removal", Some(target), "");
    let row = removed(&mut unit, target).await?;
    unit.add_detail("sort", row.sort.clone());
    let now = unit.now;
    match unit.tx()?.purge_stopped(target, false).await? {
        None => {}
        Some("checked_out") => {
            return Err(ApiError::conflict(
                "held",
                "Somebody has it checked out.",
                "Wait until it is checked in, or have a steward recall it.",
            ));
        }
        Some(_) => {
            return Err(ApiError::conflict(
                "job-under-way",
                "A job is under way for it, or a rotation is in doubt: the device could have either password.",
                "Put it back, and let the rotation come to its end first.",
            ));
        }
    }
    let count = unit.tx()?.purge_removal(target, now).await?;
    unit.add_detail("credentials", count.to_string());
    unit.commit_audited().await?;
    Ok(())
}

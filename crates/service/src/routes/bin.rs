//! The bin: what was removed, put back in one step, or purged.

use chrono::{DateTime, TimeDelta, Utc};
use jexlin_api::{Page, Removed};
use jexlin_store::{RemovalRow, StoreError};
use rocket::{Route, delete, get, post, routes};
use uuid::Uuid;

use super::exchange::{Sent, id, page, paging};
use crate::acting::Acting;
use crate::judging;
use crate::problem::{Answer, Fault};

pub fn routes() -> Vec<Route> {
    routes![list, put_back, purge]
}

/// A new act of removing by whoever acts.
pub fn removal(acting: &Acting, sort: &str, target: Uuid, path: String, folder: Uuid, credentials: i32) -> RemovalRow {
    RemovalRow {
        id: Uuid::now_v7(),
        organisation: acting.organisation(),
        sort: sort.into(),
        target,
        path,
        folder_id: folder,
        credentials,
        removed_at: acting.now,
        removed_by: Some(acting.person.id),
        restored_at: None,
        purged_at: None,
    }
}

/// What is in the bin of the folders that the asker is a steward of, newest first.
#[utoipa::path(context_path = "", params(("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)), responses((status = 200, body = Page<Removed>)))]
#[get("/api/v1/bin?<cursor>&<limit>")]
pub async fn list(mut acting: Acting, cursor: Option<&str>, limit: Option<i64>) -> Answer<Sent<Page<Removed>>> {
    let paging = paging::<(DateTime<Utc>, Uuid)>(cursor, limit)?;
    let (person, now) = (acting.person.id, acting.now);
    let (settings, _) = judging::settings(acting.tx()?).await?;
    let rows = acting.tx()?.in_bin(person, now, paging.after, paging.most + 1).await?;
    acting.seen().await?;
    let purged_from = |at: DateTime<Utc>| (settings.bin_days > 0).then(|| at + TimeDelta::days(settings.bin_days.into()));
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
async fn removed(acting: &mut Acting, target: Uuid) -> Answer<RemovalRow> {
    let (person, now) = (acting.person.id, acting.now);
    let row = acting.tx()?.removal(target).await.map_err(|_| Fault::unknown("thing in the bin"))?;
    if !acting.tx()?.steward_of_removed(person, target, now).await? {
        return Err(Fault::unknown("thing in the bin"));
    }
    acting.naming(row.target, &row.path);
    Ok(row)
}

/// Puts back what was removed, all of it in one step.
#[utoipa::path(context_path = "", responses((status = 200)))]
#[post("/api/v1/bin/<removal>/put-back")]
pub async fn put_back(mut acting: Acting, removal: &str) -> Answer<()> {
    let target = id(removal)?;
    acting.intends("bin.put-back", "removal", Some(target), "");
    let row = removed(&mut acting, target).await?;
    acting.noting("sort", row.sort.clone());
    acting.noting("credentials", row.credentials.to_string());
    let now = acting.now;
    acting.tx()?.restore_removal(&row, now).await.map_err(|error| match error {
        StoreError::Conflict(what) if what == "folder_removed" => {
            Fault::conflict("folder-removed", "The folder that it was in is in the bin itself.", "Put that folder back first: jexlin bin list.")
        }
        StoreError::Conflict(what) if what == "device_removed" => {
            Fault::conflict("device-removed", "The device that it is an account of is in the bin.", "Put that device back first: jexlin bin list.")
        }
        StoreError::Conflict(what) if what.ends_with("_name") => {
            Fault::conflict("name-taken", "Something else has its name there meanwhile.", "Rename what is there now, then put this back.")
        }
        other => other.into(),
    })?;
    acting.done().await?;
    Ok(())
}

/// Empties for good what was removed. Nothing brings it back.
#[utoipa::path(context_path = "", responses((status = 200)))]
#[delete("/api/v1/bin/<removal>")]
pub async fn purge(mut acting: Acting, removal: &str) -> Answer<()> {
    let target = id(removal)?;
    acting.intends("bin.purge", "removal", Some(target), "");
    let row = removed(&mut acting, target).await?;
    acting.noting("sort", row.sort.clone());
    let now = acting.now;
    match acting.tx()?.purge_stopped(target, false).await? {
        None => {}
        Some("checked_out") => {
            return Err(Fault::conflict("held", "Somebody has it checked out.", "Wait until it is checked in, or have a steward recall it."));
        }
        Some(_) => {
            return Err(Fault::conflict(
                "job-under-way",
                "A job is under way for it, or a rotation is in doubt: the device could have either password.",
                "Put it back, and let the rotation come to its end first.",
            ));
        }
    }
    let count = acting.tx()?.purge_removal(target, now).await?;
    acting.noting("credentials", count.to_string());
    acting.done().await?;
    Ok(())
}

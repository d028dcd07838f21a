//! Folders.

use std::collections::BTreeMap;

use jexlin_api::ErrorCode;
use jexlin_api::{EditFolder, Folder, NewFolder, Page};
use jexlin_core::access::{Level, in_force, mark};
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::people::Duty;
use jexlin_core::vault::RemovedType;
use jexlin_store::{FolderRow, GrantRow, Target, VisibleFolder};
use uuid::Uuid;

use super::names::named;
use super::removal::removal;
use crate::assessment;
use crate::error::{AppError, AppResult};
use crate::guards::allow_folder;
use crate::paging::Versioned;
use crate::unit_of_work::UnitOfWork;

/// The deepest that folders may be in each other.
pub const DEEPEST: usize = 50;

/// Demands to be one of those who may add folders at the top.
pub async fn may_add_at_top(unit: &mut UnitOfWork) -> AppResult<()> {
    let (settings, _) = crate::settings::settings(unit.tx()?).await?;
    if settings.adds_at_top {
        Ok(())
    } else {
        unit.duty(Duty::Folders)
    }
}

fn show_all(rows: Vec<VisibleFolder>) -> Vec<Folder> {
    let by_id: BTreeMap<Uuid, (Option<Uuid>, String)> = rows
        .iter()
        .map(|row| (row.id, (row.parent_id, row.name.clone())))
        .collect();
    let path = |id: Uuid| {
        let mut names = vec![];
        let mut next = Some(id);
        while let Some((parent, name)) = next.and_then(|id| by_id.get(&id)) {
            names.push(name.as_str());
            next = *parent;
        }
        names.reverse();
        format!("/{}", names.join("/"))
    };
    let marks: BTreeMap<Uuid, (Option<Uuid>, bool)> = rows
        .iter()
        .map(|row| {
            (
                row.id,
                (row.parent_id.filter(|_| !row.closed), row.to_others),
            )
        })
        .collect();
    // What reaches somebody else from above does so until a closed folder stops it.
    let shared = |id: Uuid| {
        let mut next = marks.get(&id);
        while let Some((above, to_others)) = next {
            if *to_others {
                return true;
            }
            next = above.and_then(|above| marks.get(&above));
        }
        false
    };
    let show = |row: VisibleFolder| Folder {
        path: path(row.id),
        own_grants: row.own_grants,
        shared: shared(row.id),
        id: row.id,
        parent: row.parent_id,
        name: row.name,
        closed: row.closed,
        level: row.held.and_then(Level::from_number),
        revision: row.revision,
    };
    let mut folders: Vec<Folder> = rows.into_iter().map(show).collect();
    folders.sort_by_key(|folder| folder.path.to_lowercase());
    folders
}

async fn show(unit: &mut UnitOfWork, row: FolderRow) -> AppResult<Folder> {
    let (person, now) = (unit.person.id, unit.now);
    let level = unit.tx()?.reach_folder(person, row.id, now).await?.level();
    let path = unit.tx()?.path_of(row.id).await?;
    let reaching = unit.tx()?.grants_reaching(Target::Folder(row.id)).await?;
    let reaching: Vec<_> = reaching
        .into_iter()
        .filter(|grant| in_force(grant.ends_at, now))
        .collect();
    let (own_grants, shared) = (
        reaching.iter().any(|grant| grant.folder_id == Some(row.id)),
        reaching.iter().any(|grant| grant.person_id != Some(person)),
    );
    Ok(Folder {
        id: row.id,
        parent: row.parent_id,
        name: row.name,
        path,
        closed: row.closed,
        level,
        own_grants,
        shared,
        revision: row.revision,
    })
}

/// The folders that the asker may see, as one list in the order of their paths.
pub async fn list(unit: &mut UnitOfWork) -> AppResult<Page<Folder>> {
    let (person, now) = (unit.person.id, unit.now);
    let rows = unit.tx()?.visible_folders(person, now).await?;
    unit.commit().await?;
    Ok(Page {
        items: show_all(rows),
        next: None,
    })
}

/// Adds a folder. At the top this takes the duty `folders`, unless the organisation lets everybody;
/// whoever adds it there becomes its first steward.
pub async fn add(unit: &mut UnitOfWork, body: NewFolder) -> AppResult<Versioned<Folder>> {
    unit.begin_audit(Action::FolderAdd, TargetType::Folder, None, &body.name);
    let row = FolderRow {
        id: Uuid::now_v7(),
        organisation: unit.organisation(),
        parent_id: body.parent,
        name: named("name", &body.name)?,
        closed: body.closed,
        created_at: unit.now,
        created_by: Some(unit.person.id),
        removed_at: None,
        revision: 1,
    };
    match body.parent {
        Some(parent) => {
            let held = allow_folder::<mark::Edit>(unit, parent).await?.held();
            // A closed folder shuts out those above, so it takes one of them.
            if body.closed && held < Level::Steward {
                return Err(AppError::forbidden(
                    "Only a steward of the folder above may add a closed folder.",
                    "Ask a steward, or add it without closing it.",
                ));
            }
            check_depth(unit, parent, 1).await?;
        }
        None => may_add_at_top(unit).await?,
    }
    unit.tx()?.add_folder(&row).await?;
    // A closed folder would shut its maker out, and a top one has nobody above it.
    if body.parent.is_none() || body.closed {
        let grant = GrantRow {
            id: Uuid::now_v7(),
            organisation: unit.organisation(),
            folder_id: Some(row.id),
            credential_id: None,
            person_id: Some(unit.person.id),
            group_id: None,
            held: Level::Steward.number(),
            ends_at: None,
            note: "added this folder".into(),
            created_at: unit.now,
            created_by: Some(unit.person.id),
            only_kind: None,
            only_tag: None,
            history: true,
        };
        unit.tx()?.add_grant(&grant).await?;
    }
    let shown = show(unit, row).await?;
    unit.set_target(shown.id, &shown.path);
    unit.commit_audited().await?;
    Ok(Versioned(1, shown))
}

async fn check_depth(unit: &mut UnitOfWork, parent: Uuid, height: usize) -> AppResult<()> {
    if unit.tx()?.depth_of(parent).await? + height > DEEPEST {
        return Err(AppError::field(
            "parent",
            format!("folders can be nested {DEEPEST} deep at most"),
        ));
    }
    Ok(())
}

/// One folder.
pub async fn read(unit: &mut UnitOfWork, folder: Uuid) -> AppResult<Versioned<Folder>> {
    let target = folder;
    allow_folder::<mark::List>(unit, target).await?;
    let row = unit.tx()?.folder(target).await?;
    let shown = show(unit, row).await?;
    unit.commit().await?;
    Ok(Versioned(shown.revision, shown))
}

/// Renames, moves, closes or opens a folder, in the transaction that is under way.
pub async fn alter(
    unit: &mut UnitOfWork,
    target: Uuid,
    revision: Option<i32>,
    body: EditFolder,
) -> AppResult<Folder> {
    unit.begin_audit(Action::FolderEdit, TargetType::Folder, Some(target), "");
    let allowed = allow_folder::<mark::Edit>(unit, target).await?;
    let mut row = unit.tx()?.folder(target).await?;
    let path = unit.tx()?.path_of(target).await?;
    unit.set_target(target, &path);
    if let Some(name) = &body.name {
        row.name = named("name", name)?;
        unit.add_detail("name", row.name.clone());
    }
    // What changes who reaches what is for stewards.
    if (body.parent.is_some() || body.to_top || body.closed.is_some())
        && allowed.held() < Level::Steward
    {
        allow_folder::<mark::Steward>(unit, target).await?;
    }
    let gates = unit.tx()?.gate_ids_on_folder(target).await?;
    if let Some(parent) = body.parent {
        allow_folder::<mark::Steward>(unit, parent).await?;
        if unit.tx()?.would_ring(target, parent).await? {
            return Err(AppError::field(
                "parent",
                "a folder cannot be moved into itself or into what is below it",
            ));
        }
        let height = unit.tx()?.subtree_height(target).await?;
        check_depth(unit, parent, height).await?;
        unit.value_may_be_asked().await?;
        let keys = unit.keys.clone();
        assessment::admit_folder(unit.tx()?, &keys, target, parent).await?;
        row.parent_id = Some(parent);
        unit.tx()?.reassess_all(Some(target)).await?;
        let to = unit.tx()?.path_of(parent).await?;
        unit.add_detail("moved_to", to);
    } else if body.to_top {
        may_add_at_top(unit).await?;
        row.parent_id = None;
        unit.tx()?.reassess_all(Some(target)).await?;
        unit.add_detail("moved_to", "/");
    }
    if let Some(closed) = body.closed {
        row.closed = closed;
        unit.add_detail("closed", if closed { "yes" } else { "no" });
    }
    row.revision = revision.unwrap_or(row.revision);
    unit.tx()?.edit_folder(&row).await?;
    let after = unit.tx()?.gate_ids_on_folder(target).await?;
    super::gates::may_leave(unit, &gates, &after).await?;
    row.revision += 1;
    let shown = show(unit, row).await?;
    if shown.level != Some(Level::Steward) && allowed.held() == Level::Steward {
        return Err(AppError::conflict(
            ErrorCode::WouldShutYouOut,
            "After this you would no longer be a steward of the folder.",
            "First grant `steward` on the folder itself to yourself or a group that you are in.",
        ));
    }
    Ok(shown)
}

/// Renames, moves, closes or opens a folder.
pub async fn edit(
    unit: &mut UnitOfWork,
    folder: Uuid,
    revision: i32,
    body: EditFolder,
) -> AppResult<Versioned<Folder>> {
    let shown = alter(unit, folder, Some(revision), body).await?;
    unit.commit_audited().await?;
    Ok(Versioned(shown.revision, shown))
}

/// Moves an empty folder to the bin, or, with `contents`, one with all that is in it, as one act.
pub async fn remove(
    unit: &mut UnitOfWork,
    folder: Uuid,
    revision: i32,
    contents: Option<bool>,
) -> AppResult<Uuid> {
    let target = folder;
    unit.begin_audit(Action::FolderRemove, TargetType::Folder, Some(target), "");
    allow_folder::<mark::Steward>(unit, target).await?;
    let mut row = unit.tx()?.folder(target).await?;
    let path = unit.tx()?.path_of(target).await?;
    unit.set_target(target, &path);
    if contents != Some(true) && !unit.tx()?.folder_is_empty(target).await? {
        return Err(AppError::conflict(
            ErrorCode::NotEmpty,
            "The folder is not empty.",
            "Remove it with its contents (--with-contents), or move the contents first.",
        ));
    }
    row.revision = revision;
    let going = removal(unit, RemovedType::Folder, target, path, target, 0);
    unit.tx()?.add_removal(&going).await?;
    // Its revision says whether somebody else was here; what is in it goes with it.
    unit.tx()?.edit_folder(&row).await?;
    let credentials = unit.tx()?.remove_folder_tree(&going).await?;
    unit.add_detail("credentials", credentials.to_string());
    unit.commit_audited().await?;
    Ok(going.id)
}

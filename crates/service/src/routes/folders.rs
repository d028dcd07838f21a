//! Folders.

use std::collections::BTreeMap;

use jexlin_api::{ChangeFolder, Folder, NewFolder, Page};
use jexlin_core::access::{Allowed, AtLeast, Level, in_force, mark};
use jexlin_store::{FolderRow, GrantRow, Target, VisibleFolder};
use rocket::{Route, delete, get, patch, post, routes};
use uuid::Uuid;

use super::bin::removal;
use super::exchange::{Call, IfMatch, Sent, Versioned, id};
use super::people::named;
use crate::acting::Acting;
use crate::judging;
use crate::problem::{Answer, Fault};

/// The deepest that folders may be in each other.
pub const DEEPEST: usize = 50;

pub fn routes() -> Vec<Route> {
    routes![list, add, read, change, remove]
}

/// Demands to be one of those who may add folders at the top.
pub async fn may_add_at_top(acting: &mut Acting) -> Answer<()> {
    let (settings, _) = judging::settings(acting.tx()?).await?;
    if settings.adds_at_top { Ok(()) } else { acting.duty("folders") }
}

/// Demands a level on a folder.
pub async fn allow_folder<L: AtLeast>(acting: &mut Acting, folder: Uuid) -> Answer<Allowed<L>> {
    let (person, now) = (acting.person.id, acting.now);
    let reach = acting.tx()?.reach_folder(person, folder, now).await?;
    reach.allow::<L>().map_err(|denied| if reach.level().is_none() { Fault::unknown("folder") } else { denied.into() })
}

fn show_all(rows: Vec<VisibleFolder>) -> Vec<Folder> {
    let by_id: BTreeMap<Uuid, (Option<Uuid>, String)> = rows.iter().map(|row| (row.id, (row.parent_id, row.name.clone()))).collect();
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
    let marks: BTreeMap<Uuid, (Option<Uuid>, bool)> = rows.iter().map(|row| (row.id, (row.parent_id.filter(|_| !row.closed), row.to_others))).collect();
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
        version: row.version,
    };
    let mut folders: Vec<Folder> = rows.into_iter().map(show).collect();
    folders.sort_by_key(|folder| folder.path.to_lowercase());
    folders
}

async fn show(acting: &mut Acting, row: FolderRow) -> Answer<Folder> {
    let (person, now) = (acting.person.id, acting.now);
    let level = acting.tx()?.reach_folder(person, row.id, now).await?.level();
    let path = acting.tx()?.path_of(row.id).await?;
    let reaching = acting.tx()?.grants_reaching(Target::Folder(row.id)).await?;
    let reaching: Vec<_> = reaching.into_iter().filter(|grant| in_force(grant.ends_at, now)).collect();
    let (own_grants, shared) = (reaching.iter().any(|grant| grant.folder_id == Some(row.id)), reaching.iter().any(|grant| grant.person_id != Some(person)));
    Ok(Folder { id: row.id, parent: row.parent_id, name: row.name, path, closed: row.closed, level, own_grants, shared, version: row.version })
}

/// The folders that the asker may see, as one list in the order of their paths.
#[utoipa::path(context_path = "", responses((status = 200, body = Page<Folder>)))]
#[get("/api/v1/folders")]
pub async fn list(mut acting: Acting) -> Answer<Sent<Page<Folder>>> {
    let (person, now) = (acting.person.id, acting.now);
    let rows = acting.tx()?.visible_folders(person, now).await?;
    acting.seen().await?;
    Ok(Sent(Page { items: show_all(rows), next: None }))
}

/// Adds a folder. At the top this takes the duty `folders`, unless the organisation lets everybody; whoever adds it there becomes its
/// first steward.
#[utoipa::path(context_path = "", request_body = NewFolder, responses((status = 200, body = Folder)))]
#[post("/api/v1/folders", data = "<body>")]
pub async fn add(body: Call<NewFolder>) -> Answer<Versioned<Folder>> {
    let Call(mut acting, body) = body;
    acting.intends("folder.add", "folder", None, &body.name);
    let row = FolderRow {
        id: Uuid::now_v7(),
        organisation: acting.organisation(),
        parent_id: body.parent,
        name: named("name", &body.name)?,
        closed: body.closed,
        created_at: acting.now,
        created_by: Some(acting.person.id),
        removed_at: None,
        version: 1,
    };
    match body.parent {
        Some(parent) => {
            let held = allow_folder::<mark::Edit>(&mut acting, parent).await?.held();
            // A closed folder shuts out those above, so it takes one of them.
            if body.closed && held < Level::Steward {
                return Err(Fault::forbidden("A closed folder is added by a steward of the folder above.", "Ask one, or add it without closing it."));
            }
            check_depth(&mut acting, parent, 1).await?;
        }
        None => may_add_at_top(&mut acting).await?,
    }
    acting.tx()?.add_folder(&row).await?;
    // A closed folder would shut its maker out, and a top one has nobody above it.
    if body.parent.is_none() || body.closed {
        let grant = GrantRow {
            id: Uuid::now_v7(),
            organisation: acting.organisation(),
            folder_id: Some(row.id),
            credential_id: None,
            person_id: Some(acting.person.id),
            group_id: None,
            held: Level::Steward.number(),
            ends_at: None,
            note: "made this folder".into(),
            created_at: acting.now,
            created_by: Some(acting.person.id),
            only_kind: None,
            only_tag: None,
            history: true,
        };
        acting.tx()?.add_grant(&grant).await?;
    }
    let shown = show(&mut acting, row).await?;
    acting.naming(shown.id, &shown.path);
    acting.done().await?;
    Ok(Versioned(1, shown))
}

async fn check_depth(acting: &mut Acting, parent: Uuid, height: usize) -> Answer<()> {
    if acting.tx()?.depth_of(parent).await? + height > DEEPEST {
        return Err(Fault::field("parent", format!("folders can be {DEEPEST} deep in each other and no deeper")));
    }
    Ok(())
}

/// One folder.
#[utoipa::path(context_path = "", responses((status = 200, body = Folder)))]
#[get("/api/v1/folders/<folder>")]
pub async fn read(mut acting: Acting, folder: &str) -> Answer<Versioned<Folder>> {
    let target = id(folder)?;
    allow_folder::<mark::List>(&mut acting, target).await?;
    let row = acting.tx()?.folder(target).await?;
    let shown = show(&mut acting, row).await?;
    acting.seen().await?;
    Ok(Versioned(shown.version, shown))
}

/// Renames, moves, closes or opens a folder, in the transaction that is under way.
pub async fn alter(acting: &mut Acting, target: Uuid, version: Option<i32>, body: ChangeFolder) -> Answer<Folder> {
    acting.intends("folder.change", "folder", Some(target), "");
    let allowed = allow_folder::<mark::Edit>(acting, target).await?;
    let mut row = acting.tx()?.folder(target).await?;
    let path = acting.tx()?.path_of(target).await?;
    acting.naming(target, &path);
    if let Some(name) = &body.name {
        row.name = named("name", name)?;
        acting.noting("name", row.name.clone());
    }
    // What changes who reaches what is for stewards.
    if (body.parent.is_some() || body.to_top || body.closed.is_some()) && allowed.held() < Level::Steward {
        allow_folder::<mark::Steward>(acting, target).await?;
    }
    let gates = acting.tx()?.gate_ids_on_folder(target).await?;
    if let Some(parent) = body.parent {
        allow_folder::<mark::Steward>(acting, parent).await?;
        if acting.tx()?.would_ring(target, parent).await? {
            return Err(Fault::field("parent", "a folder cannot be moved into itself or into what is below it"));
        }
        let height = acting.tx()?.height_of(target).await?;
        check_depth(acting, parent, height).await?;
        acting.value_may_be_asked().await?;
        let keys = acting.keys.clone();
        judging::admit_folder(acting.tx()?, &keys, target, parent).await?;
        row.parent_id = Some(parent);
        acting.tx()?.judge_all_again(Some(target)).await?;
        let to = acting.tx()?.path_of(parent).await?;
        acting.noting("moved_to", to);
    } else if body.to_top {
        may_add_at_top(acting).await?;
        row.parent_id = None;
        acting.tx()?.judge_all_again(Some(target)).await?;
        acting.noting("moved_to", "/");
    }
    if let Some(closed) = body.closed {
        row.closed = closed;
        acting.noting("closed", if closed { "yes" } else { "no" });
    }
    row.version = version.unwrap_or(row.version);
    acting.tx()?.change_folder(&row).await?;
    let after = acting.tx()?.gate_ids_on_folder(target).await?;
    super::gates::may_leave(acting, &gates, &after).await?;
    row.version += 1;
    let shown = show(acting, row).await?;
    if shown.level != Some(Level::Steward) && allowed.held() == Level::Steward {
        return Err(Fault::conflict(
            "would-shut-you-out",
            "After this you would no longer be a steward of the folder.",
            "Grant yourself or a group of yours `steward` on the folder itself first.",
        ));
    }
    Ok(shown)
}

/// Renames, moves, closes or opens a folder.
#[utoipa::path(context_path = "", request_body = ChangeFolder, responses((status = 200, body = Folder)))]
#[patch("/api/v1/folders/<folder>", data = "<body>")]
pub async fn change(folder: &str, version: IfMatch, body: Call<ChangeFolder>) -> Answer<Versioned<Folder>> {
    let Call(mut acting, body) = body;
    let shown = alter(&mut acting, id(folder)?, Some(version.0), body).await?;
    acting.done().await?;
    Ok(Versioned(shown.version, shown))
}

/// Moves an empty folder to the bin, or, with `contents`, one with all that is in it, as one act.
#[utoipa::path(context_path = "", params(("contents" = Option<bool>, Query)), responses((status = 200)))]
#[delete("/api/v1/folders/<folder>?<contents>")]
pub async fn remove(mut acting: Acting, folder: &str, version: IfMatch, contents: Option<bool>) -> Answer<Sent<Uuid>> {
    let target = id(folder)?;
    acting.intends("folder.remove", "folder", Some(target), "");
    allow_folder::<mark::Steward>(&mut acting, target).await?;
    let mut row = acting.tx()?.folder(target).await?;
    let path = acting.tx()?.path_of(target).await?;
    acting.naming(target, &path);
    if contents != Some(true) && !acting.tx()?.folder_is_empty(target).await? {
        return Err(Fault::conflict("not-empty", "The folder is not empty.", "Remove it with all that is in it (--with-contents), or move that out first."));
    }
    row.version = version.0;
    let going = removal(&acting, "folder", target, path, target, 0);
    acting.tx()?.add_removal(&going).await?;
    // Its version says whether somebody else was here; what is in it goes with it.
    acting.tx()?.change_folder(&row).await?;
    let credentials = acting.tx()?.remove_folder_tree(&going).await?;
    acting.noting("credentials", credentials.to_string());
    acting.done().await?;
    Ok(Sent(going.id))
}

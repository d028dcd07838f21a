//! Importing what exists: a file is read in memory, looked through whole, and stored in one
//! transaction or not at all.

use std::collections::{BTreeMap, HashSet};

use chrono::{DateTime, Utc};
use jexlin_api::ErrorCode;
use jexlin_api::{
    ImportAmbiguity, ImportColumn, ImportItem, ImportOptions, ImportProgress, ImportReadAs,
    ImportReport, ImportUndone, Preview,
};
use jexlin_core::access::mark;
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::transfer::{Kinds, SheetProblem};
use jexlin_core::vault::RemovedType;
use jexlin_core::vault::ValueOrigin;
use jexlin_core::vault::VersionState;
use jexlin_core::vault::{Place, Sealed, WrappedKey, restore as reseal};
use jexlin_store::{CredentialChange, ImportedRow, NewVersion, Target};
use tokio::task::spawn_blocking;
use uuid::Uuid;

use super::import_plan::{Folders, Plan, SheetRows, changed_tags, folders_below, plan, read};
use super::import_store::{MANY, store};
use super::preview::{MOST_TAGGED, relabelled};
use super::removal::removal;
use crate::error::{AppError, AppResult};
use crate::file_reader::FileRead;
use crate::guards::allow_folder;
use crate::import_progress::UnderWay;
use crate::paging::{Paged, Paging};
use crate::unit_of_work::UnitOfWork;

/// The largest file.
pub const MOST_MIB: usize = 64;

/// How far an import of one's own is.
pub async fn progress(unit: &mut UnitOfWork, import: Uuid) -> AppResult<ImportProgress> {
    unit.commit().await?;
    let found = unit
        .app
        .imports
        .0
        .lock()
        .ok()
        .and_then(|all| all.get(&import).copied());
    found
        .filter(|(person, _)| *person == unit.person.id)
        .map(|(_, progress)| progress)
        .ok_or_else(|| AppError::unknown("import under way"))
}

/// Whose access changes by the tags that an import changes. The transaction is undone after this.
async fn whose_access(
    unit: &mut UnitOfWork,
    plans: &[Plan],
    notes: &mut Vec<String>,
) -> AppResult<Option<Preview>> {
    let mut changes = vec![];
    for plan in plans {
        if let Plan::Update(parsed, row) = plan
            && changed_tags(unit, parsed, row).await?.is_some()
        {
            changes.push((row.as_ref().clone(), parsed.tags.clone()));
        }
    }
    if changes.len() > MOST_TAGGED {
        notes.push(format!(
            "access changes are shown for the first {MOST_TAGGED} of {} rows that change a tag which a grant depends on",
            changes.len()
        ));
    }
    relabelled(unit, &changes).await
}

/// The imports into folders that the asker is an editor of, newest first. A page may be shorter
/// than was asked for, since what others have imported elsewhere is left out of it.
pub async fn list(
    unit: &mut UnitOfWork,
    paging: Paging<(DateTime<Utc>, Uuid)>,
) -> AppResult<Paged<ImportItem, (DateTime<Utc>, Uuid)>> {
    let names = super::names::names(unit).await?;
    let mut items = vec![];
    let rows = unit.tx()?.imports(paging.after, paging.limit + 1).await?;
    let page = Paged::of(
        rows,
        paging.limit,
        |row| (row.made_at, row.id),
        std::convert::identity,
    );
    for row in page.items {
        if allow_folder::<mark::Edit>(unit, row.folder_id)
            .await
            .is_err()
        {
            continue;
        }
        items.push(ImportItem {
            id: row.id,
            place: unit.tx()?.path_of(row.folder_id).await?,
            name: row.name,
            made_at: row.made_at,
            made_by: row.made_by.and_then(|person| names.get(&person).cloned()),
            added: row.added,
            updated: row.updated,
            skipped: row.skipped,
            undone_at: row.undone_at,
        });
    }
    unit.commit().await?;
    Ok(Paged {
        items,
        next: page.next,
    })
}

/// Takes an import back as one act: what it added goes to the bin, what it changed becomes what it
/// was, unless somebody has changed it since. What lies where the asker is no steward, moved there
/// or closed off since, is left alone.
pub async fn undo(unit: &mut UnitOfWork, import: Uuid) -> AppResult<ImportUndone> {
    unit.begin_audit(Action::ImportUndo, TargetType::Folder, None, "");
    let row = unit
        .tx()?
        .import_locked(import)
        .await
        .map_err(|_| AppError::unknown("import"))?;
    allow_folder::<mark::Steward>(unit, row.folder_id).await?;
    let path = unit.tx()?.path_of(row.folder_id).await?;
    unit.set_target(row.folder_id, &path);
    unit.add_detail("import", import.to_string());
    unit.add_detail("file", row.name.clone());
    if row.undone_at.is_some() {
        return Err(AppError::conflict(
            ErrorCode::Undone,
            "This import has already been undone.",
            "What it had added is in the bin.",
        ));
    }
    let going = removal(
        unit,
        RemovedType::Import,
        import,
        format!("{path} (import of {})", row.name),
        row.folder_id,
        row.added,
    );
    unit.tx()?.add_removal(&going).await?;
    let (person, now) = (unit.person.id, unit.now);
    let (reached, all) = unit.tx()?.imported_in_reach(import, person, now).await?;
    let removed = unit.tx()?.remove_imported(&going, &reached).await?;
    let changes = unit.tx()?.import_changes(import).await?;
    let (mut restored, mut left) = (0, all - reached.len());
    let reached: std::collections::HashSet<Uuid> = reached.into_iter().collect();
    for change in changes
        .iter()
        .filter(|change| reached.contains(&change.credential_id))
    {
        if restore(unit, change).await? {
            restored += 1;
        } else {
            left += 1;
        }
    }
    let devices = unit
        .tx()?
        .remove_imported_devices(&going, person, now)
        .await?;
    let folders = unit
        .tx()?
        .remove_imported_folders(&going, person, now)
        .await?;
    unit.tx()?.import_undone(import, now).await?;
    let counts = [
        ("removed", removed),
        ("restored", restored),
        ("left", left),
        ("devices", devices),
        ("folders", folders),
    ];
    for (name, count) in counts {
        unit.add_detail(name, count.to_string());
    }
    unit.commit_audited().await?;
    Ok(ImportUndone {
        removed,
        restored,
        left,
        devices,
        folders,
    })
}

/// Makes of a credential what it was before an import, if nobody has changed it since.
async fn restore(unit: &mut UnitOfWork, change: &ImportedRow) -> AppResult<bool> {
    #[derive(serde::Deserialize)]
    struct Former {
        fields: serde_json::Value,
        tags: Vec<String>,
        secrets: BTreeMap<String, Option<i32>>,
        revision: i32,
    }
    let (now, by) = (unit.now, unit.person.id);
    let Ok(row) = unit.tx()?.credential_locked(change.credential_id).await else {
        return Ok(false);
    };
    let former: Former = serde_json::from_value(change.former.clone().unwrap_or_default())
        .map_err(|error| AppError::internal(format!("a stored import: {error}")))?;
    if row.revision != former.revision
        || row.removed_at.is_some()
        || unit.tx()?.has_candidate(row.id).await?
    {
        return Ok(false);
    }
    if former.secrets.values().any(Option::is_some) {
        // A former value becomes the current one: only for whoever could see it.
        let seen = crate::guards::sees_history(unit, by, Target::Credential(row.id)).await?;
        let approach = unit.tx()?.approach(by, row.id, now).await?;
        let passed = match approach.reach.allow::<mark::Reveal>() {
            Ok(allowed) => crate::guards::through_all(unit, &allowed).await.is_ok(),
            Err(_) => false,
        };
        if !seen || !passed {
            return Ok(false);
        }
    }
    for (field, number) in &former.secrets {
        let Some(number) = number else { continue };
        let (sealed, facts) = unit.tx()?.sealed_version(row.id, field, *number).await?;
        let next = unit.tx()?.next_number(row.id, field).await?;
        let from = Place {
            organisation: row.organisation,
            credential: row.id,
            field,
            version: *number,
        };
        let to = Place {
            version: next,
            ..from
        };
        let again = reseal(
            &mut unit.app.rng()?,
            &unit.keys.key,
            &WrappedKey(row.data_key.clone()),
            &from,
            &to,
            &Sealed(sealed),
        )?;
        let new = NewVersion {
            credential: row.id,
            field,
            number: next,
            state: VersionState::Current,
            sealed: &again.0,
            now,
            by: Some(by),
            how: ValueOrigin::Restored,
            reason: "import undone",
            facts,
        };
        unit.tx()?.add_version(&new).await?;
    }
    let change = CredentialChange {
        id: row.id,
        revision: row.revision,
        name: &row.name,
        folder_id: row.folder_id,
        fields: &former.fields,
        extra: &row.extra,
        tags: &former.tags,
        now,
        by: Some(by),
    };
    unit.tx()?.edit_credential(&change).await?;
    unit.tx()?.reassess(row.id).await?;
    let place = format!("{}/{}", unit.tx()?.path_of(row.folder_id).await?, row.name);
    unit.record_beside(
        Action::CredentialRestore,
        TargetType::Credential,
        row.id,
        &place,
        &[("because", "an import was undone".to_owned())],
    )
    .await?;
    Ok(true)
}

/// The report of a file of which nothing is decided yet.
fn empty_report(options: &ImportOptions, read: &SheetRows) -> ImportReport {
    let (sheet, read_as) = (&read.sheet, read.sheet.read_as.clone());
    let head = |index: &usize| sheet.heads.get(*index).cloned().unwrap_or_default();
    ImportReport {
        id: options.id,
        done: false,
        read_as: ImportReadAs {
            format: read_as.format,
            encoding: read_as.encoding,
            separator: read_as.separator,
            sheet: read_as.sheet,
            sheets: read_as.sheets,
            heading_row: read_as.heading_row,
        },
        notes: vec![],
        columns: sheet
            .heads
            .iter()
            .zip(&read.columns)
            .map(|(head, column)| ImportColumn {
                head: head.clone(),
                holds: column.word().to_owned(),
            })
            .collect(),
        ambiguous: read
            .ambiguous
            .iter()
            .map(|(column, indices)| ImportAmbiguity {
                holds: column.word().to_owned(),
                heads: indices.iter().map(head).collect(),
            })
            .collect(),
        rows: sheet.rows.len() + sheet.problems.len(),
        added: 0,
        updated: 0,
        skipped: 0,
        folders: 0,
        devices: 0,
        problems: vec![],
        changes: vec![],
        sentence: String::new(),
        access: None,
    }
}

/// On how many lines something is wrong.
fn lines_with_problems(report: &ImportReport) -> usize {
    let lines = report.problems.iter().map(|problem| problem.line);
    lines.collect::<HashSet<_>>().len()
}

/// The result for the rows, such as `12 added, 1 row not imported`.
fn outcome(report: &ImportReport, bad: usize) -> String {
    let parts = [
        (report.added, "added", "added"),
        (report.updated, "updated", "updated"),
        (report.skipped, "left unchanged", "left unchanged"),
        (report.folders, "folder added", "folders added"),
        (report.devices, "device added", "devices added"),
        (bad, "row not imported", "rows not imported"),
    ];
    let parts: Vec<String> = parts
        .into_iter()
        .filter(|(count, ..)| *count > 0)
        .map(|(count, one, many)| format!("{count} {}", if count == 1 { one } else { many }))
        .collect();
    if parts.is_empty() {
        "no rows".to_owned()
    } else {
        parts.join(", ")
    }
}

/// Why nothing is changed, if that is so.
fn why_not(
    report: &ImportReport,
    options: &ImportOptions,
    plans: &[Plan],
    bad: usize,
    what: &str,
) -> Option<String> {
    if options.preview {
        Some(format!("Dry run: {what}. Nothing was changed."))
    } else if !report.ambiguous.is_empty() {
        Some("Nothing was changed, since several columns look like the same thing.".to_owned())
    } else if bad > 0 && !options.only_good {
        let rows = report.rows;
        Some(format!(
            "Nothing was changed, since {bad} of {rows} rows cannot be imported."
        ))
    } else if plans.is_empty() {
        Some(format!("There was nothing to do: {what}."))
    } else if !report.changes.is_empty() && !options.accept_changes {
        Some(
            "Nothing was changed, since not everything would be taken as it stands in the file."
                .to_owned(),
        )
    } else {
        None
    }
}

/// Imports a file: CSV, TSV, JSON Lines, XLSX or the Credential Exchange Format, the body. It is
/// held in memory alone.
pub async fn import_file(
    unit: &mut UnitOfWork,
    options: ImportOptions,
    file: Result<FileRead, SheetProblem>,
) -> AppResult<ImportReport> {
    unit.begin_audit(
        Action::ImportRun,
        TargetType::Folder,
        Some(options.folder),
        "",
    );
    unit.add_detail("file", options.name.chars().take(120).collect::<String>());
    allow_folder::<mark::Edit>(unit, options.folder).await?;
    let top = unit.tx()?.path_of(options.folder).await?;
    unit.set_target(options.folder, &top);
    let kinds = crate::kinds::in_use(unit.tx()?).await?;
    let default_kind = kinds.iter().find(|kind| kind.name == options.kind).cloned();
    let default_kind = default_kind
        .ok_or_else(|| AppError::field("kind", "there is no such kind; see `jexlin kind list`"))?;
    let kinds = Kinds {
        default_kind,
        known: kinds,
    };
    let known = kinds.clone();
    let FileRead { grid, readings } =
        file.map_err(|problem| AppError::field("file", problem.to_string()))?;
    let _under_way = UnderWay(unit.app.imports.clone(), options.id);
    let (heading_row, wanted) = (options.heading_row, options.columns.clone());
    let reading = spawn_blocking(move || read(grid, &kinds, heading_row, wanted, &readings));
    let sheet_rows = reading
        .await
        .map_err(|error| AppError::internal(error.to_string()))??;
    let mut report = empty_report(&options, &sheet_rows);
    let mut folders = Folders {
        known: folders_below(unit, options.folder).await?,
        new: vec![],
    };
    let (plans, devices) = plan(
        unit,
        &options,
        sheet_rows,
        &mut folders,
        &known,
        &mut report,
    )
    .await?;
    report.folders = folders.new.len();
    report.devices = devices.len();
    if report.devices > 0 {
        report
            .notes
            .push("No password is sent to a new device before its identity is confirmed.".into());
    }
    // What was looked at on the way is not what this is about.
    unit.set_target(options.folder, &top);
    if options.preview {
        report.access = whose_access(unit, &plans, &mut report.notes).await?;
    }
    let bad = lines_with_problems(&report);
    let what = outcome(&report, bad);
    if let Some(sentence) = why_not(&report, &options, &plans, bad, &what) {
        report.sentence = sentence;
        if options.preview {
            unit.undo();
        } else {
            unit.commit().await?;
        }
        return Ok(report);
    }
    store(unit, &options, &folders, &devices, plans, &report).await?;
    report.done = true;
    report.sentence =
        format!("{what}. Now delete the file: anybody who finds it can read its passwords.");
    let counts = [
        ("added", report.added),
        ("updated", report.updated),
        ("skipped", report.skipped),
        ("not_brought_in", bad),
    ];
    counts
        .into_iter()
        .for_each(|(name, count)| unit.add_detail(name, count.to_string()));
    unit.add_detail("import", options.id.to_string());
    unit.commit_audited().await?;
    if report.added > MANY {
        let (store, organisation) = (unit.app.store.clone(), unit.organisation());
        // Nobody waits for it: until it is done, searches take longer and find the same.
        tokio::spawn(async move {
            if let Err(error) = store.settle_import(organisation).await {
                tracing::warn!(%error, "the tables were not analysed after an import");
            }
        });
    }
    Ok(report)
}

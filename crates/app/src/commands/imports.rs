//! Importing what exists: a file is read in memory, looked through whole, and stored in one
//! transaction or not at all.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::Arc;

use chrono::{DateTime, Utc};
use jexlin_api::ErrorCode;
use jexlin_api::{
    ImportColumn, ImportItem, ImportOptions, ImportProblem, ImportProgress, ImportReport,
    ImportUndone, Page, Preview,
};
use jexlin_core::access::mark;
use jexlin_core::audit::Event;
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::names::Name;
use jexlin_core::transfer::MatchKey;
use jexlin_core::transfer::Matching;
use jexlin_core::transfer::{Column, Kinds, Sheet, SheetProblem, Thing, guess, name_of, read_row};
use jexlin_core::vault::RemovedType;
use jexlin_core::vault::ValueOrigin;
use jexlin_core::vault::VersionState;
use jexlin_core::vault::kinds::PASSWORD;
use jexlin_core::vault::readings::Readings;
use jexlin_core::vault::{Place, Sealed, WrappedKey, restore as reseal};
use jexlin_core::words::Word as _;
use jexlin_store::{
    CredentialChange, CredentialRow, FolderRow, ImportRow, ImportedRow, NewVersion,
};
use tokio::task::spawn_blocking;
use uuid::Uuid;

use super::preview::{MOST_TAGGED, relabelled};
use super::removal::removal;
use crate::app::App;
use crate::assessment;
use crate::error::{AppError, AppResult};
use crate::foreign::SheetRead;
use crate::guards::allow_folder;
use crate::import_progress::UnderWay;
use crate::keyring::OpenKeys;
use crate::unit_of_work::UnitOfWork;

/// The largest file.
pub const MOST_MIB: usize = 64;

/// So many rows go to the database together.
const BATCH: usize = 1000;

/// So many new rows change what the database should expect of its tables.
const MANY: usize = 1000;

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

/// What was done with a file that was read.
enum Plan {
    Add(Thing, Uuid),
    Update(Thing, Box<CredentialRow>),
}

/// What was read of a file: the sheet, what its columns are, and each row.
type Read = (
    Sheet,
    Vec<Column>,
    Vec<Result<Thing, Vec<(String, String)>>>,
);

fn read(
    sheet: Sheet,
    kinds: &Kinds,
    columns: Option<Vec<String>>,
    readings: &Readings,
) -> Result<Read, AppError> {
    let columns = match columns {
        None => guess(&sheet.heads, kinds),
        Some(words) => {
            if words.len() != sheet.heads.len() {
                return Err(AppError::field(
                    "columns",
                    format!(
                        "{} columns are named, and the file has {}",
                        words.len(),
                        sheet.heads.len()
                    ),
                ));
            }
            words.iter().map(|word| Column::of(word)).collect()
        }
    };
    let rows = sheet
        .rows
        .iter()
        .map(|row| read_row(&sheet, row, &columns, kinds, readings))
        .collect();
    Ok((sheet, columns, rows))
}

/// Folders on the way: those that are there, by path below the top, and those that are made.
struct Folders {
    known: HashMap<String, Uuid>,
    new: Vec<FolderRow>,
}

fn key_of(path: &[String]) -> String {
    path.iter()
        .map(|name| name.to_lowercase())
        .collect::<Vec<_>>()
        .join("/")
}

async fn folders_below(unit: &mut UnitOfWork, top: Uuid) -> AppResult<HashMap<String, Uuid>> {
    let rows = unit.tx()?.folders_below(top).await?;
    let by_id: HashMap<Uuid, &FolderRow> = rows.iter().map(|row| (row.id, row)).collect();
    let mut known = HashMap::new();
    for row in &rows {
        let mut names = vec![];
        let mut next = Some(row);
        while let Some(at) = next.filter(|at| at.id != top) {
            names.push(at.name.to_lowercase());
            next = at.parent_id.and_then(|parent| by_id.get(&parent)).copied();
        }
        names.reverse();
        known.insert(names.join("/"), row.id);
    }
    Ok(known)
}

impl Folders {
    /// The folder of a path, made if it is not there.
    fn place(&mut self, unit: &UnitOfWork, path: &[String]) -> Option<Uuid> {
        if let Some(found) = self.known.get(&key_of(path)) {
            return Some(*found);
        }
        let (name, above) = path.split_last()?;
        let parent = self.place(unit, above)?;
        let made = FolderRow {
            id: Uuid::now_v7(),
            organisation: unit.organisation(),
            parent_id: Some(parent),
            name: name.clone(),
            closed: false,
            created_at: unit.now,
            created_by: Some(unit.person.id),
            removed_at: None,
            version: 1,
        };
        self.known.insert(key_of(path), made.id);
        self.new.push(made.clone());
        Some(made.id)
    }
}

/// By what one that is there already is recognised.
fn mark_of(
    key: MatchKey,
    folder: Uuid,
    name: &str,
    fields: &BTreeMap<String, String>,
) -> Option<(Uuid, String)> {
    let text = match key {
        MatchKey::Name => Some(name),
        MatchKey::UserName | MatchKey::Url => fields.get(key.word()).map(String::as_str),
    };
    text.map(str::trim)
        .filter(|text| !text.is_empty())
        .map(|text| (folder, text.to_lowercase()))
}

fn plain_fields(row: &CredentialRow) -> BTreeMap<String, String> {
    serde_json::from_value(row.fields.clone()).unwrap_or_default()
}

/// What is to be done with each row; what cannot be is added to the report.
async fn plan(
    unit: &mut UnitOfWork,
    options: &ImportOptions,
    columns: &[Column],
    sheet: &Sheet,
    rows: Vec<Result<Thing, Vec<(String, String)>>>,
    folders: &mut Folders,
    report: &mut ImportReport,
) -> AppResult<Vec<Plan>> {
    // Folders that are there are asked for once each; new ones take the right to what they are in.
    let mut closed: HashMap<String, String> = HashMap::new();
    let mut paths: HashSet<Vec<String>> = rows
        .iter()
        .flatten()
        .map(|thing| thing.folder.clone())
        .collect();
    paths.insert(vec![]);
    let mut places = HashMap::new();
    let mut rules = HashMap::new();
    let before = folders.known.clone();
    for path in paths {
        let mut nearest = path.as_slice();
        while !before.contains_key(&key_of(nearest)) && !nearest.is_empty() {
            nearest = nearest.split_last().map_or(&[], |(_, above)| above);
        }
        let there = before
            .get(&key_of(nearest))
            .copied()
            .unwrap_or(options.folder);
        if allow_folder::<mark::Edit>(unit, there).await.is_err() {
            closed.insert(key_of(&path), "you may not change this folder".to_owned());
            continue;
        }
        rules.insert(
            key_of(&path),
            assessment::rule_for(unit.tx()?, there, None).await?,
        );
        if let Some(place) = folders.place(unit, &path) {
            places.insert(key_of(&path), place);
        }
    }
    let new: HashSet<Uuid> = folders.new.iter().map(|folder| folder.id).collect();
    let old: Vec<Uuid> = places
        .values()
        .filter(|place| !new.contains(place))
        .copied()
        .collect();
    let existing = unit.tx()?.credentials_in(&old).await?;
    let mut names: HashSet<(Uuid, String)> = existing
        .iter()
        .map(|row| (row.folder_id, row.name.to_lowercase()))
        .collect();
    let mut there: HashMap<(Uuid, String), CredentialRow> = HashMap::new();
    for row in existing {
        if let Some(mark) = mark_of(options.key, row.folder_id, &row.name, &plain_fields(&row)) {
            there.entry(mark).or_insert(row);
        }
    }
    let tags_head = report
        .columns
        .iter()
        .find(|column| column.holds == "tags")
        .map_or_else(|| "tags".to_owned(), |column| column.head.clone());
    let name_head = report
        .columns
        .iter()
        .find(|column| column.holds == "name")
        .map_or_else(|| "name".to_owned(), |column| column.head.clone());
    let mut plans = vec![];
    for (read, row) in rows.into_iter().zip(&sheet.rows) {
        let name: String = name_of(row, columns).chars().take(80).collect();
        let mut wrong = |column: &str, problem: String| {
            report.problems.push(ImportProblem {
                line: row.line,
                name: name.clone(),
                column: column.to_owned(),
                problem,
            })
        };
        let mut thing = match read {
            Ok(thing) => thing,
            Err(problems) => {
                problems
                    .into_iter()
                    .for_each(|(column, problem)| wrong(&column, problem));
                continue;
            }
        };
        let path = key_of(&thing.folder);
        if let Some(why) = closed.get(&path) {
            wrong("folder", why.clone());
            continue;
        }
        let Some(place) = places.get(&path).copied() else {
            continue;
        };
        if let Some(rule) = rules.get(&path).filter(|rule| rule.enforced)
            && let Some((_, given)) = thing.secrets.iter().find(|(field, _)| field == PASSWORD)
        {
            let user_name = thing.fields.get("user_name").map_or("", String::as_str);
            let about = jexlin_core::policy::About {
                user_name,
                used_ago: None,
            };
            let lacks = rule
                .policy
                .lacks(given.value.expose_secret_text().unwrap_or_default(), about);
            if !lacks.is_empty() {
                wrong(
                    PASSWORD,
                    format!(
                        "the folder demands the policy “{}”: {}",
                        rule.name,
                        lacks.join("; ")
                    ),
                );
                continue;
            }
        }
        let mark = mark_of(options.key, place, &thing.name, &thing.fields);
        let same = mark.as_ref().and_then(|mark| there.get(mark));
        match (same, options.matching) {
            (Some(_), Matching::Skip) => {
                report.skipped += 1;
                continue;
            }
            (Some(row), Matching::Update) => {
                if row.kind != thing.kind {
                    wrong(
                        &name_head,
                        format!("what is there is a {}, and not a {}", row.kind, thing.kind),
                    );
                    continue;
                }
                if let Some(tags) = changed_tags(unit, &thing, row).await?
                    && crate::guards::allow_credential::<mark::Steward>(unit, row.id)
                        .await
                        .is_err()
                {
                    wrong(
                        &tags_head,
                        format!(
                            "a grant depends on the tag {}, so only a steward of it may change that",
                            tags.join(", ")
                        ),
                    );
                    continue;
                }
                report.updated += 1;
                plans.push(Plan::Update(thing, Box::new(row.clone())));
                // A second row for the same one would undo the first.
                if let Some(mark) = mark {
                    there.remove(&mark);
                }
                continue;
            }
            _ => {}
        }
        if !names.insert((place, thing.name.to_lowercase())) {
            if options.matching != Matching::Duplicate {
                wrong(
                    &name_head,
                    "something in the folder, or a row above, has this name already".to_owned(),
                );
                continue;
            }
            let free = (2..10_000)
                .map(|number| format!("{} ({number})", thing.name))
                .find(|name| names.insert((place, name.to_lowercase())));
            match free.map(|name| Name::parse(&name).map(Name::into_string)) {
                Some(Ok(name)) => thing.name = name,
                _ => {
                    wrong(&name_head, "there is no other name for it".to_owned());
                    continue;
                }
            }
        }
        report.added += 1;
        plans.push(Plan::Add(thing, place));
    }
    Ok(plans)
}

/// The tags of a row that are not those of what is there, when a grant depends on one of them.
async fn changed_tags(
    unit: &mut UnitOfWork,
    thing: &Thing,
    row: &CredentialRow,
) -> AppResult<Option<Vec<String>>> {
    if thing.tags.is_empty() {
        return Ok(None);
    }
    let of = thing.tags.iter().chain(&row.tags);
    let changed: Vec<String> = of
        .filter(|tag| thing.tags.contains(tag) != row.tags.contains(tag))
        .cloned()
        .collect();
    let now = unit.now;
    let moves = !changed.is_empty()
        && unit
            .tx()?
            .tags_move_access(row.folder_id, &changed, now)
            .await?;
    Ok(moves.then_some(changed))
}

/// Whose access changes by the tags that an import changes. The transaction is undone after this.
async fn whose_access(
    unit: &mut UnitOfWork,
    plans: &[Plan],
    notes: &mut Vec<String>,
) -> AppResult<Option<Preview>> {
    let mut changes = vec![];
    for plan in plans {
        if let Plan::Update(thing, row) = plan
            && changed_tags(unit, thing, row).await?.is_some()
        {
            changes.push((row.as_ref().clone(), thing.tags.clone()));
        }
    }
    if changes.len() > MOST_TAGGED {
        notes.push(format!(
            "whose access changes is worked out for the first {MOST_TAGGED} of {} rows that change a tag which a grant depends on",
            changes.len()
        ));
    }
    relabelled(unit, &changes).await
}

fn to_json<T: serde::Serialize>(value: &T) -> AppResult<serde_json::Value> {
    serde_json::to_value(value).map_err(|error| AppError::internal(error.to_string()))
}

/// What sealing needs to know; it is done beside the transaction.
struct Sealing {
    app: App,
    keys: Arc<OpenKeys>,
    organisation: Uuid,
    now: DateTime<Utc>,
    by: Uuid,
    by_name: String,
    origin: String,
    import: Uuid,
    /// Of each folder that something goes into.
    paths: HashMap<Uuid, String>,
}

/// A stretch of an import, ready to be kept.
#[derive(Default)]
struct Stretch {
    rows: usize,
    new: Vec<CredentialRow>,
    /// Credential, field, value, facts.
    secrets: Vec<(Uuid, String, Vec<u8>, serde_json::Value)>,
    events: Vec<Event>,
    changes: Vec<(Thing, Box<CredentialRow>)>,
    imported: Vec<ImportedRow>,
}

impl Sealing {
    fn event(&self, action: Action, target: Uuid, place: Uuid, name: &str) -> Event {
        let mut event = Event::new(Uuid::now_v7(), self.organisation, self.now, action);
        event.actor = self.by.to_string();
        event.actor_name.clone_from(&self.by_name);
        event.origin.clone_from(&self.origin);
        event.target = target.to_string();
        event.target_type = TargetType::Credential.word().into();
        event.target_name = format!(
            "{}/{name}",
            self.paths.get(&place).map_or("", String::as_str)
        );
        event
            .detail
            .insert("import".into(), self.import.to_string());
        event
    }

    fn seal(&self, some: Vec<Plan>) -> AppResult<Stretch> {
        let mut sealed = Stretch {
            rows: some.len(),
            ..Stretch::default()
        };
        let (mut rng, organisation) = (self.app.rng()?, self.organisation);
        for plan in some {
            match plan {
                Plan::Update(thing, row) => {
                    sealed.events.push(self.event(
                        Action::CredentialEdit,
                        row.id,
                        row.folder_id,
                        &row.name,
                    ));
                    sealed.changes.push((thing, row));
                }
                Plan::Add(thing, place) => {
                    let credential = Uuid::now_v7();
                    let (data_key, wrapped) =
                        self.keys
                            .key
                            .generate_data_key(&mut rng, organisation, credential)?;
                    for (field, given) in &thing.secrets {
                        let value = data_key.seal(
                            &mut rng,
                            &Place {
                                organisation,
                                credential,
                                field,
                                version: 1,
                            },
                            &given.value,
                        )?;
                        sealed.secrets.push((
                            credential,
                            field.clone(),
                            value.0,
                            to_json(&given.facts)?,
                        ));
                    }
                    sealed.events.push(self.event(
                        Action::CredentialAdd,
                        credential,
                        place,
                        &thing.name,
                    ));
                    sealed.imported.push(ImportedRow {
                        import_id: self.import,
                        organisation,
                        credential_id: credential,
                        former: None,
                    });
                    sealed.new.push(CredentialRow {
                        id: credential,
                        organisation,
                        folder_id: place,
                        kind: thing.kind.clone(),
                        name: thing.name.clone(),
                        fields: to_json(&thing.fields)?,
                        device_id: None,
                        data_key: wrapped.0,
                        created_at: self.now,
                        created_by: Some(self.by),
                        changed_at: self.now,
                        changed_by: Some(self.by),
                        removed_at: None,
                        version: 1,
                        removal_id: None,
                        extra: serde_json::json!([]),
                        tags: thing.tags.clone(),
                    });
                }
            }
        }
        Ok(sealed)
    }
}

async fn store(
    unit: &mut UnitOfWork,
    options: &ImportOptions,
    folders: &Folders,
    plans: Vec<Plan>,
    report: &ImportReport,
) -> AppResult<()> {
    let (organisation, now, by, rows) =
        (unit.organisation(), unit.now, unit.person.id, plans.len());
    if rows > MANY {
        unit.tx()?.expect_growth().await?;
    }
    for folder in &folders.new {
        unit.tx()?.add_folder(folder).await?;
    }
    let mut paths: HashMap<Uuid, String> = HashMap::new();
    let places: HashSet<Uuid> = plans
        .iter()
        .map(|plan| match plan {
            Plan::Add(_, place) => *place,
            Plan::Update(_, row) => row.folder_id,
        })
        .collect();
    for place in places {
        let path = unit.tx()?.path_of(place).await?;
        paths.insert(place, path);
    }
    let sealing = Arc::new(Sealing {
        app: unit.app.clone(),
        keys: Arc::clone(&unit.keys),
        organisation,
        now,
        by,
        by_name: unit.person.display_name.clone(),
        origin: unit.origin().to_owned(),
        import: options.id,
        paths,
    });
    let (mut imported, mut done) = (vec![], 0);
    let mut plans = plans.into_iter();
    // While the database keeps one stretch the next is sealed.
    let mut begin = || {
        let some: Vec<Plan> = plans.by_ref().take(BATCH).collect();
        let sealing = Arc::clone(&sealing);
        (!some.is_empty()).then(|| spawn_blocking(move || sealing.seal(some)))
    };
    let mut next = begin();
    while let Some(under_way) = next {
        let sealed = under_way
            .await
            .map_err(|error| AppError::internal(error.to_string()))??;
        next = begin();
        done += sealed.rows;
        if !sealed.new.is_empty() {
            unit.tx()?.add_credentials(&sealed.new).await?;
            let versions: Vec<NewVersion<'_>> = sealed
                .secrets
                .iter()
                .map(|(credential, field, value, facts)| NewVersion {
                    credential: *credential,
                    field,
                    number: 1,
                    state: VersionState::Current,
                    sealed: value,
                    now,
                    by: Some(by),
                    how: ValueOrigin::Imported,
                    why: "",
                    facts: facts.clone(),
                })
                .collect();
            unit.tx()?.add_first_versions(&versions).await?;
        }
        imported.extend(sealed.imported);
        for (thing, row) in sealed.changes {
            imported.push(update(unit, options.id, &thing, &row).await?);
        }
        let judged: Vec<Uuid> = sealed.new.iter().map(|row| row.id).collect();
        unit.tx()?.judge_these_again(&judged).await?;
        let keys = Arc::clone(&unit.keys);
        unit.tx()?.record_all(&sealed.events, &keys.mac).await?;
        unit.app
            .imports
            .note(options.id, by, ImportProgress { done, rows });
    }
    let count = |number: usize| i32::try_from(number).unwrap_or(i32::MAX);
    let row = ImportRow {
        id: options.id,
        organisation,
        name: options.name.chars().take(120).collect(),
        folder_id: options.folder,
        made_at: now,
        made_by: Some(by),
        added: count(report.added),
        updated: count(report.updated),
        skipped: count(report.skipped),
        undone_at: None,
    };
    unit.tx()?.add_import(&row, &imported).await?;
    if rows > MANY {
        unit.tx()?.note_growth().await?;
    }
    Ok(())
}

/// Changes what is there to what a row says; what the row does not say stays.
async fn update(
    unit: &mut UnitOfWork,
    import: Uuid,
    thing: &Thing,
    row: &CredentialRow,
) -> AppResult<ImportedRow> {
    let (now, by) = (unit.now, unit.person.id);
    let row = {
        let held = unit.tx()?.credential_locked(row.id).await?;
        if held.version != row.version {
            return Err(AppError::stale());
        }
        held
    };
    let mut fields = plain_fields(&row);
    fields.extend(
        thing
            .fields
            .iter()
            .map(|(name, value)| (name.clone(), value.clone())),
    );
    let tags = if thing.tags.is_empty() {
        row.tags.clone()
    } else {
        thing.tags.clone()
    };
    if changed_tags(unit, thing, &row).await?.is_some() {
        crate::guards::allow_credential::<mark::Steward>(unit, row.id).await?;
    }
    let user =
        |fields: &BTreeMap<String, String>| fields.get("user_name").cloned().unwrap_or_default();
    if row.device_id.is_some() && user(&fields) != user(&plain_fields(&row)) {
        return Err(AppError::conflict(
            ErrorCode::IsAccount,
            format!(
                "{} is the password of an account on a device, and the user name is the account's.",
                row.name
            ),
            "Take it off the device first, or leave its user name.",
        ));
    }
    let mut numbers = BTreeMap::new();
    let versions = unit.tx()?.versions(row.id).await?;
    if unit.tx()?.has_candidate(row.id).await? {
        return Err(AppError::rotating());
    }
    let data_key = unit.keys.key.unwrap_data_key(
        row.organisation,
        row.id,
        &WrappedKey(row.data_key.clone()),
    )?;
    for (field, given) in &thing.secrets {
        let former = versions
            .iter()
            .find(|version| version.field == *field && version.state == VersionState::Current)
            .map(|version| version.number);
        numbers.insert(field.clone(), former);
        let number = unit.tx()?.next_number(row.id, field).await?;
        let place = Place {
            organisation: row.organisation,
            credential: row.id,
            field,
            version: number,
        };
        let sealed = data_key.seal(&mut unit.app.rng()?, &place, &given.value)?;
        let facts = to_json(&given.facts)?;
        let new = NewVersion {
            credential: row.id,
            field,
            number,
            state: VersionState::Current,
            sealed: &sealed.0,
            now,
            by: Some(by),
            how: ValueOrigin::Imported,
            why: "",
            facts,
        };
        unit.tx()?.add_version(&new).await?;
    }
    let kept = to_json(&fields)?;
    let change = CredentialChange {
        id: row.id,
        version: row.version,
        name: &row.name,
        folder_id: row.folder_id,
        fields: &kept,
        extra: &row.extra,
        tags: &tags,
        now,
        by: Some(by),
    };
    unit.tx()?.change_credential(&change).await?;
    unit.tx()?.judge_again(row.id).await?;
    let former = serde_json::json!({"fields": row.fields, "tags": row.tags, "secrets": numbers, "version": row.version + 1});
    Ok(ImportedRow {
        import_id: import,
        organisation: row.organisation,
        credential_id: row.id,
        former: Some(former),
    })
}

/// The imports into folders that the asker is an editor of, newest first.
pub async fn list(unit: &mut UnitOfWork) -> AppResult<Page<ImportItem>> {
    let names = super::names::names(unit).await?;
    let mut items = vec![];
    for row in unit.tx()?.imports(200).await? {
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
    Ok(Page { items, next: None })
}

/// Takes an import back as one act: what it added goes to the bin, what it changed becomes what it
/// was, unless somebody has changed it since. What lies where the asker is no steward, moved there or
/// closed off since, is left alone.
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
            "This import has been undone already.",
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
    unit.tx()?.import_undone(import, now).await?;
    for (name, count) in [("removed", removed), ("restored", restored), ("left", left)] {
        unit.add_detail(name, count.to_string());
    }
    unit.commit_audited().await?;
    Ok(ImportUndone {
        removed,
        restored,
        left,
    })
}

/// Makes of a credential what it was before an import, if nobody has changed it since.
async fn restore(unit: &mut UnitOfWork, change: &ImportedRow) -> AppResult<bool> {
    #[derive(serde::Deserialize)]
    struct Former {
        fields: serde_json::Value,
        tags: Vec<String>,
        secrets: BTreeMap<String, Option<i32>>,
        version: i32,
    }
    let (now, by) = (unit.now, unit.person.id);
    let Ok(row) = unit.tx()?.credential_locked(change.credential_id).await else {
        return Ok(false);
    };
    let former: Former = serde_json::from_value(change.former.clone().unwrap_or_default())
        .map_err(|error| AppError::internal(format!("a stored import: {error}")))?;
    if row.version != former.version
        || row.removed_at.is_some()
        || unit.tx()?.has_candidate(row.id).await?
    {
        return Ok(false);
    }
    if former.secrets.values().any(Option::is_some) {
        // A former value becomes the current one: only for whoever could see it.
        let seen = unit.tx()?.may_see_history(by, row.id, now).await?;
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
            why: "import undone",
            facts,
        };
        unit.tx()?.add_version(&new).await?;
    }
    let change = CredentialChange {
        id: row.id,
        version: row.version,
        name: &row.name,
        folder_id: row.folder_id,
        fields: &former.fields,
        extra: &row.extra,
        tags: &former.tags,
        now,
        by: Some(by),
    };
    unit.tx()?.change_credential(&change).await?;
    unit.tx()?.judge_again(row.id).await?;
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

/// Imports a file: CSV, TSV, JSON Lines, XLSX or the Credential Exchange Format, the body. It is
/// held in memory alone.
pub async fn import_file(
    unit: &mut UnitOfWork,
    options: ImportOptions,
    file: Result<SheetRead, SheetProblem>,
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
    let SheetRead {
        format,
        sheet,
        readings,
    } = file.map_err(|problem| AppError::field("file", problem.to_string()))?;
    let _under_way = UnderWay(unit.app.imports.clone(), options.id);
    let wanted = options.columns.clone();
    let reading = spawn_blocking(move || read(sheet, &kinds, wanted, &readings));
    let (sheet, columns, rows) = reading
        .await
        .map_err(|error| AppError::internal(error.to_string()))??;
    let mut report = ImportReport {
        id: options.id,
        done: false,
        format,
        notes: sheet.notes.clone(),
        columns: sheet
            .heads
            .iter()
            .zip(&columns)
            .map(|(head, column)| ImportColumn {
                head: head.clone(),
                holds: column.word().to_owned(),
            })
            .collect(),
        rows: rows.len(),
        added: 0,
        updated: 0,
        skipped: 0,
        folders: 0,
        problems: vec![],
        sentence: String::new(),
        access: None,
    };
    let mut folders = Folders {
        known: folders_below(unit, options.folder).await?,
        new: vec![],
    };
    let plans = plan(
        unit,
        &options,
        &columns,
        &sheet,
        rows,
        &mut folders,
        &mut report,
    )
    .await?;
    report.folders = folders.new.len();
    // What was looked at on the way is not what this is about.
    unit.set_target(options.folder, &top);
    if options.preview {
        report.access = whose_access(unit, &plans, &mut report.notes).await?;
    }
    let stopped =
        options.preview || plans.is_empty() || (!report.problems.is_empty() && !options.only_good);
    let bad = report
        .problems
        .iter()
        .map(|problem| problem.line)
        .collect::<HashSet<_>>()
        .len();
    let of = |count: usize, one: &str, many: &str| {
        if count == 1 {
            format!("1 {one}")
        } else {
            format!("{count} {many}")
        }
    };
    let what = [
        (report.added, "added", "added"),
        (report.updated, "changed", "changed"),
        (report.skipped, "left as it is", "left as they are"),
        (report.folders, "folder made", "folders made"),
        (bad, "row not imported", "rows not imported"),
    ];
    let what: Vec<String> = what
        .into_iter()
        .filter(|(count, ..)| *count > 0)
        .map(|(count, one, many)| of(count, one, many))
        .collect();
    let what = if what.is_empty() {
        "no rows".to_owned()
    } else {
        what.join(", ")
    };
    if stopped {
        report.sentence = if options.preview {
            format!("Dry run: {what}. Nothing was changed.")
        } else if plans.is_empty() {
            format!("There was nothing to do: {what}.")
        } else {
            format!(
                "Nothing was changed, since {bad} of {} rows cannot be imported.",
                report.rows
            )
        };
        if options.preview {
            unit.undo();
        } else {
            unit.commit().await?;
        }
        return Ok(report);
    }
    store(unit, &options, &folders, plans, &report).await?;
    report.done = true;
    report.sentence =
        format!("{what}. Now destroy the file: everybody who finds it has what is in it.");
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
    Ok(report)
}

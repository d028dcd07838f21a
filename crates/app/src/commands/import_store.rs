//! Storing what an import does: sealed beside the transaction, stretch by stretch.

use std::collections::hash_map::Entry;
use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::Arc;

use chrono::{DateTime, Utc};
use jexlin_api::{ErrorCode, ImportOptions, ImportProgress, ImportReport};
use jexlin_core::access::mark;
use jexlin_core::audit::{Action, Event, TargetType};
use jexlin_core::transfer::ParsedRow;
use jexlin_core::vault::{Place, ValueOrigin, VersionState, WrappedKey};
use jexlin_core::words::Word as _;
use jexlin_store::{
    CredentialChange, CredentialRow, DeviceRow, ImportRow, ImportedRow, NewVersion,
};
use tokio::task::spawn_blocking;
use uuid::Uuid;

use super::bindings::give;
use super::import_plan::{Folders, Plan, changed_tags, plain_fields};
use crate::app::App;
use crate::error::{AppError, AppResult};
use crate::keyring::OpenKeys;
use crate::unit_of_work::UnitOfWork;

/// So many rows go to the database together.
const BATCH: usize = 1000;

/// So many new rows change what the database should expect of its tables.
pub const MANY: usize = 1000;

/// A value as JSON.
pub fn to_json<T: serde::Serialize>(value: &T) -> AppResult<serde_json::Value> {
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
    changes: Vec<(ParsedRow, Box<CredentialRow>)>,
    imported: Vec<ImportedRow>,
    /// Credential, user name, device.
    accounts: Vec<(Uuid, String, Uuid)>,
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

    fn seal(&self, part: Vec<Plan>) -> AppResult<Stretch> {
        let mut sealed = Stretch {
            rows: part.len(),
            ..Stretch::default()
        };
        let (mut rng, organisation) = (self.app.rng()?, self.organisation);
        for plan in part {
            match plan {
                Plan::Update(parsed, row) => {
                    sealed.events.push(self.event(
                        Action::CredentialEdit,
                        row.id,
                        row.folder_id,
                        &row.name,
                    ));
                    sealed.changes.push((parsed, row));
                }
                Plan::Add(parsed, place, device) => {
                    let credential = Uuid::now_v7();
                    if let Some(device) = device {
                        let login = parsed.fields.get("user_name").cloned().unwrap_or_default();
                        sealed.accounts.push((credential, login, device));
                    }
                    let (data_key, wrapped) =
                        self.keys
                            .key
                            .generate_data_key(&mut rng, organisation, credential)?;
                    for (field, given) in &parsed.secrets {
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
                        &parsed.name,
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
                        kind: parsed.kind.clone(),
                        name: parsed.name.clone(),
                        fields: to_json(&parsed.fields)?,
                        device_id: None,
                        data_key: wrapped.0,
                        created_at: self.now,
                        created_by: Some(self.by),
                        changed_at: self.now,
                        changed_by: Some(self.by),
                        removed_at: None,
                        revision: 1,
                        removal_id: None,
                        extra: serde_json::json!([]),
                        tags: parsed.tags.clone(),
                    });
                }
            }
        }
        Ok(sealed)
    }
}

/// Does what was planned, and notes the import. The folders are added last: whoever moves or closes
/// one meanwhile waits for that alone.
pub async fn store(
    unit: &mut UnitOfWork,
    options: &ImportOptions,
    folders: &Folders,
    devices: &[DeviceRow],
    plans: Vec<Plan>,
    report: &ImportReport,
) -> AppResult<()> {
    let (organisation, now, by, rows) =
        (unit.organisation(), unit.now, unit.person.id, plans.len());
    if rows > MANY {
        unit.tx()?.expect_growth().await?;
    }
    let updates = plans.iter().any(|plan| matches!(plan, Plan::Update(..)));
    if !folders.new.is_empty() {
        unit.tx()?.folders_may_follow().await?;
        // Whoever moves a folder holds the tree first and then what is in it.
        if updates {
            unit.tx()?.hold_tree_shared().await?;
        }
    }
    let paths = paths_of(unit, folders, &plans).await?;
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
    let (mut imported, mut accounts, mut done) = (vec![], vec![], 0);
    let mut plans = plans.into_iter();
    // While the database keeps one stretch the next is sealed.
    let mut begin = || {
        let part: Vec<Plan> = plans.by_ref().take(BATCH).collect();
        let sealing = Arc::clone(&sealing);
        (!part.is_empty()).then(|| spawn_blocking(move || sealing.seal(part)))
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
                    reason: "",
                    facts: facts.clone(),
                })
                .collect();
            unit.tx()?.add_first_versions(&versions).await?;
        }
        imported.extend(sealed.imported);
        accounts.extend(sealed.accounts);
        let mut changes = sealed.changes;
        // In the order in which everybody holds credentials.
        changes.sort_by_key(|(_, row)| row.id);
        for (parsed, row) in changes {
            imported.push(update(unit, options.id, &parsed, &row).await?);
        }
        let assessed: Vec<Uuid> = sealed.new.iter().map(|row| row.id).collect();
        unit.tx()?.reassess_these(&assessed).await?;
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
    unit.tx()?
        .add_imported_folders(options.id, &folders.new)
        .await?;
    put_on_devices(unit, options.id, devices, accounts).await
}

/// Adds the new devices, and makes the credentials the passwords of their accounts.
async fn put_on_devices(
    unit: &mut UnitOfWork,
    import: Uuid,
    new: &[DeviceRow],
    accounts: Vec<(Uuid, String, Uuid)>,
) -> AppResult<()> {
    for row in new {
        let row = &DeviceRow {
            import_id: Some(import),
            jump_host_id: None,
            ..row.clone()
        };
        unit.tx()?.add_device(row).await?;
        let place = format!("{}/{}", unit.tx()?.path_of(row.folder_id).await?, row.name);
        let address = format!("{} port {}", row.address, row.port);
        let detail = [
            ("address", address),
            ("type", row.connector.0.word().to_owned()),
        ];
        unit.record_beside(
            Action::DeviceAdd,
            TargetType::Device,
            row.id,
            &place,
            &detail,
        )
        .await?;
    }
    let mut known: HashMap<Uuid, DeviceRow> = new.iter().map(|row| (row.id, row.clone())).collect();
    for (credential, login, device) in accounts {
        if let Entry::Vacant(free) = known.entry(device) {
            free.insert(unit.tx()?.device(device).await?);
        }
        if let Some(row) = known.get(&device) {
            give(unit, credential, &login, row).await?;
        }
    }
    Ok(())
}

/// The paths of the folders that rows go into.
async fn paths_of(
    unit: &mut UnitOfWork,
    folders: &Folders,
    plans: &[Plan],
) -> AppResult<HashMap<Uuid, String>> {
    let new: HashSet<Uuid> = folders.new.iter().map(|folder| folder.id).collect();
    let places = plans.iter().map(|plan| match plan {
        Plan::Add(_, place, _) => *place,
        Plan::Update(_, row) => row.folder_id,
    });
    let parents = folders.new.iter().filter_map(|folder| folder.parent_id);
    let mut paths: HashMap<Uuid, String> = HashMap::new();
    for place in places.chain(parents).filter(|place| !new.contains(place)) {
        if let Entry::Vacant(free) = paths.entry(place) {
            free.insert(unit.tx()?.path_of(place).await?);
        }
    }
    // A folder comes after the one that it is in.
    for folder in &folders.new {
        let parent = folder.parent_id.and_then(|parent| paths.get(&parent));
        let path = format!("{}/{}", parent.map_or("", String::as_str), folder.name);
        paths.insert(folder.id, path);
    }
    Ok(paths)
}

/// Changes what is there to what a row says; what the row does not say stays.
async fn update(
    unit: &mut UnitOfWork,
    import: Uuid,
    parsed: &ParsedRow,
    row: &CredentialRow,
) -> AppResult<ImportedRow> {
    let (now, by) = (unit.now, unit.person.id);
    let row = {
        let held = unit.tx()?.credential_locked(row.id).await?;
        if held.revision != row.revision {
            return Err(AppError::stale());
        }
        held
    };
    let mut fields = plain_fields(&row);
    fields.extend(
        parsed
            .fields
            .iter()
            .map(|(name, value)| (name.clone(), value.clone())),
    );
    let tags = if parsed.tags.is_empty() {
        row.tags.clone()
    } else {
        parsed.tags.clone()
    };
    if changed_tags(unit, parsed, &row).await?.is_some() {
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
            "Remove it from the device first, or leave its user name.",
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
    for (field, given) in &parsed.secrets {
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
            reason: "",
            facts,
        };
        unit.tx()?.add_version(&new).await?;
    }
    let kept = to_json(&fields)?;
    let change = CredentialChange {
        id: row.id,
        revision: row.revision,
        name: &row.name,
        folder_id: row.folder_id,
        fields: &kept,
        extra: &row.extra,
        tags: &tags,
        now,
        by: Some(by),
    };
    unit.tx()?.edit_credential(&change).await?;
    unit.tx()?.reassess(row.id).await?;
    let former = serde_json::json!({"fields": row.fields, "tags": row.tags, "secrets": numbers, "revision": row.revision + 1});
    Ok(ImportedRow {
        import_id: import,
        organisation: row.organisation,
        credential_id: row.id,
        former: Some(former),
    })
}

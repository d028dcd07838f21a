//! What an import will do with each row of a file.

use std::collections::hash_map::Entry;
use std::collections::{BTreeMap, HashMap, HashSet};

use jexlin_api::{ImportChange, ImportOptions, ImportProblem, ImportReport};
use jexlin_core::access::mark;
use jexlin_core::names::Name;
use jexlin_core::transfer::{
    Column, Grid, Kinds, MatchKey, Matching, ParsedRow, Problem, RowProblem, Sheet, guess,
    is_heading, read_row,
};
use jexlin_core::upkeep::ConnectorKind;
use jexlin_core::upkeep::account::{Family, check_login};
use jexlin_core::vault::kinds::{FieldType, PASSWORD};
use jexlin_core::vault::readings::Readings;
use jexlin_core::words::Word as _;
use jexlin_store::{CredentialRow, DeviceRow, FolderRow};
use uuid::Uuid;

use super::devices::check_address;
use super::folders::DEEPEST;
use crate::assessment::{self, Rule};
use crate::error::{AppError, AppResult};
use crate::guards::{allow_credential, allow_folder};
use crate::unit_of_work::UnitOfWork;

/// What was done with a file that was read.
pub enum Plan {
    /// A new credential in a folder; the device that it is an account of.
    Add(ParsedRow, Uuid, Option<Uuid>),
    Update(ParsedRow, Box<CredentialRow>),
}

/// What was read of a file: the sheet, what its columns are, and each row.
pub struct SheetRows {
    pub sheet: Sheet,
    pub columns: Vec<Column>,
    /// What several columns look like, and which; nothing when somebody has said what each is.
    pub ambiguous: Vec<(Column, Vec<usize>)>,
    pub rows: Vec<Result<ParsedRow, Vec<Problem>>>,
}

/// Reads the rows of a file under its headings.
pub fn read(
    grid: Grid,
    kinds: &Kinds,
    heading_row: Option<usize>,
    columns: Option<Vec<String>>,
    readings: &Readings,
) -> Result<SheetRows, AppError> {
    let sheet = grid
        .into_sheet(heading_row, |text| is_heading(text, kinds))
        .map_err(|problem| AppError::field("file", problem.to_string()))?;
    let (columns, ambiguous) = match columns {
        None => {
            let guessed = guess(&sheet.heads, kinds);
            (guessed.columns, guessed.ambiguous)
        }
        Some(words) => (chosen(&words, &sheet)?, vec![]),
    };
    let rows = sheet
        .rows
        .iter()
        .map(|row| read_row(sheet.guarded, row, &columns, kinds, readings))
        .collect();
    Ok(SheetRows {
        sheet,
        columns,
        ambiguous,
        rows,
    })
}

/// The columns as somebody says what they are.
fn chosen(words: &[String], sheet: &Sheet) -> Result<Vec<Column>, AppError> {
    let wrong = |problem: String| Err(AppError::field("columns", problem));
    if words.len() != sheet.heads.len() {
        let (named, there) = (words.len(), sheet.heads.len());
        return wrong(format!(
            "{named} columns are named, but the file has {there}"
        ));
    }
    let columns: Vec<Column> = words.iter().map(|word| Column::of(word)).collect();
    for (index, column) in columns.iter().enumerate() {
        let earlier = columns.iter().take(index).position(|other| other == column);
        if let (Some(earlier), false) = (earlier, *column == Column::Nothing) {
            let (word, first, second) = (column.word(), earlier + 1, index + 1);
            return wrong(format!(
                "columns {first} and {second} are both `{word}`; use - for the one to leave out"
            ));
        }
    }
    Ok(columns)
}

/// Folders on the way: those that are there, by path below the top, and those that are made.
pub struct Folders {
    pub known: HashMap<String, Uuid>,
    pub new: Vec<FolderRow>,
}

fn key_of(path: &[String]) -> String {
    path.iter()
        .map(|name| name.to_lowercase())
        .collect::<Vec<_>>()
        .join("/")
}

pub async fn folders_below(unit: &mut UnitOfWork, top: Uuid) -> AppResult<HashMap<String, Uuid>> {
    let rows = unit.tx()?.folders_below(top).await?;
    let by_id: HashMap<Uuid, &FolderRow> = rows.iter().map(|row| (row.id, row)).collect();
    let mut known = HashMap::new();
    for row in &rows {
        let mut names = vec![];
        let mut next = Some(row);
        while let Some(index) = next.filter(|index| index.id != top) {
            names.push(index.name.to_lowercase());
            next = index
                .parent_id
                .and_then(|parent| by_id.get(&parent))
                .copied();
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
            revision: 1,
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

pub fn plain_fields(row: &CredentialRow) -> BTreeMap<String, String> {
    serde_json::from_value(row.fields.clone()).unwrap_or_default()
}

/// Where the rows of a file may go, and what is there already. Folders are known by [`key_of`]
/// their path below the folder of the import.
#[derive(Default)]
struct Destinations {
    /// Why nothing may be added to a folder.
    closed: HashMap<String, String>,
    places: HashMap<String, Uuid>,
    /// The nearest folder that is there already, whose rule counts.
    nearest: HashMap<String, Uuid>,
    /// The rules of those.
    rules: HashMap<Uuid, Rule>,
    /// The names that are taken, in small letters.
    names: HashSet<(Uuid, String)>,
    /// What is there, by what it is recognised by.
    present: HashMap<(Uuid, String), CredentialRow>,
    devices: Devices,
}

/// The devices that rows are accounts of.
#[derive(Default)]
pub struct Devices {
    /// By folder and name in small letters: those that are there, and those that are made.
    known: HashMap<(Uuid, String), (Uuid, ConnectorKind)>,
    /// The accounts that have a credential, or get one: device, family and key of the login.
    taken: HashSet<(Uuid, Family, String)>,
    /// Of which devices these are known.
    asked: HashSet<Uuid>,
    /// Whether somebody is a steward of a folder that is there.
    steward: HashMap<Uuid, bool>,
    /// Those that are made.
    pub new: Vec<DeviceRow>,
}

impl Devices {
    /// The device of a row, made if it is not there; or the column that has a problem and what it is.
    async fn place(
        &mut self,
        unit: &mut UnitOfWork,
        folder: Uuid,
        nearest: Uuid,
        parsed: &ParsedRow,
        holds: Option<FieldType>,
    ) -> AppResult<Result<Option<Uuid>, (&'static str, String)>> {
        let Some(wanted) = &parsed.device else {
            return Ok(Ok(None));
        };
        let refuse = |column, problem: &str| Ok(Err((column, problem.to_owned())));
        if let Entry::Vacant(free) = self.steward.entry(nearest) {
            free.insert(allow_folder::<mark::Steward>(unit, nearest).await.is_ok());
        }
        if self.steward.get(&nearest) != Some(&true) {
            return refuse(
                "device",
                "only a steward of its folder gives a device accounts",
            );
        }
        let login = parsed.fields.get("user_name").map_or("", String::as_str);
        if let Err(problem) = check_login(login) {
            return Ok(Err(("user_name", problem)));
        }
        let key = (folder, wanted.name.to_lowercase());
        let (device, connector) = match (self.known.get(&key), &wanted.address) {
            (Some((_, present)), _) if wanted.connector.is_some_and(|said| said != *present) => {
                return refuse("device_type", "the device is of another type");
            }
            (Some(known), _) => *known,
            (None, None) => {
                return refuse(
                    "device_address",
                    "there is no such device in the folder, and a new one needs an address",
                );
            }
            (None, Some((host, port))) => {
                let Ok(address) = check_address(host) else {
                    return refuse("device_address", "this is no host name or IP address");
                };
                let connector = wanted.connector.unwrap_or(ConnectorKind::Ssh);
                let row = DeviceRow {
                    id: Uuid::now_v7(),
                    organisation: unit.organisation(),
                    folder_id: folder,
                    name: wanted.name.clone(),
                    connector: connector.into(),
                    address,
                    port: i32::from(port.unwrap_or_else(|| connector.usual_port())),
                    identity: String::new(),
                    created_at: unit.now,
                    removed_at: None,
                    revision: 1,
                    paused_at: None,
                    paused_why: String::new(),
                    dialogue_id: None,
                    dialogue_digest: String::new(),
                    platform: String::new(),
                    description: String::new(),
                    family_of: None,
                    import_id: None,
                    jump_host_id: None,
                };
                let made = (row.id, connector);
                self.known.insert(key, made);
                self.asked.insert(row.id);
                self.new.push(row);
                made
            }
        };
        let family = match holds {
            Some(FieldType::SshKey) if !connector.takes_keys() => {
                return refuse(
                    "kind",
                    "a device of this type has no accounts that are opened by an SSH key",
                );
            }
            Some(FieldType::SshKey) => Family::Key,
            _ => connector.family(),
        };
        if self.asked.insert(device) {
            for family in [Family::Key, connector.family()] {
                for (login, _) in unit.tx()?.credentials_on(device, family).await? {
                    self.taken.insert((device, family, login));
                }
            }
        }
        if !self.taken.insert((device, family, family.login_key(login))) {
            return refuse(
                "user_name",
                "this account of the device has a credential already",
            );
        }
        Ok(Ok(Some(device)))
    }
}

impl Destinations {
    /// Folders that are there are asked for once each; new ones take the right to what they are in.
    async fn read<'a>(
        unit: &mut UnitOfWork,
        options: &ImportOptions,
        parsed_rows: impl Iterator<Item = &'a ParsedRow>,
        folders: &mut Folders,
    ) -> AppResult<Self> {
        let mut read = Self::default();
        let mut with_devices = false;
        let mut paths: HashSet<Vec<String>> = parsed_rows
            .map(|parsed| {
                with_devices |= parsed.device.is_some();
                parsed.folder.clone()
            })
            .collect();
        paths.insert(vec![]);
        let depth = unit.tx()?.depth_of(options.folder).await?;
        let before = folders.known.clone();
        let mut allowed: HashMap<Uuid, bool> = HashMap::new();
        for path in paths {
            let mut nearest = path.as_slice();
            while !before.contains_key(&key_of(nearest)) && !nearest.is_empty() {
                nearest = nearest.split_last().map_or(&[], |(_, above)| above);
            }
            let there = before
                .get(&key_of(nearest))
                .copied()
                .unwrap_or(options.folder);
            if depth + path.len() > DEEPEST {
                let why = format!("folders can be nested {DEEPEST} deep at most");
                read.closed.insert(key_of(&path), why);
                continue;
            }
            if let Entry::Vacant(free) = allowed.entry(there) {
                let may = allow_folder::<mark::Edit>(unit, there).await.is_ok();
                free.insert(may);
                let rule = assessment::rule_for(unit.tx()?, there, None).await?;
                read.rules.insert(there, rule);
            }
            if allowed.get(&there) != Some(&true) {
                let why = "you may not change this folder".to_owned();
                read.closed.insert(key_of(&path), why);
                continue;
            }
            read.nearest.insert(key_of(&path), there);
            if let Some(place) = folders.place(unit, &path) {
                read.places.insert(key_of(&path), place);
            }
        }
        let new: HashSet<Uuid> = folders.new.iter().map(|folder| folder.id).collect();
        let old: Vec<Uuid> = read
            .places
            .values()
            .filter(|place| !new.contains(place))
            .copied()
            .collect();
        if with_devices {
            for row in unit.tx()?.devices_in(&old).await? {
                let key = (row.folder_id, row.name.to_lowercase());
                read.devices.known.insert(key, (row.id, row.connector.0));
            }
        }
        for row in unit.tx()?.credentials_in(&old).await? {
            read.names.insert((row.folder_id, row.name.to_lowercase()));
            let mark = mark_of(options.key, row.folder_id, &row.name, &plain_fields(&row));
            if let Some(mark) = mark {
                read.present.entry(mark).or_insert(row);
            }
        }
        Ok(read)
    }

    /// What the password rule of its folder has against a row.
    fn against(&self, path: &str, parsed: &ParsedRow) -> Option<String> {
        let rule = self
            .nearest
            .get(path)
            .and_then(|there| self.rules.get(there));
        let rule = rule.filter(|rule| rule.enforced)?;
        let (_, given) = parsed.secrets.iter().find(|(field, _)| field == PASSWORD)?;
        let about = jexlin_core::policy::About {
            user_name: parsed.fields.get("user_name").map_or("", String::as_str),
            used_ago: None,
        };
        let password = given.value.expose_secret_text().unwrap_or_default();
        let lacks = rule.policy.lacks(password, about);
        (!lacks.is_empty()).then(|| {
            let lacks = lacks.join("; ");
            format!("the folder demands the policy “{}”: {lacks}", rule.name)
        })
    }

    /// Takes the name of a row, or another where duplicates are wanted.
    fn take_name(
        &mut self,
        place: Uuid,
        parsed: &mut ParsedRow,
        matching: Matching,
    ) -> Result<(), String> {
        if self.names.insert((place, parsed.name.to_lowercase())) {
            return Ok(());
        }
        if matching != Matching::Duplicate {
            return Err(
                "something in the folder, or an earlier row, already has this name".to_owned(),
            );
        }
        let free = (2..10_000)
            .map(|number| format!("{} ({number})", parsed.name))
            .find(|name| self.names.insert((place, name.to_lowercase())));
        match free.map(|name| Name::parse(&name).map(Name::into_string)) {
            Some(Ok(name)) => parsed.name = name,
            _ => return Err("no free name was found for it".to_owned()),
        }
        Ok(())
    }
}

/// What becomes of a row: something to do, or nothing, or the column that has a problem and what it
/// is.
enum Decision {
    Do(Box<Plan>),
    Skip,
    Nowhere,
    Refuse(&'static str, String),
}

async fn decide(
    unit: &mut UnitOfWork,
    options: &ImportOptions,
    destinations: &mut Destinations,
    kinds: &Kinds,
    mut parsed: ParsedRow,
) -> AppResult<Decision> {
    let path = key_of(&parsed.folder);
    if let Some(why) = destinations.closed.get(&path) {
        return Ok(Decision::Refuse("folder", why.clone()));
    }
    let Some(place) = destinations.places.get(&path).copied() else {
        return Ok(Decision::Nowhere);
    };
    if let Some(problem) = destinations.against(&path, &parsed) {
        return Ok(Decision::Refuse(PASSWORD, problem));
    }
    let mark = mark_of(options.key, place, &parsed.name, &parsed.fields);
    let same = mark
        .as_ref()
        .and_then(|mark| destinations.present.get(mark));
    match (same, options.matching) {
        (Some(_), Matching::Skip) => return Ok(Decision::Skip),
        (Some(row), Matching::Update) => {
            if row.kind != parsed.kind {
                let problem = format!(
                    "the existing credential is a {}, not a {}",
                    row.kind, parsed.kind
                );
                return Ok(Decision::Refuse("name", problem));
            }
            if let Some(tags) = changed_tags(unit, &parsed, row).await?
                && allow_credential::<mark::Steward>(unit, row.id)
                    .await
                    .is_err()
            {
                let problem = format!(
                    "a grant depends on the tag {}, so only a steward may change it",
                    tags.join(", ")
                );
                return Ok(Decision::Refuse("tags", problem));
            }
            let plan = Plan::Update(parsed, Box::new(row.clone()));
            // A second row for the same one would undo the first.
            if let Some(mark) = mark {
                destinations.present.remove(&mark);
            }
            return Ok(Decision::Do(Box::new(plan)));
        }
        _ => {}
    }
    if let Err(problem) = destinations.take_name(place, &mut parsed, options.matching) {
        return Ok(Decision::Refuse("name", problem));
    }
    let nearest = destinations.nearest.get(&path).copied().unwrap_or(place);
    let kind = kinds.known.iter().find(|kind| kind.name == parsed.kind);
    let holds = kind
        .and_then(|kind| kind.field(PASSWORD))
        .map(|field| field.holds);
    let devices = &mut destinations.devices;
    match devices.place(unit, place, nearest, &parsed, holds).await? {
        Ok(device) => Ok(Decision::Do(Box::new(Plan::Add(parsed, place, device)))),
        Err((column, problem)) => Ok(Decision::Refuse(column, problem)),
    }
}

/// What is to be done with each row; what cannot be, and what is not taken as it stands in the
/// file, is added to the report.
pub async fn plan(
    unit: &mut UnitOfWork,
    options: &ImportOptions,
    read: SheetRows,
    folders: &mut Folders,
    kinds: &Kinds,
    report: &mut ImportReport,
) -> AppResult<(Vec<Plan>, Vec<DeviceRow>)> {
    let SheetRows {
        mut sheet,
        columns,
        rows,
        ..
    } = read;
    let parsed_rows = rows.iter().flatten();
    let mut destinations = Destinations::read(unit, options, parsed_rows, folders).await?;
    let column_of = |word: &str| columns.iter().position(|column| column.word() == word);
    let mut problems = std::mem::take(&mut sheet.problems);
    let mut plans = vec![];
    for (read, row) in rows.into_iter().zip(&sheet.rows) {
        let line = row.line;
        let wrong = match read {
            Err(problems) => problems,
            Ok(mut parsed) => {
                let changes = std::mem::take(&mut parsed.changes);
                match decide(unit, options, &mut destinations, kinds, parsed).await? {
                    Decision::Refuse(column, problem) => vec![(column_of(column), problem)],
                    Decision::Nowhere => vec![],
                    Decision::Skip => {
                        report.skipped += 1;
                        vec![]
                    }
                    Decision::Do(plan) => {
                        match *plan {
                            Plan::Add(..) => report.added += 1,
                            Plan::Update(..) => report.updated += 1,
                        }
                        for (column, change) in changes {
                            sheet.changes.note(line, column, change);
                        }
                        plans.push(*plan);
                        vec![]
                    }
                }
            }
        };
        problems.extend(wrong.into_iter().map(|(column, problem)| RowProblem {
            line,
            column,
            problem,
        }));
    }
    problems.sort_by_key(|problem| problem.line);
    let head = |column: Option<usize>| {
        column.map_or_else(String::new, |column| {
            let named = sheet.heads.get(column).filter(|head| !head.is_empty());
            named.cloned().unwrap_or(format!("column {}", column + 1))
        })
    };
    report.problems = problems
        .into_iter()
        .map(|problem| ImportProblem {
            line: problem.line,
            column: head(problem.column),
            problem: problem.problem,
        })
        .collect();
    report.changes = sheet
        .changes
        .iter()
        .map(|(column, change, changed)| ImportChange {
            column: head(column),
            change: change.to_owned(),
            rows: changed.rows,
            lines: changed.lines.clone(),
        })
        .collect();
    Ok((plans, destinations.devices.new))
}

/// The tags of a row that are not those of what is there, when a grant depends on one of them.
pub async fn changed_tags(
    unit: &mut UnitOfWork,
    parsed: &ParsedRow,
    row: &CredentialRow,
) -> AppResult<Option<Vec<String>>> {
    if parsed.tags.is_empty() {
        return Ok(None);
    }
    let of = parsed.tags.iter().chain(&row.tags);
    let changed: Vec<String> = of
        .filter(|tag| parsed.tags.contains(tag) != row.tags.contains(tag))
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

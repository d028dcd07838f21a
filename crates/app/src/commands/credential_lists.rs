//! Lists and tables of credentials, narrowed and sorted.

use jexlin_api::{CredentialItem, Table};
use jexlin_core::access::Level;
use jexlin_core::policy::Finding;
use jexlin_core::upkeep::CheckOutcome;
use jexlin_core::vault::{CredentialSort, CredentialView};
use jexlin_core::words::Word as _;
use jexlin_store::{CredentialListing, ListQuery, TablePart};
use uuid::Uuid;

use crate::assessment;
use crate::error::{AppError, AppResult};
use crate::paging::{Paged, Paging};
use crate::unit_of_work::UnitOfWork;

/// The parameters by which a list of credentials can be narrowed, and a search be saved.
pub const FILTERS: [&str; 10] = [
    "folder", "below", "find", "name", "user", "kind", "tag", "device", "check", "finding",
];

/// The most words of one search, and the longest of them.
const MOST_WORDS: usize = 6;
const LONGEST_WORD: usize = 60;

/// How many of the most recent or most used credentials are shown.
const MOST_USED: i64 = 50;

fn show_item(row: CredentialListing, near: bool) -> CredentialItem {
    CredentialItem {
        id: row.id,
        name: row.name,
        folder: row.folder_id,
        place: row.place,
        kind: row.kind,
        user_name: row
            .fields
            .get("user_name")
            .and_then(serde_json::Value::as_str)
            .unwrap_or_default()
            .to_owned(),
        device: row.device_name,
        device_id: row.device_id,
        check: row.check_outcome.map(|outcome| outcome.0),
        gated: row.gated,
        level: Level::from_number(row.held).unwrap_or(Level::List),
        tags: row.tags,
        favourite: row.favourite,
        findings: row
            .findings
            .iter()
            .filter_map(|word| Finding::find(word))
            .collect(),
        changed_at: row.changed_at,
        own_grants: row.own_grants,
        shared: row.shared,
        near,
    }
}

/// How a list of credentials is narrowed.
#[derive(Debug, Default)]
pub struct Narrowed<'r> {
    /// In this folder.
    pub folder: Option<Uuid>,
    /// In this folder and below it.
    pub below: Option<Uuid>,
    /// Words to find in all that is not secret.
    pub find: Option<&'r str>,
    /// A part of the name.
    pub name: Option<&'r str>,
    /// A part of the user name.
    pub user: Option<&'r str>,
    /// A kind.
    pub kind: Option<&'r str>,
    /// A tag.
    pub tag: Option<&'r str>,
    /// A part of the name of a device.
    pub device: Option<&'r str>,
    /// The outcome of the last check.
    pub check: Option<CheckOutcome>,
    /// An account of this device.
    pub on: Option<Uuid>,
    /// A finding, or `any`.
    pub finding: Option<&'r str>,
    /// A view.
    pub view: Option<CredentialView>,
}

fn typed(text: Option<&str>) -> Option<String> {
    text.map(str::trim)
        .filter(|text| !text.is_empty())
        .map(|text| text.chars().take(LONGEST_WORD).collect())
}

/// The words of a search. Too many words, and what is too long of one, are ignored.
#[must_use]
pub fn words_of(find: Option<&str>) -> Vec<String> {
    find.unwrap_or_default()
        .split(|c: char| c.is_whitespace() || c == '/')
        .filter(|word| !word.is_empty())
        .take(MOST_WORDS)
        .map(|word| word.chars().take(LONGEST_WORD).collect())
        .collect()
}

/// The store's query for what somebody asked for. The caller handles the views that have an order of
/// their own.
async fn query_of(
    unit: &mut UnitOfWork,
    narrowed: &Narrowed<'_>,
    limit: i64,
) -> AppResult<ListQuery> {
    let finding = typed(narrowed.finding);
    if finding
        .as_deref()
        .is_some_and(|word| word != "any" && Finding::find(word).is_none())
    {
        return Err(AppError::field(
            "finding",
            format!(
                "must be any, {}",
                Finding::ALL.map(Finding::word).join(", ")
            ),
        ));
    }
    Ok(ListQuery {
        folder: narrowed.folder,
        below: narrowed.below,
        find: words_of(narrowed.find),
        name: typed(narrowed.name),
        user_name: typed(narrowed.user),
        kind: typed(narrowed.kind),
        tag: typed(narrowed.tag).map(|tag| tag.to_lowercase()),
        device: typed(narrowed.device),
        on: narrowed.on,
        check: narrowed.check.map(|outcome| outcome.word().to_owned()),
        finding,
        thresholds: assessment::thresholds(unit.tx()?).await?,
        limit,
        ..ListQuery::default()
    })
}

/// Those that the asker used, the last or the most used first.
async fn used(unit: &mut UnitOfWork, view: CredentialView) -> AppResult<Option<Vec<Uuid>>> {
    let most = match view {
        CredentialView::Recent => false,
        CredentialView::MostUsed => true,
        _ => return Ok(None),
    };
    let person = unit.person.id;
    Ok(Some(unit.tx()?.used_by(person, most, MOST_USED).await?))
}

/// Which part of a table, and how the table is sorted.
#[derive(Clone, Copy, Debug)]
pub struct Part {
    /// By this.
    pub sort: CredentialSort,
    /// The last first.
    pub down: bool,
    /// How many rows come before it.
    pub from: i64,
    /// The most rows that it has.
    pub limit: i64,
}

/// A part of the table of the credentials that the asker may know of, narrowed and sorted as they
/// like, with the number of rows that the whole table has.
pub async fn table(
    unit: &mut UnitOfWork,
    narrowed: Narrowed<'_>,
    part: Part,
) -> AppResult<Table<CredentialItem>> {
    let (person, now) = (unit.person.id, unit.now);
    let mut query = query_of(unit, &narrowed, part.limit).await?;
    query.part = Some(TablePart {
        sort: part.sort,
        down: part.down,
        from: part.from.max(0),
    });
    if let Some(view) = narrowed.view {
        query.only = used(unit, view).await?;
        query.view = query.only.is_none().then_some(view);
    }
    let mut rows = unit.tx()?.list_credentials(person, now, &query).await?;
    let mut total = rows.first().and_then(|row| row.total).unwrap_or(0);
    if rows.is_empty() && part.from > 0 {
        // The table became shorter meanwhile; what it has now is what its first row says.
        query.limit = 1;
        query.part = query.part.map(|part| TablePart { from: 0, ..part });
        rows = unit.tx()?.list_credentials(person, now, &query).await?;
        total = rows.first().and_then(|row| row.total).unwrap_or(0);
        rows.clear();
    }
    unit.commit().await?;
    Ok(Table {
        total,
        items: rows.into_iter().map(|row| show_item(row, false)).collect(),
    })
}

/// The credentials that the asker may know of, narrowed as they like. `find` looks in everything
/// that is not secret, word by word; when nothing holds all words, what resembles them comes back
/// with `near` set. `view` is `favourites`, `recent`, `most-used`, `mine`, `shared-with-me`,
/// `shared-by-me` or `with-nobody`.
pub async fn list(
    unit: &mut UnitOfWork,
    narrowed: Narrowed<'_>,
    paging: Paging<(String, Uuid)>,
) -> AppResult<Paged<CredentialItem, (String, Uuid)>> {
    let (person, now) = (unit.person.id, unit.now);
    let mut query = query_of(unit, &narrowed, paging.limit + 1).await?;
    query.after = paging.after;
    let mut order = None;
    if let Some(view) = narrowed.view {
        order = used(unit, view).await?;
        query.only.clone_from(&order);
        query.view = order.is_none().then_some(view);
    }
    let mut rows = unit.tx()?.list_credentials(person, now, &query).await?;
    let near = rows.is_empty() && !query.find.is_empty() && query.after.is_none();
    if near {
        query.nearly = true;
        rows = unit.tx()?.list_credentials(person, now, &query).await?;
    }
    unit.commit().await?;
    if let Some(order) = order {
        // These come in their own order, and are few.
        rows.sort_by_key(|row| order.iter().position(|id| *id == row.id));
        return Ok(Paged {
            items: rows.into_iter().map(|row| show_item(row, false)).collect(),
            next: None,
        });
    }
    if near {
        // The closest matches come first, and one page of them is enough.
        rows.truncate(usize::try_from(paging.limit).unwrap_or(0));
        return Ok(Paged {
            items: rows.into_iter().map(|row| show_item(row, true)).collect(),
            next: None,
        });
    }
    Ok(Paged::of(
        rows,
        paging.limit,
        |row| (row.name.clone(), row.id),
        |row| show_item(row, false),
    ))
}

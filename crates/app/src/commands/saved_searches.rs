//! Searches that people save.

use std::collections::BTreeMap;

use jexlin_api::{NewSavedSearch, Page, SavedSearch};
use jexlin_core::audit::{Action, TargetType};
use jexlin_store::SavedSearchRow;
use uuid::Uuid;

use super::credential_lists::FILTERS;
use super::names::named;
use crate::error::{AppError, AppResult};
use crate::unit_of_work::UnitOfWork;

const MOST_SEARCHES: usize = 100;
/// What a view of a table keeps.
const VIEW: [&str; 4] = ["sort", "q", "filter", "columns"];
/// The longest name of a page.
const LONGEST_PAGE: usize = 40;

/// The page that a view is of; none for a search of credentials.
fn page_of(page: Option<&str>) -> AppResult<&str> {
    let page = page.unwrap_or_default();
    let plain = |c: char| c.is_ascii_lowercase() || c == '-';
    if page.len() > LONGEST_PAGE || !page.chars().all(plain) {
        return Err(AppError::field("page", "small letters and -, at most 40"));
    }
    Ok(page)
}

fn show(row: SavedSearchRow) -> SavedSearch {
    SavedSearch {
        id: row.id,
        name: row.name,
        filters: serde_json::from_value(row.body).unwrap_or_default(),
    }
}

/// One's saved searches, or saved views of a page's table.
pub async fn searches(unit: &mut UnitOfWork, page: Option<&str>) -> AppResult<Page<SavedSearch>> {
    let person = unit.person.id;
    let rows = unit.tx()?.saved_searches(person, page_of(page)?).await?;
    unit.commit().await?;
    Ok(Page {
        items: rows.into_iter().map(show).collect(),
        next: None,
    })
}

/// Saves a search or a view for oneself.
pub async fn save_search(unit: &mut UnitOfWork, body: NewSavedSearch) -> AppResult<SavedSearch> {
    unit.begin_audit(Action::SearchSave, TargetType::Search, None, &body.name);
    let filters: BTreeMap<String, String> = body
        .filters
        .into_iter()
        .filter(|(_, value)| !value.trim().is_empty())
        .collect();
    let page = page_of(body.page.as_deref())?.to_owned();
    let known: &[&str] = if page.is_empty() { &FILTERS } else { &VIEW };
    if let Some(unknown) = filters.keys().find(|name| !known.contains(&name.as_str())) {
        return Err(AppError::field(
            "filters",
            format!("`{unknown}` is unknown; use one of {}", known.join(", ")),
        ));
    }
    if filters.is_empty() || filters.values().any(|value| value.chars().count() > 200) {
        return Err(AppError::field(
            "filters",
            "set at least one filter, of at most 200 characters each",
        ));
    }
    let person = unit.person.id;
    if unit.tx()?.saved_searches(person, &page).await?.len() >= MOST_SEARCHES {
        return Err(AppError::field(
            "name",
            format!("at most {MOST_SEARCHES} searches are kept; remove one first"),
        ));
    }
    let body_value =
        serde_json::to_value(&filters).map_err(|error| AppError::internal(error.to_string()))?;
    let row = SavedSearchRow {
        id: Uuid::now_v7(),
        organisation: unit.organisation(),
        person_id: person,
        name: named("name", &body.name)?,
        body: body_value,
        page,
    };
    unit.tx()?.save_search(&row).await?;
    unit.set_target(row.id, &row.name);
    unit.commit_audited().await?;
    Ok(show(row))
}

/// Removes a saved search of one's own.
pub async fn remove_search(unit: &mut UnitOfWork, search: Uuid) -> AppResult<()> {
    let target = search;
    unit.begin_audit(Action::SearchRemove, TargetType::Search, Some(target), "");
    let person = unit.person.id;
    unit.tx()?
        .remove_search(person, target)
        .await
        .map_err(|_| AppError::unknown("saved search"))?;
    unit.commit_audited().await?;
    Ok(())
}

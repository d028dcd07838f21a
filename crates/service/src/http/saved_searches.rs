//! Searches that people save.

use std::collections::BTreeMap;

use jexlin_api::{NewSavedSearch, Page, SavedSearch};
use jexlin_store::SavedSearchRow;
use rocket::{Route, delete, get, post, routes};
use uuid::Uuid;

use super::names::named;
use super::payload::{Call, Sent, id};
use super::vault::FILTERS;
use crate::error::{ApiError, ApiResult};
use crate::unit_of_work::UnitOfWork;

pub fn routes() -> Vec<Route> {
    routes![searches, save_search, remove_search]
}

const MOST_SEARCHES: usize = 100;

fn show(row: SavedSearchRow) -> SavedSearch {
    SavedSearch {
        id: row.id,
        name: row.name,
        filters: serde_json::from_value(row.body).unwrap_or_default(),
    }
}

/// One's saved searches.
#[utoipa::path(context_path = "", responses((status = 200, body = Page<SavedSearch>)))]
#[get("/api/v1/searches")]
pub async fn searches(mut unit: UnitOfWork) -> ApiResult<Sent<Page<SavedSearch>>> {
    let person = unit.person.id;
    let rows = unit.tx()?.saved_searches(person).await?;
    unit.commit().await?;
    Ok(Sent(Page {
        items: rows.into_iter().map(show).collect(),
        next: None,
    }))
}

/// Saves a search for oneself.
#[utoipa::path(context_path = "", request_body = NewSavedSearch, responses((status = 200, body = SavedSearch)))]
#[post("/api/v1/searches", data = "<body>")]
pub async fn save_search(body: Call<NewSavedSearch>) -> ApiResult<Sent<SavedSearch>> {
    let Call(mut unit, body) = body;
    unit.begin_audit("search.save", "search", None, &body.name);
    let filters: BTreeMap<String, String> = body
        .filters
        .into_iter()
        .filter(|(_, value)| !value.trim().is_empty())
        .collect();
    if let Some(unknown) = filters
        .keys()
        .find(|name| !FILTERS.contains(&name.as_str()))
    {
        return Err(ApiError::field(
            "filters",
            format!("`{unknown}` is unknown; use one of {}", FILTERS.join(", ")),
        ));
    }
    if filters.is_empty() || filters.values().any(|value| value.chars().count() > 200) {
        return Err(ApiError::field(
            "filters",
            "there is at least one filter, and each has at most 200 characters",
        ));
    }
    let person = unit.person.id;
    if unit.tx()?.saved_searches(person).await?.len() >= MOST_SEARCHES {
        return Err(ApiError::field(
            "name",
            format!("at most {MOST_SEARCHES} searches are kept; remove one first"),
        ));
    }
    let body_value =
        serde_json::to_value(&filters).map_err(|error| ApiError::internal(error.to_string()))?;
    let row = SavedSearchRow {
        id: Uuid::now_v7(),
        organisation: unit.organisation(),
        person_id: person,
        name: named("name", &body.name)?,
        body: body_value,
    };
    unit.tx()?.save_search(&row).await?;
    unit.set_target(row.id, &row.name);
    unit.commit_audited().await?;
    Ok(Sent(show(row)))
}

/// Removes a saved search of one's own.
#[utoipa::path(context_path = "", responses((status = 200)))]
#[delete("/api/v1/searches/<search>")]
pub async fn remove_search(mut unit: UnitOfWork, search: &str) -> ApiResult<()> {
    let target = id(search)?;
    unit.begin_audit("search.remove", "search", Some(target), "");
    let person = unit.person.id;
    unit.tx()?
        .remove_search(person, target)
        .await
        .map_err(|_| ApiError::unknown("saved search"))?;
    unit.commit_audited().await?;
    Ok(())
}

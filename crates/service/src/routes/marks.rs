//! What people keep for themselves: favourites, saved searches; and the tags of everybody.

use std::collections::BTreeMap;

use jexlin_api::{NewSavedSearch, Page, SavedSearch, TagItem, UseItem};
use jexlin_core::access::mark;
use jexlin_store::SavedSearchRow;
use rocket::{Route, delete, get, post, put, routes};
use uuid::Uuid;

use super::exchange::{Call, Sent, id};
use super::people::named;
use super::vault::{FILTERS, allow_credential};
use crate::acting::Acting;
use crate::problem::{Answer, Fault};

pub fn routes() -> Vec<Route> {
    routes![mark_favourite, unmark_favourite, tags, searches, save_search, forget_search, uses]
}

/// The longest tag, in characters, and the most of them on one credential.
const LONGEST_TAG: usize = 40;
const MOST_TAGS: usize = 20;
const MOST_SEARCHES: usize = 100;

/// Reads tags: small letters, each once, in order.
pub fn read_tags(tags: &[String]) -> Answer<Vec<String>> {
    let mut read = vec![];
    for tag in tags {
        let tag = named("tags", &tag.to_lowercase())?;
        if tag.chars().count() > LONGEST_TAG || tag.contains(',') {
            return Err(Fault::field("tags", format!("a tag has at most {LONGEST_TAG} characters and no comma")));
        }
        read.push(tag);
    }
    read.sort();
    read.dedup();
    if read.len() > MOST_TAGS { Err(Fault::field("tags", format!("at most {MOST_TAGS} tags are possible"))) } else { Ok(read) }
}

async fn favourite(mut acting: Acting, credential: &str, marked: bool) -> Answer<()> {
    let target = id(credential)?;
    acting.intends(if marked { "credential.favourite" } else { "credential.unfavourite" }, "credential", Some(target), "");
    allow_credential::<mark::List>(&mut acting, target).await?;
    let person = acting.person.id;
    acting.tx()?.mark_favourite(person, target, marked).await?;
    acting.done().await?;
    Ok(())
}

/// Marks a credential as one of one's favourites.
#[utoipa::path(context_path = "", responses((status = 200)))]
#[put("/api/v1/credentials/<credential>/favourite")]
pub async fn mark_favourite(acting: Acting, credential: &str) -> Answer<()> {
    favourite(acting, credential, true).await
}

/// Takes that mark away.
#[utoipa::path(context_path = "", responses((status = 200)))]
#[delete("/api/v1/credentials/<credential>/favourite")]
pub async fn unmark_favourite(acting: Acting, credential: &str) -> Answer<()> {
    favourite(acting, credential, false).await
}

/// The tags of the credentials that the asker may know of.
#[utoipa::path(context_path = "", responses((status = 200, body = Page<TagItem>)))]
#[get("/api/v1/tags")]
pub async fn tags(mut acting: Acting) -> Answer<Sent<Page<TagItem>>> {
    let (person, now) = (acting.person.id, acting.now);
    let rows = acting.tx()?.tags_for(person, now).await?;
    acting.seen().await?;
    Ok(Sent(Page { items: rows.into_iter().map(|(tag, times)| TagItem { tag, times }).collect(), next: None }))
}

fn show(row: SavedSearchRow) -> SavedSearch {
    SavedSearch { id: row.id, name: row.name, filters: serde_json::from_value(row.body).unwrap_or_default() }
}

/// One's saved searches.
#[utoipa::path(context_path = "", responses((status = 200, body = Page<SavedSearch>)))]
#[get("/api/v1/searches")]
pub async fn searches(mut acting: Acting) -> Answer<Sent<Page<SavedSearch>>> {
    let person = acting.person.id;
    let rows = acting.tx()?.saved_searches(person).await?;
    acting.seen().await?;
    Ok(Sent(Page { items: rows.into_iter().map(show).collect(), next: None }))
}

/// Saves a search for oneself.
#[utoipa::path(context_path = "", request_body = NewSavedSearch, responses((status = 200, body = SavedSearch)))]
#[post("/api/v1/searches", data = "<body>")]
pub async fn save_search(body: Call<NewSavedSearch>) -> Answer<Sent<SavedSearch>> {
    let Call(mut acting, body) = body;
    acting.intends("search.save", "search", None, &body.name);
    let filters: BTreeMap<String, String> = body.filters.into_iter().filter(|(_, value)| !value.trim().is_empty()).collect();
    if let Some(unknown) = filters.keys().find(|name| !FILTERS.contains(&name.as_str())) {
        return Err(Fault::field("filters", format!("`{unknown}` is none of {}", FILTERS.join(", "))));
    }
    if filters.is_empty() || filters.values().any(|value| value.chars().count() > 200) {
        return Err(Fault::field("filters", "there is at least one filter, and each has at most 200 characters"));
    }
    let person = acting.person.id;
    if acting.tx()?.saved_searches(person).await?.len() >= MOST_SEARCHES {
        return Err(Fault::field("name", format!("at most {MOST_SEARCHES} searches are kept; forget one first")));
    }
    let body_value = serde_json::to_value(&filters).map_err(|error| Fault::internal(error.to_string()))?;
    let row = SavedSearchRow { id: Uuid::now_v7(), organisation: acting.organisation(), person_id: person, name: named("name", &body.name)?, body: body_value };
    acting.tx()?.save_search(&row).await?;
    acting.naming(row.id, &row.name);
    acting.done().await?;
    Ok(Sent(show(row)))
}

/// Forgets a saved search of one's own.
#[utoipa::path(context_path = "", responses((status = 200)))]
#[delete("/api/v1/searches/<search>")]
pub async fn forget_search(mut acting: Acting, search: &str) -> Answer<()> {
    let target = id(search)?;
    acting.intends("search.forget", "search", Some(target), "");
    let person = acting.person.id;
    acting.tx()?.forget_search(person, target).await.map_err(|_| Fault::unknown("saved search"))?;
    acting.done().await?;
    Ok(())
}

/// Who looked at or used a credential, for its stewards and for holders of the duty `audit`.
#[utoipa::path(context_path = "", responses((status = 200, body = Page<UseItem>)))]
#[get("/api/v1/credentials/<credential>/uses")]
pub async fn uses(mut acting: Acting, credential: &str) -> Answer<Sent<Page<UseItem>>> {
    let target = id(credential)?;
    acting.intends("credential.uses", "credential", Some(target), "");
    if acting.duty("audit").is_err() {
        allow_credential::<mark::Steward>(&mut acting, target).await?;
    }
    let rows = acting.tx()?.users_of(target, 100).await?;
    let names = super::people::names(&mut acting).await?;
    acting.seen().await?;
    let show = |(person, last_at, times)| UseItem { person: names.get(&person).cloned().unwrap_or_default(), last_at, times };
    Ok(Sent(Page { items: rows.into_iter().map(show).collect(), next: None }))
}

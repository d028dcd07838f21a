//! Tags of credentials.

use jexlin_api::{Page, TagItem};
use rocket::{Route, get, routes};

use super::names::named;
use super::payload::Sent;
use crate::error::{ApiError, ApiResult};
use crate::unit_of_work::UnitOfWork;

pub fn routes() -> Vec<Route> {
    routes![tags]
}

/// The longest tag, in characters, and the most of them on one credential.
const LONGEST_TAG: usize = 40;
const MOST_TAGS: usize = 20;

/// Reads tags: small letters, each once, in order.
pub fn read_tags(tags: &[String]) -> ApiResult<Vec<String>> {
    let mut read = vec![];
    for tag in tags {
        let tag = named("tags", &tag.to_lowercase())?;
        if tag.chars().count() > LONGEST_TAG || tag.contains(',') {
            return Err(ApiError::field(
                "tags",
                format!("a tag has at most {LONGEST_TAG} characters and no comma"),
            ));
        }
        read.push(tag);
    }
    read.sort();
    read.dedup();
    if read.len() > MOST_TAGS {
        Err(ApiError::field(
            "tags",
            format!("at most {MOST_TAGS} tags are possible"),
        ))
    } else {
        Ok(read)
    }
}

/// The tags of the credentials that the asker may know of.
#[utoipa::path(context_path = "", responses((status = 200, body = Page<TagItem>)))]
#[get("/api/v1/tags")]
pub async fn tags(mut unit: UnitOfWork) -> ApiResult<Sent<Page<TagItem>>> {
    let (person, now) = (unit.person.id, unit.now);
    let rows = unit.tx()?.tags_for(person, now).await?;
    unit.commit().await?;
    Ok(Sent(Page {
        items: rows
            .into_iter()
            .map(|(tag, times)| TagItem { tag, times })
            .collect(),
        next: None,
    }))
}

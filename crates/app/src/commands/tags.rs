//! Tags of credentials.

use jexlin_api::{Page, TagItem};

use super::names::named;
use crate::error::{AppError, AppResult};
use crate::unit_of_work::UnitOfWork;

/// The longest tag, in characters, and the most of them on one credential.
const LONGEST_TAG: usize = 40;

const MOST_TAGS: usize = 20;

/// Reads tags: small letters, each once, in order.
pub fn read_tags(tags: &[String]) -> AppResult<Vec<String>> {
    let mut read = vec![];
    for tag in tags {
        let tag = named("tags", &tag.to_lowercase())?;
        if tag.chars().count() > LONGEST_TAG || tag.contains(',') {
            return Err(AppError::field(
                "tags",
                format!("a tag has at most {LONGEST_TAG} characters, and no comma"),
            ));
        }
        read.push(tag);
    }
    read.sort();
    read.dedup();
    if read.len() > MOST_TAGS {
        Err(AppError::field(
            "tags",
            format!("at most {MOST_TAGS} tags are possible"),
        ))
    } else {
        Ok(read)
    }
}

/// The tags of the credentials that the asker may know of.
pub async fn tags(unit: &mut UnitOfWork) -> AppResult<Page<TagItem>> {
    let (person, now) = (unit.person.id, unit.now);
    let rows = unit.tx()?.tags_for(person, now).await?;
    unit.commit().await?;
    Ok(Page {
        items: rows
            .into_iter()
            .map(|(tag, times)| TagItem { tag, times })
            .collect(),
        next: None,
    })
}

//! Names: read from requests, and shown for identifiers.

use std::collections::BTreeMap;

use jexlin_api::Member;
use jexlin_core::names::Name;
use jexlin_core::people::SubjectType;
use uuid::Uuid;

use crate::error::{AppError, AppResult};
use crate::unit_of_work::UnitOfWork;

/// Parses a name of the field `name`, or says what is wrong with it.
pub fn named(field: &str, text: &str) -> AppResult<String> {
    Name::parse(text)
        .map(Name::into_string)
        .map_err(|problem| AppError::field(field, problem.to_string()))
}

/// Names of people and groups by identifier.
pub async fn names(unit: &mut UnitOfWork) -> AppResult<BTreeMap<Uuid, String>> {
    let people = unit.tx()?.people(None, None, i64::MAX).await?;
    let groups = unit.tx()?.groups(None, None, i64::MAX).await?;
    Ok(people
        .into_iter()
        .map(|row| (row.id, row.display_name))
        .chain(groups.into_iter().map(|row| (row.id, row.name)))
        .collect())
}

/// A subject as the interface shows it.
pub fn member(id: Uuid, is_group: bool, names: &BTreeMap<Uuid, String>) -> Member {
    Member {
        id,
        subject_type: if is_group {
            SubjectType::Group
        } else {
            SubjectType::Person
        },
        name: names.get(&id).cloned().unwrap_or_default(),
    }
}

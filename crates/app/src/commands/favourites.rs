//! Favourites, who revealed or used a credential, and what somebody has seen.

use std::collections::BTreeMap;

use jexlin_api::{Page, SeenItem, UseItem};
use jexlin_core::access::{Level, mark};
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::people::Duty;
use jexlin_store::{CredentialListing, ListQuery};
use uuid::Uuid;

use crate::error::{AppError, AppResult};
use crate::guards::allow_credential;
use crate::unit_of_work::UnitOfWork;

async fn favourite(unit: &mut UnitOfWork, credential: Uuid, marked: bool) -> AppResult<()> {
    let target = credential;
    unit.begin_audit(
        if marked {
            Action::CredentialAddFavourite
        } else {
            Action::CredentialRemoveFavourite
        },
        TargetType::Credential,
        Some(target),
        "",
    );
    allow_credential::<mark::List>(unit, target).await?;
    let person = unit.person.id;
    unit.tx()?.mark_favourite(person, target, marked).await?;
    unit.commit_audited().await?;
    Ok(())
}

/// Marks a credential as one of one's favourites.
pub async fn mark_favourite(unit: &mut UnitOfWork, credential: Uuid) -> AppResult<()> {
    favourite(unit, credential, true).await
}

/// Takes that mark away.
pub async fn unmark_favourite(unit: &mut UnitOfWork, credential: Uuid) -> AppResult<()> {
    favourite(unit, credential, false).await
}

/// Who looked at or used a credential, for its stewards and for holders of the duty `audit`.
pub async fn uses(unit: &mut UnitOfWork, credential: Uuid) -> AppResult<Page<UseItem>> {
    let target = credential;
    unit.begin_audit(
        Action::CredentialUses,
        TargetType::Credential,
        Some(target),
        "",
    );
    if unit.duty(Duty::Audit).is_err() {
        allow_credential::<mark::Steward>(unit, target).await?;
    }
    let rows = unit.tx()?.users_of(target, 100).await?;
    let names = super::names::names(unit).await?;
    unit.commit().await?;
    let show = |(person, last_at, times)| UseItem {
        person: names.get(&person).cloned().unwrap_or_default(),
        last_at,
        times,
    };
    Ok(Page {
        items: rows.into_iter().map(show).collect(),
        next: None,
    })
}

/// More than these are not told.
const MOST_SEEN: i64 = 2000;

/// The credentials whose secrets a person has seen, the latest first. The duty `audit` shows all of
/// them. The person sees those that they may still list. Anybody else sees those that they are a
/// steward of, since stewards may know who uses a credential anyway.
pub async fn seen(unit: &mut UnitOfWork, person: Uuid) -> AppResult<Page<SeenItem>> {
    unit.begin_audit(Action::PersonSeen, TargetType::Person, Some(person), "");
    let row = unit.tx()?.person(person).await;
    let row = row.map_err(|_| AppError::unknown("person"))?;
    unit.set_target(person, &row.sign_in_name);
    let (asker, now) = (unit.person.id, unit.now);
    let all = unit.duty(Duty::Audit).is_ok();
    let rows = unit.tx()?.seen_by(person, MOST_SEEN).await?;
    let query = ListQuery {
        only: Some(rows.iter().map(|row| row.credential).collect()),
        limit: MOST_SEEN,
        ..ListQuery::default()
    };
    let listed = unit.tx()?.list_credentials(asker, now, &query).await?;
    let mut listed: BTreeMap<Uuid, CredentialListing> =
        listed.into_iter().map(|item| (item.id, item)).collect();
    let mut items = vec![];
    for row in rows {
        let item = listed.remove(&row.credential);
        let level = item.as_ref().and_then(|item| Level::from_number(item.held));
        if !(all || level == Some(Level::Steward) || (person == asker && level.is_some())) {
            continue;
        }
        let (path, device) = match item {
            Some(item) => (format!("{}/{}", item.place, item.name), item.device_name),
            // An auditor knows its name from the log.
            None => (crate::guards::place_of(unit, row.credential).await?, None),
        };
        items.push(SeenItem {
            credential: row.credential,
            path,
            device,
            level,
            last_at: row.last,
            times: row.times,
            changed_since: row.made_at.is_some_and(|made| made > row.last),
        });
    }
    unit.commit_audited().await?;
    Ok(Page { items, next: None })
}

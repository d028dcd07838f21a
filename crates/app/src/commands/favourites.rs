//! Favourites, and who revealed or used a credential.

use jexlin_api::{Page, UseItem};
use jexlin_core::access::mark;
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::people::Duty;
use uuid::Uuid;

use crate::error::AppResult;
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

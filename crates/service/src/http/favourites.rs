//! What people keep of credentials: favourites; and who looked at or used one.

use jexlin_api::{Page, UseItem};
use jexlin_core::access::mark;
use rocket::{Route, delete, get, put, routes};

use super::payload::{Sent, id};
use crate::error::ApiResult;
use crate::guards::allow_credential;
use crate::unit_of_work::UnitOfWork;

pub fn routes() -> Vec<Route> {
    routes![mark_favourite, unmark_favourite, uses]
}

async fn favourite(mut unit: UnitOfWork, credential: &str, marked: bool) -> ApiResult<()> {
    let target = id(credential)?;
    unit.begin_audit(
        if marked {
            "credential.favourite"
        } else {
            "credential.unfavourite"
        },
        "credential",
        Some(target),
        "",
    );
    allow_credential::<mark::List>(&mut unit, target).await?;
    let person = unit.person.id;
    unit.tx()?.mark_favourite(person, target, marked).await?;
    unit.commit_audited().await?;
    Ok(())
}

/// Marks a credential as one of one's favourites.
#[utoipa::path(context_path = "", responses((status = 200)))]
#[put("/api/v1/credentials/<credential>/favourite")]
pub async fn mark_favourite(unit: UnitOfWork, credential: &str) -> ApiResult<()> {
    favourite(unit, credential, true).await
}

/// Takes that mark away.
#[utoipa::path(context_path = "", responses((status = 200)))]
#[delete("/api/v1/credentials/<credential>/favourite")]
pub async fn unmark_favourite(unit: UnitOfWork, credential: &str) -> ApiResult<()> {
    favourite(unit, credential, false).await
}

/// Who looked at or used a credential, for its stewards and for holders of the duty `audit`.
#[utoipa::path(context_path = "", responses((status = 200, body = Page<UseItem>)))]
#[get("/api/v1/credentials/<credential>/uses")]
pub async fn uses(mut unit: UnitOfWork, credential: &str) -> ApiResult<Sent<Page<UseItem>>> {
    let target = id(credential)?;
    unit.begin_audit("credential.uses", "credential", Some(target), "");
    if unit.duty("audit").is_err() {
        allow_credential::<mark::Steward>(&mut unit, target).await?;
    }
    let rows = unit.tx()?.users_of(target, 100).await?;
    let names = super::names::names(&mut unit).await?;
    unit.commit().await?;
    let show = |(person, last_at, times)| UseItem {
        person: names.get(&person).cloned().unwrap_or_default(),
        last_at,
        times,
    };
    Ok(Sent(Page {
        items: rows.into_iter().map(show).collect(),
        next: None,
    }))
}

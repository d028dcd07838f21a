//! Credentials that people see only the name of, where the organisation allows it, and access
//! requests for them.

use chrono::{DateTime, Utc};
use jexlin_api::ErrorCode;
use jexlin_api::{AccessRequest, Decide, Discoverable, NewAccessRequest, NewGrant};
use jexlin_core::access::AccessRequestState;
use jexlin_core::access::Level;
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::names::check_note;
use jexlin_core::words::Word as _;
use jexlin_store::{AccessRequestRow, AccessRequestView, StoreError};
use uuid::Uuid;

use super::grants::give;
use crate::error::{AppError, AppResult};
use crate::guards::place_of;
use crate::paging::{Paged, Paging};
use crate::unit_of_work::UnitOfWork;

async fn allowed(unit: &mut UnitOfWork) -> AppResult<()> {
    let (settings, _) = crate::settings::settings(unit.tx()?).await?;
    if settings.discoverable_names {
        return Ok(());
    }
    Err(AppError::forbidden(
        "This organisation hides the names of credentials that you have no access to.",
        "Ask an administrator for the name; the setting is `discoverable_names`.",
    ))
}

/// Where a list of access requests goes on: whether it is settled, when it was asked, which it is.
pub type AccessRequestKey = (bool, DateTime<Utc>, Uuid);

fn show(view: AccessRequestView) -> AccessRequest {
    let may_decide = view.may_decide();
    AccessRequest {
        id: view.id,
        credential: view.credential_id,
        place: view.place,
        person: view.person_id,
        person_name: view.person_name,
        level: Level::from_number(view.held).unwrap_or(Level::List),
        reason: view.reason,
        may_decide: may_decide && view.state == AccessRequestState::Waiting,
        state: view.state.0,
        asked_at: view.asked_at,
        decided_by: view.decided_by_name,
        comment: view.comment,
    }
}

/// The names of credentials that the asker holds nothing on, with a text in them; not of what is in
/// closed folders. Where the organisation lets people see them.
pub async fn discoverable(
    unit: &mut UnitOfWork,
    find: &str,
    paging: Paging<(String, Uuid)>,
) -> AppResult<Paged<Discoverable, (String, Uuid)>> {
    allowed(unit).await?;
    let text = find.trim();
    if text.chars().count() < 2 || text.chars().count() > 60 {
        return Err(AppError::field("find", "two to sixty letters of the name"));
    }
    let (person, now) = (unit.person.id, unit.now);
    let rows = unit
        .tx()?
        .discoverable(person, now, text, paging.after, paging.limit + 1)
        .await?;
    unit.commit().await?;
    let show = |row: jexlin_store::DiscoverableView| Discoverable {
        id: row.id,
        name: row.name,
        place: row.place,
        kind: row.kind,
        asked: row.asked,
    };
    Ok(Paged::of(
        rows,
        paging.limit,
        |row| (row.name.to_lowercase(), row.id),
        show,
    ))
}

/// The access requests that concern the asker: their own, and those for what they are a steward of.
pub async fn list(
    unit: &mut UnitOfWork,
    paging: Paging<AccessRequestKey>,
) -> AppResult<Paged<AccessRequest, AccessRequestKey>> {
    let (person, now) = (unit.person.id, unit.now);
    let rows = unit
        .tx()?
        .access_requests(person, now, paging.after, paging.limit + 1)
        .await?;
    unit.commit().await?;
    let key = |row: &AccessRequestView| {
        let waits = row.state == AccessRequestState::Waiting;
        (!waits, row.asked_at, row.id)
    };
    Ok(Paged::of(rows, paging.limit, key, show))
}

/// Asks the stewards of something for a level on it.
pub async fn ask(unit: &mut UnitOfWork, body: NewAccessRequest) -> AppResult<AccessRequest> {
    unit.begin_audit(
        Action::AccessRequestAsk,
        TargetType::Credential,
        Some(body.credential),
        "",
    );
    allowed(unit).await?;
    let (person, now) = (unit.person.id, unit.now);
    if unit
        .tx()?
        .reach_credential(person, body.credential, now)
        .await?
        .level()
        .is_some()
    {
        return Err(AppError::conflict(
            ErrorCode::WithinReach,
            "You already have access to this.",
            "Ask one of its stewards for a higher level; they are listed under Access.",
        ));
    }
    if !unit
        .tx()?
        .is_discoverable(person, body.credential, now)
        .await?
    {
        return Err(AppError::unknown("credential"));
    }
    let place = place_of(unit, body.credential).await?;
    unit.set_target(body.credential, &place);
    if body.level == Level::Steward {
        return Err(AppError::field(
            "level",
            "must be list, use, reveal or edit",
        ));
    }
    let reason = body.reason.trim().to_owned();
    check_note(&reason).map_err(|problem| AppError::field("reason", problem))?;
    if reason.is_empty() {
        return Err(AppError::field("reason", "say what for"));
    }
    let row = AccessRequestRow {
        id: Uuid::now_v7(),
        organisation: unit.organisation(),
        credential_id: body.credential,
        person_id: person,
        held: body.level.number(),
        reason: reason.clone(),
        state: AccessRequestState::Waiting.into(),
        asked_at: now,
        decided_at: None,
        decided_by: None,
        comment: String::new(),
    };
    unit.tx()?
        .add_access_request(&row)
        .await
        .map_err(|error| match error {
            StoreError::Conflict(_) => AppError::conflict(
                ErrorCode::AlreadyAsked,
                "Your earlier access request for this is still waiting.",
                "Wait for the answer, or withdraw it.",
            ),
            other => other.into(),
        })?;
    unit.add_detail("level", body.level.word());
    unit.add_detail("reason", reason);
    let shown = show(unit.tx()?.access_request_view(person, row.id, now).await?);
    unit.commit_audited().await?;
    Ok(shown)
}

async fn settle(
    unit: &mut UnitOfWork,
    access_request: Uuid,
    state: AccessRequestState,
    comment: &str,
) -> AppResult<AccessRequest> {
    let action = match state {
        AccessRequestState::Granted => Action::AccessRequestGrant,
        AccessRequestState::Refused => Action::AccessRequestRefuse,
        _ => Action::AccessRequestWithdraw,
    };
    unit.begin_audit(action, TargetType::Credential, None, "");
    check_note(comment).map_err(|problem| AppError::field("comment", problem))?;
    let (person, now) = (unit.person.id, unit.now);
    let mut row = unit
        .tx()?
        .access_request_locked(access_request)
        .await
        .map_err(|_| AppError::unknown("access_request"))?;
    let view = unit
        .tx()?
        .access_request_view(person, access_request, now)
        .await?;
    let mine = view.person_id == person;
    if !mine && !view.may_decide() {
        return Err(AppError::unknown("access_request"));
    }
    let said = |unit: &mut UnitOfWork| {
        unit.begin_audit(
            action,
            TargetType::Credential,
            Some(view.credential_id),
            &view.place,
        );
        unit.add_detail("asked_by", view.person_name.clone());
        if !comment.is_empty() {
            unit.add_detail("comment", comment);
        }
    };
    said(unit);
    if mine != (state == AccessRequestState::Withdrawn) {
        return Err(AppError::forbidden(
            "You can withdraw only your own access request, and decide only those of others.",
            "Ask another steward.",
        ));
    }
    if row.state != AccessRequestState::Waiting {
        return Err(AppError::conflict(
            ErrorCode::AccessRequestSettled,
            format!("This access request is {} already.", row.state),
            "Reload the list.",
        ));
    }
    if state == AccessRequestState::Granted {
        let level = Level::from_number(row.held).unwrap_or(Level::List);
        let new = NewGrant {
            folder: None,
            credential: Some(row.credential_id),
            person: Some(row.person_id),
            group: None,
            level,
            ends_at: None,
            note: format!("asked for: {}", row.reason),
            only_kind: None,
            only_tag: None,
            without_history: false,
        };
        give(unit, new).await?;
        unit.queue_event()?;
        said(unit);
        unit.add_detail("level", level.word());
    }
    row.state = state.into();
    row.decided_at = Some(now);
    row.decided_by = Some(person);
    comment.clone_into(&mut row.comment);
    unit.tx()?.settle_access_request(&row).await?;
    let shown = show(
        unit.tx()?
            .access_request_view(person, access_request, now)
            .await?,
    );
    unit.commit_audited().await?;
    Ok(shown)
}

/// Grants what somebody else asked for, as a steward.
pub async fn grant(
    unit: &mut UnitOfWork,
    access_request: Uuid,
    body: Decide,
) -> AppResult<AccessRequest> {
    settle(
        unit,
        access_request,
        AccessRequestState::Granted,
        &body.comment,
    )
    .await
}

/// Refuses what somebody else asked for, as a steward.
pub async fn refuse(
    unit: &mut UnitOfWork,
    access_request: Uuid,
    body: Decide,
) -> AppResult<AccessRequest> {
    settle(
        unit,
        access_request,
        AccessRequestState::Refused,
        &body.comment,
    )
    .await
}

/// Withdraws one's own access request.
pub async fn withdraw(unit: &mut UnitOfWork, access_request: Uuid) -> AppResult<AccessRequest> {
    settle(unit, access_request, AccessRequestState::Withdrawn, "").await
}

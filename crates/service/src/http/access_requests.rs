//! What somebody sees the name of and no more, where the organisation lets them, and asking for it.

use jexlin_api::{AccessRequest, Decide, Discoverable, NewAccessRequest, NewGrant, Page};
use jexlin_core::access::Level;
use jexlin_core::names::check_note;
use jexlin_store::{AccessRequestRow, AccessRequestView, StoreError};
use rocket::{Route, get, post, routes};
use uuid::Uuid;

use super::access::give;
use super::payload::{Call, Sent, id, page, paging};
use crate::error::{ApiError, ApiResult};
use crate::guards::place_of;
use crate::unit_of_work::UnitOfWork;

pub fn routes() -> Vec<Route> {
    routes![discoverable, list, ask, grant, refuse, withdraw]
}

/// The most access requests in a list.
const MOST: i64 = 200;

async fn allowed(unit: &mut UnitOfWork) -> ApiResult<()> {
    let (settings, _) = crate::settings::settings(unit.tx()?).await?;
    if settings.discoverable_names {
        return Ok(());
    }
    Err(ApiError::forbidden(
        "This organisation shows nobody the names of what they cannot open.",
        "Ask an administrator what there is; the setting is `discoverable_names`.",
    ))
}

fn show(view: AccessRequestView) -> AccessRequest {
    AccessRequest {
        id: view.id,
        credential: view.credential_id,
        place: view.place,
        person: view.person_id,
        person_name: view.person_name,
        level: Level::from_number(view.held).unwrap_or(Level::List),
        reason: view.reason,
        may_decide: view.may_decide && view.state == "waiting",
        state: view.state,
        asked_at: view.asked_at,
        decided_by: view.decided_by_name,
        comment: view.comment,
    }
}

/// The names of credentials that the asker holds nothing on, with a text in them; not of what is in
/// closed folders. Where the organisation lets people see them.
#[utoipa::path(context_path = "", params(("find" = String, Query), ("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)), responses((status = 200, body = Page<Discoverable>)))]
#[get("/api/v1/discoverable?<find>&<cursor>&<limit>")]
pub async fn discoverable(
    mut unit: UnitOfWork,
    find: &str,
    cursor: Option<&str>,
    limit: Option<i64>,
) -> ApiResult<Sent<Page<Discoverable>>> {
    let paging = paging::<(String, Uuid)>(cursor, limit)?;
    allowed(&mut unit).await?;
    let text = find.trim();
    if text.chars().count() < 2 || text.chars().count() > 60 {
        return Err(ApiError::field("find", "two to sixty letters of the name"));
    }
    let (person, now) = (unit.person.id, unit.now);
    let rows = unit
        .tx()?
        .discoverable(person, now, text, paging.after, paging.most + 1)
        .await?;
    unit.commit().await?;
    let show = |row: jexlin_store::DiscoverableView| Discoverable {
        id: row.id,
        name: row.name,
        place: row.place,
        kind: row.kind,
        asked: row.asked,
    };
    Ok(Sent(page(
        rows,
        paging.most,
        |row| (row.name.to_lowercase(), row.id),
        show,
    )))
}

/// The access requests that concern the asker: their own, and those for what they are a steward of.
#[utoipa::path(context_path = "", responses((status = 200, body = Page<AccessRequest>)))]
#[get("/api/v1/access-requests")]
pub async fn list(mut unit: UnitOfWork) -> ApiResult<Sent<Page<AccessRequest>>> {
    let (person, now) = (unit.person.id, unit.now);
    let rows = unit.tx()?.access_requests(person, now, MOST).await?;
    unit.commit().await?;
    Ok(Sent(Page {
        items: rows.into_iter().map(show).collect(),
        next: None,
    }))
}

/// Asks the stewards of something for a level on it.
#[utoipa::path(context_path = "", request_body = NewAccessRequest, responses((status = 200, body = AccessRequest)))]
#[post("/api/v1/access-requests", data = "<body>")]
pub async fn ask(body: Call<NewAccessRequest>) -> ApiResult<Sent<AccessRequest>> {
    let Call(mut unit, body) = body;
    unit.begin_audit(
        "access-request.ask",
        "credential",
        Some(body.credential),
        "",
    );
    allowed(&mut unit).await?;
    let (person, now) = (unit.person.id, unit.now);
    if unit
        .tx()?
        .reach_credential(person, body.credential, now)
        .await?
        .level()
        .is_some()
    {
        return Err(ApiError::conflict(
            "within-reach",
            "You hold something on this already.",
            "Ask one of its stewards for more: they are under Access.",
        ));
    }
    if !unit
        .tx()?
        .is_discoverable(person, body.credential, now)
        .await?
    {
        return Err(ApiError::unknown("credential"));
    }
    let place = place_of(&mut unit, body.credential).await?;
    unit.set_target(body.credential, &place);
    if body.level == Level::Steward {
        return Err(ApiError::field(
            "level",
            "one asks for list, use, reveal or edit",
        ));
    }
    let reason = body.reason.trim().to_owned();
    check_note(&reason).map_err(|problem| ApiError::field("reason", problem))?;
    if reason.is_empty() {
        return Err(ApiError::field("reason", "say what for"));
    }
    let row = AccessRequestRow {
        id: Uuid::now_v7(),
        organisation: unit.organisation(),
        credential_id: body.credential,
        person_id: person,
        held: body.level.number(),
        reason: reason.clone(),
        state: "waiting".into(),
        asked_at: now,
        decided_at: None,
        decided_by: None,
        comment: String::new(),
    };
    unit.tx()?
        .add_access_request(&row)
        .await
        .map_err(|error| match error {
            StoreError::Conflict(_) => ApiError::conflict(
                "already-asked",
                "Your earlier access request for this is still waiting.",
                "Wait for the answer, or withdraw it.",
            ),
            other => other.into(),
        })?;
    unit.add_detail("level", body.level.word());
    unit.add_detail("reason", reason);
    let shown = show(unit.tx()?.access_request_view(person, row.id, now).await?);
    unit.commit_audited().await?;
    Ok(Sent(shown))
}

async fn settle(
    mut unit: UnitOfWork,
    access_request: &str,
    state: &str,
    comment: &str,
) -> ApiResult<Sent<AccessRequest>> {
    let access_request = id(access_request)?;
    let action = match state {
        "granted" => "access-request.grant",
        "refused" => "access-request.refuse",
        _ => "access-request.withdraw",
    };
    unit.begin_audit(action, "credential", None, "");
    check_note(comment).map_err(|problem| ApiError::field("comment", problem))?;
    let (person, now) = (unit.person.id, unit.now);
    let mut row = unit
        .tx()?
        .access_request_locked(access_request)
        .await
        .map_err(|_| ApiError::unknown("access_request"))?;
    let view = unit
        .tx()?
        .access_request_view(person, access_request, now)
        .await?;
    let mine = view.person_id == person;
    if !mine && !view.may_decide {
        return Err(ApiError::unknown("access_request"));
    }
    let said = |unit: &mut UnitOfWork| {
        unit.begin_audit(action, "credential", Some(view.credential_id), &view.place);
        unit.add_detail("asked_by", view.person_name.clone());
        if !comment.is_empty() {
            unit.add_detail("comment", comment);
        }
    };
    said(&mut unit);
    if mine != (state == "withdrawn") {
        return Err(ApiError::forbidden(
            "One withdraws one's own access request, and a steward settles somebody else's.",
            "Ask somebody else who is a steward of it.",
        ));
    }
    if row.state != "waiting" {
        return Err(ApiError::conflict(
            "access-request-settled",
            format!("This access request is {} already.", row.state),
            "Look at the list again.",
        ));
    }
    if state == "granted" {
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
        give(&mut unit, new).await?;
        unit.queue_event()?;
        said(&mut unit);
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
    Ok(Sent(shown))
}

/// Grants what somebody else asked for, as a steward.
#[utoipa::path(context_path = "", request_body = Decide, responses((status = 200, body = AccessRequest)))]
#[post("/api/v1/access-requests/<access_request>/grant", data = "<body>")]
pub async fn grant(access_request: &str, body: Call<Decide>) -> ApiResult<Sent<AccessRequest>> {
    let Call(unit, body) = body;
    settle(unit, access_request, "granted", &body.comment).await
}

/// Refuses what somebody else asked for, as a steward.
#[utoipa::path(context_path = "", request_body = Decide, responses((status = 200, body = AccessRequest)))]
#[post("/api/v1/access-requests/<access_request>/refuse", data = "<body>")]
pub async fn refuse(access_request: &str, body: Call<Decide>) -> ApiResult<Sent<AccessRequest>> {
    let Call(unit, body) = body;
    settle(unit, access_request, "refused", &body.comment).await
}

/// Withdraws one's own access request.
#[utoipa::path(context_path = "", responses((status = 200, body = AccessRequest)))]
#[post("/api/v1/access-requests/<access_request>/withdraw")]
pub async fn withdraw(unit: UnitOfWork, access_request: &str) -> ApiResult<Sent<AccessRequest>> {
    settle(unit, access_request, "withdrawn", "").await
}

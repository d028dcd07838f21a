//! Requests to pass a gate, and the decisions on them.

use chrono::{DateTime, TimeDelta, Utc};
use jexlin_api::ErrorCode;
use jexlin_api::{Decide, NewRequest, Request};
use jexlin_core::access::mark;
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::gate::{Decision, GateRevision, GateSet, RequestFacts, RequestState, decide};
use jexlin_core::names::check_note;
use jexlin_store::{RequestRow, RequestView};
use uuid::Uuid;

use crate::error::{AppError, AppResult};
use crate::guards::allow_credential;
use crate::paging::{Paged, Paging};
use crate::unit_of_work::UnitOfWork;

/// A request waits, and an approved one can be used, for so long.
const REQUEST_HOURS: i64 = 24;

/// A request as the interface shows it.
pub fn show_request(row: RequestView) -> Request {
    let may_decide = row.may_decide();
    Request {
        id: row.id,
        credential: row.credential_id,
        credential_path: format!("{}/{}", row.place, row.credential_name),
        person: row.person_id,
        person_name: row.person_name,
        reason: row.reason,
        minutes: row.minutes,
        may_decide: may_decide && row.state == RequestState::Waiting,
        state: row.state.0,
        approvals_needed: row.approvals_needed,
        approvals_given: row.approvals_given,
        asked_at: row.asked_at,
        expires_at: row.expires_at,
        decided_at: row.decided_at,
        decided_by: row.decided_by_name,
        comment: row.comment,
        checkout: row.checkout_id,
    }
}

/// The requests that concern the asker: their own, and those they may decide; newest first.
pub async fn list(
    unit: &mut UnitOfWork,
    state: Option<RequestState>,
    credential: Option<Uuid>,
    paging: Paging<(DateTime<Utc>, Uuid)>,
) -> AppResult<Paged<Request, (DateTime<Utc>, Uuid)>> {
    let person = unit.person.id;
    let rows = unit
        .tx()?
        .requests(person, state, credential, paging.after, paging.limit + 1)
        .await?;
    unit.commit().await?;
    Ok(Paged::of(
        rows,
        paging.limit,
        |row| (row.asked_at, row.id),
        show_request,
    ))
}

/// One request.
pub async fn read(unit: &mut UnitOfWork, request: Uuid) -> AppResult<Request> {
    let person = unit.person.id;
    let row = unit
        .tx()?
        .request_view(person, request)
        .await
        .map_err(|_| AppError::unknown("request"))?;
    unit.commit().await?;
    if row.person_id != person && !row.may_decide() {
        return Err(AppError::unknown("request"));
    }
    Ok(show_request(row))
}

/// The reason for a request or a checkout, if the gates demand one.
pub fn check_reason(gates: &GateSet, reason: &str) -> AppResult<String> {
    let reason = reason.trim();
    check_note(reason).map_err(|problem| AppError::field("reason", problem))?;
    if gates.needs_reason() && reason.is_empty() {
        return Err(AppError::field("reason", "this gate requires a reason"));
    }
    Ok(reason.to_owned())
}

/// Asks to pass a gate.
pub async fn ask(unit: &mut UnitOfWork, body: NewRequest) -> AppResult<Request> {
    unit.begin_audit(
        Action::RequestAsk,
        TargetType::Credential,
        Some(body.credential),
        "",
    );
    allow_credential::<mark::List>(unit, body.credential).await?;
    let gates = unit.tx()?.gates_of(body.credential).await?;
    if !gates.needs_approval() {
        return Err(AppError::conflict(
            ErrorCode::NoApprovalNeeded,
            "No gate on this credential requires an approval.",
            "Reveal it, or check it out, as your level allows.",
        ));
    }
    let reason = check_reason(&gates, &body.reason)?;
    let now = unit.now;
    gates
        .end_of(now, body.minutes)
        .map_err(|problem| AppError::field("minutes", problem))?;
    let row = RequestRow {
        id: Uuid::now_v7(),
        organisation: unit.organisation(),
        credential_id: body.credential,
        person_id: unit.person.id,
        reason: reason.clone(),
        minutes: body.minutes,
        state: RequestState::Waiting.into(),
        asked_at: now,
        expires_at: now + TimeDelta::hours(REQUEST_HOURS),
        decided_at: None,
        decided_by: None,
        comment: String::new(),
        checkout_id: None,
    };
    let person = unit.person.id;
    let waiting = unit
        .tx()?
        .requests(
            person,
            Some(RequestState::Waiting),
            Some(body.credential),
            None,
            50,
        )
        .await?;
    if waiting.iter().any(|waiting| waiting.person_id == person) {
        return Err(AppError::conflict(
            ErrorCode::AlreadyAsked,
            "Your earlier request for this credential is still waiting.",
            "Wait for the answer, or withdraw it.",
        ));
    }
    unit.tx()?.add_request(&row, &gates).await?;
    unit.add_detail("request", row.id.to_string());
    unit.add_detail("reason", reason);
    unit.add_detail("minutes", body.minutes.to_string());
    let shown = show_request(unit.tx()?.request_view(person, row.id).await?);
    unit.commit_audited().await?;
    Ok(shown)
}

/// Whether the asker set the password that the decider signs in with, while an approver of one of
/// the gates could decide whose sign-in they did not make.
async fn owes(unit: &mut UnitOfWork, asker: Uuid, gates: &[Uuid]) -> AppResult<bool> {
    if unit.person.sign_in_by != Some(asker)
        || !crate::settings::settings(unit.tx()?)
            .await?
            .0
            .independent_approvers
    {
        return Ok(false);
    }
    for gate in gates {
        for approver in unit.tx()?.approvers_at(*gate).await? {
            if approver != asker && unit.tx()?.person(approver).await?.sign_in_by != Some(asker) {
                return Ok(true);
            }
        }
    }
    Ok(false)
}

async fn settle(
    unit: &mut UnitOfWork,
    request: Uuid,
    comment: &str,
    decision: Decision,
) -> AppResult<Request> {
    let request_id = request;
    let action = match decision {
        Decision::Approve => Action::RequestApprove,
        Decision::Refuse => Action::RequestRefuse,
        Decision::Withdraw => Action::RequestWithdraw,
    };
    unit.begin_audit(action, TargetType::Request, Some(request_id), "");
    check_note(comment).map_err(|problem| AppError::field("comment", problem))?;
    let (person, now) = (unit.person.id, unit.now);
    let view = unit
        .tx()?
        .request_view(person, request_id)
        .await
        .map_err(|_| AppError::unknown("request"))?;
    if view.person_id != person && !view.may_decide() {
        return Err(AppError::unknown("request"));
    }
    unit.begin_audit(
        action,
        TargetType::Credential,
        Some(view.credential_id),
        &format!("{}/{}", view.place, view.credential_name),
    );
    unit.add_detail("request", request_id.to_string());
    unit.add_detail("asked_by", view.person_name.clone());
    if !comment.is_empty() {
        unit.add_detail("comment", comment);
    }
    let mut row = unit.tx()?.request_locked(request_id).await?;
    let asked_gates = unit.tx()?.request_gates(request_id).await?;
    let wanting: Vec<Uuid> = asked_gates
        .iter()
        .filter(|gate| gate.needs_approval)
        .map(|gate| gate.gate_id)
        .collect();
    let decider_gates = unit.tx()?.approves_at(&wanting, person).await?;
    let open_gates: Vec<Uuid> = asked_gates
        .iter()
        .filter(|gate| gate.needs_approval && gate.approved_by.is_none())
        .map(|gate| gate.gate_id)
        .collect();
    let revisions: Vec<GateRevision> = asked_gates
        .iter()
        .map(|gate| (gate.gate_id, gate.gate_revision))
        .collect();
    let present = unit.tx()?.gates_of(row.credential_id).await?;
    let facts = RequestFacts {
        asked_by: row.person_id,
        state: row.state.0,
        expires_at: row.expires_at,
        gates_unchanged: present.is_covered_by(&revisions),
        decider_owes_asker: owes(unit, row.person_id, &open_gates).await?,
        open_gates,
        decider_gates,
    };
    if row.checkout_id.is_some() {
        return Err(AppError::conflict(
            ErrorCode::RequestSettled,
            "This request has been used: it is checked out.",
            "Check it in, or have a steward recall it.",
        ));
    }
    let decided = decide(&facts, person, decision, now)?;
    unit.tx()?
        .approve_at(request_id, &decided.approves, person, now)
        .await?;
    row.state = decided.state.into();
    row.decided_at = Some(now);
    row.decided_by = Some(person);
    comment.clone_into(&mut row.comment);
    // An approval can be used for a while from now on.
    unit.tx()?.change_request(&row).await?;
    let shown = show_request(unit.tx()?.request_view(person, request_id).await?);
    unit.commit_audited().await?;
    Ok(shown)
}

/// Approves somebody else's request.
pub async fn approve(unit: &mut UnitOfWork, request: Uuid, body: Decide) -> AppResult<Request> {
    settle(unit, request, &body.comment, Decision::Approve).await
}

/// Refuses somebody else's request.
pub async fn refuse(unit: &mut UnitOfWork, request: Uuid, body: Decide) -> AppResult<Request> {
    settle(unit, request, &body.comment, Decision::Refuse).await
}

/// Takes one's own request back.
pub async fn withdraw(unit: &mut UnitOfWork, request: Uuid, body: Decide) -> AppResult<Request> {
    settle(unit, request, &body.comment, Decision::Withdraw).await
}

//! Gates, requests, checkouts.

use super::gate_place::GatePlace;
use chrono::{DateTime, TimeDelta, Utc};
use jexlin_api::{
    Checkout, Decide, Gate, GateConditions, NewCheckout, NewGate, NewRequest, Page, PendingAct,
    Request,
};
use jexlin_core::access::mark;
use jexlin_core::gate::{
    Decision, Gate as CoreGate, GateSet, GateVersion, RequestFacts, RequestState, check_gate,
    decide, is_weaker,
};
use jexlin_core::names::check_note;
use jexlin_store::{ApproverRow, CheckoutRow, CheckoutView, GateRow, RequestRow, RequestView};
use rocket::{Route, delete, get, post, put, routes};
use uuid::Uuid;

use super::names::member;
use super::names::names;
use super::payload::{Call, IfMatch, Sent, Versioned, id, maybe_id, page, paging};
use super::second_person::Act;
use super::second_person::MaybePending;
use super::second_person::propose;
use crate::error::{ApiError, ApiResult};
use crate::guards::allow_credential;
use crate::unit_of_work::UnitOfWork;

/// A request waits, and an approved one can be used, for so long.
const REQUEST_HOURS: i64 = 24;

pub fn routes() -> Vec<Route> {
    routes![
        list, add, change, remove, requests, request, ask, approve, refuse, withdraw, checkouts,
        take, check_in, recall
    ]
}

/// A gate as the interface shows it.
pub async fn show_gate(unit: &mut UnitOfWork, gate: Uuid) -> ApiResult<Gate> {
    let view = unit.tx()?.gate_view(gate).await?;
    let names = names(unit).await?;
    let (target, sort) = GatePlace::of_row(&view.gate)?.parts();
    let mut approvers: Vec<_> = view
        .approvers
        .iter()
        .map(|row| member(row.subject, row.subject_is_group, &names))
        .collect();
    approvers.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(Gate {
        id: view.gate.id,
        target_type: sort.into(),
        target,
        place: view.place,
        needs_reason: view.gate.needs_reason,
        needs_approval: view.gate.needs_approval,
        approvers,
        longest_minutes: view.gate.longest_minutes,
        one_holder: view.gate.one_holder,
        rotate_on_return: view.gate.rotate_on_return,
        version: view.gate.version,
    })
}

/// What the gates on the way to a credential ask for together; nothing where none stands.
pub async fn show_conditions(
    unit: &mut UnitOfWork,
    credential: Uuid,
) -> ApiResult<Option<GateConditions>> {
    let set = unit.tx()?.gates_of(credential).await?;
    if set.is_empty() {
        return Ok(None);
    }
    let mut gates = vec![];
    for gate in set.gates() {
        gates.push(show_gate(unit, gate.id).await?);
    }
    Ok(Some(GateConditions {
        needs_reason: set.needs_reason(),
        needs_approval: set.needs_approval(),
        longest_minutes: set.longest_minutes(),
        one_holder: set.one_holder(),
        rotate_on_return: set.rotate_on_return(),
        gates,
    }))
}

pub async fn parse(
    unit: &mut UnitOfWork,
    body: &NewGate,
    gate: Uuid,
    version: i32,
) -> ApiResult<(GateRow, Vec<ApproverRow>)> {
    let organisation = unit.organisation();
    let mut approvers = vec![];
    for person in &body.approver_people {
        unit.tx()?
            .person(*person)
            .await
            .map_err(|_| ApiError::field("approver_people", "there is no such person"))?;
        approvers.push(ApproverRow {
            organisation,
            gate_id: gate,
            subject: *person,
            subject_is_group: false,
        });
    }
    for group in &body.approver_groups {
        unit.tx()?
            .group(*group)
            .await
            .map_err(|_| ApiError::field("approver_groups", "there is no such group"))?;
        approvers.push(ApproverRow {
            organisation,
            gate_id: gate,
            subject: *group,
            subject_is_group: true,
        });
    }
    approvers.dedup();
    let core = CoreGate {
        id: gate,
        version,
        needs_reason: body.needs_reason,
        needs_approval: !approvers.is_empty(),
        longest_minutes: body.longest_minutes,
        one_holder: body.one_holder,
        rotate_on_return: body.rotate_on_return,
    };
    check_gate(&core, approvers.len())
        .map_err(|problem| ApiError::field("longest_minutes", problem))?;
    let row = GateRow {
        id: gate,
        organisation,
        folder_id: body.folder,
        credential_id: body.credential,
        needs_reason: core.needs_reason,
        needs_approval: core.needs_approval,
        longest_minutes: core.longest_minutes,
        one_holder: core.one_holder,
        rotate_on_return: core.rotate_on_return,
        version,
        device_id: body.device,
    };
    Ok((row, approvers))
}

/// The gates at places that the asker may know of.
#[utoipa::path(context_path = "", responses((status = 200, body = Page<Gate>)))]
#[get("/api/v1/gates")]
pub async fn list(mut unit: UnitOfWork) -> ApiResult<Sent<Page<Gate>>> {
    let rows = unit.tx()?.gates().await?;
    let mut items = vec![];
    for row in rows {
        if GatePlace::of_row(&row)?.level(&mut unit).await?.is_some() {
            items.push(show_gate(&mut unit, row.id).await?);
        }
    }
    items.sort_by_key(|gate| gate.place.to_lowercase());
    unit.commit().await?;
    Ok(Sent(Page { items, next: None }))
}

/// Sets a gate at a folder, a device or a credential.
#[utoipa::path(context_path = "", request_body = NewGate, responses((status = 200, body = Gate)))]
#[post("/api/v1/gates", data = "<body>")]
pub async fn add(body: Call<NewGate>) -> ApiResult<Versioned<Gate>> {
    let Call(mut unit, body) = body;
    let place = GatePlace::of(body.folder, body.device, body.credential)?;
    let (target, sort) = place.parts();
    unit.begin_audit("gate.add", sort, Some(target), "");
    let path = place.allow_steward(&mut unit).await?;
    unit.set_target(target, &path);
    let (row, approvers) = parse(&mut unit, &body, Uuid::now_v7(), 1).await?;
    unit.tx()?.add_gate(&row, &approvers).await?;
    let shown = show_gate(&mut unit, row.id).await?;
    unit.commit_audited().await?;
    Ok(Versioned(1, shown))
}

/// A gate that the asker is a steward of the place of; its path.
pub async fn gate_for_stewards(
    unit: &mut UnitOfWork,
    gate: Uuid,
    action: &str,
) -> ApiResult<(GateRow, String)> {
    unit.begin_audit(action, "gate", Some(gate), "");
    let row = unit
        .tx()?
        .gate(gate)
        .await
        .map_err(|_| ApiError::unknown("gate"))?;
    let place = GatePlace::of_row(&row)?;
    let (target, sort) = place.parts();
    unit.begin_audit(action, sort, Some(target), "");
    let path = place
        .allow_steward(unit)
        .await
        .map_err(|fault| fault.hide("gate"))?;
    unit.set_target(target, &path);
    Ok((row, path))
}

/// Whether a change of a gate lets through what it stopped before.
pub async fn is_weakened(
    unit: &mut UnitOfWork,
    present: &GateRow,
    body: &NewGate,
) -> ApiResult<bool> {
    let (after, approvers) = parse(unit, body, present.id, present.version).await?;
    is_weaker_row(unit, present, &after, &approvers).await
}

/// The same, for a row that was read already.
pub async fn is_weaker_row(
    unit: &mut UnitOfWork,
    present: &GateRow,
    after: &GateRow,
    approvers: &[ApproverRow],
) -> ApiResult<bool> {
    let before = unit.tx()?.gate_view(present.id).await?.approvers;
    let ids = |rows: &[ApproverRow]| rows.iter().map(|row| row.subject).collect::<Vec<_>>();
    Ok(is_weaker(
        (&present.to_core(), &ids(&before)),
        (&after.to_core(), &ids(approvers)),
    ))
}

/// Demands what it takes to bring something out from under gates: for what is moved, each gate that no
/// longer counts is removed, so whoever moves it must be a steward of that gate's place, and be one who
/// may remove it alone. It is asked when the move is made, in its transaction.
pub async fn may_leave(unit: &mut UnitOfWork, before: &[Uuid], after: &[Uuid]) -> ApiResult<()> {
    for gate in before.iter().filter(|gate| !after.contains(gate)) {
        let row = unit.tx()?.gate(*gate).await?;
        let place = GatePlace::of_row(&row)?;
        let path = place.allow_steward(unit).await.map_err(|_| {
            ApiError::forbidden(
                "A gate stands above it that would no longer count, and you are not a steward of the gate's place.",
                "Ask a steward of that place to move it.",
            )
        })?;
        unit.add_detail("left_gate_of", path.clone());
        if super::second_person::needs_second(
            unit,
            &Act::RemoveGate {
                gate: row.id,
                version: row.version,
            },
        )
        .await?
        {
            return Err(ApiError::conflict(
                "needs-second-person",
                format!(
                    "The gate of {path} would no longer count for it, and removing a gate takes a second steward."
                ),
                "Set a gate that is no weaker where it goes, or have this one removed with a second steward first.",
            ));
        }
    }
    Ok(())
}

/// Changes a gate, in the transaction that is under way.
pub async fn change_now(
    unit: &mut UnitOfWork,
    gate: Uuid,
    version: i32,
    body: &NewGate,
) -> ApiResult<()> {
    let (row, approvers) = parse(unit, body, gate, version).await?;
    Ok(unit.tx()?.change_gate(&row, &approvers).await?)
}

/// Changes a gate; all its conditions are given. What makes it weaker waits for a second steward.
#[utoipa::path(context_path = "", request_body = NewGate, responses((status = 200, body = Gate), (status = 202, body = PendingAct)))]
#[put("/api/v1/gates/<gate>", data = "<body>")]
pub async fn change(
    gate: &str,
    version: IfMatch,
    body: Call<NewGate>,
) -> ApiResult<MaybePending<Gate>> {
    let Call(mut unit, body) = body;
    let (present, path) = gate_for_stewards(&mut unit, id(gate)?, "gate.change").await?;
    let body = NewGate {
        folder: present.folder_id,
        device: present.device_id,
        credential: present.credential_id,
        ..body
    };
    if is_weakened(&mut unit, &present, &body).await? {
        let act = Act::ChangeGate {
            gate: present.id,
            version: version.0,
            to: body.clone(),
        };
        if let Some(pending) =
            propose(&mut unit, act, &format!("Weaken the gate of {path}")).await?
        {
            return Ok(MaybePending::Pending(pending));
        }
    }
    change_now(&mut unit, present.id, version.0, &body).await?;
    let shown = show_gate(&mut unit, present.id).await?;
    unit.commit_audited().await?;
    Ok(MaybePending::Done(shown.version, shown))
}

/// Removes a gate. It waits for a second steward.
#[utoipa::path(context_path = "", responses((status = 200), (status = 202, body = PendingAct)))]
#[delete("/api/v1/gates/<gate>")]
pub async fn remove(
    mut unit: UnitOfWork,
    gate: &str,
    version: IfMatch,
) -> ApiResult<MaybePending<()>> {
    let (row, path) = gate_for_stewards(&mut unit, id(gate)?, "gate.remove").await?;
    let act = Act::RemoveGate {
        gate: row.id,
        version: version.0,
    };
    if let Some(pending) = propose(&mut unit, act, &format!("Remove the gate of {path}")).await? {
        return Ok(MaybePending::Pending(pending));
    }
    unit.tx()?.remove_gate(row.id, version.0).await?;
    unit.commit_audited().await?;
    Ok(MaybePending::Done(0, ()))
}

/// A request as the interface shows it.
pub fn show_request(row: RequestView) -> Request {
    Request {
        id: row.id,
        credential: row.credential_id,
        credential_path: format!("{}/{}", row.place, row.credential_name),
        person: row.person_id,
        person_name: row.person_name,
        reason: row.reason,
        minutes: row.minutes,
        may_decide: row.may_decide && row.state == "waiting",
        state: row.state,
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

/// A checkout as the interface shows it.
pub fn show_checkout(row: CheckoutView) -> Checkout {
    Checkout {
        id: row.id,
        credential: row.credential_id,
        credential_path: format!("{}/{}", row.place, row.credential_name),
        person: row.person_id,
        person_name: row.person_name,
        reason: row.reason,
        starts_at: row.starts_at,
        ends_at: row.ends_at,
        ended_at: row.ended_at,
        ended_how: row.ended_how,
        rotate_on_return: row.rotate_on_return,
    }
}

/// The requests that concern the asker: their own, and those they may decide; newest first.
#[utoipa::path(context_path = "", params(("state" = Option<String>, Query), ("credential" = Option<String>, Query), ("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)), responses((status = 200, body = Page<Request>)))]
#[get("/api/v1/requests?<state>&<credential>&<cursor>&<limit>")]
pub async fn requests(
    mut unit: UnitOfWork,
    state: Option<&str>,
    credential: Option<&str>,
    cursor: Option<&str>,
    limit: Option<i64>,
) -> ApiResult<Sent<Page<Request>>> {
    let paging = paging::<(DateTime<Utc>, Uuid)>(cursor, limit)?;
    let state = match state.filter(|state| !state.is_empty()) {
        Some(state) => Some(
            state
                .parse::<RequestState>()
                .map_err(|problem| ApiError::field("state", problem))?
                .word(),
        ),
        None => None,
    };
    let (person, credential) = (unit.person.id, maybe_id(credential)?);
    let rows = unit
        .tx()?
        .requests(person, state, credential, paging.after, paging.most + 1)
        .await?;
    unit.commit().await?;
    Ok(Sent(page(
        rows,
        paging.most,
        |row| (row.asked_at, row.id),
        show_request,
    )))
}

/// One request.
#[utoipa::path(context_path = "", responses((status = 200, body = Request)))]
#[get("/api/v1/requests/<request>")]
pub async fn request(mut unit: UnitOfWork, request: &str) -> ApiResult<Sent<Request>> {
    let person = unit.person.id;
    let row = unit
        .tx()?
        .request_view(person, id(request)?)
        .await
        .map_err(|_| ApiError::unknown("request"))?;
    unit.commit().await?;
    if row.person_id != person && !row.may_decide {
        return Err(ApiError::unknown("request"));
    }
    Ok(Sent(show_request(row)))
}

fn check_reason(gates: &GateSet, reason: &str) -> ApiResult<String> {
    let reason = reason.trim();
    check_note(reason).map_err(|problem| ApiError::field("reason", problem))?;
    if gates.needs_reason() && reason.is_empty() {
        return Err(ApiError::field("reason", "this gate requires a reason"));
    }
    Ok(reason.to_owned())
}

/// Asks to pass a gate.
#[utoipa::path(context_path = "", request_body = NewRequest, responses((status = 200, body = Request)))]
#[post("/api/v1/requests", data = "<body>")]
pub async fn ask(body: Call<NewRequest>) -> ApiResult<Sent<Request>> {
    let Call(mut unit, body) = body;
    unit.begin_audit("request.ask", "credential", Some(body.credential), "");
    allow_credential::<mark::List>(&mut unit, body.credential).await?;
    let gates = unit.tx()?.gates_of(body.credential).await?;
    if !gates.needs_approval() {
        return Err(ApiError::conflict(
            "no-approval-needed",
            "No gate on this credential requires an approval.",
            "Reveal it, or check it out, as your level allows.",
        ));
    }
    let reason = check_reason(&gates, &body.reason)?;
    let now = unit.now;
    gates
        .end_of(now, body.minutes)
        .map_err(|problem| ApiError::field("minutes", problem))?;
    let row = RequestRow {
        id: Uuid::now_v7(),
        organisation: unit.organisation(),
        credential_id: body.credential,
        person_id: unit.person.id,
        reason: reason.clone(),
        minutes: body.minutes,
        state: RequestState::Waiting.word().into(),
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
        .requests(person, Some("waiting"), Some(body.credential), None, 50)
        .await?;
    if waiting.iter().any(|waiting| waiting.person_id == person) {
        return Err(ApiError::conflict(
            "already-asked",
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
    Ok(Sent(shown))
}

/// Whether the asker set the password that the decider signs in with, while an approver of one of the
/// gates could decide whose sign-in they did not make.
async fn owes(unit: &mut UnitOfWork, asker: Uuid, gates: &[Uuid]) -> ApiResult<bool> {
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
    mut unit: UnitOfWork,
    request: &str,
    comment: &str,
    decision: Decision,
) -> ApiResult<Sent<Request>> {
    let request_id = id(request)?;
    let action = match decision {
        Decision::Approve => "request.approve",
        Decision::Refuse => "request.refuse",
        Decision::Withdraw => "request.withdraw",
    };
    unit.begin_audit(action, "request", Some(request_id), "");
    check_note(comment).map_err(|problem| ApiError::field("comment", problem))?;
    let (person, now) = (unit.person.id, unit.now);
    let view = unit
        .tx()?
        .request_view(person, request_id)
        .await
        .map_err(|_| ApiError::unknown("request"))?;
    if view.person_id != person && !view.may_decide {
        return Err(ApiError::unknown("request"));
    }
    unit.begin_audit(
        action,
        "credential",
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
    let versions: Vec<GateVersion> = asked_gates
        .iter()
        .map(|gate| (gate.gate_id, gate.gate_version))
        .collect();
    let present = unit.tx()?.gates_of(row.credential_id).await?;
    let facts = RequestFacts {
        asked_by: row.person_id,
        state: row.state.parse().map_err(ApiError::internal)?,
        expires_at: row.expires_at,
        gates_unchanged: present.is_covered_by(&versions),
        decider_owes_asker: owes(&mut unit, row.person_id, &open_gates).await?,
        open_gates,
        decider_gates,
    };
    if row.checkout_id.is_some() {
        return Err(ApiError::conflict(
            "request-settled",
            "This request has been used: it is checked out.",
            "Check it in, or have a steward recall it.",
        ));
    }
    let decided = decide(&facts, person, decision, now)?;
    unit.tx()?
        .approve_at(request_id, &decided.approves, person, now)
        .await?;
    row.state = decided.state.word().into();
    row.decided_at = Some(now);
    row.decided_by = Some(person);
    comment.clone_into(&mut row.comment);
    // An approval can be used for a while from now on.
    unit.tx()?.change_request(&row).await?;
    let shown = show_request(unit.tx()?.request_view(person, request_id).await?);
    unit.commit_audited().await?;
    Ok(Sent(shown))
}

/// Approves somebody else's request.
#[utoipa::path(context_path = "", request_body = Decide, responses((status = 200, body = Request)))]
#[post("/api/v1/requests/<request>/approve", data = "<body>")]
pub async fn approve(request: &str, body: Call<Decide>) -> ApiResult<Sent<Request>> {
    let Call(unit, body) = body;
    settle(unit, request, &body.comment, Decision::Approve).await
}

/// Refuses somebody else's request.
#[utoipa::path(context_path = "", request_body = Decide, responses((status = 200, body = Request)))]
#[post("/api/v1/requests/<request>/refuse", data = "<body>")]
pub async fn refuse(request: &str, body: Call<Decide>) -> ApiResult<Sent<Request>> {
    let Call(unit, body) = body;
    settle(unit, request, &body.comment, Decision::Refuse).await
}

/// Takes one's own request back.
#[utoipa::path(context_path = "", request_body = Decide, responses((status = 200, body = Request)))]
#[post("/api/v1/requests/<request>/withdraw", data = "<body>")]
pub async fn withdraw(request: &str, body: Call<Decide>) -> ApiResult<Sent<Request>> {
    let Call(unit, body) = body;
    settle(unit, request, &body.comment, Decision::Withdraw).await
}

/// One's own checkouts, newest first; with a credential, everybody's, for its stewards.
#[utoipa::path(context_path = "", params(("credential" = Option<String>, Query), ("open" = Option<bool>, Query), ("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)), responses((status = 200, body = Page<Checkout>)))]
#[get("/api/v1/checkouts?<credential>&<open>&<cursor>&<limit>")]
pub async fn checkouts(
    mut unit: UnitOfWork,
    credential: Option<&str>,
    open: Option<bool>,
    cursor: Option<&str>,
    limit: Option<i64>,
) -> ApiResult<Sent<Page<Checkout>>> {
    let paging = paging::<(DateTime<Utc>, Uuid)>(cursor, limit)?;
    let credential = maybe_id(credential)?;
    let person = match credential {
        Some(credential) => {
            let stewards = allow_credential::<mark::Steward>(&mut unit, credential)
                .await
                .is_ok();
            (!stewards).then_some(unit.person.id)
        }
        None => Some(unit.person.id),
    };
    let rows = unit
        .tx()?
        .checkouts(
            person,
            credential,
            open.unwrap_or(false),
            paging.after,
            paging.most + 1,
        )
        .await?;
    unit.commit().await?;
    Ok(Sent(page(
        rows,
        paging.most,
        |row| (row.starts_at, row.id),
        show_checkout,
    )))
}

/// Takes a checkout.
#[utoipa::path(context_path = "", request_body = NewCheckout, responses((status = 200, body = Checkout)))]
#[post("/api/v1/checkouts", data = "<body>")]
pub async fn take(body: Call<NewCheckout>) -> ApiResult<Sent<Checkout>> {
    let Call(mut unit, body) = body;
    unit.begin_audit("checkout.take", "credential", body.credential, "");
    let (person, now) = (unit.person.id, unit.now);
    let asked = match body.request {
        Some(request) => Some(
            unit.tx()?
                .request_locked(request)
                .await
                .map_err(|_| ApiError::unknown("request"))?,
        ),
        None => None,
    };
    if asked.as_ref().is_some_and(|row| row.person_id != person) {
        return Err(ApiError::unknown("request"));
    }
    let credential = asked
        .as_ref()
        .map(|row| row.credential_id)
        .or(body.credential)
        .ok_or_else(|| ApiError::field("credential", "name a credential or an approved request"))?;
    // `use` is the least that a checkout is good for; a reveal asks for `reveal` again.
    allow_credential::<mark::Use>(&mut unit, credential).await?;
    // Held, so that two who take it in the same moment see each other.
    unit.tx()?
        .credential_locked(credential)
        .await
        .map_err(|_| ApiError::unknown("credential"))?;
    let gates = unit.tx()?.gates_of(credential).await?;
    if gates.is_empty() {
        return Err(ApiError::conflict(
            "no-gate",
            "No gate stands before this credential.",
            "There is nothing to check out: use it as your level allows.",
        ));
    }
    let (minutes, reason) = match &asked {
        Some(row) => {
            if row.state != "approved" || row.checkout_id.is_some() || now >= row.expires_at {
                return Err(ApiError::conflict(
                    "not-approved",
                    "This request is not approved, was used already, or has expired.",
                    "Ask again.",
                ));
            }
            let asked_gates = unit.tx()?.request_gates(row.id).await?;
            let approved: Vec<GateVersion> = asked_gates
                .iter()
                .filter(|gate| gate.approved_by.is_some())
                .map(|gate| (gate.gate_id, gate.gate_version))
                .collect();
            let versions: Vec<GateVersion> = asked_gates
                .iter()
                .map(|gate| (gate.gate_id, gate.gate_version))
                .collect();
            if !gates.is_covered_by(&versions) || !gates.is_approved_by(&approved) {
                return Err(ApiError::conflict(
                    "not-approved",
                    "The conditions have changed since this was approved.",
                    "Ask again.",
                ));
            }
            (row.minutes.min(gates.longest_minutes()), row.reason.clone())
        }
        None if gates.needs_approval() => {
            return Err(ApiError::forbidden(
                "This gate requires an approval.",
                "Ask for it: `jexlin request ask`, or the button Ask in the console.",
            ));
        }
        None => (
            body.minutes.unwrap_or_else(|| gates.longest_minutes()),
            check_reason(&gates, &body.reason)?,
        ),
    };
    let ends_at = gates
        .end_of(now, minutes)
        .map_err(|problem| ApiError::field("minutes", problem))?;
    for mut over in unit.tx()?.open_checkouts(credential).await? {
        if over.ends_at <= now {
            // Its time is over, and the worker has not come to it yet.
            unit.tx()?.end_checkout(over.id, now, "time").await?;
            crate::jobs::owe_rotation(unit.tx()?, &over, now).await?;
            over.ended_at = Some(now);
        }
        if over.ended_at.is_none() && over.person_id == person {
            return Err(ApiError::conflict(
                "held",
                "You hold this credential already.",
                "Use it, or check it in first.",
            ));
        }
        if over.ended_at.is_none() && (over.one_holder || gates.one_holder()) {
            return Err(jexlin_store::StoreError::Conflict("checkout_one_holder".into()).into());
        }
    }
    let row = CheckoutRow {
        id: Uuid::now_v7(),
        organisation: unit.organisation(),
        credential_id: credential,
        person_id: person,
        request_id: asked.as_ref().map(|row| row.id),
        reason: reason.clone(),
        starts_at: now,
        ends_at,
        ended_at: None,
        ended_how: None,
        rotate_on_return: gates.rotate_on_return(),
        one_holder: gates.one_holder(),
    };
    unit.tx()?.add_checkout(&row, &gates).await?;
    if let Some(mut asked) = asked {
        asked.checkout_id = Some(row.id);
        unit.tx()?.change_request(&asked).await?;
        unit.add_detail("request", asked.id.to_string());
    }
    unit.add_detail("checkout", row.id.to_string());
    unit.add_detail("until", ends_at.to_rfc3339());
    unit.add_detail("reason", reason);
    let shown = show_checkout(unit.tx()?.checkout_view(row.id).await?);
    unit.commit_audited().await?;
    Ok(Sent(shown))
}

async fn end(mut unit: UnitOfWork, checkout: &str, how: &str) -> ApiResult<Sent<Checkout>> {
    let checkout_id = id(checkout)?;
    let action = if how == "recalled" {
        "checkout.recall"
    } else {
        "checkout.check-in"
    };
    unit.begin_audit(action, "checkout", Some(checkout_id), "");
    let row = unit
        .tx()?
        .checkout_locked(checkout_id)
        .await
        .map_err(|_| ApiError::unknown("checkout"))?;
    unit.begin_audit(action, "credential", Some(row.credential_id), "");
    if how == "recalled" {
        allow_credential::<mark::Steward>(&mut unit, row.credential_id)
            .await
            .map_err(|fault| fault.hide("checkout"))?;
    } else if row.person_id != unit.person.id {
        return Err(ApiError::unknown("checkout"));
    }
    let name = unit.tx()?.checkout_view(checkout_id).await?;
    unit.set_target(
        row.credential_id,
        &format!("{}/{}", name.place, name.credential_name),
    );
    unit.add_detail("checkout", checkout_id.to_string());
    if row.ended_at.is_some() {
        return Err(ApiError::conflict(
            "checkout-ended",
            "This checkout has ended already.",
            "There is nothing left to do.",
        ));
    }
    let now = unit.now;
    unit.tx()?.end_checkout(checkout_id, now, how).await?;
    let rotates = crate::jobs::owe_rotation(unit.tx()?, &row, now).await?;
    unit.add_detail("rotation", if rotates { "owed" } else { "none" });
    let shown = show_checkout(unit.tx()?.checkout_view(checkout_id).await?);
    unit.commit_audited().await?;
    unit.app.wake.notify_one();
    Ok(Sent(shown))
}

/// Gives a checkout back.
#[utoipa::path(context_path = "", responses((status = 200, body = Checkout)))]
#[post("/api/v1/checkouts/<checkout>/check-in")]
pub async fn check_in(unit: UnitOfWork, checkout: &str) -> ApiResult<Sent<Checkout>> {
    end(unit, checkout, "check-in").await
}

/// Takes somebody's checkout back, as a steward.
#[utoipa::path(context_path = "", responses((status = 200, body = Checkout)))]
#[post("/api/v1/checkouts/<checkout>/recall")]
pub async fn recall(unit: UnitOfWork, checkout: &str) -> ApiResult<Sent<Checkout>> {
    end(unit, checkout, "recalled").await
}

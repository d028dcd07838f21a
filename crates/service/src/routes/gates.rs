//! Gates, requests, checkouts.

use chrono::{DateTime, TimeDelta, Utc};
use jexlin_api::{Checkout, Decide, Gate, NewCheckout, NewGate, NewRequest, Page, Request};
use jexlin_core::access::mark;
use jexlin_core::gate::{Decision, Gate as CoreGate, RequestFacts, RequestState, check_gate, decide};
use jexlin_core::names::check_note;
use jexlin_store::{ApproverRow, CheckoutRow, CheckoutView, GateRow, RequestRow, RequestView, Target};
use rocket::{Route, delete, get, post, put, routes};
use uuid::Uuid;

use super::access::{allow_steward, sort_of, target_of};
use super::exchange::{Body, IfMatch, Sent, Versioned, id, maybe_id, page, paging};
use super::people::{member, names};
use super::vault::allow_credential;
use crate::acting::Acting;
use crate::problem::{Answer, Fault};

/// A request waits, and an approved one can be used, for so long.
const REQUEST_HOURS: i64 = 24;

pub fn routes() -> Vec<Route> {
    routes![list, add, change, remove, requests, request, ask, approve, refuse, withdraw, checkouts, take, check_in, recall]
}

/// A gate as the interface shows it.
pub async fn show_gate(acting: &mut Acting, gate: Uuid) -> Answer<Gate> {
    let view = acting.tx()?.gate_view(gate).await?;
    let names = names(acting).await?;
    let (target, sort) = sort_of(target_of(view.gate.folder_id, view.gate.credential_id)?);
    let mut approvers: Vec<_> = view.approvers.iter().map(|row| member(row.subject, row.subject_is_group, &names)).collect();
    approvers.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(Gate {
        id: view.gate.id,
        target_sort: sort.into(),
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

async fn parse(acting: &mut Acting, body: &NewGate, gate: Uuid, version: i32) -> Answer<(GateRow, Vec<ApproverRow>)> {
    let organisation = acting.organisation();
    let mut approvers = vec![];
    for person in &body.approver_people {
        acting.tx()?.person(*person).await.map_err(|_| Fault::field("approver_people", "there is no such person"))?;
        approvers.push(ApproverRow { organisation, gate_id: gate, subject: *person, subject_is_group: false });
    }
    for group in &body.approver_groups {
        acting.tx()?.group(*group).await.map_err(|_| Fault::field("approver_groups", "there is no such group"))?;
        approvers.push(ApproverRow { organisation, gate_id: gate, subject: *group, subject_is_group: true });
    }
    approvers.dedup();
    let core = CoreGate {
        id: gate,
        needs_reason: body.needs_reason,
        needs_approval: !approvers.is_empty(),
        longest_minutes: body.longest_minutes,
        one_holder: body.one_holder,
        rotate_on_return: body.rotate_on_return,
    };
    check_gate(&core, approvers.len()).map_err(|problem| Fault::field("longest_minutes", problem))?;
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
    };
    Ok((row, approvers))
}

/// The gates at places that the asker may know of.
#[utoipa::path(context_path = "", responses((status = 200, body = Page<Gate>)))]
#[get("/api/v1/gates")]
pub async fn list(mut acting: Acting) -> Answer<Sent<Page<Gate>>> {
    let rows = acting.tx()?.gates().await?;
    let mut items = vec![];
    for row in rows {
        let (person, now) = (acting.person.id, acting.now);
        let reach = match target_of(row.folder_id, row.credential_id)? {
            Target::Folder(folder) => acting.tx()?.reach_folder(person, folder, now).await?,
            Target::Credential(credential) => acting.tx()?.reach_credential(person, credential, now).await?,
        };
        if reach.level().is_some() {
            items.push(show_gate(&mut acting, row.id).await?);
        }
    }
    items.sort_by_key(|gate| gate.place.to_lowercase());
    acting.seen().await?;
    Ok(Sent(Page { items, next: None }))
}

/// Sets a gate at a folder or a credential.
#[utoipa::path(context_path = "", request_body = NewGate, responses((status = 200, body = Gate)))]
#[post("/api/v1/gates", data = "<body>")]
pub async fn add(mut acting: Acting, body: Body<NewGate>) -> Answer<Versioned<Gate>> {
    let Body(body) = body;
    let target = target_of(body.folder, body.credential)?;
    let (target_id, sort) = sort_of(target);
    acting.intends("gate.add", sort, Some(target_id), "");
    let place = allow_steward(&mut acting, target).await?;
    acting.naming(target_id, &place);
    let (row, approvers) = parse(&mut acting, &body, Uuid::now_v7(), 1).await?;
    acting.tx()?.add_gate(&row, &approvers).await?;
    let shown = show_gate(&mut acting, row.id).await?;
    acting.done().await?;
    Ok(Versioned(1, shown))
}

async fn gate_for_stewards(acting: &mut Acting, gate: Uuid, action: &str) -> Answer<GateRow> {
    acting.intends(action, "gate", Some(gate), "");
    let row = acting.tx()?.gate(gate).await.map_err(|_| Fault::unknown("gate"))?;
    let target = target_of(row.folder_id, row.credential_id)?;
    let (target_id, sort) = sort_of(target);
    acting.intends(action, sort, Some(target_id), "");
    let place = allow_steward(acting, target).await?;
    acting.naming(target_id, &place);
    Ok(row)
}

/// Changes a gate; all its conditions are given anew.
#[utoipa::path(context_path = "", request_body = NewGate, responses((status = 200, body = Gate)))]
#[put("/api/v1/gates/<gate>", data = "<body>")]
pub async fn change(mut acting: Acting, gate: &str, version: IfMatch, body: Body<NewGate>) -> Answer<Versioned<Gate>> {
    let present = gate_for_stewards(&mut acting, id(gate)?, "gate.change").await?;
    let body = NewGate { folder: present.folder_id, credential: present.credential_id, ..body.0 };
    let (row, approvers) = parse(&mut acting, &body, present.id, version.0).await?;
    acting.tx()?.change_gate(&row, &approvers).await?;
    let shown = show_gate(&mut acting, row.id).await?;
    acting.done().await?;
    Ok(Versioned(shown.version, shown))
}

/// Removes a gate.
#[utoipa::path(context_path = "", responses((status = 200)))]
#[delete("/api/v1/gates/<gate>")]
pub async fn remove(mut acting: Acting, gate: &str, version: IfMatch) -> Answer<()> {
    let row = gate_for_stewards(&mut acting, id(gate)?, "gate.remove").await?;
    acting.tx()?.remove_gate(row.id, version.0).await?;
    acting.done().await?;
    Ok(())
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
    mut acting: Acting,
    state: Option<&str>,
    credential: Option<&str>,
    cursor: Option<&str>,
    limit: Option<i64>,
) -> Answer<Sent<Page<Request>>> {
    let paging = paging::<(DateTime<Utc>, Uuid)>(cursor, limit)?;
    let state = match state.filter(|state| !state.is_empty()) {
        Some(state) => Some(state.parse::<RequestState>().map_err(|problem| Fault::field("state", problem))?.word()),
        None => None,
    };
    let (person, credential) = (acting.person.id, maybe_id(credential)?);
    let rows = acting.tx()?.requests(person, state, credential, paging.after, paging.most + 1).await?;
    acting.seen().await?;
    Ok(Sent(page(rows, paging.most, |row| (row.asked_at, row.id), show_request)))
}

/// One request.
#[utoipa::path(context_path = "", responses((status = 200, body = Request)))]
#[get("/api/v1/requests/<request>")]
pub async fn request(mut acting: Acting, request: &str) -> Answer<Sent<Request>> {
    let person = acting.person.id;
    let row = acting.tx()?.request_view(person, id(request)?).await.map_err(|_| Fault::unknown("request"))?;
    acting.seen().await?;
    if row.person_id != person && !row.may_decide {
        return Err(Fault::unknown("request"));
    }
    Ok(Sent(show_request(row)))
}

fn check_reason(gate: &GateRow, reason: &str) -> Answer<String> {
    let reason = reason.trim();
    check_note(reason).map_err(|problem| Fault::field("reason", problem))?;
    if gate.needs_reason && reason.is_empty() {
        return Err(Fault::field("reason", "this gate wants a reason"));
    }
    Ok(reason.to_owned())
}

/// Asks to pass a gate.
#[utoipa::path(context_path = "", request_body = NewRequest, responses((status = 200, body = Request)))]
#[post("/api/v1/requests", data = "<body>")]
pub async fn ask(mut acting: Acting, body: Body<NewRequest>) -> Answer<Sent<Request>> {
    let Body(body) = body;
    acting.intends("request.ask", "credential", Some(body.credential), "");
    allow_credential::<mark::List>(&mut acting, body.credential).await?;
    let gate = acting.tx()?.gate_of(body.credential).await?;
    let gate = gate.filter(|gate| gate.needs_approval).ok_or_else(|| {
        Fault::conflict(
            "no-approval-needed",
            "No gate that wants an approval stands before this credential.",
            "Reveal it, or check it out, as your level allows.",
        )
    })?;
    let reason = check_reason(&gate, &body.reason)?;
    let now = acting.now;
    gate.to_core().end_of(now, body.minutes).map_err(|problem| Fault::field("minutes", problem))?;
    let row = RequestRow {
        id: Uuid::now_v7(),
        organisation: acting.organisation(),
        credential_id: body.credential,
        gate_id: gate.id,
        person_id: acting.person.id,
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
    let person = acting.person.id;
    let waiting = acting.tx()?.requests(person, Some("waiting"), Some(body.credential), None, 50).await?;
    if waiting.iter().any(|waiting| waiting.person_id == person) {
        return Err(Fault::conflict("already-asked", "Your earlier request for this credential is still waiting.", "Wait for the answer, or withdraw it."));
    }
    acting.tx()?.add_request(&row).await?;
    acting.noting("request", row.id.to_string());
    acting.noting("reason", reason);
    acting.noting("minutes", body.minutes.to_string());
    let shown = show_request(acting.tx()?.request_view(person, row.id).await?);
    acting.done().await?;
    Ok(Sent(shown))
}

async fn settle(mut acting: Acting, request: &str, comment: &str, decision: Decision) -> Answer<Sent<Request>> {
    let request_id = id(request)?;
    let action = match decision {
        Decision::Approve => "request.approve",
        Decision::Refuse => "request.refuse",
        Decision::Withdraw => "request.withdraw",
    };
    acting.intends(action, "request", Some(request_id), "");
    check_note(comment).map_err(|problem| Fault::field("comment", problem))?;
    let (person, now) = (acting.person.id, acting.now);
    let view = acting.tx()?.request_view(person, request_id).await.map_err(|_| Fault::unknown("request"))?;
    if view.person_id != person && !view.may_decide {
        return Err(Fault::unknown("request"));
    }
    acting.intends(action, "credential", Some(view.credential_id), &format!("{}/{}", view.place, view.credential_name));
    acting.noting("request", request_id.to_string());
    acting.noting("asked_by", view.person_name.clone());
    if !comment.is_empty() {
        acting.noting("comment", comment);
    }
    let mut row = acting.tx()?.request_locked(request_id).await?;
    let facts = RequestFacts {
        asked_by: row.person_id,
        state: row.state.parse().map_err(Fault::internal)?,
        expires_at: row.expires_at,
        decider_is_approver: acting.tx()?.is_approver(row.gate_id, person).await?,
    };
    if row.checkout_id.is_some() {
        return Err(Fault::conflict("request-settled", "This request has been used: it is checked out.", "Check it in, or have a steward recall it."));
    }
    row.state = decide(&facts, person, decision, now)?.word().into();
    row.decided_at = Some(now);
    row.decided_by = Some(person);
    comment.clone_into(&mut row.comment);
    // An approval can be used for a while from now on.
    acting.tx()?.change_request(&row).await?;
    let shown = show_request(acting.tx()?.request_view(person, request_id).await?);
    acting.done().await?;
    Ok(Sent(shown))
}

/// Approves somebody else's request.
#[utoipa::path(context_path = "", request_body = Decide, responses((status = 200, body = Request)))]
#[post("/api/v1/requests/<request>/approve", data = "<body>")]
pub async fn approve(acting: Acting, request: &str, body: Body<Decide>) -> Answer<Sent<Request>> {
    settle(acting, request, &body.0.comment, Decision::Approve).await
}

/// Refuses somebody else's request.
#[utoipa::path(context_path = "", request_body = Decide, responses((status = 200, body = Request)))]
#[post("/api/v1/requests/<request>/refuse", data = "<body>")]
pub async fn refuse(acting: Acting, request: &str, body: Body<Decide>) -> Answer<Sent<Request>> {
    settle(acting, request, &body.0.comment, Decision::Refuse).await
}

/// Takes one's own request back.
#[utoipa::path(context_path = "", request_body = Decide, responses((status = 200, body = Request)))]
#[post("/api/v1/requests/<request>/withdraw", data = "<body>")]
pub async fn withdraw(acting: Acting, request: &str, body: Body<Decide>) -> Answer<Sent<Request>> {
    settle(acting, request, &body.0.comment, Decision::Withdraw).await
}

/// One's own checkouts, newest first; with a credential, everybody's, for its stewards.
#[utoipa::path(context_path = "", params(("credential" = Option<String>, Query), ("open" = Option<bool>, Query), ("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)), responses((status = 200, body = Page<Checkout>)))]
#[get("/api/v1/checkouts?<credential>&<open>&<cursor>&<limit>")]
pub async fn checkouts(
    mut acting: Acting,
    credential: Option<&str>,
    open: Option<bool>,
    cursor: Option<&str>,
    limit: Option<i64>,
) -> Answer<Sent<Page<Checkout>>> {
    let paging = paging::<(DateTime<Utc>, Uuid)>(cursor, limit)?;
    let credential = maybe_id(credential)?;
    let person = match credential {
        Some(credential) => {
            let stewards = allow_credential::<mark::Steward>(&mut acting, credential).await.is_ok();
            (!stewards).then_some(acting.person.id)
        }
        None => Some(acting.person.id),
    };
    let rows = acting.tx()?.checkouts(person, credential, open.unwrap_or(false), paging.after, paging.most + 1).await?;
    acting.seen().await?;
    Ok(Sent(page(rows, paging.most, |row| (row.starts_at, row.id), show_checkout)))
}

/// Takes a checkout.
#[utoipa::path(context_path = "", request_body = NewCheckout, responses((status = 200, body = Checkout)))]
#[post("/api/v1/checkouts", data = "<body>")]
pub async fn take(mut acting: Acting, body: Body<NewCheckout>) -> Answer<Sent<Checkout>> {
    let Body(body) = body;
    acting.intends("checkout.take", "credential", body.credential, "");
    let (person, now) = (acting.person.id, acting.now);
    let asked = match body.request {
        Some(request) => Some(acting.tx()?.request_locked(request).await.map_err(|_| Fault::unknown("request"))?),
        None => None,
    };
    if asked.as_ref().is_some_and(|row| row.person_id != person) {
        return Err(Fault::unknown("request"));
    }
    let credential = asked
        .as_ref()
        .map(|row| row.credential_id)
        .or(body.credential)
        .ok_or_else(|| Fault::field("credential", "name a credential or an approved request"))?;
    // `use` is the least that a checkout is good for; a reveal asks for `reveal` again.
    allow_credential::<mark::Use>(&mut acting, credential).await?;
    let gate = acting.tx()?.gate_of(credential).await?;
    let gate = gate
        .ok_or_else(|| Fault::conflict("no-gate", "No gate stands before this credential.", "There is nothing to check out: use it as your level allows."))?;
    let (minutes, reason) = match &asked {
        Some(row) => {
            if row.state != "approved" || row.checkout_id.is_some() || now >= row.expires_at {
                return Err(Fault::conflict("not-approved", "This request is not approved, was used already, or has expired.", "Ask again."));
            }
            (row.minutes.min(gate.longest_minutes), row.reason.clone())
        }
        None if gate.needs_approval => {
            return Err(Fault::forbidden("This gate wants an approval.", "Ask for it: `jexlin request ask`, or the button Ask in the console."));
        }
        None => (body.minutes.unwrap_or(gate.longest_minutes), check_reason(&gate, &body.reason)?),
    };
    let ends_at = gate.to_core().end_of(now, minutes).map_err(|problem| Fault::field("minutes", problem))?;
    let held = acting.tx()?.open_checkouts(credential).await?;
    if held.iter().any(|row| row.person_id == person) {
        return Err(Fault::conflict("held", "You hold this credential already.", "Use it, or check it in first."));
    }
    let row = CheckoutRow {
        id: Uuid::now_v7(),
        organisation: acting.organisation(),
        credential_id: credential,
        person_id: person,
        request_id: asked.as_ref().map(|row| row.id),
        reason: reason.clone(),
        starts_at: now,
        ends_at,
        ended_at: None,
        ended_how: None,
        rotate_on_return: gate.rotate_on_return,
        one_holder: gate.one_holder,
    };
    acting.tx()?.add_checkout(&row).await?;
    if let Some(mut asked) = asked {
        asked.checkout_id = Some(row.id);
        acting.tx()?.change_request(&asked).await?;
        acting.noting("request", asked.id.to_string());
    }
    acting.noting("checkout", row.id.to_string());
    acting.noting("until", ends_at.to_rfc3339());
    acting.noting("reason", reason);
    let shown = show_checkout(acting.tx()?.checkout_view(row.id).await?);
    acting.done().await?;
    Ok(Sent(shown))
}

async fn end(mut acting: Acting, checkout: &str, how: &str) -> Answer<Sent<Checkout>> {
    let checkout_id = id(checkout)?;
    let action = if how == "recalled" { "checkout.recall" } else { "checkout.check-in" };
    acting.intends(action, "checkout", Some(checkout_id), "");
    let row = acting.tx()?.checkout_locked(checkout_id).await.map_err(|_| Fault::unknown("checkout"))?;
    acting.intends(action, "credential", Some(row.credential_id), "");
    if how == "recalled" {
        allow_credential::<mark::Steward>(&mut acting, row.credential_id).await?;
    } else if row.person_id != acting.person.id {
        return Err(Fault::unknown("checkout"));
    }
    let name = acting.tx()?.checkout_view(checkout_id).await?;
    acting.naming(row.credential_id, &format!("{}/{}", name.place, name.credential_name));
    acting.noting("checkout", checkout_id.to_string());
    if row.ended_at.is_some() {
        return Err(Fault::conflict("checkout-ended", "This checkout has ended already.", "There is nothing left to do."));
    }
    let now = acting.now;
    acting.tx()?.end_checkout(checkout_id, now, how).await?;
    let rotates = crate::work::owe_rotation(acting.tx()?, &row, now).await?;
    acting.noting("rotation", if rotates { "owed" } else { "none" });
    let shown = show_checkout(acting.tx()?.checkout_view(checkout_id).await?);
    acting.done().await?;
    acting.app.wake.notify_one();
    Ok(Sent(shown))
}

/// Gives a checkout back.
#[utoipa::path(context_path = "", responses((status = 200, body = Checkout)))]
#[post("/api/v1/checkouts/<checkout>/check-in")]
pub async fn check_in(acting: Acting, checkout: &str) -> Answer<Sent<Checkout>> {
    end(acting, checkout, "check-in").await
}

/// Takes somebody's checkout back, as a steward.
#[utoipa::path(context_path = "", responses((status = 200, body = Checkout)))]
#[post("/api/v1/checkouts/<checkout>/recall")]
pub async fn recall(acting: Acting, checkout: &str) -> Answer<Sent<Checkout>> {
    end(acting, checkout, "recalled").await
}

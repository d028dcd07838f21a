//! Checkouts: taken, checked in, recalled.

use chrono::{DateTime, Utc};
use jexlin_api::ErrorCode;
use jexlin_api::{Checkout, NewCheckout};
use jexlin_core::access::mark;
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::gate::CheckoutEnd;
use jexlin_core::gate::{self, Asked, Held, TakeProblem};
use jexlin_store::{CheckoutRow, CheckoutView};
use jexlin_store::{RequestGateRow, RequestRow};
use uuid::Uuid;

use super::requests::check_reason;
use crate::error::{AppError, AppResult};
use crate::guards::allow_credential;
use crate::paging::{Paged, Paging};
use crate::unit_of_work::UnitOfWork;

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
        ended_how: row.ended_how.map(|how| how.0),
        rotate_on_return: row.rotate_on_return,
    }
}

/// One's own checkouts, newest first; with a credential, everybody's, for its stewards.
pub async fn list(
    unit: &mut UnitOfWork,
    credential: Option<Uuid>,
    open: Option<bool>,
    paging: Paging<(DateTime<Utc>, Uuid)>,
) -> AppResult<Paged<Checkout, (DateTime<Utc>, Uuid)>> {
    let person = match credential {
        Some(credential) => {
            let stewards = allow_credential::<mark::Steward>(unit, credential)
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
            paging.limit + 1,
        )
        .await?;
    unit.commit().await?;
    Ok(Paged::of(
        rows,
        paging.limit,
        |row| (row.starts_at, row.id),
        show_checkout,
    ))
}

/// A request as core decides about it.
async fn facts_of(unit: &mut UnitOfWork, row: &RequestRow) -> AppResult<Asked> {
    let gates = unit.tx()?.request_gates(row.id).await?;
    let revision = |gate: &RequestGateRow| (gate.gate_id, gate.gate_revision);
    Ok(Asked {
        state: row.state.0,
        used: row.checkout_id.is_some(),
        expires_at: row.expires_at,
        minutes: row.minutes,
        gates: gates.iter().map(revision).collect(),
        approved: gates
            .iter()
            .filter(|gate| gate.approved_by.is_some())
            .map(revision)
            .collect(),
    })
}

fn refused(problem: TakeProblem) -> AppError {
    match problem {
        TakeProblem::NoGate => AppError::conflict(
            ErrorCode::NoGate,
            "This credential has no gate.",
            "It needs no checkout: use it as your level allows.",
        ),
        TakeProblem::NotApproved => AppError::conflict(
            ErrorCode::NotApproved,
            "This request is not approved, was used already, or has expired.",
            "Ask again.",
        ),
        TakeProblem::GatesChanged => AppError::conflict(
            ErrorCode::NotApproved,
            "The conditions have changed since this was approved.",
            "Ask again.",
        ),
        TakeProblem::NeedsApproval => AppError::forbidden(
            "This gate requires an approval.",
            "Request a checkout: `jexlin request ask`, or Request checkout in the console.",
        ),
        TakeProblem::Minutes(why) => AppError::field("minutes", why),
        TakeProblem::HeldByTaker => AppError::conflict(
            ErrorCode::Held,
            "You have already checked this credential out.",
            "Use it, or check it in first.",
        ),
        TakeProblem::HeldByAnother => {
            jexlin_store::StoreError::Conflict(jexlin_store::Conflict::CheckoutOneHolder).into()
        }
    }
}

/// Takes a checkout.
pub async fn take(unit: &mut UnitOfWork, body: NewCheckout) -> AppResult<Checkout> {
    unit.begin_audit(
        Action::CheckoutTake,
        TargetType::Credential,
        body.credential,
        "",
    );
    let (person, now) = (unit.person.id, unit.now);
    let asked = match body.request {
        Some(request) => Some(
            unit.tx()?
                .request_locked(request)
                .await
                .map_err(|_| AppError::unknown("request"))?,
        ),
        None => None,
    };
    if asked.as_ref().is_some_and(|row| row.person_id != person) {
        return Err(AppError::unknown("request"));
    }
    let credential = asked
        .as_ref()
        .map(|row| row.credential_id)
        .or(body.credential)
        .ok_or_else(|| AppError::field("credential", "name a credential or an approved request"))?;
    // `use` is the least that a checkout is good for; a reveal asks for `reveal` again.
    allow_credential::<mark::Use>(unit, credential).await?;
    // Held, so that two who take it in the same moment see each other.
    unit.tx()?
        .credential_locked(credential)
        .await
        .map_err(|_| AppError::unknown("credential"))?;
    let gates = unit.tx()?.gates_of(credential).await?;
    let mut held = vec![];
    for row in unit.tx()?.open_checkouts(credential).await? {
        if row.ends_at <= now {
            // Its time is over, and the worker has not come to it yet.
            unit.tx()?
                .end_checkout(row.id, now, CheckoutEnd::Time)
                .await?;
            crate::jobs::owe_rotation(unit.tx()?, &row, now).await?;
        } else {
            held.push(Held {
                person: row.person_id,
                one_holder: row.one_holder,
            });
        }
    }
    let request = match &asked {
        Some(row) => Some(facts_of(unit, row).await?),
        None => None,
    };
    let ends_at =
        gate::take(person, &gates, request.as_ref(), body.minutes, &held, now).map_err(refused)?;
    let reason = match &asked {
        Some(row) => row.reason.clone(),
        None => check_reason(&gates, &body.reason)?,
    };
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
    Ok(shown)
}

async fn end(unit: &mut UnitOfWork, checkout: Uuid, how: CheckoutEnd) -> AppResult<Checkout> {
    let checkout_id = checkout;
    let action = if how == CheckoutEnd::Recalled {
        Action::CheckoutRecall
    } else {
        Action::CheckoutCheckIn
    };
    unit.begin_audit(action, TargetType::Checkout, Some(checkout_id), "");
    let row = unit
        .tx()?
        .checkout_locked(checkout_id)
        .await
        .map_err(|_| AppError::unknown("checkout"))?;
    unit.begin_audit(action, TargetType::Credential, Some(row.credential_id), "");
    if how == CheckoutEnd::Recalled {
        allow_credential::<mark::Steward>(unit, row.credential_id)
            .await
            .map_err(|fault| fault.hide("checkout"))?;
    } else if row.person_id != unit.person.id {
        return Err(AppError::unknown("checkout"));
    }
    let name = unit.tx()?.checkout_view(checkout_id).await?;
    unit.set_target(
        row.credential_id,
        &format!("{}/{}", name.place, name.credential_name),
    );
    unit.add_detail("checkout", checkout_id.to_string());
    if row.ended_at.is_some() {
        return Err(AppError::conflict(
            ErrorCode::CheckoutEnded,
            "This checkout has already ended.",
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
    Ok(shown)
}

/// Gives a checkout back.
pub async fn check_in(unit: &mut UnitOfWork, checkout: Uuid) -> AppResult<Checkout> {
    end(unit, checkout, CheckoutEnd::CheckIn).await
}

/// Takes somebody's checkout back, as a steward.
pub async fn recall(unit: &mut UnitOfWork, checkout: Uuid) -> AppResult<Checkout> {
    end(unit, checkout, CheckoutEnd::Recalled).await
}

//! Requests that wait and checkouts that are open are revalidated, in the same transaction,
//! whenever gates, places, grants or people change.

use std::collections::HashMap;

use chrono::{DateTime, Utc};
use jexlin_core::access::Level;
use jexlin_core::audit::Event;
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::gate::RequestState;
use jexlin_core::gate::{CheckoutEnd, GateRevision, GateSet};
use jexlin_core::vault::EventKey;
use jexlin_core::words::Word as _;
use jexlin_store::Tx;
use uuid::Uuid;

use crate::error::AppResult;

const CHANGED: &str = "gates, places or access have changed";

/// Expires the requests and recalls the checkouts that do not rest any more on what they rested on.
///
/// # Errors
/// [`crate::error::AppError`].
pub async fn revalidate(tx: &mut Tx, mac: &EventKey, now: DateTime<Utc>) -> AppResult<()> {
    let organisation = tx.organisation();
    let mut sets: HashMap<Vec<Uuid>, GateSet> = HashMap::new();
    for passage in tx.open_passages(now).await? {
        let gates = if let Some(known) = sets.get(&passage.gates) {
            known.clone()
        } else {
            let set = tx.gate_set(&passage.gates).await?;
            sets.insert(passage.gates.clone(), set.clone());
            set
        };
        let level = passage.held.and_then(Level::from_number);
        let mut event = Event::new(Uuid::now_v7(), organisation, now, Action::RequestExpire);
        event.target = passage.credential_id.to_string();
        event.target_type = TargetType::Credential.word().into();
        event.target_name = tx
            .name_for_event(TargetType::Credential, passage.credential_id)
            .await?
            .unwrap_or_default();
        event.detail.insert("because".into(), CHANGED.into());
        if passage.is_request {
            let asked: Vec<GateRevision> = tx
                .request_gates(passage.id)
                .await?
                .iter()
                .map(|gate| (gate.gate_id, gate.gate_revision))
                .collect();
            if passage.active && level.is_some() && gates.is_covered_by(&asked) {
                continue;
            }
            let mut row = tx.request_locked(passage.id).await?;
            row.state = RequestState::Expired.into();
            CHANGED.clone_into(&mut row.comment);
            tx.change_request(&row).await?;
            event
                .detail
                .insert("request".into(), passage.id.to_string());
        } else {
            let taken = tx.checkout_gates(passage.id).await?;
            if passage.active && level >= Some(Level::Use) && gates.is_covered_by(&taken) {
                continue;
            }
            let row = tx.checkout_locked(passage.id).await?;
            tx.end_checkout(passage.id, now, CheckoutEnd::Recalled)
                .await?;
            let owed = crate::jobs::owe_rotation(tx, &row, now).await?;
            event.action = Action::CheckoutRecall.word().into();
            event
                .detail
                .insert("checkout".into(), passage.id.to_string());
            event
                .detail
                .insert("rotation".into(), if owed { "owed" } else { "none" }.into());
        }
        tx.record(&event, mac).await?;
    }
    Ok(())
}

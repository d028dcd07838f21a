//! Requests that wait and checkouts that are open are examined again, in the same transaction, whenever
//! gates, places, grants or people change.

use std::collections::HashMap;

use chrono::{DateTime, Utc};
use jexlin_core::access::Level;
use jexlin_core::audit::Event;
use jexlin_core::gate::{CheckoutEnd, GateSet, GateVersion};
use jexlin_core::vault::EventKey;
use jexlin_store::Tx;
use uuid::Uuid;

use crate::error::ApiResult;

const CHANGED: &str = "gates, places or access have changed";

/// Expires the requests and recalls the checkouts that do not rest any more on what they rested on.
///
/// # Errors
/// [`crate::error::ApiError`].
pub async fn examine(tx: &mut Tx, mac: &EventKey, now: DateTime<Utc>) -> ApiResult<()> {
    let organisation = tx.organisation();
    let mut sets: HashMap<Vec<Uuid>, GateSet> = HashMap::new();
    for standing in tx.standing(now).await? {
        let gates = if let Some(known) = sets.get(&standing.gates) {
            known.clone()
        } else {
            let set = tx.gate_set(&standing.gates).await?;
            sets.insert(standing.gates.clone(), set.clone());
            set
        };
        let level = standing.held.and_then(Level::from_number);
        let mut event = Event::new(Uuid::now_v7(), organisation, now, "request.expire");
        event.target = standing.credential_id.to_string();
        event.target_type = "credential".into();
        event.target_name = tx
            .name_for_event("credential", standing.credential_id)
            .await?
            .unwrap_or_default();
        event.detail.insert("because".into(), CHANGED.into());
        if standing.is_request {
            let asked: Vec<GateVersion> = tx
                .request_gates(standing.id)
                .await?
                .iter()
                .map(|gate| (gate.gate_id, gate.gate_version))
                .collect();
            if standing.active && level.is_some() && gates.is_covered_by(&asked) {
                continue;
            }
            let mut row = tx.request_locked(standing.id).await?;
            row.state = "expired".into();
            CHANGED.clone_into(&mut row.comment);
            tx.change_request(&row).await?;
            event
                .detail
                .insert("request".into(), standing.id.to_string());
        } else {
            let taken = tx.checkout_gates(standing.id).await?;
            if standing.active && level >= Some(Level::Use) && gates.is_covered_by(&taken) {
                continue;
            }
            let row = tx.checkout_locked(standing.id).await?;
            tx.end_checkout(standing.id, now, CheckoutEnd::Recalled.word())
                .await?;
            let owed = crate::jobs::owe_rotation(tx, &row, now).await?;
            event.action = "checkout.recall".into();
            event
                .detail
                .insert("checkout".into(), standing.id.to_string());
            event
                .detail
                .insert("rotation".into(), if owed { "owed" } else { "none" }.into());
        }
        tx.record(&event, mac).await?;
    }
    Ok(())
}

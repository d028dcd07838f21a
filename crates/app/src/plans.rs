//! Upkeep plans, read from their rows.

use jexlin_core::upkeep::{self as core_upkeep, Hours, Recurrence};
use jexlin_store::PlanRow;

/// A plan's row as core knows it.
///
/// # Errors
/// A sentence.
pub fn parse_plan(row: &PlanRow) -> Result<core_upkeep::Plan, String> {
    let rotate = match (&row.rotate_rule, row.rotate_days) {
        (Some(rule), _) => Some(Recurrence::Rule(rule.clone())),
        (None, Some(days)) => Some(Recurrence::EveryDays(u16::try_from(days).unwrap_or(0))),
        (None, None) => None,
    };
    let hours = match (&row.hours_from, &row.hours_to) {
        (Some(from), Some(to)) => {
            Some(Hours::parse(from, to).map_err(|problem| problem.to_string())?)
        }
        _ => None,
    };
    let out_of_sync = row.out_of_sync.0;
    core_upkeep::Plan::parse(
        row.check_rule.as_deref(),
        out_of_sync,
        rotate,
        hours,
        &row.time_zone,
        row.anchor,
    )
    .map_err(|problem| problem.to_string())
}

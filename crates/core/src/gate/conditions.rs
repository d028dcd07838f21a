//! The conditions of gates, and how those of several gates add up.

use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// The longest time a gate may allow, in minutes: one week.
pub const MAX_MINUTES: i32 = 7 * 24 * 60;

/// The conditions on reaching a credential.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Gate {
    /// Its identifier.
    pub id: Uuid,
    /// Its revision: every change makes it another gate.
    pub revision: i32,
    /// A reason must be given.
    pub needs_reason: bool,
    /// One of the approvers must approve.
    pub needs_approval: bool,
    /// The maximum duration of a checkout, in minutes.
    pub max_minutes: i32,
    /// Only one person at a time holds a checkout.
    pub one_holder: bool,
    /// The password is rotated when the checkout ends.
    pub rotate_on_return: bool,
}

/// Why a gate as written makes no sense.
///
/// # Errors
/// A sentence.
pub fn check_gate(gate: &Gate, approvers: usize) -> Result<(), String> {
    if !(1..=MAX_MINUTES).contains(&gate.max_minutes) {
        return Err(format!(
            "the maximum duration is between 1 minute and {MAX_MINUTES} minutes (a week)"
        ));
    }
    if gate.needs_approval && approvers == 0 {
        return Err("a gate that requires an approval names at least one approver".to_owned());
    }
    Ok(())
}

/// A gate at one of its versions.
pub type GateRevision = (Uuid, i32);

/// All gates on the way to one credential.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct GateSet(Vec<Gate>);

impl GateSet {
    /// The gates on the way, in any order.
    #[must_use]
    pub fn new(mut gates: Vec<Gate>) -> Self {
        gates.sort_by_key(|gate| gate.id);
        gates.dedup_by_key(|gate| gate.id);
        Self(gates)
    }

    /// Whether none stands there.
    #[must_use]
    pub const fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// The gates.
    #[must_use]
    pub fn gates(&self) -> &[Gate] {
        &self.0
    }

    /// Whether a reason must be given.
    #[must_use]
    pub fn needs_reason(&self) -> bool {
        self.0.iter().any(|gate| gate.needs_reason)
    }

    /// Whether somebody must approve.
    #[must_use]
    pub fn needs_approval(&self) -> bool {
        self.0.iter().any(|gate| gate.needs_approval)
    }

    /// The maximum duration of a checkout, in minutes.
    #[must_use]
    pub fn max_minutes(&self) -> i32 {
        self.0
            .iter()
            .map(|gate| gate.max_minutes)
            .min()
            .unwrap_or(MAX_MINUTES)
    }

    /// Whether only one person at a time holds it.
    #[must_use]
    pub fn one_holder(&self) -> bool {
        self.0.iter().any(|gate| gate.one_holder)
    }

    /// Whether the password is rotated when a checkout ends.
    #[must_use]
    pub fn rotate_on_return(&self) -> bool {
        self.0.iter().any(|gate| gate.rotate_on_return)
    }

    /// Whether what was granted for these gates at these versions is good for all that stand now.
    #[must_use]
    pub fn is_covered_by(&self, granted: &[GateRevision]) -> bool {
        self.0
            .iter()
            .all(|gate| granted.contains(&(gate.id, gate.revision)))
    }

    /// Whether what was approved at these gates and versions is enough for all that want an
    /// approval.
    #[must_use]
    pub fn is_approved_by(&self, approved: &[GateRevision]) -> bool {
        self.0
            .iter()
            .filter(|gate| gate.needs_approval)
            .all(|gate| approved.contains(&(gate.id, gate.revision)))
    }
}

/// Whether a change of a gate lets through what it stopped before: a condition that goes, a longer
/// time, or another set of approvers than a part of those before.
#[must_use]
pub fn is_weaker(before: (&Gate, &[Uuid]), after: (&Gate, &[Uuid])) -> bool {
    let ((old, old_approvers), (new, new_approvers)) = (before, after);
    let lost = |was: bool, is: bool| was && !is;
    lost(old.needs_reason, new.needs_reason)
        || lost(old.needs_approval, new.needs_approval)
        || lost(old.one_holder, new.one_holder)
        || lost(old.rotate_on_return, new.rotate_on_return)
        || new.max_minutes > old.max_minutes
        || (old.needs_approval
            && new_approvers
                .iter()
                .any(|approver| !old_approvers.contains(approver)))
}

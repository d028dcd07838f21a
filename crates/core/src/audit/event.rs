//! One line of what happened.

use std::collections::BTreeMap;

use chrono::{DateTime, SecondsFormat, Utc};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use super::action::Action;
use super::tree::{Hash, leaf_hash};
use crate::words::Word as _;
use crate::words::word_enum;

word_enum! {
    /// How it went.
    pub enum Outcome {
        /// It was done.
        Done,
        /// It was not allowed, or not possible.
        Refused,
        /// It was tried and did not work.
        Failed,
    }
}

/// Who, what, on what, from where, when, with what outcome. All values are texts, so that the
/// canonical form of RFC 8785 is the sorted JSON of them and nothing about numbers can differ.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Event {
    /// What was done, for example `credential.reveal`.
    pub action: String,
    /// Who did it: a person's identifier, or empty for the service itself and for strangers.
    pub actor: String,
    /// The actor's name at the time.
    pub actor_name: String,
    /// When, RFC 3339 in UTC with microseconds.
    pub at: String,
    /// More about it; never a secret.
    pub detail: BTreeMap<String, String>,
    /// Its identifier.
    pub id: String,
    /// The organisation.
    pub organisation: String,
    /// From which address; empty for the service itself.
    pub origin: String,
    /// How it went.
    pub outcome: Outcome,
    /// On what: an identifier, or empty.
    pub target: String,
    /// The target's name at the time.
    pub target_name: String,
    /// What type of thing that is, for example `credential`.
    pub target_type: String,
}

impl Event {
    /// An event of the service itself, to be filled in.
    #[must_use]
    pub fn new(id: Uuid, organisation: Uuid, time: DateTime<Utc>, action: Action) -> Self {
        Self::recorded(id, organisation, time, action.word())
    }

    /// An event as it was recorded, perhaps by another release, whose actions may have been others.
    #[must_use]
    pub fn recorded(id: Uuid, organisation: Uuid, time: DateTime<Utc>, action: &str) -> Self {
        Self {
            action: action.to_owned(),
            actor: String::new(),
            actor_name: String::new(),
            at: time.to_rfc3339_opts(SecondsFormat::Micros, true),
            detail: BTreeMap::new(),
            id: id.to_string(),
            organisation: organisation.to_string(),
            origin: String::new(),
            outcome: Outcome::Done,
            target: String::new(),
            target_type: String::new(),
            target_name: String::new(),
        }
    }

    /// The bytes that are hashed and authenticated: canonical JSON (RFC 8785).
    #[must_use]
    pub fn canonical(&self) -> Vec<u8> {
        // The struct's fields and the map's keys are in sorted order, and there are only texts.
        serde_json::to_vec(self).unwrap_or_default()
    }

    /// The leaf of this event (RFC 9162, section 2.1.1).
    #[must_use]
    pub fn leaf(&self) -> Hash {
        leaf_hash(&self.canonical())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn event() -> Event {
        let index = "2026-03-02T01:30:00.5Z".parse().unwrap();
        let mut event = Event::new(
            Uuid::from_u128(1),
            Uuid::from_u128(2),
            index,
            Action::CredentialReveal,
        );
        event.actor_name = "Ines \"Duty\" Calder\n".into();
        event
            .detail
            .insert("reason".into(), "pump 3 — stopped".into());
        event.detail.insert("field".into(), "password".into());
        event
    }

    /// The golden form of a leaf. If this changes, every log signed before no longer verifies.
    #[test]
    fn the_canonical_form_does_not_change() {
        let text = String::from_utf8(event().canonical()).unwrap();
        assert_eq!(
            text,
            "{\"action\":\"credential.reveal\",\"actor\":\"\",\"actor_name\":\"Ines \\\"Duty\\\" Calder\\n\",\
             \"at\":\"2026-03-02T01:30:00.500000Z\",\"detail\":{\"field\":\"password\",\"reason\":\"pump 3 — stopped\"},\
             \"id\":\"00000000-0000-0000-0000-000000000001\",\"organisation\":\"00000000-0000-0000-0000-000000000002\",\
             \"origin\":\"\",\"outcome\":\"done\",\"target\":\"\",\"target_name\":\"\",\"target_type\":\"\"}"
        );
    }

    #[test]
    fn fields_are_written_in_sorted_order() {
        let value: serde_json::Value = serde_json::from_slice(&event().canonical()).unwrap();
        let again = serde_json::to_vec(&value).unwrap();
        assert_eq!(
            again,
            event().canonical(),
            "serde_json sorts maps; the struct must be sorted by itself"
        );
    }

    #[test]
    fn what_is_read_back_has_the_same_leaf() {
        let again: Event = serde_json::from_slice(&event().canonical()).unwrap();
        assert_eq!(again.leaf(), event().leaf());
    }
}

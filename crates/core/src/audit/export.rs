//! The export of an audit log, and its verification by somebody who has nothing but the public key.
//!
//! An export is JSON Lines. The first line says what it is; then come the events in the order of
//! the tree, each with its leaf hash; then the signed checkpoints. The leaf hashes are no proof by
//! themselves (the checkpoints are), but they let the verifier name the exact event.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};

use super::checkpoint::{CheckpointProblem, Verifier};
use super::event::Event;
use super::tree::{Frontier, Hash};

/// One line of an export.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "line", rename_all = "kebab-case")]
pub enum ExportLine {
    /// The first line.
    Log {
        /// Always `jexlin audit export 1`.
        format: String,
        /// The log's name, as in its checkpoints.
        origin: String,
        /// How many leaves the tree has.
        size: u64,
    },
    /// A leaf of the tree. `event` is missing when its row is gone.
    Leaf {
        /// Its place, from 0.
        index: u64,
        /// The leaf hash as base64.
        hash: String,
        /// The event as it is stored now.
        event: Option<Event>,
    },
    /// An event without a place in the tree that the sealer will not take.
    Stray {
        /// The event.
        event: Event,
    },
    /// A signed checkpoint.
    Checkpoint {
        /// The signed note.
        note: String,
    },
}

/// What is wrong with a log, and at which event.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Finding {
    /// The content of an event is not what was sealed.
    Changed {
        /// Its place.
        index: u64,
        /// What it says now.
        event: Box<Event>,
    },
    /// An event is gone.
    Removed {
        /// Its place.
        index: u64,
    },
    /// An event stands where another one was sealed.
    Moved {
        /// Where it stands.
        index: u64,
        /// Where it was sealed.
        from: u64,
        /// What it says.
        event: Box<Event>,
    },
    /// An event was put in that nobody sealed.
    Added {
        /// Its place, if it was given one.
        index: Option<u64>,
        /// What it says.
        event: Box<Event>,
    },
    /// The leaves were rewritten to fit: one of these is not what a checkpoint signed.
    Rewritten {
        /// The first that it can be.
        from: u64,
        /// The last that it can be.
        to: u64,
    },
    /// A checkpoint is forged or of another log.
    Checkpoint {
        /// Its place among the checkpoints, from 0.
        number: usize,
        /// What is wrong with it.
        problem: CheckpointProblem,
    },
    /// The log ends before its last checkpoint.
    CutOff {
        /// How many events there are.
        present: u64,
        /// How many were signed.
        signed: u64,
    },
    /// The export itself cannot be read.
    Unreadable {
        /// The line, from 1.
        line: usize,
        /// Why.
        why: String,
    },
}

impl std::fmt::Display for Finding {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let name = |event: &Event| {
            format!(
                "{} of {} by {}",
                event.action,
                event.at,
                if event.actor_name.is_empty() {
                    "the service"
                } else {
                    &event.actor_name
                }
            )
        };
        match self {
            Self::Changed { index, event } => write!(
                f,
                "event {index} was changed; it now reads: {}",
                name(event)
            ),
            Self::Removed { index } => write!(f, "event {index} was removed"),
            Self::Moved { index, from, event } => {
                write!(f, "event {from} was moved to {index}: {}", name(event))
            }
            Self::Added {
                index: Some(index),
                event,
            } => write!(
                f,
                "event {index} was added; it is under no checkpoint: {}",
                name(event)
            ),
            Self::Added { index: None, event } => write!(
                f,
                "an event was added that has no position in the log: {}",
                name(event)
            ),
            Self::Rewritten { from, to } if from == to => {
                write!(f, "event {from} was rewritten together with its leaf")
            }
            Self::Rewritten { from, to } => write!(
                f,
                "an event from {from} to {to} was rewritten together with its leaf; the checkpoints tell no closer"
            ),
            Self::Checkpoint { number, problem } => write!(f, "checkpoint {number}: {problem}"),
            Self::CutOff { present, signed } => write!(
                f,
                "the log was cut off: {present} events are there, {signed} were signed"
            ),
            Self::Unreadable { line, why } => {
                write!(f, "line {line} of the export cannot be read: {why}")
            }
        }
    }
}

/// What verification found.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Report {
    /// How many events were looked at.
    pub events: u64,
    /// How many checkpoints were verified.
    pub checkpoints: usize,
    /// How many events the last good checkpoint covers.
    pub signed: u64,
    /// The first thing that is wrong, in the order of the log.
    pub first: Option<Finding>,
}

/// Verifies an export with the log's public key.
#[must_use]
pub fn verify_export<'a>(lines: impl Iterator<Item = &'a str>, key: &Verifier) -> Report {
    let mut report = Report::default();
    let (leaves, strays, notes) = match read(lines) {
        Ok(parts) => parts,
        Err(finding) => {
            report.first = Some(finding);
            return report;
        }
    };
    report.events = leaves.len() as u64;

    let mut checkpoints = vec![];
    for (number, note) in notes.iter().enumerate() {
        match key.open(note) {
            Ok(checkpoint) => checkpoints.push(checkpoint),
            Err(problem) => {
                report.first = report
                    .first
                    .or(Some(Finding::Checkpoint { number, problem }))
            }
        }
    }
    checkpoints.sort_by_key(|checkpoint| checkpoint.size);
    report.checkpoints = checkpoints.len();
    let signed = checkpoints.last().map_or(0, |checkpoint| checkpoint.size);
    report.signed = signed;
    if report.first.is_some() {
        return report;
    }
    report.first = leaf_finding(&leaves, signed)
        .or_else(|| {
            (report.events < signed).then_some(Finding::CutOff {
                present: report.events,
                signed,
            })
        })
        .or_else(|| {
            let mut frontier = Frontier::default();
            let mut good = 0;
            let mut index = leaves.iter();
            for checkpoint in &checkpoints {
                while frontier.size() < checkpoint.size {
                    frontier.append(index.next()?.hash);
                }
                if frontier.root() != checkpoint.root {
                    return Some(Finding::Rewritten {
                        from: good,
                        to: checkpoint.size.saturating_sub(1),
                    });
                }
                good = checkpoint.size;
            }
            None
        })
        .or_else(|| {
            strays.into_iter().next().map(|event| Finding::Added {
                index: None,
                event: Box::new(event),
            })
        });
    report
}

struct Leaf {
    index: u64,
    hash: Hash,
    event: Option<Event>,
}

/// What the leaves and their events say about each other.
fn leaf_finding(leaves: &[Leaf], signed: u64) -> Option<Finding> {
    let sealed: BTreeMap<Hash, u64> = leaves.iter().map(|leaf| (leaf.hash, leaf.index)).collect();
    let present: BTreeSet<Hash> = leaves
        .iter()
        .filter_map(|leaf| leaf.event.as_ref().map(Event::leaf))
        .collect();
    for (place, leaf) in (0_u64..).zip(leaves) {
        if leaf.index != place {
            return Some(Finding::Removed { index: place });
        }
        let Some(event) = &leaf.event else {
            return Some(Finding::Removed { index: place });
        };
        let own = event.leaf();
        if own != leaf.hash {
            let boxed = Box::new(event.clone());
            return Some(match sealed.get(&own) {
                Some(from) => Finding::Moved {
                    index: place,
                    from: *from,
                    event: boxed,
                },
                // The sealed event may stand elsewhere, pushed aside by one put in here.
                None if present.contains(&leaf.hash) => Finding::Added {
                    index: Some(place),
                    event: boxed,
                },
                None => Finding::Changed {
                    index: place,
                    event: boxed,
                },
            });
        }
        if place >= signed {
            return Some(Finding::Added {
                index: Some(place),
                event: Box::new(event.clone()),
            });
        }
    }
    None
}

type Parts = (Vec<Leaf>, Vec<Event>, Vec<String>);

fn read<'a>(lines: impl Iterator<Item = &'a str>) -> Result<Parts, Finding> {
    use base64::Engine as _;
    let (mut leaves, mut strays, mut notes) = (vec![], vec![], vec![]);
    let mut first = true;
    for (number, line) in lines
        .enumerate()
        .filter(|(_, line)| !line.trim().is_empty())
    {
        let wrong = |why: String| Finding::Unreadable {
            line: number + 1,
            why,
        };
        match serde_json::from_str(line).map_err(|error| wrong(error.to_string()))? {
            ExportLine::Log { format, .. } if first && format == "jexlin audit export 1" => {}
            _ if first => {
                return Err(wrong(
                    "the first line does not say that this is an audit export".into(),
                ));
            }
            ExportLine::Log { .. } => return Err(wrong("a second log begins here".into())),
            ExportLine::Leaf { index, hash, event } => {
                let hash = base64::engine::general_purpose::STANDARD
                    .decode(hash)
                    .ok()
                    .and_then(|hash| hash.try_into().ok());
                leaves.push(Leaf {
                    index,
                    hash: hash.ok_or_else(|| wrong("the leaf hash is malformed".into()))?,
                    event,
                });
            }
            ExportLine::Stray { event } => strays.push(event),
            ExportLine::Checkpoint { note } => notes.push(note),
        }
        first = false;
    }
    if first {
        return Err(Finding::Unreadable {
            line: 1,
            why: "the export is empty".into(),
        });
    }
    Ok((leaves, strays, notes))
}

#[cfg(test)]
mod tests {
    use super::super::action::Action;
    use super::super::checkpoint::Signer;
    use super::*;
    use base64::Engine as _;
    use uuid::Uuid;

    fn signer() -> Signer {
        Signer::new("osmere.example/audit", &[7; 32])
    }

    fn event(n: u128) -> Event {
        Event::new(
            Uuid::from_u128(n),
            Uuid::nil(),
            chrono::DateTime::from_timestamp(i64::try_from(n).unwrap(), 0).unwrap(),
            Action::CredentialReveal,
        )
    }

    fn leaf(index: u64, sealed: &Event, shown: Option<Event>) -> ExportLine {
        ExportLine::Leaf {
            index,
            hash: base64::engine::general_purpose::STANDARD.encode(sealed.leaf()),
            event: shown,
        }
    }

    /// Ten events, a checkpoint after the fourth and one after the last.
    fn good() -> Vec<ExportLine> {
        let mut lines = vec![ExportLine::Log {
            format: "jexlin audit export 1".into(),
            origin: "osmere.example/audit".into(),
            size: 10,
        }];
        let mut frontier = Frontier::default();
        let mut notes = vec![];
        for n in 0..10 {
            let event = event(u128::from(n));
            frontier.append(event.leaf());
            lines.push(leaf(n, &event, Some(event.clone())));
            if n == 3 || n == 9 {
                notes.push(ExportLine::Checkpoint {
                    note: signer().sign(n + 1, frontier.root()),
                });
            }
        }
        lines.extend(notes);
        lines
    }

    fn verify(lines: &[ExportLine]) -> Report {
        let text: Vec<String> = lines
            .iter()
            .map(|line| serde_json::to_string(line).unwrap())
            .collect();
        verify_export(text.iter().map(String::as_str), &signer().verifier())
    }

    #[test]
    fn an_honest_export_verifies() {
        assert_eq!(
            verify(&good()),
            Report {
                events: 10,
                checkpoints: 2,
                signed: 10,
                first: None
            }
        );
    }

    #[test]
    fn a_changed_event_is_named() {
        let mut lines = good();
        lines[6] = leaf(
            5,
            &event(5),
            Some(Event {
                actor_name: "Somebody else".into(),
                ..event(5)
            }),
        );
        assert!(matches!(
            verify(&lines).first,
            Some(Finding::Changed { index: 5, .. })
        ));
    }

    #[test]
    fn a_removed_event_is_named_with_and_without_its_leaf() {
        let mut lines = good();
        lines[6] = leaf(5, &event(5), None);
        assert_eq!(verify(&lines).first, Some(Finding::Removed { index: 5 }));
        lines.remove(6);
        assert_eq!(verify(&lines).first, Some(Finding::Removed { index: 5 }));
    }

    #[test]
    fn a_moved_event_is_named() {
        let mut lines = good();
        lines[3] = leaf(2, &event(2), Some(event(7)));
        lines[8] = leaf(7, &event(7), Some(event(2)));
        assert!(matches!(
            verify(&lines).first,
            Some(Finding::Moved {
                index: 2,
                from: 7,
                ..
            })
        ));
    }

    #[test]
    fn an_added_event_is_named_in_the_tree_past_it_and_beside_it() {
        let mut lines = good();
        lines.insert(11, leaf(10, &event(99), Some(event(99))));
        assert!(matches!(
            verify(&lines).first,
            Some(Finding::Added {
                index: Some(10),
                ..
            })
        ));
        let mut lines = good();
        lines.push(ExportLine::Stray { event: event(99) });
        assert!(matches!(
            verify(&lines).first,
            Some(Finding::Added { index: None, .. })
        ));
    }

    #[test]
    fn a_leaf_rewritten_with_its_event_is_narrowed_by_the_checkpoints() {
        let mut lines = good();
        lines[6] = leaf(5, &event(77), Some(event(77)));
        assert_eq!(
            verify(&lines).first,
            Some(Finding::Rewritten { from: 4, to: 9 })
        );
    }

    #[test]
    fn a_log_that_was_cut_or_signed_by_somebody_else_is_found() {
        let mut lines = good();
        lines.remove(10);
        assert_eq!(
            verify(&lines).first,
            Some(Finding::CutOff {
                present: 9,
                signed: 10
            })
        );
        let mut lines = good();
        lines[11] = ExportLine::Checkpoint {
            note: Signer::new("osmere.example/audit", &[8; 32]).sign(4, [0; 32]),
        };
        assert!(matches!(
            verify(&lines).first,
            Some(Finding::Checkpoint { number: 0, .. })
        ));
    }

    #[test]
    fn what_is_no_export_is_said_to_be_none() {
        let verifier = signer().verifier();
        assert!(matches!(
            verify_export("".lines(), &verifier).first,
            Some(Finding::Unreadable { line: 1, .. })
        ));
        assert!(matches!(
            verify_export("{}\n".lines(), &verifier).first,
            Some(Finding::Unreadable { line: 1, .. })
        ));
        assert!(matches!(
            verify(&good()[1..]).first,
            Some(Finding::Unreadable { line: 1, .. })
        ));
    }
}

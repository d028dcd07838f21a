//! Verification of an audit log by somebody who has nothing but an export and the public key.
//!
//! What is proved is the order and the content of all events under the last checkpoint. What was
//! done to a log is named as closely as the export and its checkpoints allow; an export or a
//! checkpoint that was kept earlier says exactly which event it was, and notices a log that was
//! written anew with the service's own keys.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use super::checkpoint::{Checkpoint, CheckpointProblem, Verifier};
use super::event::Event;
use super::export::{Export, Leaf, LineProblem};
use super::tree::{Frontier, Hash};

/// In a stretch of so many events between two checkpoints, the one that was added or moved is
/// looked for by trying; in a longer one it takes too long.
const MOST_TRIED: usize = 600;

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
    /// Events are gone.
    Removed {
        /// The place of the first.
        from: u64,
        /// The place of the last.
        to: u64,
    },
    /// Events are gone from a stretch, and those behind it were numbered anew.
    RemovedWithin {
        /// How many.
        count: u64,
        /// The first place that one of them can have had.
        from: u64,
        /// The last place.
        to: u64,
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
    /// Two events stand where the other one was sealed.
    Swapped {
        /// One place.
        first: u64,
        /// The other.
        second: u64,
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
    /// It is not the log that the earlier checkpoint was of: its first events have another root.
    NoContinuation {
        /// How many events the earlier checkpoint is of.
        size: u64,
    },
    /// The export itself cannot be read.
    Unreadable {
        /// The line, from 1.
        line: usize,
        /// Why.
        why: String,
    },
}

/// How an event is named to people.
fn name(event: &Event) -> String {
    let actor = if event.actor_name.is_empty() {
        "the service"
    } else {
        &event.actor_name
    };
    format!("{} of {} by {actor}", event.action, event.at)
}

impl std::fmt::Display for Finding {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Changed { index, event } => {
                write!(
                    f,
                    "event {index} was changed; it now reads: {}",
                    name(event)
                )
            }
            Self::Removed { from, to } if from == to => write!(f, "event {from} was removed"),
            Self::Removed { from: 0, to } => {
                write!(
                    f,
                    "the log was cut off at its beginning: events 0 to {to} were removed"
                )
            }
            Self::Removed { from, to } => write!(f, "events {from} to {to} were removed"),
            Self::RemovedWithin { count, from, to } => {
                let (events, were) = if *count == 1 {
                    ("event", "was")
                } else {
                    ("events", "were")
                };
                write!(
                    f,
                    "{count} {events} {were} removed from {from} to {to}, and those behind were numbered anew; an earlier export tells which"
                )
            }
            Self::Moved { index, from, event } => {
                write!(f, "event {from} was moved to {index}: {}", name(event))
            }
            Self::Swapped { first, second } => {
                write!(f, "events {first} and {second} were swapped")
            }
            Self::Added {
                index: Some(index),
                event,
            } => write!(
                f,
                "event {index} was added; nobody sealed it: {}",
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
                "an event from {from} to {to} was rewritten together with its leaf; an earlier export tells which"
            ),
            Self::Checkpoint { number, problem } => write!(f, "checkpoint {number}: {problem}"),
            Self::CutOff { present, signed } => write!(
                f,
                "the log was cut off at its end: {present} events are there, {signed} were signed"
            ),
            Self::NoContinuation { size } => write!(
                f,
                "it is no continuation of the log that the earlier checkpoint of {size} events is of"
            ),
            Self::Unreadable { line, why } => {
                write!(f, "line {line} of the export cannot be read: {why}")
            }
        }
    }
}

impl From<LineProblem> for Finding {
    fn from(problem: LineProblem) -> Self {
        let LineProblem { line, why } = problem;
        Self::Unreadable { line, why }
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
    match Export::read(lines) {
        Ok(export) => verify(&export, key),
        Err(problem) => Report {
            first: Some(problem.into()),
            ..Report::default()
        },
    }
}

/// Verifies an export, and that it continues the log of an export that was kept earlier.
///
/// ```text
/// earlier   a b c d
/// now       a b d e      event 2 was removed
/// now       a b x c d    event 2 was added
/// now       a b x d      event 2 was changed
/// now       a c b d      events 1 and 2 were swapped
/// ```
#[must_use]
pub fn verify_since<'a, 'b>(
    lines: impl Iterator<Item = &'a str>,
    earlier: impl Iterator<Item = &'b str>,
    key: &Verifier,
) -> Report {
    let (export, earlier) = match (Export::read(lines), Export::read(earlier)) {
        (Ok(export), Ok(earlier)) => (export, earlier),
        (Err(problem), _) | (_, Err(problem)) => {
            return Report {
                first: Some(problem.into()),
                ..Report::default()
            };
        }
    };
    let mut report = verify(&export, key);
    // What was kept is believed as far as its own checkpoints prove it.
    let kept = verify(&earlier, key);
    if kept.first.is_none() {
        let proved = earlier
            .leaves
            .len()
            .min(usize::try_from(kept.signed).unwrap_or(usize::MAX));
        let sealed = earlier.leaves.get(..proved).unwrap_or_default();
        report.first = difference(sealed, &export.leaves).or(report.first);
    } else {
        report.first = kept.first;
    }
    report
}

/// Verifies an export, and that it continues the log that a checkpoint was signed of earlier.
#[must_use]
pub fn verify_from_checkpoint<'a>(
    lines: impl Iterator<Item = &'a str>,
    note: &str,
    key: &Verifier,
) -> Report {
    let export = match Export::read(lines) {
        Ok(export) => export,
        Err(problem) => {
            return Report {
                first: Some(problem.into()),
                ..Report::default()
            };
        }
    };
    let mut report = verify(&export, key);
    if report.first.is_some() {
        return report;
    }
    report.first = match key.open(note) {
        Err(problem) => Some(Finding::Checkpoint { number: 0, problem }),
        Ok(checkpoint) if checkpoint.size > report.events => Some(Finding::CutOff {
            present: report.events,
            signed: checkpoint.size,
        }),
        Ok(checkpoint) => {
            let mut frontier = Frontier::default();
            let first = usize::try_from(checkpoint.size).unwrap_or(usize::MAX);
            for leaf in export.leaves.iter().take(first) {
                frontier.append(leaf.hash);
            }
            (frontier.root() != checkpoint.root).then_some(Finding::NoContinuation {
                size: checkpoint.size,
            })
        }
    };
    report
}

/// The first place where a log is not the one that was sealed.
fn difference(sealed: &[Leaf], now: &[Leaf]) -> Option<Finding> {
    let place = |leaves: &[Leaf]| -> HashMap<Hash, u64> {
        (0..)
            .zip(leaves)
            .map(|(place, leaf)| (leaf.hash, place))
            .collect()
    };
    let (before, after) = (place(sealed), place(now));
    for (index, leaf) in (0_u64..).zip(sealed) {
        let here = usize::try_from(index).ok().and_then(|index| now.get(index));
        let Some(here) = here else {
            return Some(Finding::CutOff {
                present: now.len() as u64,
                signed: sealed.len() as u64,
            });
        };
        if here.hash == leaf.hash {
            continue;
        }
        let event = || here.event.clone().map(Box::new);
        return Some(match (after.get(&leaf.hash), before.get(&here.hash)) {
            // What was here stands elsewhere, and what is here was elsewhere.
            (Some(second), Some(from)) if second == from => Finding::Swapped {
                first: index,
                second: *second,
            },
            // What was here is pushed on by one that came from further on.
            (Some(second), Some(from)) if *second == index + 1 => Finding::Moved {
                index,
                from: *from,
                event: event()?,
            },
            (Some(second), Some(_)) => Finding::Moved {
                index: *second,
                from: index,
                event: Box::new(leaf.event.clone().or_else(|| here.event.clone())?),
            },
            (Some(_), None) => Finding::Added {
                index: Some(index),
                event: event()?,
            },
            (None, Some(next)) => Finding::Removed {
                from: index,
                to: next.saturating_sub(1),
            },
            (None, None) => Finding::Changed {
                index,
                event: event()?,
            },
        });
    }
    None
}

fn verify(export: &Export, key: &Verifier) -> Report {
    let mut report = Report {
        events: export.leaves.len() as u64,
        ..Report::default()
    };
    let mut checkpoints = vec![];
    for (number, note) in export.notes.iter().enumerate() {
        match key.open(note) {
            Ok(checkpoint) => checkpoints.push(checkpoint),
            Err(problem) => {
                report.first = report
                    .first
                    .or(Some(Finding::Checkpoint { number, problem }));
            }
        }
    }
    checkpoints.sort_by_key(|checkpoint| checkpoint.size);
    report.checkpoints = checkpoints.len();
    report.signed = checkpoints.last().map_or(0, |checkpoint| checkpoint.size);
    if report.first.is_none() {
        report.first = leaf_finding(&export.leaves)
            .or_else(|| tree_finding(&export.leaves, &checkpoints))
            .or_else(|| {
                let event = export.strays.first()?.clone();
                Some(Finding::Added {
                    index: None,
                    event: Box::new(event),
                })
            });
    }
    report
}

/// What the leaves and their events say about each other.
fn leaf_finding(leaves: &[Leaf]) -> Option<Finding> {
    let sealed: BTreeMap<Hash, usize> = leaves
        .iter()
        .enumerate()
        .map(|(place, leaf)| (leaf.hash, place))
        .collect();
    let own: Vec<Option<Hash>> = leaves
        .iter()
        .map(|leaf| leaf.event.as_ref().map(Event::leaf))
        .collect();
    let present: BTreeSet<Hash> = own.iter().copied().flatten().collect();
    for (place, leaf) in leaves.iter().enumerate() {
        let index = place as u64;
        if leaf.index > index {
            return Some(Finding::Removed {
                from: index,
                to: leaf.index - 1,
            });
        }
        let Some(event) = &leaf.event else {
            return Some(Finding::Removed {
                from: index,
                to: index,
            });
        };
        let boxed = || Box::new(event.clone());
        if leaf.index < index {
            return Some(Finding::Added {
                index: Some(index),
                event: boxed(),
            });
        }
        let hash = own.get(place).copied().flatten()?;
        if hash == leaf.hash {
            continue;
        }
        return Some(match sealed.get(&hash) {
            Some(from) if own.get(*from).copied().flatten() == Some(leaf.hash) => {
                Finding::Swapped {
                    first: index,
                    second: *from as u64,
                }
            }
            Some(from) => Finding::Moved {
                index,
                from: *from as u64,
                event: boxed(),
            },
            // The sealed event may stand elsewhere, pushed aside by one put in here.
            None if present.contains(&leaf.hash) => Finding::Added {
                index: Some(index),
                event: boxed(),
            },
            None => Finding::Changed {
                index,
                event: boxed(),
            },
        });
    }
    None
}

/// What the checkpoints say about the leaves.
fn tree_finding(leaves: &[Leaf], checkpoints: &[Checkpoint]) -> Option<Finding> {
    let present = leaves.len() as u64;
    let signed = checkpoints.last().map_or(0, |checkpoint| checkpoint.size);
    let (mut good, mut rest) = (Frontier::default(), leaves.iter());
    for checkpoint in checkpoints {
        if checkpoint.size > present {
            // Everything up to here is proved; behind it, something is missing.
            return Some(Finding::CutOff { present, signed });
        }
        let begin = good.clone();
        while good.size() < checkpoint.size {
            good.append(rest.next()?.hash);
        }
        if good.root() != checkpoint.root {
            let stretch = Stretch {
                begin,
                leaves,
                checkpoint,
            };
            return Some(stretch.finding(signed));
        }
    }
    let added = leaves.get(usize::try_from(signed).ok()?)?;
    Some(Finding::Added {
        index: Some(signed),
        event: Box::new(added.event.clone()?),
    })
}

/// The leaves from the last checkpoint that is right to the first that is not.
struct Stretch<'a> {
    /// The tree up to the last right one.
    begin: Frontier,
    leaves: &'a [Leaf],
    checkpoint: &'a Checkpoint,
}

impl Stretch<'_> {
    /// Whether the signed root comes out if these are the leaves of the stretch.
    fn fits(&self, hashes: impl Iterator<Item = Hash>) -> bool {
        let mut tree = self.begin.clone();
        hashes.for_each(|hash| tree.append(hash));
        tree.size() == self.checkpoint.size && tree.root() == self.checkpoint.root
    }

    /// What was done in it: tried, since only the right guess gives the signed root.
    fn finding(&self, signed: u64) -> Finding {
        let present = self.leaves.len() as u64;
        let (from, size) = (self.begin.size(), self.checkpoint.size);
        let place = |index: u64| usize::try_from(index).unwrap_or(usize::MAX);
        let here = self
            .leaves
            .get(place(from)..place(size))
            .unwrap_or_default();
        let hashes: Vec<Hash> = here.iter().map(|leaf| leaf.hash).collect();
        if hashes.len() <= MOST_TRIED {
            let found = self.added(&hashes).or_else(|| self.moved(&hashes));
            if let Some(found) = found {
                return found;
            }
        }
        if present < signed {
            return Finding::RemovedWithin {
                count: signed - present,
                from,
                to: size.saturating_sub(1),
            };
        }
        Finding::Rewritten {
            from,
            to: size.saturating_sub(1),
        }
    }

    /// One that was put in, so that those behind it moved on by one.
    fn added(&self, hashes: &[Hash]) -> Option<Finding> {
        let begin = usize::try_from(self.begin.size()).ok()?;
        let next = self.leaves.get(begin + hashes.len())?.hash;
        let with = || hashes.iter().copied().chain([next]);
        let skipped = (0..=hashes.len()).find(|skipped| {
            let others = with().enumerate().filter(|(place, _)| place != skipped);
            self.fits(others.map(|(_, hash)| hash))
        })?;
        Some(Finding::Added {
            index: Some((begin + skipped) as u64),
            event: Box::new(self.leaves.get(begin + skipped)?.event.clone()?),
        })
    }

    /// One that stands too late or too early, or two that were swapped. Those are tried that are
    /// out of the order of their times, which an event that was moved far always is.
    fn moved(&self, hashes: &[Hash]) -> Option<Finding> {
        let begin = usize::try_from(self.begin.size()).ok()?;
        let time = |place: usize| {
            let event = self.leaves.get(begin + place)?.event.as_ref()?;
            Some(event.at.as_str())
        };
        let out_of_order: Vec<usize> = (0..hashes.len())
            .filter(|place| {
                let earlier = place.checked_sub(1).and_then(time);
                time(*place) < earlier
                    || (time(place + 1).is_some() && time(place + 1) < time(*place))
            })
            .take(8)
            .collect();
        for place in &out_of_order {
            for other in 0..hashes.len() {
                if other == *place {
                    continue;
                }
                let mut swapped = hashes.to_vec();
                swapped.swap(*place, other);
                if self.fits(swapped.iter().copied()) {
                    return Some(Finding::Swapped {
                        first: (begin + other.min(*place)) as u64,
                        second: (begin + other.max(*place)) as u64,
                    });
                }
                let mut moved = hashes.to_vec();
                let hash = moved.remove(*place);
                moved.insert(other, hash);
                if self.fits(moved.iter().copied()) {
                    return Some(Finding::Moved {
                        index: (begin + place) as u64,
                        from: (begin + other) as u64,
                        event: Box::new(self.leaves.get(begin + place)?.event.clone()?),
                    });
                }
            }
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use super::super::action::Action;
    use super::super::checkpoint::Signer;
    use super::super::export::ExportLine;
    use super::*;
    use base64::Engine as _;
    use proptest::prelude::*;
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
        assert_eq!(
            verify(&lines).first,
            Some(Finding::Removed { from: 5, to: 5 })
        );
        lines.remove(6);
        assert_eq!(
            verify(&lines).first,
            Some(Finding::Removed { from: 5, to: 5 })
        );
    }

    #[test]
    fn two_swapped_events_are_named() {
        let mut lines = good();
        lines[3] = leaf(2, &event(2), Some(event(7)));
        lines[8] = leaf(7, &event(7), Some(event(2)));
        assert_eq!(
            verify(&lines).first,
            Some(Finding::Swapped {
                first: 2,
                second: 7
            })
        );
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

    /// A log of events a second apart with a checkpoint after every `stretch` of them.
    fn log(events: u64, stretch: u64) -> (Vec<Event>, Vec<String>) {
        let (mut all, mut notes, mut frontier) = (vec![], vec![], Frontier::default());
        for n in 0..events {
            let event = event(u128::from(n));
            frontier.append(event.leaf());
            all.push(event);
            if (n + 1) % stretch == 0 || n + 1 == events {
                notes.push(signer().sign(n + 1, frontier.root()));
            }
        }
        (all, notes)
    }

    /// An export whose leaves are numbered and hashed to fit whatever events are in it.
    fn fitted(events: &[Event], notes: &[String]) -> Vec<String> {
        let log = ExportLine::Log {
            format: "jexlin audit export 1".into(),
            origin: "osmere.example/audit".into(),
            size: events.len() as u64,
        };
        let leaves = (0..)
            .zip(events)
            .map(|(index, event)| leaf(index, event, Some(event.clone())));
        let notes = notes
            .iter()
            .map(|note| ExportLine::Checkpoint { note: note.clone() });
        std::iter::once(log)
            .chain(leaves)
            .chain(notes)
            .map(|line| serde_json::to_string(&line).unwrap())
            .collect()
    }

    fn of(text: &[String]) -> Option<Finding> {
        verify_export(text.iter().map(String::as_str), &signer().verifier()).first
    }

    fn since(text: &[String], earlier: &[String]) -> Option<Finding> {
        let lines = |text: &[String]| text.join("\n");
        verify_since(
            lines(text).lines(),
            lines(earlier).lines(),
            &signer().verifier(),
        )
        .first
    }

    #[test]
    fn an_earlier_checkpoint_tells_a_log_that_was_written_anew() {
        let (events, notes) = log(12, 4);
        let text = fitted(&events, &notes).join("\n");
        let verifier = signer().verifier();
        assert_eq!(
            verify_from_checkpoint(text.lines(), &notes[1], &verifier).first,
            None
        );
        // Another log, signed with the same key.
        let others: Vec<Event> = (100..112).map(event).collect();
        let mut frontier = Frontier::default();
        others
            .iter()
            .for_each(|event| frontier.append(event.leaf()));
        let anew = fitted(&others, &[signer().sign(12, frontier.root())]).join("\n");
        assert_eq!(verify_export(anew.lines(), &verifier).first, None);
        assert_eq!(
            verify_from_checkpoint(anew.lines(), &notes[1], &verifier).first,
            Some(Finding::NoContinuation { size: 8 })
        );
        let short = fitted(&events[..4], &notes[..1]).join("\n");
        assert_eq!(
            verify_from_checkpoint(short.lines(), &notes[1], &verifier).first,
            Some(Finding::CutOff {
                present: 4,
                signed: 8
            })
        );
        assert!(matches!(
            verify_from_checkpoint(text.lines(), "nothing", &verifier).first,
            Some(Finding::Checkpoint { .. })
        ));
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(48))]

        /// Whatever is done to a log with its leaves numbered and hashed anew is found, and named
        /// exactly as far as it can be proved; an earlier export always names it.
        #[test]
        fn what_was_done_to_a_log_is_named(
            count in 6_u64..40,
            stretch in 2_u64..9,
            at in any::<prop::sample::Index>(),
            to in any::<prop::sample::Index>(),
            act in 0..6,
        ) {
            let (events, notes) = log(count, stretch);
            let honest = fitted(&events, &notes);
            prop_assert_eq!(of(&honest), None);
            let (place, other) = (at.index(events.len()), to.index(events.len()));
            let mut now = events.clone();
            let strange = Event { actor_name: "Forger".into(), ..event(9999) };
            let same_stretch = place as u64 / stretch == other as u64 / stretch;
            match act {
                // An event put in, with or without an end behind it.
                0 => {
                    now.insert(place, strange.clone());
                    let wanted = Finding::Added { index: Some(place as u64), event: Box::new(strange) };
                    let text = fitted(&now, &notes);
                    prop_assert_eq!(of(&text), Some(wanted.clone()));
                    prop_assert_eq!(since(&text, &honest), Some(wanted));
                }
                // One taken out.
                1 => {
                    now.remove(place);
                    let text = fitted(&now, &notes);
                    let found = of(&text);
                    let within = match &found {
                        Some(Finding::RemovedWithin { count: 1, from, to }) => (*from..=*to).contains(&(place as u64)),
                        // In the last stretch, it looks like a log that is too short.
                        Some(Finding::CutOff { .. }) => place as u64 >= (count - 1) / stretch * stretch,
                        _ => false,
                    };
                    prop_assert!(within, "{:?} {}", found, place);
                    let wanted = if place + 1 == events.len() {
                        Finding::CutOff { present: count - 1, signed: count }
                    } else {
                        Finding::Removed { from: place as u64, to: place as u64 }
                    };
                    prop_assert_eq!(since(&text, &honest), Some(wanted));
                }
                2 if place != other => {
                    now.swap(place, other);
                    let wanted = Finding::Swapped {
                        first: place.min(other) as u64,
                        second: place.max(other) as u64,
                    };
                    let text = fitted(&now, &notes);
                    if same_stretch {
                        prop_assert_eq!(of(&text), Some(wanted.clone()));
                    } else {
                        prop_assert!(of(&text).is_some());
                    }
                    prop_assert_eq!(since(&text, &honest), Some(wanted));
                }
                3 if place.abs_diff(other) > 1 => {
                    let taken = now.remove(place);
                    now.insert(other, taken);
                    let text = fitted(&now, &notes);
                    let found = of(&text);
                    if same_stretch {
                        let named = matches!(&found, Some(Finding::Moved { index, from, .. }) if *index == other as u64 && *from == place as u64);
                        prop_assert!(named, "{:?} {} {}", found, place, other);
                    }
                    prop_assert!(found.is_some());
                    let exact = since(&text, &honest);
                    let named = matches!(&exact, Some(Finding::Moved { index, from, .. }) if *index == other as u64 && *from == place as u64);
                    prop_assert!(named, "{:?}", exact);
                }
                4 => {
                    now[place].actor_name = "Somebody else".into();
                    let changed = Box::new(now[place].clone());
                    let text = fitted(&now, &notes);
                    let found = of(&text);
                    let within = matches!(&found, Some(Finding::Rewritten { from, to }) if (*from..=*to).contains(&(place as u64)));
                    prop_assert!(within, "{:?}", found);
                    prop_assert_eq!(since(&text, &honest), Some(Finding::Changed { index: place as u64, event: changed }));
                }
                // Cut off at the end, and at the front with the numbers as they were.
                5 if place > 0 => {
                    let text = fitted(&now[..place], &notes);
                    prop_assert_eq!(of(&text), Some(Finding::CutOff { present: place as u64, signed: count }));
                    let mut front = honest.clone();
                    front.drain(1..=place);
                    prop_assert_eq!(of(&front), Some(Finding::Removed { from: 0, to: place as u64 - 1 }));
                }
                _ => {}
            }
        }
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

//! The export of an audit log. Its format is specified in `docs/audit-format.md`.
//!
//! An export is JSON Lines. The first line says what it is; then come the events in the order of
//! the tree, each with its leaf hash; then the signed checkpoints. The leaf hashes are no proof by
//! themselves (the checkpoints are), but they let the verifier name the exact event.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use serde::{Deserialize, Serialize};

use super::event::Event;
use super::tree::Hash;

/// What the first line of an export says.
pub(super) const FORMAT: &str = "jexlin audit export 1";

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
        /// The size of the newest checkpoint when the export began.
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

/// A leaf as an export has it.
pub(super) struct Leaf {
    /// Its place, as the export says.
    pub index: u64,
    /// The hash of the event that was sealed.
    pub hash: Hash,
    /// The event as it is stored now.
    pub event: Option<Event>,
}

/// What is in an export.
#[derive(Default)]
pub(super) struct Export {
    pub leaves: Vec<Leaf>,
    /// Events without a place.
    pub strays: Vec<Event>,
    /// Signed checkpoints.
    pub notes: Vec<String>,
}

/// Why a line of an export cannot be read.
pub(super) struct LineProblem {
    /// The line, from 1.
    pub line: usize,
    pub why: String,
}

impl Export {
    pub(super) fn read<'a>(lines: impl Iterator<Item = &'a str>) -> Result<Self, LineProblem> {
        let mut export = Self::default();
        let mut first = true;
        let filled = lines
            .enumerate()
            .filter(|(_, line)| !line.trim().is_empty());
        for (number, line) in filled {
            let wrong = |why: String| LineProblem {
                line: number + 1,
                why,
            };
            match serde_json::from_str(line).map_err(|error| wrong(error.to_string()))? {
                ExportLine::Log { format, .. } if first && format == FORMAT => {}
                _ if first => {
                    return Err(wrong(
                        "the first line does not say that this is an audit export".into(),
                    ));
                }
                ExportLine::Log { .. } => return Err(wrong("a second log begins here".into())),
                ExportLine::Leaf { index, hash, event } => {
                    let hash = STANDARD
                        .decode(hash)
                        .ok()
                        .and_then(|hash| hash.try_into().ok());
                    export.leaves.push(Leaf {
                        index,
                        hash: hash.ok_or_else(|| wrong("the leaf hash is malformed".into()))?,
                        event,
                    });
                }
                ExportLine::Stray { event } => export.strays.push(event),
                ExportLine::Checkpoint { note } => export.notes.push(note),
            }
            first = false;
        }
        if first {
            return Err(LineProblem {
                line: 1,
                why: "the export is empty".into(),
            });
        }
        Ok(export)
    }
}

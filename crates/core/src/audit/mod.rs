//! The audit log: events, leaves, the Merkle tree, checkpoints, and verification by anybody.
//!
//! Aim: an auditor who believes nothing takes an export and the public key to a machine of their
//! own and finds one changed, missing, added or moved event. Hash chains were refused: a proof
//! about one event would need all the events after it.
//!
//! ```text
//! event ─ canonical JSON (RFC 8785) ─► leaf hash ─► tree (RFC 9162) ─► checkpoint (C2SP, Ed25519)
//! ```

mod action;
mod checkpoint;
mod event;
mod export;
mod tree;
mod verify;

pub use action::{Action, TargetType};
pub use checkpoint::{Checkpoint, CheckpointProblem, Signer, Verifier};
pub use event::{Event, Outcome};
pub use export::ExportLine;
pub use tree::{
    Frontier, Hash, consistency_proof, inclusion_proof, leaf_hash, node_hash, root_of,
    verify_consistency, verify_inclusion,
};
pub use verify::{Finding, Report, verify_export, verify_from_checkpoint, verify_since};

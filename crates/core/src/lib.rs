//! The job of Jexlin itself: who may do what, how a secret is sealed, how a password is rotated,
//! how a gate is passed, and how the audit log is proved.
//!
//! Nothing here reads a clock, a file, a socket or a database. Time and randomness come in as
//! arguments, so that every schedule, expiry and crash can be tested in microseconds.
//!
//! ```text
//!  access ──► gate ──► vault        a secret opens only for a `Passed` value,
//!     │         │        ▲          which only `gate` and `upkeep` can make
//!     └─ levels └─ checkouts        (promise 4)
//!  upkeep ──────────────┘
//!  audit     one line per deed, leaves of a Merkle tree, signed checkpoints
//!  policy    what a password must look like, and the generator
//!  dialogue  talking to a command line through an abstract terminal
//! ```
//!
//! A first example: the level somebody holds decides what they can do.
//!
//! ```
//! use jexlin_core::access::Level;
//! assert!(Level::Reveal > Level::Use);
//! assert_eq!("steward".parse::<Level>().unwrap(), Level::Steward);
//! ```

pub mod access;
pub mod audit;
pub mod auth;
pub mod dialogue;
pub mod gate;
pub mod names;
pub mod people;
pub mod policy;
pub mod recipe;
pub mod secret;
pub mod status;
pub mod transfer;
pub mod upkeep;
pub mod vault;
pub mod words;

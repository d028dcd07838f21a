//! The vault: envelope encryption, the root key, kinds and fields, versions.
//!
//! ```text
//! root key (file, passphrase)            32 random bytes
//!   └─ organisation key                  wrapped, one per organisation
//!        ├─ audit signing key, MAC key   sealed under it, derived from it
//!        └─ data key                     wrapped, one per credential
//!             └─ secret version          AES-256-GCM, fresh random nonce
//! ```
//!
//! Every box is bound to its place by associated data: organisation, credential, field, version.
//! A value moved to another row does not open.
//!
//! A secret opens only with a [`Pass`], which `gate` and `upkeep` alone can make, and only for the
//! credential that the pass names (promise 4).

mod envelope;
pub mod kinds;
pub mod one_time;
mod root;
pub mod sign_in;

use uuid::Uuid;

pub use envelope::{DataKey, Key, OrganisationKey, Place, SealProblem, Sealed, WrappedKey};
pub use root::{RootKey, RootKeyProblem};

use crate::secret::Secret;

/// What lets a secret be opened. Sealed: implemented in this crate only, by proofs that a gate was
/// passed or that a job holds its lease.
pub trait Pass: sealed::Sealed {
    /// The credential that may be opened.
    fn credential(&self) -> Uuid;
}

pub(crate) mod sealed {
    /// Keeps [`super::Pass`] inside this crate.
    pub trait Sealed {}
}

/// Opens one version of one secret field.
///
/// # Errors
/// [`SealProblem::OtherCredential`] when the pass is for something else; [`SealProblem::Refused`]
/// when the bytes, the key or the place are not the ones that were sealed.
pub fn open(pass: &impl Pass, key: &OrganisationKey, wrapped: &WrappedKey, place: &Place<'_>, sealed: &Sealed) -> Result<Secret, SealProblem> {
    if pass.credential() != place.credential {
        return Err(SealProblem::OtherCredential);
    }
    key.unwrap_data_key(place.organisation, place.credential, wrapped)?.open(place, sealed)
}

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

pub mod certificates;
mod envelope;
pub mod facts;
pub mod kinds;
pub mod one_time;
pub mod personal;
pub mod pictures;
pub mod readings;
mod root;
pub mod ssh_keys;
mod versions;

use uuid::Uuid;

pub use envelope::{
    ChangedKey, DataKey, EventKey, Key, OrganisationKey, PiecePlace, Place, SealProblem, Sealed,
    WrappedKey,
};
pub use root::{RootKey, RootKeyProblem};
pub use versions::{CredentialSort, CredentialView, RemovedType, ValueOrigin, VersionState};

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

/// Opens one piece of an attachment.
///
/// # Errors
/// As [`open`].
pub fn open_piece(
    pass: &impl Pass,
    key: &OrganisationKey,
    wrapped: &WrappedKey,
    place: &PiecePlace,
    sealed: &Sealed,
) -> Result<Secret, SealProblem> {
    if pass.credential() != place.credential {
        return Err(SealProblem::OtherCredential);
    }
    key.unwrap_data_key(place.organisation, place.credential, wrapped)?
        .open_piece(place, sealed)
}

/// Seals a former version again as a later one of the same field. Nobody sees it: no pass is needed.
///
/// # Errors
/// [`SealProblem`] when it does not open, or the two are not of the same field.
pub fn restore(
    rng: &mut dyn rand::CryptoRng,
    key: &OrganisationKey,
    wrapped: &WrappedKey,
    from: &Place<'_>,
    to: &Place<'_>,
    sealed: &Sealed,
) -> Result<Sealed, SealProblem> {
    if (from.organisation, from.credential, from.field)
        != (to.organisation, to.credential, to.field)
    {
        return Err(SealProblem::OtherCredential);
    }
    let data_key = key.unwrap_data_key(from.organisation, from.credential, wrapped)?;
    data_key.seal(rng, to, &data_key.open(from, sealed)?)
}

/// Seals a value of one credential for another of the same organisation. Nobody sees it, but
/// whoever reaches the other one could: it takes the pass of a reveal.
///
/// # Errors
/// As [`open`]; [`SealProblem::OtherCredential`] also across organisations.
pub fn copy(
    pass: &impl Pass,
    rng: &mut dyn rand::CryptoRng,
    key: &OrganisationKey,
    (wrapped, from): (&WrappedKey, &Place<'_>),
    (other_wrapped, to): (&WrappedKey, &Place<'_>),
    sealed: &Sealed,
) -> Result<Sealed, SealProblem> {
    if from.organisation != to.organisation {
        return Err(SealProblem::OtherCredential);
    }
    let value = open(pass, key, wrapped, from, sealed)?;
    key.unwrap_data_key(to.organisation, to.credential, other_wrapped)?
        .seal(rng, to, &value)
}

/// [`copy`] for one piece of an attachment.
///
/// # Errors
/// As [`copy`].
pub fn copy_piece(
    pass: &impl Pass,
    rng: &mut dyn rand::CryptoRng,
    key: &OrganisationKey,
    (wrapped, from): (&WrappedKey, &PiecePlace),
    (other_wrapped, to): (&WrappedKey, &PiecePlace),
    sealed: &Sealed,
) -> Result<Sealed, SealProblem> {
    if from.organisation != to.organisation {
        return Err(SealProblem::OtherCredential);
    }
    let plain = open_piece(pass, key, wrapped, from, sealed)?;
    key.unwrap_data_key(to.organisation, to.credential, other_wrapped)?
        .seal_piece(rng, to, plain.expose_secret())
}

/// Opens one version of one secret field.
///
/// # Errors
/// [`SealProblem::OtherCredential`] when the pass is for something else; [`SealProblem::Refused`]
/// when the bytes, the key or the place are not the ones that were sealed.
pub fn open(
    pass: &impl Pass,
    key: &OrganisationKey,
    wrapped: &WrappedKey,
    place: &Place<'_>,
    sealed: &Sealed,
) -> Result<Secret, SealProblem> {
    if pass.credential() != place.credential {
        return Err(SealProblem::OtherCredential);
    }
    key.unwrap_data_key(place.organisation, place.credential, wrapped)?
        .open(place, sealed)
}

/// Opens a password for the one endpoint that it may be sent to.
///
/// # Errors
/// As [`open`].
pub fn open_for_device<R: crate::upkeep::RoleMark>(
    permit: &crate::upkeep::SendPermit<R>,
    login: &str,
    key: &OrganisationKey,
    wrapped: &WrappedKey,
    place: &Place<'_>,
    sealed: &Sealed,
) -> Result<crate::upkeep::BoundLogin<R>, SealProblem> {
    permit.bind(
        login,
        place.version,
        open(permit, key, wrapped, place, sealed)?,
    )
}

/// Binds a password that is not stored to the endpoint of a permit. It stands in for a new password
/// in a rehearsal.
///
/// # Errors
/// As [`crate::upkeep::SendPermit`] says for keys.
pub fn stand_in(
    permit: &crate::upkeep::SendPermit<crate::upkeep::Account>,
    login: &str,
    password: Secret,
) -> Result<crate::upkeep::BoundLogin<crate::upkeep::Account>, SealProblem> {
    permit.bind(login, 0, password)
}

/// Opens the enable password of the same credential and adds it to a login. It may be sent only where
/// the password may be sent.
///
/// # Errors
/// As [`open`]; [`SealProblem::OtherCredential`] also when the login is of another one.
pub fn add_enable_password<R: crate::upkeep::RoleMark>(
    permit: &crate::upkeep::SendPermit<R>,
    login: crate::upkeep::BoundLogin<R>,
    key: &OrganisationKey,
    wrapped: &WrappedKey,
    place: &Place<'_>,
    sealed: &Sealed,
) -> Result<crate::upkeep::BoundLogin<R>, SealProblem> {
    if login.credential() != place.credential {
        return Err(SealProblem::OtherCredential);
    }
    Ok(login.with_enable_password(open(permit, key, wrapped, place, sealed)?))
}

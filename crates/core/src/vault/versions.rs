//! The versions of a secret, and how lists of credentials are narrowed.

use serde::{Deserialize, Serialize};
use strum::{Display, EnumString, IntoStaticStr, VariantArray};

use crate::words::{UnknownWord, unknown_word};

/// The state of a version of a secret.
#[derive(
    Clone,
    Copy,
    Debug,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Serialize,
    Deserialize,
    Display,
    EnumString,
    IntoStaticStr,
    VariantArray,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case", parse_err_ty = UnknownWord, parse_err_fn = unknown_word::<VersionState>)]
pub enum VersionState {
    /// Made for a device that may have it, or not yet.
    Candidate,
    /// The one that counts.
    Current,
    /// Was current before.
    Previous,
    /// Was made, and no device can ever have it.
    Discarded,
}

/// Where a value came from.
#[derive(
    Clone,
    Copy,
    Debug,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Serialize,
    Deserialize,
    Display,
    EnumString,
    IntoStaticStr,
    VariantArray,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case", parse_err_ty = UnknownWord, parse_err_fn = unknown_word::<ValueOrigin>)]
pub enum ValueOrigin {
    /// Somebody typed it.
    Typed,
    /// It was generated.
    Generated,
    /// A rotation made it.
    Rotated,
    /// It was imported.
    Imported,
    /// A former value was restored.
    Restored,
}

/// A view of the credentials that somebody may know of.
#[derive(
    Clone,
    Copy,
    Debug,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Serialize,
    Deserialize,
    Display,
    EnumString,
    IntoStaticStr,
    VariantArray,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case", parse_err_ty = UnknownWord, parse_err_fn = unknown_word::<CredentialView>)]
pub enum CredentialView {
    /// Their favourites.
    Favourites,
    /// What they used last.
    Recent,
    /// What they used most.
    MostUsed,
    /// Where they are a steward.
    Mine,
    /// What others granted them.
    SharedWithMe,
    /// What they granted to others.
    SharedByMe,
    /// Where nobody but them has access.
    WithNobody,
}

/// What can be in the bin.
#[derive(
    Clone,
    Copy,
    Debug,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Serialize,
    Deserialize,
    Display,
    EnumString,
    IntoStaticStr,
    VariantArray,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case", parse_err_ty = UnknownWord, parse_err_fn = unknown_word::<RemovedType>)]
pub enum RemovedType {
    /// A credential.
    Credential,
    /// A device.
    Device,
    /// A folder, with all below it.
    Folder,
    /// What an import added.
    Import,
    /// An attachment.
    Attachment,
}

//! Kinds of credentials.

use jexlin_core::vault::kinds::FieldType;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A kind of credential.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Kind {
    /// Its name in the interface.
    pub name: String,
    /// Its label.
    pub label: String,
    /// Whether a password is generated when none is given.
    pub generates: bool,
    /// Its fields, in the order of the form.
    pub fields: Vec<KindField>,
    /// Whether it is one of the organisation's own.
    pub own: bool,
    /// Whether it allows no new credentials.
    pub retired: bool,
    /// For `If-Match`; it changes with the kind.
    pub revision: i32,
}

/// Adds a kind of the organisation's own.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewKind {
    /// Its name in the interface: lower-case letters, digits and `-`.
    pub name: String,
    /// Its label.
    pub label: String,
    /// Whether the main secret, in the field `password`, is generated when none is given.
    #[serde(default)]
    pub generates: bool,
    /// Its fields, in the order of the form.
    pub fields: Vec<KindField>,
}

/// Edits a kind of the organisation's own; what is left out stays as it is.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct EditKind {
    /// A new label.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
    /// Whether the main secret is generated.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub generates: Option<bool>,
    /// Replaces all fields. Credentials keep the values of fields that are removed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fields: Option<Vec<KindField>>,
    /// Retires it, so that it allows no new credentials, or restores it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub retired: Option<bool>,
}

/// A field of a kind.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct KindField {
    /// Its name in the interface.
    pub name: String,
    /// Its label.
    pub label: String,
    /// `text`, `url` (one a line), `note`, `date` and `certificate` are for all; `secret`,
    /// `secret-note`, `one-time-seed`, `ssh-key` and `private-key` take a reveal.
    pub holds: FieldType,
    /// Whether it is required.
    #[serde(default)]
    pub required: bool,
    /// Its help text.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub help: String,
}

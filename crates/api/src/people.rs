//! People and clients.

use jexlin_core::people::{Duty, PersonState, PersonType};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

use crate::SecretText;

/// A person.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Person {
    /// Identifier.
    pub id: Uuid,
    /// The sign-in name.
    pub sign_in_name: String,
    /// The display name.
    pub display_name: String,
    /// A person, or a program that signs in.
    #[serde(rename = "type")]
    pub person_type: PersonType,
    /// The state.
    pub state: PersonState,
    /// The duties held.
    pub duties: Vec<Duty>,
    /// For `If-Match`.
    pub revision: i32,
}

/// Adds a person.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewPerson {
    /// The sign-in name.
    pub sign_in_name: String,
    /// The display name.
    pub display_name: String,
    /// A first password; without one the person is `invited` and cannot sign in yet.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<SecretText>,
    /// Duties.
    #[serde(default)]
    pub duties: Vec<Duty>,
}

/// Adds a client: a program that signs in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewClient {
    /// The name that it signs in with.
    pub name: String,
    /// The display name.
    pub display_name: String,
}

/// A client and its secret, which is shown only once.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ClientSecret {
    /// The client.
    pub client: Person,
    /// Its secret.
    pub secret: SecretText,
}

/// Edits a person; what is left out stays as it is.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct EditPerson {
    /// The display name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub display_name: Option<String>,
    /// The state: `active`, `suspended` or `left`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub state: Option<PersonState>,
    /// Duties.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub duties: Option<Vec<Duty>>,
    /// A new password, set by somebody with the duty `people`; all sessions of the person end.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<SecretText>,
}

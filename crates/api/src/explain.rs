//! Who has access, and why.

use jexlin_core::access::Level;
use jexlin_core::people::PersonState;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// A person or client with access to a folder or a credential.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AccessHolder {
    /// The person.
    pub person: Uuid,
    /// The name of the person or group.
    pub name: String,
    /// Whether they can sign in.
    pub state: PersonState,
    /// Their level.
    pub level: Level,
    /// The folder that the grant is on, or `the credential itself`.
    pub stands_on: String,
    /// The groups from the person to the grant's subject.
    pub through: Vec<String>,
    /// The number of other grants to them that apply as well.
    pub others: usize,
}

/// Why a person has access to a folder or a credential, or why not.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Explanation {
    /// The person's name.
    pub person: String,
    /// The path of the folder or the credential.
    pub place: String,
    /// Their level.
    #[schema(required)]
    pub level: Option<Level>,
    /// The explanation in one sentence.
    pub sentence: String,
    /// All grants to them here; those that apply come first.
    pub ways: Vec<Way>,
}

/// One grant in an explanation.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Way {
    /// The grant.
    pub grant: Uuid,
    /// The level.
    pub level: Level,
    /// The folder or credential that it is on.
    pub stands_on: String,
    /// The groups between the person and the grant.
    pub through: Vec<String>,
    /// Why it does not apply, if it does not.
    #[schema(required)]
    pub stopped: Option<String>,
}

//! Signing in, people, groups, password policies.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

use crate::SecretText;

/// Signs in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SignIn {
    /// The organisation; may be left out where there is only one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub organisation: Option<String>,
    /// The sign-in name.
    pub sign_in_name: String,
    /// The password.
    pub password: SecretText,
    /// `console` (the token comes as a cookie) or `client` (it comes in the answer).
    pub channel: String,
}

/// The answer to a sign-in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SignedIn {
    /// The bearer token, for clients.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token: Option<SecretText>,
    /// When the session ends at the latest.
    pub ends_at: DateTime<Utc>,
    /// Who is signed in.
    pub me: Me,
}

/// Who is signed in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Me {
    /// The person.
    pub id: Uuid,
    /// The sign-in name.
    pub sign_in_name: String,
    /// The name for people.
    pub display_name: String,
    /// The duties held.
    pub duties: Vec<String>,
    /// The organisation's name.
    pub organisation: String,
}

/// A person.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Person {
    /// Identifier.
    pub id: Uuid,
    /// The sign-in name.
    pub sign_in_name: String,
    /// The name for people.
    pub display_name: String,
    /// `invited`, `active`, `suspended` or `left`.
    pub state: String,
    /// Administrative rights over the product: `people`, `folders`, `policy`, `audit`.
    pub duties: Vec<String>,
    /// For `If-Match`.
    pub version: i32,
}

/// Adds a person.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewPerson {
    /// The sign-in name.
    pub sign_in_name: String,
    /// The name for people.
    pub display_name: String,
    /// A first password; without one the person is `invited` and cannot sign in yet.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<SecretText>,
    /// Duties.
    #[serde(default)]
    pub duties: Vec<String>,
}

/// Changes a person; what is left out stays.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct ChangePerson {
    /// The name for people.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub display_name: Option<String>,
    /// `active`, `suspended` or `left`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub state: Option<String>,
    /// Duties.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub duties: Option<Vec<String>>,
    /// A new password, set by somebody with the duty `people`; all sessions of the person end.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<SecretText>,
}

/// Changes one's own sign-in password.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ChangePassword {
    /// The present one.
    pub present: SecretText,
    /// The new one.
    pub new: SecretText,
}

/// A group.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Group {
    /// Identifier.
    pub id: Uuid,
    /// Its name.
    pub name: String,
    /// Its members.
    pub members: Vec<Member>,
    /// For `If-Match`.
    pub version: i32,
}

/// A member of a group.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Member {
    /// The person or group.
    pub id: Uuid,
    /// `person` or `group`.
    pub sort: String,
    /// Its name.
    pub name: String,
}

/// Adds or renames a group.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewGroup {
    /// Its name.
    pub name: String,
}

/// A password policy.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PasswordPolicy {
    /// Identifier.
    pub id: Uuid,
    /// Its name.
    pub name: String,
    /// Whether it counts where no other is named.
    pub is_default: bool,
    /// What it demands.
    #[schema(value_type = Object)]
    pub rules: jexlin_core::policy::PasswordPolicy,
    /// For `If-Match`.
    pub version: i32,
}

/// Adds or changes a password policy.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewPasswordPolicy {
    /// Its name.
    pub name: String,
    /// What it demands.
    #[schema(value_type = Object)]
    pub rules: jexlin_core::policy::PasswordPolicy,
}

/// A password that was generated and stored nowhere.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Generated {
    /// The password.
    pub password: SecretText,
}

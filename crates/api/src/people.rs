//! Signing in, people, groups, password policies.

use chrono::{DateTime, Utc};
use jexlin_core::auth::Channel;
use jexlin_core::people::{Duty, PersonState, PersonType, SubjectType};
use jexlin_core::policy::RuleMode;
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
    /// By what: for the console the token comes as a cookie, for the client in the answer.
    pub channel: Channel,
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
    pub duties: Vec<Duty>,
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
    /// A person, or a program that signs in.
    #[serde(rename = "type")]
    pub person_type: PersonType,
    /// Whether they can sign in.
    pub state: PersonState,
    /// The duties held.
    pub duties: Vec<Duty>,
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
    pub duties: Vec<Duty>,
}

/// Adds a client: a program that signs in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewClient {
    /// The name that it signs in with.
    pub name: String,
    /// The name for people.
    pub display_name: String,
}

/// A client and its secret, which is told this once.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ClientSecret {
    /// The client.
    pub client: Person,
    /// Its secret.
    pub secret: SecretText,
}

/// Changes a person; what is left out stays.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct EditPerson {
    /// The name for people.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub display_name: Option<String>,
    /// Whether they can sign in: `active`, `suspended` or `left`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub state: Option<PersonState>,
    /// Duties.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub duties: Option<Vec<Duty>>,
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
    /// What it is.
    #[serde(rename = "type")]
    pub subject_type: SubjectType,
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
    pub rules: jexlin_core::policy::PasswordPolicy,
}

/// A password that was generated and stored nowhere.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Generated {
    /// The password.
    pub password: SecretText,
}

/// Tries rules, or a password against them; nothing is stored.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TryPolicy {
    /// Rules that need not be stored; those of `policy`, or of the default policy, when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rules: Option<jexlin_core::policy::PasswordPolicy>,
    /// A stored policy.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub policy: Option<Uuid>,
    /// A password to look at.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<SecretText>,
    /// The name of the account that it would be for.
    #[serde(default)]
    pub user_name: String,
}

/// What trying came to.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Tried {
    /// The entropy of what is generated, in whole bits.
    pub bits: u32,
    /// Passwords that were made by the rules and are stored nowhere.
    pub samples: Vec<SecretText>,
    /// What the given password lacks.
    pub lacks: Vec<String>,
    /// The strength of the given password, 0 to 4.
    #[schema(required)]
    pub score: Option<u8>,
}

/// What a folder demands of the passwords in it and below.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PasswordRule {
    /// How the policies count.
    pub mode: RuleMode,
    /// The policies; for `advise` and `enforce` one.
    pub policies: Vec<Uuid>,
}

/// What counts for a folder, and from where.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PasswordRuleItem {
    /// The folder that it stands on.
    pub folder: Uuid,
    /// Its path.
    pub place: String,
    /// What it demands.
    #[serde(flatten)]
    pub rule: PasswordRule,
}

/// What an organisation has set.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SettingsItem {
    /// What is set, with the defaults of what is not.
    pub settings: jexlin_core::policy::settings::Settings,
    /// For `If-Match`.
    pub version: i32,
}

/// A tag, and how many credentials have it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TagItem {
    /// The tag.
    pub tag: String,
    /// How many that the asker may know of.
    pub times: i64,
}

/// A search that somebody saved for themselves.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SavedSearch {
    /// Identifier.
    pub id: Uuid,
    /// Its name.
    pub name: String,
    /// The parameters of the list, as in `GET /api/v1/credentials`.
    pub filters: std::collections::BTreeMap<String, String>,
}

/// Saves a search.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewSavedSearch {
    /// Its name.
    pub name: String,
    /// The parameters of the list.
    pub filters: std::collections::BTreeMap<String, String>,
}

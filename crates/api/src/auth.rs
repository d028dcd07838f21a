//! Signing in.

use chrono::{DateTime, Utc};
use jexlin_core::auth::Channel;
use jexlin_core::people::Duty;
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
    /// The channel: the console gets the token as a cookie, the client in the response.
    pub channel: Channel,
}

/// The response to a sign-in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SignedIn {
    /// The bearer token, for clients.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token: Option<SecretText>,
    /// The latest time at which the session ends.
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
    /// The display name.
    pub display_name: String,
    /// The duties held.
    pub duties: Vec<Duty>,
    /// The organisation's name.
    pub organisation: String,
}

/// A session that has not ended.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Session {
    /// Identifier.
    pub id: Uuid,
    /// The person.
    pub person: Uuid,
    /// Whether it is the session that asks.
    pub current: bool,
    /// The channel that it was begun through.
    pub channel: Channel,
    /// The address that it was begun from.
    pub origin: String,
    /// When it was begun.
    pub created_at: DateTime<Utc>,
    /// When it was used last, to the minute.
    pub last_used_at: DateTime<Utc>,
    /// The latest time at which it ends.
    pub ends_at: DateTime<Utc>,
}

/// How many sessions were ended.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct SessionsEnded {
    /// The number.
    pub ended: usize,
}

/// Changes the caller's sign-in password.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ChangePassword {
    /// The current password.
    pub present: SecretText,
    /// The new password.
    pub new: SecretText,
}

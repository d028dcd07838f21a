//! Secrets in requests and responses.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use zeroize::Zeroize;

/// A secret on its way: it does not print, and is wiped when dropped.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(transparent)]
#[schema(value_type = String, format = Password)]
pub struct SecretText(String);

impl SecretText {
    /// Takes over a text.
    #[must_use]
    pub const fn new(text: String) -> Self {
        Self(text)
    }

    /// The text itself; call this at the last moment.
    #[must_use]
    pub fn expose_secret(&self) -> &str {
        &self.0
    }
}

impl Drop for SecretText {
    fn drop(&mut self) {
        self.0.zeroize();
    }
}

impl std::fmt::Debug for SecretText {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("SecretText(…)")
    }
}

//! The type every secret travels in (promise 6).
//!
//! It has no `Display`, no `Serialize` and no `PartialEq`; its `Debug` shows nothing; its bytes
//! are wiped when it is dropped. Reading it goes through one method with a loud name, so that
//! every reader can be found by searching for it.

use subtle::ConstantTimeEq;
use zeroize::Zeroizing;

/// A secret: a password, a key, a token, a passphrase.
pub struct Secret(Zeroizing<Vec<u8>>);

impl Secret {
    /// Takes over bytes; the vector is wiped when the secret is dropped.
    #[must_use]
    pub fn from_bytes(bytes: Vec<u8>) -> Self {
        Self(Zeroizing::new(bytes))
    }

    /// Takes over a text.
    #[must_use]
    pub fn from_text(text: String) -> Self {
        Self(Zeroizing::new(text.into_bytes()))
    }

    /// The bytes themselves. Call this at the last moment, and never to log, format or store them.
    #[must_use]
    pub fn expose_secret(&self) -> &[u8] {
        &self.0
    }

    /// The text itself, for passwords that go to a device.
    ///
    /// # Errors
    /// When the secret is no UTF-8; the error does not repeat it.
    pub fn expose_secret_text(&self) -> Result<&str, NotText> {
        std::str::from_utf8(&self.0).map_err(|_| NotText)
    }

    /// Whether two secrets are the same, in constant time for equal lengths.
    #[must_use]
    pub fn same_as(&self, other: &Self) -> bool {
        self.0.as_slice().ct_eq(other.0.as_slice()).into()
    }

    /// The length in bytes.
    #[must_use]
    pub fn len(&self) -> usize {
        self.0.len()
    }

    /// Whether it is empty.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}

impl Clone for Secret {
    fn clone(&self) -> Self {
        Self(Zeroizing::new(self.0.to_vec()))
    }
}

impl std::fmt::Debug for Secret {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Secret(…)")
    }
}

/// The secret is no text.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("the secret is not valid UTF-8")]
pub struct NotText;

/// Removes a secret from a text that a device said, before the text goes anywhere.
///
/// A device may echo what it was sent. Secrets shorter than four bytes are not searched for, since
/// that would blank half of every message without hiding anything.
#[must_use]
pub fn redact(text: &str, secrets: &[&Secret]) -> String {
    let mut out = text.to_owned();
    for secret in secrets {
        if let Ok(plain) = secret.expose_secret_text()
            && plain.len() >= 4
        {
            out = out.replace(plain, "•••");
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_secret_does_not_print() {
        let secret = Secret::from_text("winter-tide-41".into());
        assert_eq!(format!("{secret:?}"), "Secret(…)");
        assert_eq!(format!("{:?}", Some(&secret)), "Some(Secret(…))");
    }

    #[test]
    fn what_a_device_echoes_is_blanked() {
        let secret = Secret::from_text("winter-tide-41".into());
        assert_eq!(
            redact("bad password: winter-tide-41 is too simple", &[&secret]),
            "bad password: ••• is too simple"
        );
    }

    #[test]
    fn sameness_is_of_bytes() {
        let a = Secret::from_text("abc".into());
        assert!(a.same_as(&Secret::from_bytes(b"abc".to_vec())));
        assert!(!a.same_as(&Secret::from_text("abd".into())));
        assert!(!a.same_as(&Secret::from_text("abcd".into())));
    }
}

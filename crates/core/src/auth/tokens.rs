//! The tokens of sessions and the secrets of clients.

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use rand::CryptoRng;
use sha2::{Digest, Sha256};
use uuid::Uuid;

use crate::secret::Secret;

/// A new token: the organisation's identifier, so that the service knows where to look, and 32
/// random bytes, of which only the hash is stored.
pub fn new_token(rng: &mut dyn CryptoRng, organisation: Uuid) -> (Secret, [u8; 32]) {
    let mut random = [0; 32];
    rng.fill_bytes(&mut random);
    let text = format!(
        "jx1.{}.{}",
        URL_SAFE_NO_PAD.encode(organisation.as_bytes()),
        URL_SAFE_NO_PAD.encode(random)
    );
    let hash = Sha256::digest(text.as_bytes()).into();
    (Secret::from_text(text), hash)
}

/// The organisation that a token names, and the hash to look it up by.
#[must_use]
pub fn read_token(token: &str) -> Option<(Uuid, [u8; 32])> {
    let mut parts = token.strip_prefix("jx1.")?.split('.');
    let organisation = URL_SAFE_NO_PAD.decode(parts.next()?).ok()?;
    let random = URL_SAFE_NO_PAD.decode(parts.next()?).ok()?;
    if parts.next().is_some() || random.len() != 32 {
        return None;
    }
    Some((
        Uuid::from_slice(&organisation).ok()?,
        Sha256::digest(token.as_bytes()).into(),
    ))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_token_names_its_organisation_and_nothing_else_reads_as_one() {
        let organisation = Uuid::from_u128(7);
        let (token, hash) = new_token(&mut rand::rng(), organisation);
        let text = token.expose_secret_text().unwrap();
        assert_eq!(read_token(text), Some((organisation, hash)));
        for broken in [
            "",
            "jx1.",
            "jx1.x.y",
            &text[1..],
            &format!("{text}.more"),
            &text[..text.len() - 3],
        ] {
            assert_eq!(read_token(broken), None, "{broken}");
        }
    }
}

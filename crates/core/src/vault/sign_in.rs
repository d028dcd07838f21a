//! People's sign-in passwords (Argon2id, PHC strings) and the tokens of their sessions.

use argon2::password_hash::phc::{PasswordHash, Salt};
use argon2::password_hash::{CustomizedPasswordHasher, PasswordVerifier};
use argon2::{Algorithm, Argon2, Params, Version};
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use rand::CryptoRng;
use sha2::{Digest, Sha256};
use uuid::Uuid;

use crate::secret::Secret;

/// The shortest sign-in password, in characters.
pub const SHORTEST_PASSWORD: usize = 12;
/// The longest sign-in password, in bytes, so that hashing is bounded.
pub const LONGEST_PASSWORD: usize = 1024;

/// Checks a new sign-in password.
///
/// # Errors
/// A sentence that says what is missing.
pub fn check_password(password: &Secret) -> Result<(), String> {
    let text = password
        .expose_secret_text()
        .map_err(|_| "the password is not valid UTF-8".to_owned())?;
    let length = text.chars().count();
    if length < SHORTEST_PASSWORD {
        return Err(format!(
            "the password has {length} characters; at least {SHORTEST_PASSWORD} are needed"
        ));
    }
    if text.len() > LONGEST_PASSWORD {
        return Err(format!(
            "the password has {} bytes; at most {LONGEST_PASSWORD} are possible",
            text.len()
        ));
    }
    if text.chars().any(char::is_control) {
        return Err("the password holds a control character".to_owned());
    }
    Ok(())
}

/// The PHC string of a password: Argon2id with 19 MiB and two passes (OWASP's first choice).
///
/// # Errors
/// A sentence; does not happen for passwords that pass [`check_password`].
pub fn hash_password(rng: &mut dyn CryptoRng, password: &Secret) -> Result<String, String> {
    let mut salt = [0; 16];
    rng.fill_bytes(&mut salt);
    let salt = Salt::new(&salt).map_err(|_| "the password cannot be hashed".to_owned())?;
    let hash: PasswordHash = Argon2::new(Algorithm::Argon2id, Version::V0x13, Params::DEFAULT)
        .hash_password_with_params(password.expose_secret(), &salt, Params::DEFAULT)
        .map_err(|_| "the password cannot be hashed".to_owned())?;
    Ok(hash.to_string())
}

/// Whether a password is the one of a PHC string.
#[must_use]
pub fn verify_password(phc: &str, password: &Secret) -> bool {
    PasswordHash::new(phc).is_ok_and(|hash| {
        Argon2::default()
            .verify_password(password.expose_secret(), &hash)
            .is_ok()
    })
}

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
    fn a_password_is_verified_by_its_phc_string() {
        let password = Secret::from_text("nine pumps and a weir".into());
        let phc = hash_password(&mut rand::rng(), &password).unwrap();
        assert!(phc.starts_with("$argon2id$v=19$m=19456,t=2,p=1$"), "{phc}");
        assert!(verify_password(&phc, &password));
        assert!(!verify_password(
            &phc,
            &Secret::from_text("nine pumps and a wier".into())
        ));
        assert!(!verify_password("not a hash", &password));
    }

    #[test]
    fn short_long_and_odd_passwords_are_refused() {
        assert!(check_password(&Secret::from_text("short".into())).is_err());
        assert!(check_password(&Secret::from_text("x".repeat(1025))).is_err());
        assert!(check_password(&Secret::from_text("with a bell \u{7} in it".into())).is_err());
        assert!(check_password(&Secret::from_bytes(vec![0xff; 20])).is_err());
        assert!(check_password(&Secret::from_text("nine pumps and a weir".into())).is_ok());
    }

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

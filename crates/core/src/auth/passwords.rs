//! People's sign-in passwords: Argon2id, PHC strings.

use argon2::password_hash::phc::{PasswordHash, Salt};
use argon2::password_hash::{CustomizedPasswordHasher, PasswordVerifier};
use argon2::{Algorithm, Argon2, Params, Version};
use rand::CryptoRng;

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
        return Err("the password contains a control character".to_owned());
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
}

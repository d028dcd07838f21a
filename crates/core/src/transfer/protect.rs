//! Encryption of exports, in the age format (age-encryption.org/v1): any age program opens it.

use std::io::Write as _;
use std::str::FromStr as _;

use age::secrecy::SecretString;
use age::{Encryptor, Recipient, x25519};

use crate::secret::Secret;

/// Who can open it.
#[derive(Debug)]
pub enum Protection {
    /// Whoever has the key of one of these recipients (`age1…`).
    Recipients(Vec<String>),
    /// Whoever knows the passphrase.
    Passphrase(Secret),
}

/// The fewest characters of a passphrase.
const SHORTEST: usize = 12;

/// Encrypts bytes.
///
/// # Errors
/// A sentence about the recipient or the passphrase.
pub fn protect(bytes: &[u8], protection: &Protection) -> Result<Vec<u8>, String> {
    let encryptor = match protection {
        Protection::Recipients(all) => {
            let read = |text: &String| {
                x25519::Recipient::from_str(text.trim())
                    .map_err(|_| format!("“{text}” is not an age recipient; one begins with age1"))
            };
            let recipients = all.iter().map(read).collect::<Result<Vec<_>, _>>()?;
            let each = recipients.iter().map(|recipient| {
                let recipient: &dyn Recipient = recipient;
                recipient
            });
            Encryptor::with_recipients(each).map_err(|_| "there is no recipient".to_owned())?
        }
        Protection::Passphrase(passphrase) => {
            let text = passphrase
                .expose_secret_text()
                .map_err(|_| "the passphrase is not valid UTF-8".to_owned())?;
            if text.chars().count() < SHORTEST {
                return Err(format!(
                    "the passphrase is shorter than {SHORTEST} characters"
                ));
            }
            Encryptor::with_user_passphrase(SecretString::from(text.to_owned()))
        }
    };
    let mut out = vec![];
    let written = encryptor.wrap_output(&mut out).and_then(|mut writer| {
        writer.write_all(bytes)?;
        writer.finish()
    });
    written.map_err(|error| error.to_string())?;
    Ok(out)
}

#[cfg(test)]
mod tests {
    use std::io::Read as _;

    use super::*;

    #[test]
    fn whoever_has_the_key_opens_it_and_nobody_else() {
        let (ours, other) = (x25519::Identity::generate(), x25519::Identity::generate());
        let sealed = protect(
            b"name,password",
            &Protection::Recipients(vec![ours.to_public().to_string()]),
        )
        .unwrap();
        assert!(
            sealed.starts_with(b"age-encryption.org/v1")
                && !sealed.windows(8).any(|part| part == b"password")
        );
        let open = |identity: &x25519::Identity| {
            let mut text = vec![];
            age::Decryptor::new(&sealed[..])
                .unwrap()
                .decrypt(std::iter::once(identity as &dyn age::Identity))
                .map(|mut reader| reader.read_to_end(&mut text).unwrap())
                .ok()?;
            Some(text)
        };
        assert_eq!(open(&ours).as_deref(), Some(&b"name,password"[..]));
        assert_eq!(open(&other), None);
    }

    #[test]
    fn what_protects_nothing_is_refused() {
        let refused = |protection| protect(b"x", &protection).unwrap_err();
        assert!(refused(Protection::Recipients(vec![])).contains("no recipient"));
        assert!(refused(Protection::Recipients(vec!["age1x".into()])).contains("age1x"));
        assert!(
            refused(Protection::Passphrase(Secret::from_text("short".into()))).contains("shorter")
        );
    }
}

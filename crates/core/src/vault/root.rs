//! The root key and the file it waits in.
//!
//! The file is JSON of our own, described in `docs/operations.md`: the key is sealed with
//! AES-256-GCM under a key that Argon2id (RFC 9106) derives from the passphrase. Every parameter
//! stands in the file and is part of the associated data, so none can be weakened unseen.

use argon2::{Algorithm, Argon2, Params, Version};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use rand::CryptoRng;
use serde::{Deserialize, Serialize};

use super::envelope::Key;
use crate::secret::Secret;

const FORMAT: &str = "jexlin root key 1";
/// 64 MiB, three passes, one lane.
const COST: (u32, u32, u32) = (65_536, 3, 1);

/// The key that opens the organisation keys.
#[derive(Clone, Debug)]
pub struct RootKey(Key);

/// Why a root key file does not open.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum RootKeyProblem {
    /// Not a root key file.
    #[error("this is not a root key file: {0}")]
    NoFile(&'static str),
    /// Not the passphrase, or the file was changed.
    #[error("the passphrase does not open this root key file")]
    Refused,
    /// The passphrase is too short to protect anything.
    #[error("the passphrase has {0} characters; at least 12 are needed")]
    TooShort(usize),
}

#[derive(Serialize, Deserialize)]
struct File {
    format: String,
    kdf: String,
    memory_kib: u32,
    passes: u32,
    lanes: u32,
    salt: String,
    /// Which key it is; missing in files from before keys had names.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    key: String,
    sealed: String,
}

impl RootKey {
    /// A new random root key.
    pub fn generate(rng: &mut dyn CryptoRng) -> Self {
        Self(Key::generate(rng))
    }

    pub(super) const fn key(&self) -> &Key {
        &self.0
    }

    /// Which root key it is: 16 hexadecimal digits that tell nothing of the key itself.
    #[must_use]
    pub fn name(&self) -> String {
        self.0
            .mac(&[b"jexlin root key name\0"])
            .iter()
            .take(8)
            .map(|byte| format!("{byte:02x}"))
            .collect()
    }

    /// Which root key a file says that it holds. Only opening it proves that.
    #[must_use]
    pub fn name_in(file: &str) -> Option<String> {
        serde_json::from_str::<File>(file)
            .ok()
            .map(|file| file.key)
            .filter(|name| !name.is_empty())
    }

    /// The file's text, protected by a passphrase.
    ///
    /// # Errors
    /// [`RootKeyProblem::TooShort`] for a passphrase under 12 characters.
    pub fn protect(
        &self,
        rng: &mut dyn CryptoRng,
        passphrase: &Secret,
    ) -> Result<String, RootKeyProblem> {
        let length = passphrase
            .expose_secret_text()
            .map_or(passphrase.len(), |text| text.chars().count());
        if length < 12 {
            return Err(RootKeyProblem::TooShort(length));
        }
        let mut salt = [0; 16];
        rng.fill_bytes(&mut salt);
        let mut file = File {
            format: FORMAT.into(),
            kdf: "argon2id".into(),
            memory_kib: COST.0,
            passes: COST.1,
            lanes: COST.2,
            salt: STANDARD.encode(salt),
            key: self.name(),
            sealed: String::new(),
        };
        let sealed = file
            .derive(passphrase)?
            .seal(rng, file.aad().as_bytes(), self.0.expose_key())
            .map_err(|_| RootKeyProblem::Refused)?;
        file.sealed = STANDARD.encode(sealed);
        serde_json::to_string_pretty(&file)
            .map_err(|_| RootKeyProblem::NoFile("it cannot be written"))
    }

    /// Opens a file with its passphrase.
    ///
    /// # Errors
    /// [`RootKeyProblem`].
    pub fn unprotect(file: &str, passphrase: &Secret) -> Result<Self, RootKeyProblem> {
        let file: File = serde_json::from_str(file)
            .map_err(|_| RootKeyProblem::NoFile("its JSON does not have the expected form"))?;
        if file.format != FORMAT || file.kdf != "argon2id" {
            return Err(RootKeyProblem::NoFile("its format is unknown"));
        }
        let sealed = STANDARD
            .decode(&file.sealed)
            .map_err(|_| RootKeyProblem::NoFile("its key is not base64"))?;
        let plain = file
            .derive(passphrase)?
            .open(file.aad().as_bytes(), &sealed)
            .map_err(|_| RootKeyProblem::Refused)?;
        let key = plain
            .expose_secret()
            .try_into()
            .map(|bytes| Self(Key::from_bytes(bytes)))
            .map_err(|_| RootKeyProblem::Refused)?;
        if !file.key.is_empty() && file.key != key.name() {
            return Err(RootKeyProblem::Refused);
        }
        Ok(key)
    }

    /// Reads a bare key, 32 bytes as base64, as the service manager's credential folder holds it.
    ///
    /// # Errors
    /// [`RootKeyProblem::NoFile`].
    pub fn from_credential(text: &str) -> Result<Self, RootKeyProblem> {
        let bytes = STANDARD
            .decode(text.trim())
            .map_err(|_| RootKeyProblem::NoFile("the key is not base64"))?;
        bytes
            .as_slice()
            .try_into()
            .map(|bytes| Self(Key::from_bytes(bytes)))
            .map_err(|_| RootKeyProblem::NoFile("the key does not have 32 bytes"))
    }

    /// The bare key for the service manager's credential folder. Whoever holds this holds
    /// everything.
    #[must_use]
    pub fn expose_credential(&self) -> Secret {
        Secret::from_text(STANDARD.encode(self.0.expose_key()))
    }
}

impl File {
    fn aad(&self) -> String {
        format!(
            "{}|{}|{}|{}|{}|{}",
            self.format, self.kdf, self.memory_kib, self.passes, self.lanes, self.salt
        )
    }

    fn derive(&self, passphrase: &Secret) -> Result<Key, RootKeyProblem> {
        // A file may have been made elsewhere; its costs are bounded so that it cannot exhaust the
        // machine.
        if self.memory_kib > 1_048_576 || self.passes > 32 || self.lanes > 16 {
            return Err(RootKeyProblem::NoFile("its cost is out of bounds"));
        }
        let salt = STANDARD
            .decode(&self.salt)
            .map_err(|_| RootKeyProblem::NoFile("its salt is not base64"))?;
        let params = Params::new(self.memory_kib, self.passes, self.lanes, Some(32))
            .map_err(|_| RootKeyProblem::NoFile("its cost is out of bounds"))?;
        let mut out = [0; 32];
        Argon2::new(Algorithm::Argon2id, Version::V0x13, params)
            .hash_password_into(passphrase.expose_secret(), &salt, &mut out)
            .map_err(|_| RootKeyProblem::NoFile("its salt is too short"))?;
        Ok(Key::from_bytes(out))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn phrase(text: &str) -> Secret {
        Secret::from_text(text.into())
    }

    #[test]
    fn a_file_says_which_key_it_holds_and_is_refused_when_that_is_wrong() {
        let mut rng = rand::rng();
        let root = RootKey::generate(&mut rng);
        let file = root
            .protect(&mut rng, &phrase("nine pumps and a weir"))
            .unwrap();
        assert_eq!(
            (RootKey::name_in(&file), root.name().len()),
            (Some(root.name()), 16)
        );
        assert_ne!(root.name(), RootKey::generate(&mut rng).name());
        let renamed = file.replace(&root.name(), "0123456789abcdef");
        assert_eq!(
            RootKey::unprotect(&renamed, &phrase("nine pumps and a weir")).unwrap_err(),
            RootKeyProblem::Refused
        );
        // A file from before keys had names.
        let older = file.replace(&format!("  \"key\": \"{}\",\n", root.name()), "");
        assert_eq!(RootKey::name_in(&older), None);
        assert_eq!(
            RootKey::unprotect(&older, &phrase("nine pumps and a weir"))
                .unwrap()
                .name(),
            root.name()
        );
    }

    #[test]
    fn only_the_passphrase_opens_the_file() {
        let mut rng = rand::rng();
        let root = RootKey::generate(&mut rng);
        let file = root
            .protect(&mut rng, &phrase("nine pumps and a weir"))
            .unwrap();
        let again = RootKey::unprotect(&file, &phrase("nine pumps and a weir")).unwrap();
        assert_eq!(again.0.expose_key(), root.0.expose_key());
        assert_eq!(
            RootKey::unprotect(&file, &phrase("nine pumps and a wier")).unwrap_err(),
            RootKeyProblem::Refused
        );
    }

    #[test]
    fn a_weakened_or_costly_file_is_refused() {
        let mut rng = rand::rng();
        let file = RootKey::generate(&mut rng)
            .protect(&mut rng, &phrase("nine pumps and a weir"))
            .unwrap();
        let weaker = file.replace("\"passes\": 3", "\"passes\": 1");
        assert_ne!(weaker, file);
        assert_eq!(
            RootKey::unprotect(&weaker, &phrase("nine pumps and a weir")).unwrap_err(),
            RootKeyProblem::Refused
        );
        let costly = file.replace("65536", "4000000000");
        assert!(matches!(
            RootKey::unprotect(&costly, &phrase("nine pumps and a weir")),
            Err(RootKeyProblem::NoFile(_))
        ));
        assert!(matches!(
            RootKey::unprotect("{}", &phrase("x")),
            Err(RootKeyProblem::NoFile(_))
        ));
    }

    #[test]
    fn a_short_passphrase_is_refused() {
        let mut rng = rand::rng();
        assert_eq!(
            RootKey::generate(&mut rng)
                .protect(&mut rng, &phrase("short"))
                .unwrap_err(),
            RootKeyProblem::TooShort(5)
        );
    }

    #[test]
    fn a_bare_key_goes_there_and_back() {
        let root = RootKey::generate(&mut rand::rng());
        let text = root.expose_credential();
        let again = RootKey::from_credential(text.expose_secret_text().unwrap()).unwrap();
        assert_eq!(again.0.expose_key(), root.0.expose_key());
        assert!(RootKey::from_credential("c2hvcnQ=").is_err());
    }
}

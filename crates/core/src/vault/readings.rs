//! Keys and certificates that people bring are read in one process and used in another: what reads
//! them is handed to whoever needs what they say.
//!
//! A service does not parse them itself. A process of its own does, within limits, and sends back
//! [`Readings`]; a text that is not among them is refused, so that no way in goes round the limits.

use std::collections::HashMap;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD_NO_PAD;
use serde::{Deserialize, Serialize};
use sha2::{Digest as _, Sha256};
use zeroize::Zeroizing;

use super::certificates::Certificate;
use super::facts::Facts;
use super::ssh_keys::SshKey;

/// By this keys and certificates in PEM (RFC 7468) begin. A text without it is neither, and saying
/// so takes no parser.
pub const PEM_BEGINS: &str = "-----BEGIN";

/// An SSH private key that was read.
#[derive(Clone, Serialize, Deserialize)]
pub struct KeyRead {
    /// The text in which it is kept: OpenSSH's form.
    pub text: Zeroizing<String>,
    /// What may be known of it, as [`SshKey::facts`] says it.
    pub facts: Facts,
    /// It in PKCS#8 (RFC 5958, DER); nothing for one with a passphrase.
    pub pkcs8: Option<Zeroizing<Vec<u8>>>,
    /// Its comment.
    pub comment: String,
}

impl std::fmt::Debug for KeyRead {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("KeyRead")
            .field("facts", &self.facts)
            .finish_non_exhaustive()
    }
}

impl From<SshKey> for KeyRead {
    fn from(key: SshKey) -> Self {
        let (facts, pkcs8, comment) = (key.facts(), key.to_pkcs8(), key.comment());
        let text = key.into_text();
        Self {
            text: Zeroizing::new(text.expose_secret_text().unwrap_or_default().to_owned()),
            facts,
            pkcs8,
            comment,
        }
    }
}

/// Something that can say what a key or a certificate holds.
pub trait KeyReader {
    /// Reads a certificate.
    ///
    /// # Errors
    /// A sentence.
    fn certificate(&self, text: &str) -> Result<Certificate, String>;

    /// Reads an SSH private key.
    ///
    /// # Errors
    /// A sentence that does not repeat it.
    fn ssh_key(&self, text: &str) -> Result<KeyRead, String>;
}

/// Parses where it is called: in a process with limits, or in a test.
#[derive(Clone, Copy, Debug)]
pub struct Parser;

impl KeyReader for Parser {
    fn certificate(&self, text: &str) -> Result<Certificate, String> {
        Certificate::parse(text.trim())
    }

    fn ssh_key(&self, text: &str) -> Result<KeyRead, String> {
        SshKey::parse(text.trim())
            .map(KeyRead::from)
            .map_err(|problem| problem.to_string())
    }
}

#[derive(Clone, Debug, Serialize, Deserialize)]
struct Reading {
    certificate: Result<Certificate, String>,
    ssh_key: Result<KeyRead, String>,
}

/// What was read, by the SHA-256 of each text.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct Readings(HashMap<String, Reading>);

fn name_of(text: &str) -> String {
    STANDARD_NO_PAD.encode(Sha256::digest(text.trim()))
}

impl Readings {
    /// Parses a text as what it could be and keeps what comes out. Texts that hold neither a key
    /// nor a certificate are passed over.
    pub fn parse(&mut self, text: &str) {
        if text.contains(PEM_BEGINS) {
            self.0.entry(name_of(text)).or_insert_with(|| Reading {
                certificate: Parser.certificate(text),
                ssh_key: Parser.ssh_key(text),
            });
        }
    }

    /// Whether this text is among them.
    #[must_use]
    pub fn has(&self, text: &str) -> bool {
        self.0.contains_key(&name_of(text))
    }

    /// How many there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.0.len()
    }

    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Those of these texts that are among them.
    #[must_use]
    pub fn only(&self, texts: &[&str]) -> Self {
        let of = |text: &&str| {
            self.0
                .get_key_value(&name_of(text))
                .map(|(name, reading)| (name.clone(), reading.clone()))
        };
        Self(texts.iter().filter_map(of).collect())
    }

    /// Those that are certificates, and so hold nothing secret.
    #[must_use]
    pub fn certificates(&self) -> Self {
        let certificates = self
            .0
            .iter()
            .filter(|(_, reading)| reading.certificate.is_ok());
        Self(
            certificates
                .map(|(name, reading)| (name.clone(), reading.clone()))
                .collect(),
        )
    }

    /// Takes over what another reader found.
    pub fn extend(&mut self, others: Self) {
        self.0.extend(others.0);
    }

    fn of(&self, text: &str) -> Result<&Reading, String> {
        self.0.get(&name_of(text)).ok_or_else(|| {
            "it has not been read within the limits for keys and certificates".to_owned()
        })
    }
}

impl KeyReader for Readings {
    fn certificate(&self, text: &str) -> Result<Certificate, String> {
        if text.contains(PEM_BEGINS) {
            self.of(text)?.certificate.clone()
        } else {
            Parser.certificate(text)
        }
    }

    fn ssh_key(&self, text: &str) -> Result<KeyRead, String> {
        if text.contains(PEM_BEGINS) {
            self.of(text)?.ssh_key.clone()
        } else {
            Parser.ssh_key(text)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const WEIR: &str = include_str!("testdata/weir.pem");

    #[test]
    fn what_was_not_read_is_refused_and_what_was_says_the_same_in_another_process() {
        let mut readings = Readings::default();
        assert!(
            readings
                .certificate(WEIR)
                .unwrap_err()
                .contains("within the limits")
        );
        assert!(
            readings
                .ssh_key(WEIR)
                .unwrap_err()
                .contains("within the limits")
        );
        readings.parse(WEIR);
        readings.parse("Winter-tide-41");
        assert!(readings.has(WEIR) && readings.has(WEIR.trim()) && !readings.has("Winter-tide-41"));
        let sent: Readings =
            serde_json::from_slice(&serde_json::to_vec(&readings).unwrap()).unwrap();
        assert_eq!(sent.certificate(WEIR), Certificate::parse(WEIR));
        assert_eq!(
            sent.ssh_key(WEIR).unwrap_err(),
            SshKey::parse(WEIR).unwrap_err().to_string()
        );
        assert!(
            sent.certificate("no certificate")
                .unwrap_err()
                .contains("begins with")
        );
    }

    #[test]
    fn a_key_that_was_read_is_the_same_key_and_does_not_print() {
        let key = SshKey::generate(&mut rand::rng(), "ed25519", "weir").unwrap();
        let (facts, pkcs8) = (key.facts(), key.to_pkcs8());
        let text = key.into_text();
        let mut readings = Readings::default();
        readings.parse(text.expose_secret_text().unwrap());
        let sent: Readings =
            serde_json::from_slice(&serde_json::to_vec(&readings).unwrap()).unwrap();
        let read = sent.ssh_key(text.expose_secret_text().unwrap()).unwrap();
        assert_eq!(
            (
                read.facts.clone(),
                read.pkcs8.clone(),
                read.comment.as_str()
            ),
            (facts, pkcs8, "weir")
        );
        assert_eq!(*read.text, text.expose_secret_text().unwrap());
        assert!(!format!("{sent:?}").contains("OPENSSH"));
        readings.parse(WEIR);
        let public = readings.certificates();
        assert!(public.has(WEIR) && public.len() == 1 && readings.len() == 2 && !public.is_empty());
        assert!(readings.only(&[WEIR, "no certificate"]).has(WEIR));
    }
}

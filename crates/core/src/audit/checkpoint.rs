//! Signed checkpoints: C2SP tlog-checkpoint in the C2SP signed-note format, Ed25519.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use ed25519_dalek::{Signature, Signer as _, SigningKey, VerifyingKey};
use sha2::{Digest, Sha256};

use super::tree::Hash;

/// The algorithm byte of Ed25519 in a signed note's key.
const ED25519: u8 = 1;

/// The size and root of a log at a moment.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Checkpoint {
    /// The log's name: a URL without a scheme.
    pub origin: String,
    /// How many events it has.
    pub size: u64,
    /// The root of its tree.
    pub root: Hash,
}

/// Why a checkpoint does not count.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum CheckpointProblem {
    /// Not a signed note.
    #[error("this is not a signed checkpoint: {0}")]
    Malformed(&'static str),
    /// Of another log or key.
    #[error("the checkpoint is of another log or signed with another key")]
    OtherKey,
    /// The signature is wrong.
    #[error("the checkpoint's signature is wrong")]
    Forged,
    /// The text is no verifier key.
    #[error("this is not the public key of an audit log: {0}")]
    NoKey(&'static str),
}

impl Checkpoint {
    /// The text that is signed.
    #[must_use]
    pub fn body(&self) -> String {
        format!(
            "{}\n{}\n{}\n",
            self.origin,
            self.size,
            STANDARD.encode(self.root)
        )
    }

    fn parse(body: &str) -> Result<Self, CheckpointProblem> {
        let mut lines = body.lines();
        let origin = lines
            .next()
            .filter(|line| !line.is_empty())
            .ok_or(CheckpointProblem::Malformed("it has no origin"))?;
        let size = lines
            .next()
            .and_then(|line| line.parse().ok())
            .ok_or(CheckpointProblem::Malformed("it has no size"))?;
        let root = lines
            .next()
            .and_then(|line| STANDARD.decode(line).ok())
            .and_then(|root| root.try_into().ok());
        let root = root.ok_or(CheckpointProblem::Malformed("it has no root"))?;
        Ok(Self {
            origin: origin.to_owned(),
            size,
            root,
        })
    }
}

/// The private half: signs checkpoints of one log.
pub struct Signer {
    origin: String,
    key: SigningKey,
}

impl std::fmt::Debug for Signer {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Signer({})", self.origin)
    }
}

impl Signer {
    /// A signer of a log from its 32 bytes of seed.
    #[must_use]
    pub fn new(origin: &str, seed: &[u8; 32]) -> Self {
        Self {
            origin: origin.to_owned(),
            key: SigningKey::from_bytes(seed),
        }
    }

    /// The public half.
    #[must_use]
    pub fn verifier(&self) -> Verifier {
        Verifier {
            origin: self.origin.clone(),
            key: self.key.verifying_key(),
        }
    }

    /// The signed note of a checkpoint.
    #[must_use]
    pub fn sign(&self, size: u64, root: Hash) -> String {
        let body = Checkpoint {
            origin: self.origin.clone(),
            size,
            root,
        }
        .body();
        let signature = self.key.sign(body.as_bytes());
        let tagged = [self.verifier().key_id().as_slice(), &signature.to_bytes()].concat();
        format!("{body}\n— {} {}\n", self.origin, STANDARD.encode(tagged))
    }
}

/// The public half: verifies checkpoints of one log.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Verifier {
    origin: String,
    key: VerifyingKey,
}

impl Verifier {
    /// The log's name.
    #[must_use]
    pub fn origin(&self) -> &str {
        &self.origin
    }

    fn key_id(&self) -> [u8; 4] {
        let hash = Sha256::new()
            .chain_update(self.origin.as_bytes())
            .chain_update([b'\n', ED25519])
            .chain_update(self.key.as_bytes())
            .finalize();
        let mut id = [0; 4];
        id.iter_mut().zip(hash).for_each(|(to, from)| *to = from);
        id
    }

    /// The verifier key as a signed note writes it: `name+hash+base64`.
    #[must_use]
    pub fn to_text(&self) -> String {
        let id: String = self
            .key_id()
            .iter()
            .map(|byte| format!("{byte:02x}"))
            .collect();
        let key = [&[ED25519], self.key.as_bytes().as_slice()].concat();
        format!("{}+{id}+{}", self.origin, STANDARD.encode(key))
    }

    /// Reads a verifier key.
    ///
    /// # Errors
    /// [`CheckpointProblem::NoKey`].
    pub fn parse(text: &str) -> Result<Self, CheckpointProblem> {
        let mut parts = text.trim().splitn(3, '+');
        let (Some(origin), Some(id), Some(key)) = (parts.next(), parts.next(), parts.next()) else {
            return Err(CheckpointProblem::NoKey(
                "it does not have the form name+hash+key",
            ));
        };
        let key = STANDARD
            .decode(key)
            .map_err(|_| CheckpointProblem::NoKey("the key is not base64"))?;
        let Some((&ED25519, key)) = key.split_first() else {
            return Err(CheckpointProblem::NoKey("the algorithm is not Ed25519"));
        };
        let key = key
            .try_into()
            .ok()
            .and_then(|key| VerifyingKey::from_bytes(key).ok())
            .ok_or(CheckpointProblem::NoKey("the key is malformed"))?;
        let verifier = Self {
            origin: origin.to_owned(),
            key,
        };
        let expected: String = verifier
            .key_id()
            .iter()
            .map(|byte| format!("{byte:02x}"))
            .collect();
        if expected != id {
            return Err(CheckpointProblem::NoKey(
                "the hash does not match the name and the key; part of it is missing or changed",
            ));
        }
        Ok(verifier)
    }

    /// Checks a signed note and returns what it says. There is no other way to get at the content.
    ///
    /// # Errors
    /// [`CheckpointProblem`].
    pub fn open(&self, note: &str) -> Result<Checkpoint, CheckpointProblem> {
        let (body, signatures) = note
            .split_once("\n\n")
            .ok_or(CheckpointProblem::Malformed("it has no signature"))?;
        let body = format!("{body}\n");
        let checkpoint = Checkpoint::parse(&body)?;
        if checkpoint.origin != self.origin {
            return Err(CheckpointProblem::OtherKey);
        }
        let prefix = format!("— {} ", self.origin);
        for line in signatures.lines() {
            let Some(tagged) = line
                .strip_prefix(&prefix)
                .and_then(|text| STANDARD.decode(text).ok())
            else {
                continue;
            };
            let Some((id, signature)) = tagged.split_first_chunk::<4>() else {
                continue;
            };
            if *id != self.key_id() {
                continue;
            }
            let signature =
                Signature::from_slice(signature).map_err(|_| CheckpointProblem::Forged)?;
            return self
                .key
                .verify_strict(body.as_bytes(), &signature)
                .map(|()| checkpoint)
                .map_err(|_| CheckpointProblem::Forged);
        }
        Err(CheckpointProblem::OtherKey)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn signer() -> Signer {
        Signer::new("osmere.example/audit", &[7; 32])
    }

    #[test]
    fn a_signed_checkpoint_opens_and_a_changed_one_does_not() {
        let note = signer().sign(41, [9; 32]);
        let verifier = signer().verifier();
        assert_eq!(verifier.open(&note).unwrap().size, 41);
        assert_eq!(
            verifier.open(&note.replace("\n41\n", "\n42\n")),
            Err(CheckpointProblem::Forged)
        );
        let other = Signer::new("osmere.example/audit", &[8; 32]).verifier();
        assert_eq!(other.open(&note), Err(CheckpointProblem::OtherKey));
        let other = Signer::new("elsewhere.example/audit", &[7; 32]).verifier();
        assert_eq!(other.open(&note), Err(CheckpointProblem::OtherKey));
        assert!(matches!(
            verifier.open("nothing"),
            Err(CheckpointProblem::Malformed(_))
        ));
    }

    #[test]
    fn a_verifier_key_goes_there_and_back_and_a_cut_one_is_refused() {
        let text = signer().verifier().to_text();
        assert_eq!(Verifier::parse(&text).unwrap(), signer().verifier());
        for broken in [
            &text[1..],
            &text[..text.len() - 4],
            "",
            "a+b",
            &text.replace("osmere", "other"),
        ] {
            assert!(Verifier::parse(broken).is_err(), "{broken}");
        }
    }

    /// The golden form of a note, so that checkpoints sent outside years ago still open.
    #[test]
    fn the_form_of_a_note_does_not_change() {
        let note = signer().sign(1, leaf());
        assert!(note.starts_with("osmere.example/audit\n1\nCQkJCQkJCQkJCQkJCQkJCQkJCQkJCQkJCQkJCQkJCQk=\n\n— osmere.example/audit "), "{note}");
    }

    fn leaf() -> Hash {
        [9; 32]
    }
}

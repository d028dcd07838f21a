//! What is wrong with a password, told when it is set and kept without it.
//!
//! The strength score, a keyed fingerprint, and what the policy that counts finds lacking are
//! worked out while the value is available; from then on a finding is a comparison of numbers and
//! days, and nothing has to be opened to list them. When rules change, the password is assessed
//! again from the sealed value inside [`assess_sealed`], which lets nothing of it out.

use sha1::{Digest as _, Sha1};
use zeroize::Zeroize as _;

use super::{About, PasswordPolicy};
use crate::secret::Secret;
use crate::vault::{Key, OrganisationKey, Place, SealProblem, Sealed, WrappedKey};
use crate::words::word_enum;

word_enum! {
    /// Something wrong with a credential.
    pub enum Finding {
        /// It is in a file of passwords known to others.
        Leaked,
        /// It can be guessed.
        Weak,
        /// Another credential has the same.
        Reused,
        /// It breaks the policy that counts where it is.
        BreaksPolicy,
        /// Its last day has passed.
        Expired,
        /// Its last day is near.
        ExpiresSoon,
        /// It has not been changed for long.
        Old,
        /// The device has another.
        OutOfSync,
    }
}

impl Finding {
    /// All of them, the most urgent first.
    pub const ALL: [Self; 8] = [
        Self::Leaked,
        Self::OutOfSync,
        Self::Weak,
        Self::Reused,
        Self::Expired,
        Self::BreaksPolicy,
        Self::ExpiresSoon,
        Self::Old,
    ];

    /// What to do about it.
    #[must_use]
    pub const fn advice(self) -> &'static str {
        match self {
            Self::Leaked => "Change it now: this password is in a public list of leaked passwords.",
            Self::Weak => "Generate a new one; this one can be guessed.",
            Self::Reused => {
                "Give each account a password of its own: with a shared password, one leak opens all of them."
            }
            Self::BreaksPolicy => "Generate a new one by the policy that applies here.",
            Self::Expired => "Renew it, and enter the new expiry date.",
            Self::ExpiresSoon => "Renew it before it expires.",
            Self::Old => "Change it, or put its account under an upkeep plan that rotates it.",
            Self::OutOfSync => {
                "Find out who changed it on the device, then rotate it or enter the right one."
            }
        }
    }
}

/// What is known of a password without it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Assessment {
    /// From 0, guessed at once, to 4, not guessed (the scale of zxcvbn).
    pub score: u8,
    /// The same for the same password within one organisation, and telling nothing else.
    pub fingerprint: [u8; 32],
    /// What it lacks by the policy that counts.
    pub lacks: Vec<String>,
    /// How often it is in the file of leaked passwords.
    pub leaked: u64,
}

/// The SHA-1 of a password, by which lists of leaked ones name them. It serves no protection.
#[must_use]
pub fn sha1_of(password: &Secret) -> [u8; 20] {
    Sha1::digest(password.expose_secret()).into()
}

/// So many characters of a password count for the estimate of how soon it is guessed.
const ESTIMATED: usize = 36;

/// Assesses a password. `near` are words that somebody who guesses knows: the account's name, the
/// credential's, the address.
#[must_use]
pub fn assess(
    password: &Secret,
    near: &[&str],
    policy: Option<(&PasswordPolicy, About<'_>)>,
    leaked: u64,
    fingerprints: &Key,
) -> Assessment {
    let text = password.expose_secret_text().unwrap_or_default();
    // The time grows with a power of the length, and whoever chooses the password chooses the time.
    // What is strong within the first characters stays strong with more; what is not is told to be
    // weak.
    let mut start: String = text.chars().take(ESTIMATED).collect();
    let score = u8::from(zxcvbn::zxcvbn(&start, near).score());
    start.zeroize();
    Assessment {
        score,
        fingerprint: fingerprint(password, fingerprints),
        lacks: policy
            .map(|(policy, about)| policy.lacks(text, about))
            .unwrap_or_default(),
        leaked,
    }
}

/// The keyed fingerprint of a password.
fn fingerprint(password: &Secret, fingerprints: &Key) -> [u8; 32] {
    fingerprints.mac(&[b"jexlin fingerprint\0", password.expose_secret()])
}

/// Assesses a sealed password; only the assessment comes out.
///
/// # Errors
/// [`SealProblem`] when it does not open.
pub fn assess_sealed(
    key: &OrganisationKey,
    wrapped: &WrappedKey,
    place: &Place<'_>,
    sealed: &Sealed,
    near: &[&str],
    policy: Option<(&PasswordPolicy, About<'_>)>,
    leaks: impl FnOnce(&[u8; 20]) -> u64,
) -> Result<Assessment, SealProblem> {
    let password = key
        .unwrap_data_key(place.organisation, place.credential, wrapped)?
        .open(place, sealed)?;
    Ok(assess(
        &password,
        near,
        policy,
        leaks(&sha1_of(&password)),
        &key.fingerprint_key(),
    ))
}

/// The fingerprint of a sealed password by the organisation's present key, after a change of that
/// key.
///
/// # Errors
/// [`SealProblem`] when it does not open.
pub fn fingerprint_sealed(
    key: &OrganisationKey,
    wrapped: &WrappedKey,
    place: &Place<'_>,
    sealed: &Sealed,
) -> Result<[u8; 32], SealProblem> {
    let password = key
        .unwrap_data_key(place.organisation, place.credential, wrapped)?
        .open(place, sealed)?;
    Ok(fingerprint(&password, &key.fingerprint_key()))
}

/// What a sealed password lacks by a policy, and nothing else of it.
///
/// # Errors
/// [`SealProblem`] when it does not open.
pub fn lacks_sealed(
    key: &OrganisationKey,
    wrapped: &WrappedKey,
    place: &Place<'_>,
    sealed: &Sealed,
    policy: &PasswordPolicy,
    about: About<'_>,
) -> Result<Vec<String>, SealProblem> {
    let password = key
        .unwrap_data_key(place.organisation, place.credential, wrapped)?
        .open(place, sealed)?;
    Ok(policy.lacks(password.expose_secret_text().unwrap_or_default(), about))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::words::Word as _;

    fn of(text: &str) -> Assessment {
        assess(
            &Secret::from_text(text.into()),
            &["marek"],
            None,
            0,
            &Key::from_bytes([1; 32]),
        )
    }

    #[test]
    fn strength_and_sameness_are_told_and_nothing_else() {
        assert!(of("marek1").score < 2 && of("summer2019").score < 2);
        assert_eq!(of("vH3-qpL9-xWb2-Tn8d").score, 4);
        assert_eq!(
            of("Winter-tide-41").fingerprint,
            of("Winter-tide-41").fingerprint
        );
        assert_ne!(
            of("Winter-tide-41").fingerprint,
            of("Winter-tide-42").fingerprint
        );
        let other = assess(
            &Secret::from_text("Winter-tide-41".into()),
            &[],
            None,
            0,
            &Key::from_bytes([2; 32]),
        );
        assert_ne!(of("Winter-tide-41").fingerprint, other.fingerprint);
        assert_eq!(of(&"x".repeat(60_000)).lacks, Vec::<String>::new());
    }

    #[test]
    fn the_sha_1_is_the_published_one() {
        let hex: String = sha1_of(&Secret::from_text("password".into()))
            .iter()
            .map(|byte| format!("{byte:02X}"))
            .collect();
        assert_eq!(hex, "5BAA61E4C9B93F3F0682250B6CF8331B7EE68FD8");
    }

    #[test]
    fn every_finding_has_a_word_of_its_own_and_advice() {
        for finding in Finding::ALL {
            assert_eq!(Finding::find(finding.word()), Some(finding));
            assert!(finding.advice().ends_with('.'));
        }
        assert_eq!(Finding::find("fine"), None);
    }
}

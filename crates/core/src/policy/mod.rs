//! Password policies and the generator.
//!
//! The generator draws every character uniformly from all allowed ones and throws away what breaks
//! a rule, so that each allowed password is equally likely. Placing one character of each class
//! first and filling up was refused: it favours some passwords over others.

use rand::CryptoRng;
use serde::{Deserialize, Serialize};

use crate::secret::Secret;

const LOWER: &str = "abcdefghijklmnopqrstuvwxyz";
const UPPER: &str = "ABCDEFGHIJKLMNOPQRSTUVWXYZ";
const DIGITS: &str = "0123456789";
/// Characters that read like others in many typefaces.
const LOOK_ALIKES: &str = "0O1lI|5S2Z8B";
/// The least entropy that a policy must promise, in bits.
const LEAST_BITS: f64 = 48.0;
/// A policy whose passwords are rarer than this among random texts is refused, not tried forever.
const TRIES: usize = 20_000;

/// What a password must look like.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PasswordPolicy {
    /// How many characters a generated password has.
    pub length: u16,
    /// The fewest characters a typed password may have.
    pub shortest: u16,
    /// At least so many of a to z.
    pub lower: u16,
    /// At least so many of A to Z.
    pub upper: u16,
    /// At least so many of 0 to 9.
    pub digits: u16,
    /// At least so many of `symbols`.
    pub symbols_least: u16,
    /// The symbols that may occur; printable ASCII that is no letter, digit or space.
    pub symbols: String,
    /// Generated passwords avoid characters that look alike.
    pub no_look_alikes: bool,
}

impl Default for PasswordPolicy {
    fn default() -> Self {
        Self { length: 20, shortest: 14, lower: 1, upper: 1, digits: 1, symbols_least: 1, symbols: "-_.+=#@%".into(), no_look_alikes: true }
    }
}

/// Why a policy cannot be used.
#[derive(Clone, Debug, PartialEq, thiserror::Error)]
pub enum PolicyProblem {
    /// The numbers do not fit together.
    #[error("{0}")]
    Impossible(String),
    /// What it yields could be guessed.
    #[error("passwords of this policy have {0:.0} bits; at least {LEAST_BITS:.0} are needed: make them longer or allow more characters")]
    TooWeak(f64),
}

impl PasswordPolicy {
    fn alphabet(&self) -> Vec<char> {
        let all = LOWER.chars().chain(UPPER.chars()).chain(DIGITS.chars()).chain(self.symbols.chars());
        all.filter(|c| !(self.no_look_alikes && LOOK_ALIKES.contains(*c))).collect()
    }

    /// Whether passwords can be made by this policy.
    ///
    /// # Errors
    /// [`PolicyProblem`] says why not.
    pub fn check(&self) -> Result<(), PolicyProblem> {
        let impossible = |why: &str| Err(PolicyProblem::Impossible(why.to_owned()));
        if !(1..=255).contains(&self.length) || self.shortest == 0 || self.shortest > self.length {
            return impossible("the length is 1 to 255, and the shortest is at least 1 and no longer than the length");
        }
        let mut seen = String::new();
        for c in self.symbols.chars() {
            if !c.is_ascii_graphic() || c.is_ascii_alphanumeric() {
                return impossible("symbols are printable ASCII characters that are no letter, digit or space");
            }
            if seen.contains(c) {
                return impossible("each symbol is named once");
            }
            seen.push(c);
        }
        if self.symbols_least > 0 && !self.alphabet().iter().any(|c| self.symbols.contains(*c)) {
            return impossible("symbols are demanded but none is allowed");
        }
        let least = u32::from(self.lower) + u32::from(self.upper) + u32::from(self.digits) + u32::from(self.symbols_least);
        if least > u32::from(self.length) {
            return impossible("the least counts add up to more than the length");
        }
        let alphabet = self.alphabet().len();
        #[allow(clippy::cast_precision_loss, reason = "an alphabet has at most 94 characters")]
        let bits = f64::from(self.length) * (alphabet as f64).log2();
        if bits < LEAST_BITS {
            return Err(PolicyProblem::TooWeak(bits));
        }
        Ok(())
    }

    /// What a typed password lacks; empty when it complies. The sentences never repeat it.
    #[must_use]
    pub fn lacks(&self, password: &str) -> Vec<String> {
        let mut lacks = vec![];
        let length = password.chars().count();
        if length < usize::from(self.shortest) {
            lacks.push(format!("it has {length} characters; at least {} are needed", self.shortest));
        }
        let classes: [(&str, u16, &str); 4] = [
            ("small letters", self.lower, LOWER),
            ("capital letters", self.upper, UPPER),
            ("digits", self.digits, DIGITS),
            ("symbols", self.symbols_least, &self.symbols),
        ];
        for (name, least, class) in classes {
            let count = password.chars().filter(|c| class.contains(*c)).count();
            if count < usize::from(least) {
                lacks.push(format!("it has {count} {name}; at least {least} are needed"));
            }
        }
        lacks
    }

    /// Makes a password, uniform over all of the policy's length and alphabet that comply.
    ///
    /// # Errors
    /// [`PolicyProblem`] when the policy cannot be met.
    pub fn generate(&self, rng: &mut dyn CryptoRng) -> Result<Secret, PolicyProblem> {
        self.check()?;
        let alphabet = self.alphabet();
        for _ in 0..TRIES {
            let mut text = String::with_capacity(usize::from(self.length));
            for _ in 0..self.length {
                text.push(draw(rng, &alphabet));
            }
            if self.lacks(&text).is_empty() {
                return Ok(Secret::from_text(text));
            }
        }
        Err(PolicyProblem::Impossible("so few texts of this length meet the least counts that none was found; lower a count or add length".to_owned()))
    }
}

/// One element, each equally likely: numbers past the last full multiple are drawn again.
fn draw(rng: &mut dyn CryptoRng, from: &[char]) -> char {
    let count = u32::try_from(from.len()).unwrap_or(u32::MAX).max(1);
    let bound = u32::MAX - u32::MAX % count;
    loop {
        let number = rng.next_u32();
        if number < bound
            && let Some(c) = from.get((number % count) as usize)
        {
            return *c;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rand::SeedableRng as _;
    use std::collections::BTreeMap;

    #[test]
    fn every_character_is_equally_likely() {
        let policy = PasswordPolicy { length: 16, shortest: 8, lower: 0, upper: 0, digits: 0, symbols_least: 0, symbols: String::new(), no_look_alikes: false };
        let mut rng = rand::rngs::StdRng::seed_from_u64(41);
        let mut counts = BTreeMap::new();
        let rounds = 4_000;
        for _ in 0..rounds {
            for c in policy.generate(&mut rng).unwrap().expose_secret_text().unwrap().chars() {
                *counts.entry(c).or_insert(0_i32) += 1;
            }
        }
        assert_eq!(counts.len(), 62);
        let expected = f64::from(rounds * 16) / 62.0;
        let chi: f64 = counts.values().map(|n| (f64::from(*n) - expected).powi(2) / expected).sum();
        // 61 degrees of freedom: chi-squared is above 118 once in 100,000 runs, and the seed is fixed.
        assert!(chi < 118.0, "{chi}");
    }

    #[test]
    fn what_complies_is_as_likely_with_its_class_at_any_place() {
        let policy = PasswordPolicy { length: 10, shortest: 8, digits: 1, lower: 0, upper: 0, symbols_least: 0, symbols: String::new(), no_look_alikes: false };
        let mut rng = rand::rngs::StdRng::seed_from_u64(7);
        let mut at = [0_i32; 10];
        for _ in 0..5_000 {
            for (n, c) in policy.generate(&mut rng).unwrap().expose_secret_text().unwrap().chars().enumerate() {
                at[n] += i32::from(c.is_ascii_digit());
            }
        }
        let mean = f64::from(at.iter().sum::<i32>()) / 10.0;
        assert!(at.iter().all(|n| (f64::from(*n) - mean).abs() < 5.0 * mean.sqrt()), "{at:?}");
    }

    #[test]
    fn a_policy_that_cannot_be_met_says_why() {
        let good = PasswordPolicy::default();
        assert!(good.check().is_ok());
        for bad in [
            PasswordPolicy { length: 0, ..good.clone() },
            PasswordPolicy { length: 300, ..good.clone() },
            PasswordPolicy { shortest: 30, ..good.clone() },
            PasswordPolicy { lower: 30, ..good.clone() },
            PasswordPolicy { symbols: String::new(), ..good.clone() },
            PasswordPolicy { symbols: "a".into(), ..good.clone() },
            PasswordPolicy { symbols: "--".into(), ..good.clone() },
            PasswordPolicy { symbols: "§".into(), ..good.clone() },
            PasswordPolicy { length: 6, shortest: 6, ..good.clone() },
            PasswordPolicy { length: 40, digits: 40, lower: 0, upper: 0, symbols_least: 0, ..good },
        ] {
            let why = bad.generate(&mut rand::rng()).unwrap_err();
            assert!(!why.to_string().is_empty(), "{bad:?}");
        }
    }

    proptest! {
        #[test]
        fn what_is_generated_complies(length in 12u16..60, lower in 0u16..3, upper in 0u16..3, digits in 0u16..3, symbols in 0u16..3, plain in any::<bool>()) {
            let policy = PasswordPolicy { length, shortest: 8, lower, upper, digits, symbols_least: symbols, symbols: "-_.+".into(), no_look_alikes: plain };
            let made = policy.generate(&mut rand::rng()).unwrap();
            let text = made.expose_secret_text().unwrap();
            prop_assert_eq!(text.chars().count(), usize::from(length));
            prop_assert!(policy.lacks(text).is_empty());
            prop_assert!(!plain || !text.chars().any(|c| LOOK_ALIKES.contains(c)));
        }
    }
}

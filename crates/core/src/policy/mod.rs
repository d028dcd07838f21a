//! Password policies, the generator, and what is wrong with a password.
//!
//! Everything here is said about a value that somebody else keeps: a policy tells what a password
//! lacks, [`PasswordPolicy::generate`] makes one, [`assess`] tells how good one is without keeping
//! any part of it.

mod generate;
mod password_assessment;
mod rule;
pub mod settings;

use rand::CryptoRng;
use serde::{Deserialize, Serialize};

use crate::secret::Secret;

pub use password_assessment::{
    Assessment, Finding, assess, assess_sealed, fingerprint_sealed, lacks_sealed, sha1_of,
};
pub use rule::RuleMode;

const LOWER: &str = "abcdefghijklmnopqrstuvwxyz";
const UPPER: &str = "ABCDEFGHIJKLMNOPQRSTUVWXYZ";
const DIGITS: &str = "0123456789";
/// Characters that read like others in many typefaces.
const LOOK_ALIKES: &str = "0O1lI|5S2Z8B";
/// The least entropy that a policy must promise, in bits, unless it sets another.
const LEAST_BITS: u16 = 48;
/// The longest password of all.
pub const LONGEST: u16 = 255;

/// What the first character of a password may be. Some devices take no digit or symbol there.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum First {
    /// Anything.
    #[default]
    Any,
    /// A letter.
    Letter,
    /// A letter or a digit.
    LetterOrDigit,
}

/// What a password must look like.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[cfg_attr(feature = "schema", schema(as = PolicyRules))]
pub struct PasswordPolicy {
    /// How many characters a generated password has.
    pub length: u16,
    /// The fewest characters a typed password may have.
    pub min_length: u16,
    /// The most characters a typed password may have, at most 255.
    #[serde(default = "max_length")]
    pub max_length: u16,
    /// At least so many of a to z.
    pub min_lower: u16,
    /// At least so many of A to Z.
    pub min_upper: u16,
    /// At least so many of 0 to 9.
    pub min_digits: u16,
    /// At least so many of `symbols`.
    pub min_symbols: u16,
    /// The symbols that may occur; printable ASCII that is no letter, digit or space.
    pub symbols: String,
    /// Typed passwords, too, have letters, digits and `symbols` and nothing else.
    #[serde(default)]
    pub only_these: bool,
    /// Characters that never occur.
    #[serde(default)]
    pub forbidden: String,
    /// What the first character may be.
    #[serde(default)]
    pub first: First,
    /// Generated passwords avoid characters that look alike.
    pub no_look_alikes: bool,
    /// The same character at most so many times in a row; 0: any number.
    #[serde(default)]
    pub max_repeats: u16,
    /// At most so many characters in alphabetical or numerical order, as in `abc` or `321`; 0: any
    /// number.
    #[serde(default)]
    pub max_sequence: u16,
    /// The account's name is not in it.
    #[serde(default)]
    pub not_user_name: bool,
    /// It is not one of so many former passwords of the same credential.
    #[serde(default)]
    pub not_last: u16,
    /// A generated password is a phrase of so many words; 0: characters.
    #[serde(default)]
    pub words: u16,
    /// What stands between the words of a phrase.
    #[serde(default = "separator")]
    pub separator: String,
    /// The least entropy of what is generated, in bits; 0: 48.
    #[serde(default)]
    pub min_bits: u16,
}

const fn max_length() -> u16 {
    LONGEST
}

fn separator() -> String {
    "-".into()
}

impl Default for PasswordPolicy {
    fn default() -> Self {
        Self {
            length: 20,
            min_length: 14,
            max_length: LONGEST,
            min_lower: 1,
            min_upper: 1,
            min_digits: 1,
            min_symbols: 1,
            symbols: "-_.+=#@%".into(),
            only_these: false,
            forbidden: String::new(),
            first: First::Any,
            no_look_alikes: true,
            max_repeats: 0,
            max_sequence: 0,
            not_user_name: false,
            not_last: 0,
            words: 0,
            separator: separator(),
            min_bits: 0,
        }
    }
}

/// What a policy needs to know about the credential that a password is for.
#[derive(Clone, Copy, Debug, Default)]
pub struct About<'a> {
    /// The name of the account.
    pub user_name: &'a str,
    /// So many values ago it was this same password; none when it is new.
    pub used_ago: Option<u16>,
}

/// Why a policy cannot be used.
#[derive(Clone, Debug, PartialEq, thiserror::Error)]
pub enum PolicyProblem {
    /// The numbers do not fit together.
    #[error("{0}")]
    Impossible(String),
    /// What it yields could be guessed.
    #[error(
        "passwords of this policy have {0:.0} bits of entropy; at least {1} are needed: make them longer or allow more characters"
    )]
    TooWeak(f64, u16),
}

/// The most characters that a policy forbids: more than there are letters and digits, so that a device
/// may forbid some beside.
const MOST_FORBIDDEN: usize = 200;

fn impossible<T>(why: impl Into<String>) -> Result<T, PolicyProblem> {
    Err(PolicyProblem::Impossible(why.into()))
}

impl PasswordPolicy {
    /// The same policy, for a device that takes no password with some characters, or none that is
    /// longer.
    #[must_use]
    pub fn within(&self, without: &str, longest: Option<u32>) -> Self {
        let mut narrower = self.clone();
        // Symbols go from the list of symbols, and nothing else but letters and digits is generated.
        let named = without.chars().filter(char::is_ascii_alphanumeric);
        narrower
            .forbidden
            .extend(named.filter(|c| !self.forbidden.contains(*c)));
        narrower.symbols.retain(|c| !without.contains(c));
        if narrower.symbols.is_empty() {
            narrower.min_symbols = 0;
        }
        if self.separator.chars().any(|c| without.contains(c)) {
            narrower.words = 0;
        }
        if let Some(longest) = longest.and_then(|longest| u16::try_from(longest).ok()) {
            if self.length > longest || self.words > 0 {
                // A phrase may be longer than the device takes.
                narrower.words = 0;
            }
            narrower.length = self.length.min(longest);
            narrower.max_length = self.max_length.min(longest);
            narrower.min_length = self.min_length.min(longest);
        }
        narrower
    }

    /// The characters of each class that may be generated: small, capital, digits, symbols.
    fn classes(&self) -> [Vec<char>; 4] {
        [LOWER, UPPER, DIGITS, &self.symbols].map(|class| {
            let dropped = |c: char| {
                self.forbidden.contains(c) || (self.no_look_alikes && LOOK_ALIKES.contains(c))
            };
            class.chars().filter(|c| !dropped(*c)).collect()
        })
    }

    const fn least(&self) -> [u16; 4] {
        [
            self.min_lower,
            self.min_upper,
            self.min_digits,
            self.min_symbols,
        ]
    }

    fn min_bits(&self) -> u16 {
        if self.min_bits == 0 {
            LEAST_BITS
        } else {
            self.min_bits
        }
    }

    /// Whether passwords can be made by this policy, and how many bits of entropy they have.
    ///
    /// # Errors
    /// [`PolicyProblem`] says why not.
    pub fn check(&self) -> Result<f64, PolicyProblem> {
        if !(1..=LONGEST).contains(&self.max_length)
            || self.min_length == 0
            || self.min_length > self.max_length
        {
            return impossible(
                "typed passwords have 1 to 255 characters, and the minimum length is at most the maximum length",
            );
        }
        let mut seen = String::new();
        for c in self.symbols.chars() {
            if !c.is_ascii_graphic() || c.is_ascii_alphanumeric() {
                return impossible(
                    "symbols are printable ASCII characters other than letters, digits and the space",
                );
            }
            if seen.contains(c) {
                return impossible("each symbol may be named once only");
            }
            seen.push(c);
        }
        if self.forbidden.chars().count() > MOST_FORBIDDEN
            || self.forbidden.chars().any(char::is_control)
        {
            return impossible(format!(
                "at most {MOST_FORBIDDEN} characters are forbidden, none of them a control character"
            ));
        }
        if self.not_last > 100 {
            return impossible("at most the last 100 passwords can be compared");
        }
        let bits = if self.words > 0 {
            self.check_words()?
        } else {
            self.check_characters()?
        };
        if bits < f64::from(self.min_bits()) {
            return Err(PolicyProblem::TooWeak(bits, self.min_bits()));
        }
        Ok(bits)
    }

    fn check_characters(&self) -> Result<f64, PolicyProblem> {
        if self.length < self.min_length || self.length > self.max_length {
            return impossible(format!(
                "generated passwords have {} characters, which is not between the minimum and the maximum length",
                self.length
            ));
        }
        let names = [
            "lower-case letters",
            "upper-case letters",
            "digits",
            "symbols",
        ];
        for ((class, least), name) in self.classes().iter().zip(self.least()).zip(names) {
            if least > 0 && class.is_empty() {
                return impossible(format!("{name} are required, but none are allowed"));
            }
        }
        let least: u32 = self.least().into_iter().map(u32::from).sum();
        if least > u32::from(self.length) {
            return impossible("the minimum counts add up to more than the length");
        }
        generate::bits(self).map_or_else(
            || impossible("no password can be generated: every character is forbidden"),
            Ok,
        )
    }

    fn check_words(&self) -> Result<f64, PolicyProblem> {
        if self.words > 24 {
            return impossible("a phrase has at most 24 words");
        }
        if self.separator.chars().count() > 3
            || self
                .separator
                .chars()
                .any(|c| c.is_control() || c.is_alphanumeric() || self.forbidden.contains(c))
        {
            return impossible(
                "the separator has at most 3 characters, none of them a letter, a digit or forbidden",
            );
        }
        let separators = usize::from(self.words - 1)
            * self
                .separator
                .chars()
                .filter(|c| self.symbols.contains(*c))
                .count();
        if usize::from(self.min_symbols) > separators {
            return impossible(format!(
                "a phrase of these words has {separators} symbols between them; {} are required",
                self.min_symbols
            ));
        }
        if self.min_upper > self.words {
            return impossible(format!(
                "a phrase begins each of its {} words with an upper-case letter; {} are required",
                self.words, self.min_upper
            ));
        }
        let words = generate::words(self);
        if words.len() < 512 {
            return impossible(format!(
                "only {} words are without forbidden characters; 512 are needed",
                words.len()
            ));
        }
        let (shortest, longest) = generate::phrase_lengths(self, &words);
        if shortest < usize::from(self.min_length) || longest > usize::from(self.max_length) {
            return impossible(format!(
                "phrases of these words have {shortest} to {longest} characters, which is not between the minimum and the maximum length"
            ));
        }
        #[allow(clippy::cast_precision_loss, reason = "there are 2048 words at most")]
        let each = (words.len() as f64).log2();
        Ok(f64::from(self.words) * each + f64::from(self.min_digits) * 10_f64.log2())
    }

    /// What a password lacks; empty when it complies. The sentences never repeat it.
    #[must_use]
    pub fn lacks(&self, password: &str, about: About<'_>) -> Vec<String> {
        let mut lacks = vec![];
        let length = password.chars().count();
        if length < usize::from(self.min_length) {
            lacks.push(format!(
                "it has {length} characters; at least {} are needed",
                self.min_length
            ));
        }
        if length > usize::from(self.max_length) {
            lacks.push(format!(
                "it has {length} characters; at most {} are possible",
                self.max_length
            ));
        }
        let classes: [(&str, u16, &str); 4] = [
            ("lower-case letters", self.min_lower, LOWER),
            ("upper-case letters", self.min_upper, UPPER),
            ("digits", self.min_digits, DIGITS),
            ("symbols", self.min_symbols, &self.symbols),
        ];
        for (name, least, class) in classes {
            let count = password.chars().filter(|c| class.contains(*c)).count();
            if count < usize::from(least) {
                lacks.push(format!(
                    "it has {count} {name}; at least {least} are needed"
                ));
            }
        }
        if self.only_these
            && password
                .chars()
                .any(|c| !c.is_ascii_alphanumeric() && !self.symbols.contains(c))
        {
            lacks.push("it has a character that is not among the allowed ones".into());
        }
        if password.chars().any(|c| self.forbidden.contains(c)) {
            lacks.push("it has a forbidden character".into());
        }
        if let Some(first) = password.chars().next() {
            match self.first {
                First::Letter if !first.is_alphabetic() => {
                    lacks.push("it does not begin with a letter".into())
                }
                First::LetterOrDigit if !first.is_alphanumeric() => {
                    lacks.push("it does not begin with a letter or a digit".into())
                }
                _ => {}
            }
        }
        if self.max_repeats > 0
            && longest_run(password, |a, b| a == b) > usize::from(self.max_repeats)
        {
            lacks.push(format!(
                "it has the same character more than {} times in a row",
                self.max_repeats
            ));
        }
        let up = |a: char, b: char| follows(a, b);
        let down = |a: char, b: char| follows(b, a);
        if self.max_sequence > 0
            && longest_run(password, up).max(longest_run(password, down))
                > usize::from(self.max_sequence)
        {
            lacks.push(format!(
                "it has more than {} characters in alphabetical or numerical order",
                self.max_sequence
            ));
        }
        let user = about.user_name.trim().to_lowercase();
        if self.not_user_name
            && user.chars().count() >= 3
            && password.to_lowercase().contains(&user)
        {
            lacks.push("it contains the user name".into());
        }
        if let Some(ago) = about.used_ago
            && ago <= self.not_last
        {
            lacks.push(format!(
                "it was used before: it is one of the last {} passwords",
                self.not_last
            ));
        }
        lacks
    }

    /// Makes a password, uniform over all that the policy allows.
    ///
    /// # Errors
    /// [`PolicyProblem`] when the policy cannot be met.
    pub fn generate(
        &self,
        rng: &mut dyn CryptoRng,
        about: About<'_>,
    ) -> Result<Secret, PolicyProblem> {
        self.check()?;
        generate::generate(self, rng, about)
    }
}

/// Whether a character comes right after another in the alphabet or among the digits.
fn follows(a: char, b: char) -> bool {
    let (a, b) = (a.to_ascii_lowercase(), b.to_ascii_lowercase());
    let same_sort = (a.is_ascii_lowercase() && b.is_ascii_lowercase())
        || (a.is_ascii_digit() && b.is_ascii_digit());
    same_sort && u32::from(b) == u32::from(a) + 1
}

/// The longest stretch in which each character goes on from the one before.
fn longest_run(text: &str, goes_on: impl Fn(char, char) -> bool) -> usize {
    let (mut longest, mut run, mut before) = (0, 0, None);
    for c in text.chars() {
        run = if before.is_some_and(|before| goes_on(before, c)) {
            run + 1
        } else {
            1
        };
        longest = longest.max(run);
        before = Some(c);
    }
    longest
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rand::SeedableRng as _;
    use std::collections::BTreeMap;

    fn only(text: &str) -> PasswordPolicy {
        PasswordPolicy {
            symbols: text.into(),
            min_lower: 0,
            min_upper: 0,
            min_digits: 0,
            min_symbols: 0,
            no_look_alikes: false,
            min_length: 1,
            ..Default::default()
        }
    }

    fn made(policy: &PasswordPolicy, rng: &mut dyn CryptoRng) -> String {
        generate::generate(policy, rng, About::default())
            .unwrap()
            .expose_secret_text()
            .unwrap()
            .to_owned()
    }

    #[test]
    fn a_device_that_takes_less_gets_passwords_that_it_takes() {
        let mut rng = rand::rngs::StdRng::seed_from_u64(7);
        for policy in [
            PasswordPolicy::default(),
            PasswordPolicy {
                words: 5,
                min_symbols: 0,
                ..PasswordPolicy::default()
            },
        ] {
            let narrower = policy.within("-_.+=#@%?\" ", Some(16));
            for _ in 0..50 {
                let text = made(&narrower, &mut rng);
                assert!(text.len() <= 16, "{text}");
                assert!(text.chars().all(|c| c.is_ascii_alphanumeric()), "{text}");
            }
        }
        let same = PasswordPolicy::default().within("", None);
        assert_eq!(same, PasswordPolicy::default());
    }

    #[test]
    fn every_character_is_equally_likely() {
        let policy = PasswordPolicy {
            length: 16,
            ..only("")
        };
        let mut rng = rand::rngs::StdRng::seed_from_u64(41);
        let mut counts = BTreeMap::new();
        let rounds = 4_000;
        for _ in 0..rounds {
            for c in made(&policy, &mut rng).chars() {
                *counts.entry(c).or_insert(0_i32) += 1;
            }
        }
        assert_eq!(counts.len(), 62);
        let expected = f64::from(rounds * 16) / 62.0;
        let chi: f64 = counts
            .values()
            .map(|n| (f64::from(*n) - expected).powi(2) / expected)
            .sum();
        // 61 degrees of freedom: chi-squared is above 118 once in 100,000 runs, and the seed is
        // fixed.
        assert!(chi < 118.0, "{chi}");
    }

    /// A world so small that every password of it can be counted: three characters of two small
    /// letters, one digit and one symbol, under rules that cut in all the ways there are.
    #[test]
    fn every_password_that_the_policy_allows_is_equally_likely_and_no_other_comes() {
        let forbidden: String = LOWER
            .chars()
            .skip(2)
            .chain(UPPER.chars())
            .chain(DIGITS.chars().filter(|c| *c != '7'))
            .collect();
        let policy = PasswordPolicy {
            length: 4,
            min_length: 4,
            min_lower: 1,
            min_digits: 1,
            forbidden,
            first: First::LetterOrDigit,
            max_repeats: 2,
            max_sequence: 0,
            ..only("-")
        };
        let alphabet = ['a', 'b', '7', '-'];
        let mut allowed = BTreeMap::new();
        for n in 0..256_usize {
            let text: String = (0..4).map(|index| alphabet[n >> (2 * index) & 3]).collect();
            if policy.lacks(&text, About::default()).is_empty() {
                allowed.insert(text, 0_i32);
            }
        }
        assert!(
            allowed.len() > 60 && allowed.len() < 200,
            "{}",
            allowed.len()
        );
        let mut rng = rand::rngs::StdRng::seed_from_u64(5);
        let rounds = 200 * i32::try_from(allowed.len()).unwrap();
        for _ in 0..rounds {
            *allowed
                .get_mut(&made(&policy, &mut rng))
                .expect("only what is allowed") += 1;
        }
        let chi: f64 = allowed
            .values()
            .map(|n| (f64::from(*n) - 200.0).powi(2) / 200.0)
            .sum();
        let freedom = f64::from(i32::try_from(allowed.len()).unwrap() - 1);
        // Mean and spread of chi-squared; five times the spread does not come by chance.
        assert!(
            chi < freedom + 5.0 * (2.0 * freedom).sqrt(),
            "{chi} at {freedom} degrees of freedom"
        );
    }

    #[test]
    fn a_policy_that_hardly_any_text_meets_is_met_all_the_same() {
        let pin = PasswordPolicy {
            length: 40,
            min_length: 40,
            min_digits: 38,
            min_symbols: 2,
            ..only("-")
        };
        let text = made(&pin, &mut rand::rng());
        assert!(pin.lacks(&text, About::default()).is_empty(), "{text}");
        let long = PasswordPolicy {
            length: 255,
            min_length: 255,
            min_lower: 60,
            min_upper: 60,
            min_digits: 60,
            min_symbols: 60,
            ..PasswordPolicy::default()
        };
        assert!(long.check().unwrap() > 1000.0);
        assert_eq!(made(&long, &mut rand::rng()).len(), 255);
    }

    #[test]
    fn a_policy_that_cannot_be_met_says_why() {
        let good = PasswordPolicy::default();
        assert!(good.check().is_ok());
        for bad in [
            PasswordPolicy {
                length: 0,
                ..good.clone()
            },
            PasswordPolicy {
                length: 300,
                ..good.clone()
            },
            PasswordPolicy {
                max_length: 300,
                ..good.clone()
            },
            PasswordPolicy {
                min_length: 30,
                ..good.clone()
            },
            PasswordPolicy {
                min_length: 0,
                ..good.clone()
            },
            PasswordPolicy {
                min_lower: 30,
                ..good.clone()
            },
            PasswordPolicy {
                symbols: String::new(),
                ..good.clone()
            },
            PasswordPolicy {
                symbols: "a".into(),
                ..good.clone()
            },
            PasswordPolicy {
                symbols: "--".into(),
                ..good.clone()
            },
            PasswordPolicy {
                symbols: "§".into(),
                ..good.clone()
            },
            PasswordPolicy {
                length: 6,
                min_length: 6,
                ..good.clone()
            },
            PasswordPolicy {
                min_bits: 250,
                ..good.clone()
            },
            PasswordPolicy {
                forbidden: DIGITS.into(),
                ..good.clone()
            },
            PasswordPolicy {
                forbidden: [LOWER, UPPER, DIGITS].concat(),
                ..only("")
            },
            PasswordPolicy {
                words: 30,
                ..good.clone()
            },
            PasswordPolicy {
                words: 3,
                ..good.clone()
            },
            PasswordPolicy {
                words: 5,
                separator: "a".into(),
                ..good.clone()
            },
            PasswordPolicy {
                words: 5,
                separator: "~".into(),
                ..good.clone()
            },
            PasswordPolicy {
                words: 5,
                forbidden: "aeiou".into(),
                min_symbols: 0,
                ..good.clone()
            },
            PasswordPolicy {
                words: 2,
                min_upper: 3,
                min_symbols: 0,
                min_length: 5,
                ..good
            },
        ] {
            let why = bad
                .generate(&mut rand::rng(), About::default())
                .unwrap_err();
            assert!(!why.to_string().is_empty(), "{bad:?}");
        }
    }

    #[test]
    fn what_a_typed_password_lacks_is_said_and_the_password_is_not() {
        let policy = PasswordPolicy {
            min_length: 8,
            max_length: 12,
            only_these: true,
            forbidden: "q".into(),
            first: First::Letter,
            max_repeats: 2,
            max_sequence: 3,
            not_user_name: true,
            not_last: 3,
            min_lower: 0,
            min_upper: 0,
            min_digits: 0,
            min_symbols: 0,
            ..PasswordPolicy::default()
        };
        let about = About {
            user_name: "Marek",
            used_ago: None,
        };
        for (text, about, words) in [
            ("short", about, "8 are needed"),
            ("much-too-long-for-it", about, "12 are possible"),
            ("with~tilde", about, "not among the allowed"),
            ("quicksand", about, "forbidden"),
            ("-hyphen-first", about, "begin with a letter"),
            ("baaa-sheep", about, "2 times in a row"),
            ("tree-cdef-t", about, "3 characters in"),
            ("tree-9876-t", about, "3 characters in"),
            ("xmarekx-41", about, "the user name"),
            (
                "good-old-41",
                About {
                    used_ago: Some(3),
                    ..about
                },
                "used before",
            ),
        ] {
            let lacks = policy.lacks(text, about);
            assert!(
                lacks.iter().any(|why| why.contains(words)),
                "{text}: {lacks:?}"
            );
            assert!(!lacks.concat().contains(text), "{text}");
        }
        assert!(
            policy
                .lacks(
                    "good-old-41",
                    About {
                        used_ago: Some(4),
                        ..about
                    }
                )
                .is_empty()
        );
        assert!(policy.lacks("tree-cde-t", about).is_empty());
    }

    #[test]
    fn phrases_are_of_words_and_meet_their_own_rules() {
        let policy = PasswordPolicy {
            words: 6,
            min_length: 20,
            min_upper: 6,
            min_digits: 2,
            min_symbols: 5,
            min_lower: 6,
            max_repeats: 2,
            ..PasswordPolicy::default()
        };
        assert!((policy.check().unwrap() - 6.0 * 11.0 - 2.0 * 10_f64.log2()).abs() < 1.0);
        for _ in 0..50 {
            let made = policy.generate(&mut rand::rng(), About::default()).unwrap();
            let text = made.expose_secret_text().unwrap();
            assert!(policy.lacks(text, About::default()).is_empty(), "{text}");
            assert_eq!(text.split('-').count(), 6, "{text}");
        }
    }

    #[test]
    fn rules_that_were_stored_before_there_were_more_of_them_are_still_read() {
        let stored = r#"{"length":20,"min_length":14,"min_lower":1,"min_upper":1,"min_digits":1,"min_symbols":1,"symbols":"-_.+=#@%","no_look_alikes":true}"#;
        assert_eq!(
            serde_json::from_str::<PasswordPolicy>(stored).unwrap(),
            PasswordPolicy::default()
        );
    }

    proptest! {
        #[test]
        fn what_is_generated_complies(length in 14u16..60, least in prop::array::uniform4(0u16..4), plain: bool, repeats in 0u16..3, sequence in 0u16..4, first in 0usize..3, forbidden in "[a-dx-z0-3]{0,4}") {
            let first = [First::Any, First::Letter, First::LetterOrDigit][first];
            let policy = PasswordPolicy { length, min_length: 8, min_lower: least[0], min_upper: least[1], min_digits: least[2], min_symbols: least[3], symbols: "-_.+".into(),
                no_look_alikes: plain, max_repeats: repeats, max_sequence: if sequence == 1 { 2 } else { sequence }, first, forbidden: forbidden.clone(), only_these: true, not_user_name: true, ..PasswordPolicy::default() };
            let about = About { user_name: "abc", used_ago: None };
            let made = policy.generate(&mut rand::rng(), about).unwrap();
            let text = made.expose_secret_text().unwrap();
            prop_assert_eq!(text.chars().count(), usize::from(length));
            prop_assert!(policy.lacks(text, about).is_empty());
            prop_assert!(!plain || !text.chars().any(|c| LOOK_ALIKES.contains(c)));
            prop_assert!(!text.chars().any(|c| forbidden.contains(c)));
        }

        #[test]
        fn more_length_never_means_less_entropy(length in 14u16..100, least in prop::array::uniform4(0u16..3)) {
            let policy = |length| PasswordPolicy { length, min_length: 8, min_lower: least[0], min_upper: least[1], min_digits: least[2], min_symbols: least[3], ..PasswordPolicy::default() };
            prop_assert!(policy(length + 1).check().unwrap() > policy(length).check().unwrap());
        }
    }
}

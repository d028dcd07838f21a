//! The generator: uniform over everything that a policy allows.
//!
//! Placing one character of each demanded class first and filling up was refused: it favours some
//! passwords over others. Drawing whole texts and throwing away what breaks a rule is uniform, but
//! never ends for a policy that few texts meet. So the least counts and the first character are
//! met by counting: how many texts there are with so many of each class, exactly, in big numbers;
//! one of them is chosen by its number. The rules about neighbours, which throw away little, are
//! met by throwing away, which leaves the rest as uniform as it was.

use bip39::Language;
use num_bigint::BigUint;
use rand::CryptoRng;

use super::{About, First, PasswordPolicy, PolicyProblem, impossible};
use crate::secret::Secret;

/// A policy whose passwords are rarer than this among those of its counts is refused, not tried for
/// ever.
const TRIES: usize = 20_000;

/// How many texts of `positions` characters there are with at least `least` of each class, for
/// every number of positions, when only the classes from one on are used.
struct Ways {
    /// `[class][positions]`; the last row is of no class at all.
    counts: Vec<Vec<BigUint>>,
    binomials: Vec<Vec<BigUint>>,
    sizes: [usize; 4],
    least: [u16; 4],
}

impl Ways {
    fn count(positions: usize, sizes: [usize; 4], least: [u16; 4]) -> Self {
        let zero = || BigUint::from(0_u32);
        // Pascal's triangle.
        let mut binomials: Vec<Vec<BigUint>> = vec![vec![BigUint::from(1_u32)]];
        for n in 1..=positions {
            let above = binomials.last().cloned().unwrap_or_default();
            let at = |k: usize| above.get(k).cloned().unwrap_or_else(zero);
            binomials.push(
                (0..=n)
                    .map(|k| if k == 0 { at(0) } else { at(k - 1) + at(k) })
                    .collect(),
            );
        }
        let mut counts = vec![
            (0..=positions)
                .map(|n| BigUint::from(u32::from(n == 0)))
                .collect::<Vec<_>>(),
        ];
        let mut ways = Self {
            counts: vec![],
            binomials,
            sizes,
            least,
        };
        for class in (0..4).rev() {
            let after = counts.last().cloned().unwrap_or_default();
            let row = (0..=positions)
                .map(|n| {
                    ways.of_class(class, n, &after)
                        .into_iter()
                        .map(|(_, count)| count)
                        .fold(zero(), |sum, count| sum + count)
                })
                .collect();
            counts.push(row);
        }
        counts.reverse();
        ways.counts = counts;
        ways
    }

    /// For each possible number of characters of a class: how many texts.
    fn of_class(&self, class: usize, positions: usize, after: &[BigUint]) -> Vec<(usize, BigUint)> {
        let (size, least) = (
            self.sizes.get(class).copied().unwrap_or(0),
            self.least.get(class).copied().unwrap_or(0),
        );
        let mut out = vec![];
        let mut power = BigUint::from(1_u32);
        for n in 0..=positions {
            if n >= usize::from(least)
                && let (Some(choose), Some(rest)) = (
                    self.binomials.get(positions).and_then(|row| row.get(n)),
                    after.get(positions - n),
                )
            {
                out.push((n, choose * &power * rest));
            }
            power *= size;
        }
        out
    }

    fn total(&self, positions: usize) -> BigUint {
        self.counts
            .first()
            .and_then(|row| row.get(positions))
            .cloned()
            .unwrap_or_default()
    }

    /// How many characters of each class a text chosen uniformly has.
    fn choose(&self, rng: &mut dyn CryptoRng, positions: usize) -> [usize; 4] {
        let mut left = positions;
        std::array::from_fn(|class| {
            let after = self.counts.get(class + 1).cloned().unwrap_or_default();
            let options = self.of_class(class, left, &after);
            let n = pick(rng, &options).unwrap_or(0);
            left -= n;
            n
        })
    }
}

/// One option, as likely as its weight.
fn pick<T: Copy>(rng: &mut dyn CryptoRng, options: &[(T, BigUint)]) -> Option<T> {
    let total = options
        .iter()
        .fold(BigUint::from(0_u32), |sum, (_, weight)| sum + weight);
    if total == BigUint::from(0_u32) {
        return None;
    }
    let mut number = below(rng, &total);
    for (option, weight) in options {
        if number < *weight {
            return Some(*option);
        }
        number -= weight;
    }
    None
}

/// A number below a bound, each equally likely: those past the bound are drawn again.
fn below(rng: &mut dyn CryptoRng, bound: &BigUint) -> BigUint {
    let bits = bound.bits();
    let mut bytes = vec![0; usize::try_from(bits.div_ceil(8)).unwrap_or(0)];
    loop {
        rng.fill_bytes(&mut bytes);
        let spare = u32::try_from(bytes.len() as u64 * 8 - bits).unwrap_or(0);
        if let Some(last) = bytes.last_mut() {
            *last &= 0xff_u8.checked_shr(spare).unwrap_or(0);
        }
        let number = BigUint::from_bytes_le(&bytes);
        if number < *bound {
            return number;
        }
    }
}

/// An index below a length, each equally likely.
fn index(rng: &mut dyn CryptoRng, length: usize) -> usize {
    let count = u32::try_from(length).unwrap_or(u32::MAX).max(1);
    let bound = u32::MAX - u32::MAX % count;
    loop {
        let number = rng.next_u32();
        if number < bound {
            return (number % count) as usize;
        }
    }
}

fn shuffle<T>(rng: &mut dyn CryptoRng, items: &mut [T]) {
    for last in (1..items.len()).rev() {
        items.swap(last, index(rng, last + 1));
    }
}

/// What the first character is chosen from: classes, and for each the counting of what follows.
struct Plan {
    classes: [Vec<char>; 4],
    /// The class of the first character and the ways of the rest; one without a class where the
    /// first is like the others.
    begins: Vec<(Option<usize>, Ways)>,
}

impl Plan {
    fn of(policy: &PasswordPolicy) -> Self {
        let classes = policy.classes();
        let sizes = [0, 1, 2, 3].map(|class: usize| classes.get(class).map_or(0, Vec::len));
        let (least, positions) = (policy.least(), usize::from(policy.length));
        let firsts: &[usize] = match policy.first {
            First::Any => {
                return Self {
                    begins: vec![(None, Ways::count(positions, sizes, least))],
                    classes,
                };
            }
            First::Letter => &[0, 1],
            First::LetterOrDigit => &[0, 1, 2],
        };
        let begins = firsts
            .iter()
            .map(|first| {
                let mut least = least;
                if let Some(own) = least.get_mut(*first) {
                    *own = own.saturating_sub(1);
                }
                (
                    Some(*first),
                    Ways::count(positions.saturating_sub(1), sizes, least),
                )
            })
            .collect();
        Self { classes, begins }
    }

    fn size(&self, class: usize) -> usize {
        self.classes.get(class).map_or(0, Vec::len)
    }

    fn weights(&self, positions: usize) -> Vec<(usize, BigUint)> {
        let weight = |(first, ways): &(Option<usize>, Ways)| match first {
            None => ways.total(positions),
            Some(class) => ways.total(positions.saturating_sub(1)) * self.size(*class),
        };
        self.begins.iter().map(weight).enumerate().collect()
    }

    fn draw(&self, rng: &mut dyn CryptoRng, positions: usize) -> Option<String> {
        let (first, ways) = self.begins.get(pick(rng, &self.weights(positions))?)?;
        let rest = if first.is_some() {
            positions - 1
        } else {
            positions
        };
        let counts = ways.choose(rng, rest);
        let mut order: Vec<usize> = counts
            .iter()
            .enumerate()
            .flat_map(|(class, count)| std::iter::repeat_n(class, *count))
            .collect();
        shuffle(rng, &mut order);
        first
            .iter()
            .chain(&order)
            .map(|class| {
                self.classes
                    .get(*class)
                    .and_then(|class| class.get(index(rng, class.len())))
                    .copied()
            })
            .collect()
    }
}

/// The entropy of generated passwords, in bits: exact for lengths, counts and first characters,
/// less what the rules about neighbours throw away at most, about. None when there is none to be
/// made.
pub fn bits(policy: &PasswordPolicy) -> Option<f64> {
    let length = usize::from(policy.length);
    let total = Plan::of(policy)
        .weights(length)
        .into_iter()
        .fold(BigUint::from(0_u32), |sum, (_, weight)| sum + weight);
    let size = total.bits();
    if size == 0 {
        return None;
    }
    let shift = size.saturating_sub(52);
    let top: u64 = (total >> shift).try_into().ok()?;
    #[allow(
        clippy::cast_precision_loss,
        reason = "52 bits fit, and a length has at most a few thousand bits"
    )]
    let bits = (top as f64).log2() + shift as f64;
    let each = (bits / f64::from(policy.length)).exp2();
    let loss = |most: u16, ways: f64| {
        if most == 0 {
            return 0.0;
        }
        let goes_on = (ways / each).min(0.999).powi(i32::from(most));
        -(f64::from(policy.length) * (1.0 - goes_on).log2())
    };
    Some((bits - loss(policy.max_repeats, 1.0) - loss(policy.max_sequence, 2.0)).max(0.0))
}

/// The words that phrases are made of: those of the BIP 39 English list, each of which is told from
/// all others by its first four letters, less those that the policy's rules forbid.
pub fn words(policy: &PasswordPolicy) -> Vec<&'static str> {
    let plain = PasswordPolicy {
        forbidden: policy.forbidden.clone(),
        max_repeats: policy.max_repeats,
        max_sequence: policy.max_sequence,
        min_length: 1,
        min_lower: 0,
        min_upper: 0,
        min_digits: 0,
        min_symbols: 0,
        ..PasswordPolicy::default()
    };
    Language::English
        .word_list()
        .iter()
        .copied()
        .filter(|word| {
            plain
                .lacks(&capital(policy, word), About::default())
                .is_empty()
        })
        .collect()
}

fn capital(policy: &PasswordPolicy, word: &str) -> String {
    let mut letters = word.chars();
    match letters.next() {
        Some(first) if policy.min_upper > 0 => {
            first.to_ascii_uppercase().to_string() + letters.as_str()
        }
        _ => word.to_owned(),
    }
}

/// The fewest and the most characters of a phrase.
pub fn phrase_lengths(policy: &PasswordPolicy, words: &[&str]) -> (usize, usize) {
    let count = usize::from(policy.words);
    let other =
        count.saturating_sub(1) * policy.separator.chars().count() + usize::from(policy.min_digits);
    let length = |word: &&str| word.len();
    (
        words.iter().map(length).min().unwrap_or(0) * count + other,
        words.iter().map(length).max().unwrap_or(0) * count + other,
    )
}

fn phrase(policy: &PasswordPolicy, rng: &mut dyn CryptoRng, words: &[&str]) -> String {
    let chosen: Vec<String> = (0..policy.words)
        .filter_map(|_| words.get(index(rng, words.len())))
        .map(|word| capital(policy, word))
        .collect();
    let digits: String = (0..policy.min_digits)
        .filter_map(|_| char::from_digit(u32::try_from(index(rng, 10)).unwrap_or(0), 10))
        .collect();
    chosen.join(&policy.separator) + &digits
}

/// Makes one; the policy has been checked.
pub fn generate(
    policy: &PasswordPolicy,
    rng: &mut dyn CryptoRng,
    about: About<'_>,
) -> Result<Secret, PolicyProblem> {
    let plan = (policy.words == 0).then(|| Plan::of(policy));
    let words = if policy.words > 0 {
        words(policy)
    } else {
        vec![]
    };
    for _ in 0..TRIES {
        let text = match &plan {
            Some(plan) => match plan.draw(rng, usize::from(policy.length)) {
                Some(text) => text,
                None => {
                    return impossible(
                        "no password can be generated: every character is forbidden",
                    );
                }
            },
            None => phrase(policy, rng, &words),
        };
        let secret = Secret::from_text(text);
        if policy
            .lacks(
                secret.expose_secret_text().unwrap_or_default(),
                About {
                    used_ago: None,
                    ..about
                },
            )
            .is_empty()
        {
            return Ok(secret);
        }
    }
    impossible(
        "no password that meets all the rules was found; allow more characters or longer runs, or make it longer",
    )
}

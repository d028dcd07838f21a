//! One-time codes by the time (RFC 6238) or by counting (RFC 4226), from seeds that are kept like
//! any other secret.
//!
//! A seed comes as an `otpauth://` address or as base32 alone, and is kept as such an address in
//! one spelling. Whoever may use a credential gets the current code; the seed itself takes a
//! reveal.

use std::borrow::Cow;

use totp_rs::{Algorithm, Secret as Encoded, TOTP};
use url::Url;

use crate::access::mark;
use crate::gate::{ForCode, Passed};
use crate::secret::Secret;
use crate::vault::facts::Facts;
use crate::vault::{OrganisationKey, Place, SealProblem, Sealed, WrappedKey, open};

/// The field in which a seed is kept.
pub const ONE_TIME_SEED: &str = "one_time_seed";
/// The fact about a seed whose codes count up: from where.
pub const COUNTER: &str = "counter";
/// From further up no code is counted: the number must fit into the records.
const MOST_COUNT: u64 = 1 << 62;

/// Why a seed is none. No message repeats what was given.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum SeedProblem {
    /// Neither an address nor base32.
    #[error("a seed is an otpauth:// URI, or letters A to Z and digits 2 to 7 (base32)")]
    NotASeed,
    /// An address that counts does not say from where.
    #[error("the `counter` of an otpauth://hotp/ URI is missing, or not a number")]
    Counter,
    /// The address is of another type.
    #[error("an otpauth URI begins with otpauth://totp/ or otpauth://hotp/")]
    UnknownType,
    /// There is no seed in the address.
    #[error("the otpauth URI has no `secret`")]
    NoSecret,
    /// Too short to protect anything.
    #[error("the seed has {0} bytes; RFC 4226 asks for at least 16, and fewer than 10 are refused")]
    TooShort(usize),
    /// A hash that RFC 6238 does not know.
    #[error("the `algorithm` of an otpauth URI is SHA1, SHA256 or SHA512")]
    Algorithm,
    /// An odd number of digits.
    #[error("the `digits` of an otpauth URI are 6, 7 or 8")]
    Digits,
    /// An odd period.
    #[error("the `period` of an otpauth URI is 1 to 300 seconds")]
    Period,
    /// The same part twice.
    #[error("the otpauth URI has `{0}` twice")]
    Twice(&'static str),
}

/// A seed of one-time codes.
#[derive(Debug)]
pub struct Seed {
    bytes: Secret,
    algorithm: Algorithm,
    digits: u8,
    period: u16,
    /// From where codes count up; none where they go by the time.
    counter: Option<u64>,
    label: String,
}

/// A code and how long it is good for.
#[derive(Debug)]
pub struct Code {
    /// The digits.
    pub digits: Secret,
    /// So many seconds of it are left, at least 1; none where codes count up.
    pub left: Option<u16>,
    /// How long each code lives, in seconds; none where codes count up.
    pub period: Option<u16>,
}

impl Seed {
    /// Reads a seed from an `otpauth://` address or base32; spaces and small letters are forgiven,
    /// since people type these.
    ///
    /// # Errors
    /// [`SeedProblem`] names the part that is wrong.
    pub fn parse(text: &str) -> Result<Self, SeedProblem> {
        if text.trim().to_ascii_lowercase().starts_with("otpauth:") {
            return Self::parse_address(text);
        }
        Ok(Self {
            bytes: decode(text)?,
            algorithm: Algorithm::SHA1,
            digits: 6,
            period: 30,
            counter: None,
            label: String::new(),
        })
    }

    /// Reads a seed from an `otpauth://` address alone.
    ///
    /// # Errors
    /// [`SeedProblem`] names the part that is wrong.
    pub fn parse_address(text: &str) -> Result<Self, SeedProblem> {
        let address = Url::parse(text.trim()).map_err(|_| SeedProblem::NotASeed)?;
        if address.scheme() != "otpauth" {
            return Err(SeedProblem::NotASeed);
        }
        let counted = match address.host_str().map(str::to_ascii_lowercase).as_deref() {
            Some("totp") => false,
            Some("hotp") => true,
            _ => return Err(SeedProblem::UnknownType),
        };
        let part = |name: &'static str| -> Result<Option<Cow<'_, str>>, SeedProblem> {
            let mut found = address
                .query_pairs()
                .filter(|(key, _)| key == name)
                .map(|(_, value)| value);
            let first = found.next();
            if found.next().is_some() {
                Err(SeedProblem::Twice(name))
            } else {
                Ok(first)
            }
        };
        let bytes = decode(&part("secret")?.ok_or(SeedProblem::NoSecret)?)?;
        let algorithm = match part("algorithm")?
            .map(|name| name.to_ascii_uppercase().replace('-', ""))
            .as_deref()
        {
            None | Some("SHA1") => Algorithm::SHA1,
            Some("SHA256") => Algorithm::SHA256,
            Some("SHA512") => Algorithm::SHA512,
            Some(_) => return Err(SeedProblem::Algorithm),
        };
        let digits =
            part("digits")?.map_or(Ok(6), |text| text.parse().map_err(|_| SeedProblem::Digits))?;
        let period =
            part("period")?.map_or(Ok(30), |text| text.parse().map_err(|_| SeedProblem::Period))?;
        if !(6..=8).contains(&digits) {
            return Err(SeedProblem::Digits);
        }
        if !(1..=300).contains(&period) {
            return Err(SeedProblem::Period);
        }
        let counter = part("counter")?
            .map(|text| text.parse().map_err(|_| SeedProblem::Counter))
            .transpose()?;
        if counted && counter.is_none_or(|from| from > MOST_COUNT) {
            return Err(SeedProblem::Counter);
        }
        let label = address
            .path()
            .trim_start_matches('/')
            .chars()
            .take(200)
            .collect();
        Ok(Self {
            bytes,
            algorithm,
            digits,
            period,
            counter: counter.filter(|_| counted),
            label,
        })
    }

    /// The one spelling in which it is kept.
    #[must_use]
    pub fn to_address(&self) -> Secret {
        let Encoded::Encoded(encoded) =
            Encoded::Raw(self.bytes.expose_secret().to_vec()).to_encoded()
        else {
            return Secret::from_text(String::new());
        };
        let (code_type, last) = match self.counter {
            None => ("totp", format!("period={}", self.period)),
            Some(from) => ("hotp", format!("counter={from}")),
        };
        Secret::from_text(format!(
            "otpauth://{code_type}/{}?secret={encoded}&algorithm={}&digits={}&{last}",
            self.label, self.algorithm, self.digits
        ))
    }

    /// What may be known of it without a reveal: `digits`, and `period` or, where codes count up,
    /// `counter`, from where.
    #[must_use]
    pub fn facts(&self) -> Facts {
        let (name, value) = self.counter.map_or_else(
            || ("period", self.period.to_string()),
            |from| (COUNTER, from.to_string()),
        );
        Facts::from([
            ("digits".to_owned(), self.digits.to_string()),
            (name.to_owned(), value),
        ])
    }

    fn code(&self, moment: u64, step: u64) -> Secret {
        let totp = TOTP::new_unchecked(
            self.algorithm,
            usize::from(self.digits),
            0,
            step,
            self.bytes.expose_secret().to_vec(),
        );
        Secret::from_text(totp.generate(moment))
    }

    /// The code at a time, in seconds since 1970; of a seed that counts, the one at `count`.
    #[must_use]
    pub fn code_at(&self, seconds: u64, count: u64) -> Code {
        if self.counter.is_some() {
            return Code {
                digits: self.code(count, 1),
                left: None,
                period: None,
            };
        }
        let period = u64::from(self.period);
        let left = u16::try_from(period - seconds % period).unwrap_or(self.period);
        Code {
            digits: self.code(seconds, period),
            left: Some(left),
            period: Some(self.period),
        }
    }
}

fn decode(text: &str) -> Result<Secret, SeedProblem> {
    let joined: String = text
        .chars()
        .filter(|c| !c.is_whitespace() && *c != '-' && *c != '=')
        .map(|c| c.to_ascii_uppercase())
        .collect();
    let bytes = Encoded::Encoded(joined)
        .to_bytes()
        .map_err(|_| SeedProblem::NotASeed)?;
    if bytes.len() < 10 {
        return Err(if bytes.is_empty() {
            SeedProblem::NotASeed
        } else {
            SeedProblem::TooShort(bytes.len())
        });
    }
    Ok(Secret::from_bytes(bytes))
}

/// The current code of a sealed seed, for somebody who may use the credential. The seed does not
/// leave this function.
///
/// # Errors
/// [`SealProblem`] when the seed does not open; a seed that opens and is none is
/// [`SealProblem::Refused`] too, since only this product writes them.
pub fn code_for(
    passed: &Passed<mark::Use>,
    key: &OrganisationKey,
    wrapped: &WrappedKey,
    place: &Place<'_>,
    sealed: &Sealed,
    seconds: u64,
    count: u64,
) -> Result<Code, SealProblem> {
    let plain = open(&ForCode(passed), key, wrapped, place, sealed)?;
    let text = plain
        .expose_secret_text()
        .map_err(|_| SealProblem::Refused)?;
    Seed::parse(text)
        .map(|seed| seed.code_at(seconds, count))
        .map_err(|_| SealProblem::Refused)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn code(seed: &Seed, seconds: u64) -> String {
        seed.code_at(seconds, 0)
            .digits
            .expose_secret_text()
            .unwrap()
            .to_owned()
    }

    /// Appendix B of RFC 6238: eight digits of the seeds that it names, at the times that it names.
    #[test]
    fn the_codes_are_those_of_the_standard() {
        let base32 = |text: &str| {
            Encoded::Raw(text.as_bytes().to_vec())
                .to_encoded()
                .to_string()
        };
        let seeds = [
            (
                "SHA1",
                "12345678901234567890",
                [
                    "94287082", "07081804", "14050471", "89005924", "69279037", "65353130",
                ],
            ),
            (
                "SHA256",
                "12345678901234567890123456789012",
                [
                    "46119246", "68084774", "67062674", "91819424", "90698825", "77737706",
                ],
            ),
            (
                "SHA512",
                "1234567890123456789012345678901234567890123456789012345678901234",
                [
                    "90693936", "25091201", "99943326", "93441116", "38618901", "47863826",
                ],
            ),
        ];
        for (algorithm, text, codes) in seeds {
            let seed = Seed::parse(&format!(
                "otpauth://totp/x?secret={}&algorithm={algorithm}&digits=8",
                base32(text)
            ))
            .unwrap();
            for (seconds, wanted) in [
                59,
                1_111_111_109,
                1_111_111_111,
                1_234_567_890,
                2_000_000_000,
                20_000_000_000,
            ]
            .into_iter()
            .zip(codes)
            {
                assert_eq!(code(&seed, seconds), wanted, "{algorithm} at {seconds}");
            }
        }
    }

    /// Appendix D of RFC 4226.
    #[test]
    fn the_codes_that_count_are_those_of_the_standard() {
        let secret = Encoded::Raw(b"12345678901234567890".to_vec()).to_encoded();
        let seed = Seed::parse(&format!("otpauth://hotp/x?secret={secret}&counter=7")).unwrap();
        let wanted = [
            "755224", "287082", "359152", "969429", "338314", "254676", "287922", "162583",
            "399871", "520489",
        ];
        for (count, wanted) in (0..).zip(wanted) {
            let code = seed.code_at(1_234_567_890, count);
            assert_eq!(
                (code.digits.expose_secret_text().unwrap(), code.left),
                (wanted, None)
            );
        }
        assert_eq!(seed.facts()[COUNTER], "7");
        assert_eq!(
            Seed::parse(seed.to_address().expose_secret_text().unwrap())
                .unwrap()
                .facts(),
            seed.facts()
        );
    }

    #[test]
    fn what_people_type_is_forgiven() {
        let plain = Seed::parse("JBSWY3DPEHPK3PXPJBSWY3DPEHPK3PXP").unwrap();
        for typed in [
            "jbsw y3dp ehpk 3pxp jbsw y3dp ehpk 3pxp",
            " JBSWY3DP-EHPK3PXP-JBSWY3DP-EHPK3PXP ",
            "OTPAUTH://totp/Osmere?secret=jbswy3dpehpk3pxpjbswy3dpehpk3pxp",
        ] {
            assert_eq!(
                code(&Seed::parse(typed).unwrap(), 1000),
                code(&plain, 1000),
                "{typed}"
            );
        }
        assert_eq!(
            (plain.code_at(1000, 0).left, plain.code_at(1000, 0).period),
            (Some(20), Some(30))
        );
        assert_eq!(plain.code_at(1020, 0).left, Some(30));
    }

    #[test]
    fn each_wrong_part_is_named() {
        let with = |rest: &str| {
            Seed::parse(&format!("otpauth://totp/x?secret=JBSWY3DPEHPK3PXP{rest}")).unwrap_err()
        };
        assert_eq!(with("&algorithm=MD5"), SeedProblem::Algorithm);
        for digits in ["5", "9", "six", "-6", ""] {
            assert_eq!(
                with(&format!("&digits={digits}")),
                SeedProblem::Digits,
                "{digits}"
            );
        }
        for period in ["0", "301", "-1", "1e9", ""] {
            assert_eq!(
                with(&format!("&period={period}")),
                SeedProblem::Period,
                "{period}"
            );
        }
        assert_eq!(
            with("&secret=JBSWY3DPEHPK3PXP"),
            SeedProblem::Twice("secret")
        );
        assert_eq!(
            Seed::parse("otpauth://totp/x").unwrap_err(),
            SeedProblem::NoSecret
        );
        for counter in [
            "",
            "&counter=",
            "&counter=-1",
            "&counter=x",
            "&counter=99999999999999999999",
            "&counter=9223372036854775807",
        ] {
            let address = format!("otpauth://hotp/x?secret=JBSWY3DPEHPK3PXP{counter}");
            assert_eq!(
                Seed::parse(&address).unwrap_err(),
                SeedProblem::Counter,
                "{counter}"
            );
        }
        assert_eq!(
            Seed::parse_address("JBSWY3DPEHPK3PXP").unwrap_err(),
            SeedProblem::NotASeed
        );
        assert_eq!(
            Seed::parse_address("https://totp/x?secret=JBSWY3DPEHPK3PXP").unwrap_err(),
            SeedProblem::NotASeed
        );
        assert_eq!(
            Seed::parse("otpauth://xotp/x?secret=JBSWY3DPEHPK3PXP").unwrap_err(),
            SeedProblem::UnknownType
        );
        assert_eq!(
            Seed::parse("JBSWY3DP").unwrap_err(),
            SeedProblem::TooShort(5)
        );
        for none in ["", "not base32!", "otpauth:", "189"] {
            assert!(Seed::parse(none).is_err(), "{none}");
        }
    }

    proptest! {
        #[test]
        fn keeping_a_seed_changes_no_code(bytes in proptest::collection::vec(any::<u8>(), 10..64), digits in 6_u8..=8, period in 1_u16..=300, algorithm in 0..3_usize, seconds in 0_u64..20_000_000_000) {
            let algorithm = [Algorithm::SHA1, Algorithm::SHA256, Algorithm::SHA512][algorithm];
            let seed = Seed { bytes: Secret::from_bytes(bytes), algorithm, digits, period, counter: None, label: "Osmere%20Water:duty".into() };
            let again = Seed::parse(seed.to_address().expose_secret_text().unwrap()).unwrap();
            prop_assert_eq!(code(&again, seconds), code(&seed, seconds));
            prop_assert_eq!(again.label, seed.label);
        }

        #[test]
        fn no_text_makes_it_panic(text in "\\PC*") {
            let _ = Seed::parse(&text);
            let _ = Seed::parse(&format!("otpauth://totp/{text}"));
        }
    }
}

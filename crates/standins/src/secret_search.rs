//! Looks for secrets in what was written: as they are, and as logs, protocols and shells write them.

use std::fmt::Write as _;

use base64::Engine as _;
use base64::engine::general_purpose::{STANDARD_NO_PAD, URL_SAFE_NO_PAD};

/// Shorter ones are found in every second sentence.
const SHORTEST: usize = 8;

/// A secret in all its disguises.
#[derive(Clone, Debug)]
pub struct Wanted {
    secret: String,
    disguises: Vec<String>,
    /// Those that say the same in capital and small letters.
    hexadecimal: [String; 3],
}

fn joined(bytes: &[u8], each: impl Fn(&mut String, u8)) -> String {
    let mut out = String::new();
    for &byte in bytes {
        each(&mut out, byte);
    }
    out
}

impl Wanted {
    /// None for one that is too short to be told from other text.
    #[must_use]
    pub fn new(secret: &str) -> Option<Self> {
        if secret.len() < SHORTEST {
            return None;
        }
        let bytes = secret.as_bytes();
        let utf16 = |order: fn(u16) -> [u8; 2]| -> Vec<u8> {
            secret.encode_utf16().flat_map(order).collect()
        };
        let mut disguises = vec![
            without_space(secret),
            without_space(&format!("{secret:?}")[1..])
                .trim_end_matches('"')
                .to_owned(),
            without_space(&secret.replace('\'', r"'\''")),
            without_space(&secret.replace('&', "&amp;").replace('<', "&lt;")),
            // A list of bytes, as Rust's own debugging output has it.
            bytes
                .iter()
                .map(u8::to_string)
                .collect::<Vec<_>>()
                .join(","),
            without_space(&String::from_utf8_lossy(&utf16(u16::to_le_bytes))),
            without_space(&String::from_utf8_lossy(&utf16(u16::to_be_bytes))),
        ];
        // In base64 a text looks different after one or two other bytes; what its neighbours have a
        // part in is left off.
        for text in [bytes, &utf16(u16::to_le_bytes)] {
            for (before, from) in [(0, 0), (1, 2), (2, 3)] {
                let padded = [&vec![b'x'; before][..], text].concat();
                for coding in [STANDARD_NO_PAD, URL_SAFE_NO_PAD] {
                    let coded = coding.encode(&padded);
                    let until = padded.len() / 3 * 4;
                    disguises.push(coded.get(from..until).unwrap_or_default().to_owned());
                }
            }
        }
        let percent = |out: &mut String, byte: u8| {
            let _ = match byte {
                b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' => {
                    write!(out, "{}", char::from(byte))
                }
                _ => write!(out, "%{byte:02x}"),
            };
        };
        let escaped = |out: &mut String, byte: u8| {
            let _ = write!(out, r"\x{byte:02x}");
        };
        let hex = |out: &mut String, byte: u8| {
            let _ = write!(out, "{byte:02x}");
        };
        disguises.sort();
        disguises.dedup();
        Some(Self {
            secret: secret.to_owned(),
            disguises,
            hexadecimal: [
                joined(bytes, hex),
                joined(bytes, escaped),
                joined(bytes, percent).to_lowercase(),
            ],
        })
    }

    /// The secret itself.
    #[must_use]
    pub fn secret(&self) -> &str {
        &self.secret
    }

    /// How the secret stands in a text, if it does. Spaces and line breaks may be anywhere in it.
    #[must_use]
    pub fn found_in(&self, text: &Searched) -> Option<&str> {
        let plain = self
            .disguises
            .iter()
            .find(|each| text.text.contains(each.as_str()));
        let hexadecimal = self
            .hexadecimal
            .iter()
            .find(|each| text.small.contains(each.as_str()));
        plain.or(hexadecimal).map(String::as_str)
    }
}

fn without_space(text: &str) -> String {
    text.split_whitespace().collect()
}

/// A text, made ready to be searched for many secrets.
#[derive(Clone, Debug)]
pub struct Searched {
    text: String,
    small: String,
}

impl Searched {
    /// Reads it.
    #[must_use]
    pub fn new(text: &[u8]) -> Self {
        let text = without_space(&String::from_utf8_lossy(text));
        Self {
            small: text.to_lowercase(),
            text,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_secret_is_found_however_it_is_written() {
        let secret = "Ridge's \"tide\" 7/\\?ö";
        let wanted = Wanted::new(secret).expect("long enough");
        let base64 = base64::engine::general_purpose::STANDARD;
        let utf16: Vec<u8> = secret.encode_utf16().flat_map(u16::to_le_bytes).collect();
        let hex = joined(secret.as_bytes(), |out, byte| {
            let _ = write!(out, "{byte:02X}");
        });
        for written in [
            format!("it said {secret} twice"),
            format!("{:?}", [secret]),
            format!("{:?}", secret.as_bytes()),
            base64.encode(secret),
            base64.encode(format!("a{secret}")),
            base64.encode(format!("ab{secret}, and more")),
            base64.encode(&utf16),
            hex,
            "Ridge%27s%20%22tide%22%207%2F%5C%3F%C3%B6".to_owned(),
            "echo 'Ridge'\\''s \"tide\" 7/\\?ö'".to_owned(),
            "Ridge's \"ti\r\nde\" 7/\\?ö".to_owned(),
        ] {
            let searched = Searched::new(written.as_bytes());
            assert!(wanted.found_in(&searched).is_some(), "{written}");
        }
        assert!(wanted.found_in(&Searched::new(&utf16)).is_some());
        for other in ["Ridge's tide", "", "UmlkZ2U", "5269646765"] {
            assert_eq!(wanted.found_in(&Searched::new(other.as_bytes())), None);
        }
        assert!(Wanted::new("short").is_none());
    }
}

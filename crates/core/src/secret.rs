//! The type every secret travels in (promise 6).
//!
//! It has no `Display`, no `Serialize` and no `PartialEq`; its `Debug` shows nothing; its bytes
//! are wiped when it is dropped. Reading it goes through one method with a loud name, so that
//! every reader can be found by searching for it.

use subtle::ConstantTimeEq;
use zeroize::Zeroizing;

/// A secret: a password, a key, a token, a passphrase.
pub struct Secret(Zeroizing<Vec<u8>>);

impl Secret {
    /// Takes over bytes; the vector is wiped when the secret is dropped.
    #[must_use]
    pub fn from_bytes(bytes: Vec<u8>) -> Self {
        Self(Zeroizing::new(bytes))
    }

    /// Takes over a text.
    #[must_use]
    pub fn from_text(text: String) -> Self {
        Self(Zeroizing::new(text.into_bytes()))
    }

    /// The bytes themselves. Call this at the last moment, and never to log, format or store them.
    #[must_use]
    pub fn expose_secret(&self) -> &[u8] {
        &self.0
    }

    /// The text itself, for passwords that go to a device.
    ///
    /// # Errors
    /// When the secret is no UTF-8; the error does not repeat it.
    pub fn expose_secret_text(&self) -> Result<&str, NotText> {
        std::str::from_utf8(&self.0).map_err(|_| NotText)
    }

    /// Whether two secrets are the same, in constant time for equal lengths.
    #[must_use]
    pub fn same_as(&self, other: &Self) -> bool {
        self.0.as_slice().ct_eq(other.0.as_slice()).into()
    }

    /// The length in bytes.
    #[must_use]
    pub fn len(&self) -> usize {
        self.0.len()
    }

    /// Whether it is empty.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}

impl Clone for Secret {
    fn clone(&self) -> Self {
        Self(Zeroizing::new(self.0.to_vec()))
    }
}

impl std::fmt::Debug for Secret {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Secret(…)")
    }
}

/// The secret is no text.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("the secret is not valid UTF-8")]
pub struct NotText;

/// So many characters of a secret in a row are as good as the secret.
const PART: usize = 8;
/// Shorter secrets are not looked for: that would blank half of every message without hiding
/// anything.
const SHORTEST: usize = 4;

/// Removes secrets from a text that a device said, before the text goes anywhere.
///
/// A device may echo what it was sent: broken over lines, with control characters between, cut at an
/// end, or in a usual disguise (base64, hex, percent encoding, quoted for a shell). Secrets shorter
/// than four characters are not looked for. What a device does to hide a secret is beyond this: it
/// has it already.
///
/// ```text
/// bad password: winter-tide-41 is too simple    bad password: ••• is too simple
/// winter-ti\nde-41                              •••
/// d2ludGVyLXRpZGUtNDE=                          •••=
/// ```
#[must_use]
pub fn redact(text: &str, secrets: &[&Secret]) -> String {
    // Only what can be seen is compared, so that breaks and zeros between do not hide a secret.
    let mut seen = Zeroizing::new(String::new());
    let mut places = vec![];
    for (at, c) in text.char_indices().filter(|(_, c)| !c.is_control()) {
        for _ in 0..c.len_utf8() {
            places.push(at);
        }
        seen.push(c);
    }
    let mut hidden = vec![false; text.len()];
    let mut hide = |part: &str| {
        for (from, _) in seen.match_indices(part) {
            let last = from + part.len() - 1;
            if let (Some(first), Some(last)) = (places.get(from), places.get(last)) {
                hidden
                    .iter_mut()
                    .take(*last + 1)
                    .skip(*first)
                    .for_each(|place| *place = true);
            }
        }
    };
    for secret in secrets {
        let Ok(plain) = secret.expose_secret_text() else {
            continue;
        };
        let plain: Zeroizing<Vec<char>> =
            Zeroizing::new(plain.chars().filter(|c| !c.is_control()).collect());
        if plain.len() < SHORTEST {
            continue;
        }
        for part in plain.windows(plain.len().min(PART)) {
            hide(&Zeroizing::new(part.iter().collect::<String>()));
        }
        for form in disguises(&plain.iter().collect::<String>()) {
            hide(&form);
        }
    }
    let (mut out, mut inside) = (String::with_capacity(text.len()), false);
    for (at, c) in text.char_indices() {
        let hides = hidden.get(at).copied().unwrap_or(false);
        if hides && !inside {
            out.push_str("•••");
        } else if !hides {
            out.push(c);
        }
        inside = hides;
    }
    out
}

/// How a secret looks where programs write one down.
fn disguises(plain: &str) -> Vec<Zeroizing<String>> {
    use base64::Engine as _;
    let mut forms = vec![plain.replace('\'', "'\\''"), plain.replace('\\', "\\\\")];
    let percent: String = url::form_urlencoded::byte_serialize(plain.as_bytes()).collect();
    forms.push(percent.replace('+', "%20"));
    forms.push(percent);
    let hex: String = plain.bytes().map(|byte| format!("{byte:02x}")).collect();
    forms.push(hex.to_uppercase());
    forms.push(hex);
    // In the middle of something longer, a text begins at one of three places of a group.
    for (before, from) in [("", 0), (".", 2), ("..", 3)] {
        let bytes = [before.as_bytes(), plain.as_bytes()].concat();
        for engine in [
            base64::engine::general_purpose::STANDARD_NO_PAD,
            base64::engine::general_purpose::URL_SAFE_NO_PAD,
        ] {
            let whole = Zeroizing::new(engine.encode(&bytes));
            let until = bytes.len() * 4 / 3;
            forms.push(whole.get(from..until).unwrap_or_default().to_owned());
        }
    }
    forms
        .into_iter()
        .filter(|form| form.len() >= SHORTEST && form != plain)
        .map(Zeroizing::new)
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_secret_does_not_print() {
        let secret = Secret::from_text("winter-tide-41".into());
        assert_eq!(format!("{secret:?}"), "Secret(…)");
        assert_eq!(format!("{:?}", Some(&secret)), "Some(Secret(…))");
    }

    #[test]
    fn what_a_device_echoes_is_blanked() {
        let secret = Secret::from_text("winter-tide-41".into());
        assert_eq!(
            redact("bad password: winter-tide-41 is too simple", &[&secret]),
            "bad password: ••• is too simple"
        );
    }

    #[test]
    fn a_secret_in_disguise_is_blanked() {
        let secret = Secret::from_text("it's a winter-tide & 41".into());
        let plain = "it's a winter-tide & 41";
        let wide: String = plain.chars().flat_map(|c| [c, '\0']).collect();
        let mut shown = vec![
            "it's a win\r\nter-tide & 41".to_owned(),
            "t's a winter-tide & 4".to_owned(),
            wide,
            "it'\\''s a winter-tide & 41".to_owned(),
            "it%27s+a+winter-tide+%26+41".to_owned(),
            "it%27s%20a%20winter-tide%20%26%2041".to_owned(),
            plain.bytes().map(|byte| format!("{byte:02x}")).collect(),
        ];
        use base64::Engine as _;
        for before in ["", "x", "xy", "duty:"] {
            let whole = format!("{before}{plain} and more");
            shown.push(base64::engine::general_purpose::STANDARD.encode(whole));
        }
        for text in shown {
            let said = redact(&format!("refused: {text} end"), &[&secret]);
            assert!(
                said.starts_with("refused: ") && said.ends_with(" end"),
                "{said}"
            );
            for part in [
                "inter",
                "tide",
                "aW50ZXI",
                "d2ludGVy",
                "3aW50",
                "696e746572",
                "win",
            ] {
                assert!(!said.contains(part), "{said} still has {part}");
            }
        }
        assert_eq!(redact("no tide here", &[&secret]), "no tide here");
    }

    #[test]
    fn sameness_is_of_bytes() {
        let a = Secret::from_text("abc".into());
        assert!(a.same_as(&Secret::from_bytes(b"abc".to_vec())));
        assert!(!a.same_as(&Secret::from_text("abd".into())));
        assert!(!a.same_as(&Secret::from_text("abcd".into())));
    }
}

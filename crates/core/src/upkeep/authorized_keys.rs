//! Files of keys that may sign in (`authorized_keys`, sshd(8)), and the one key in them that is ours.
//!
//! A key is replaced in two steps, so that one of both always opens the account: the new key is added
//! beside the former, and once it has opened the account, the former goes. Every other line stays as
//! it is, byte for byte. What stood before the former key on its line, such as `from="10.20.0.0/16"`,
//! stands before the new one: nobody gets more by a rotation.
//!
//! ```text
//! ssh-rsa AAAA… ines            ssh-rsa AAAA… ines             ssh-rsa AAAA… ines
//! from="…" ssh-ed25519 OLD pim  from="…" ssh-ed25519 OLD MARK  from="…" ssh-ed25519 NEW MARK
//!                               from="…" ssh-ed25519 NEW MARK
//! ```
//!
//! `MARK` is a comment that names the credential: a former key that could not be taken out, since the
//! line broke in between, is known by it the next time.

use uuid::Uuid;

/// The longest file that is read, in bytes.
pub const LONGEST_FILE: usize = 1024 * 1024;

/// A key as these files have it: its type, and the base64 of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PublicKeyLine {
    kind: String,
    encoded: String,
}

impl PublicKeyLine {
    /// Reads `ssh-ed25519 AAAA…`, with or without a comment.
    #[must_use]
    pub fn parse(line: &str) -> Option<Self> {
        let mut words = line.split_ascii_whitespace();
        let (kind, encoded) = (words.next()?, words.next()?);
        let plain = |text: &str, more: &[u8]| {
            text.bytes()
                .all(|byte| byte.is_ascii_alphanumeric() || more.contains(&byte))
        };
        (plain(kind, b"-@.") && plain(encoded, b"+/=")).then(|| Self {
            kind: kind.to_owned(),
            encoded: encoded.to_owned(),
        })
    }

    /// Where a line has this key: the place of its type. A key in an option, such as in a command,
    /// is none.
    fn place_in(&self, line: &[u8]) -> Option<usize> {
        let (place, kind, encoded) = key_of(line)?;
        (kind == self.kind.as_bytes() && encoded == self.encoded.as_bytes()).then_some(place)
    }
}

/// The comment that marks the keys of a credential.
fn mark(credential: Uuid) -> String {
    format!("jexlin-{credential}")
}

/// Where the options of a line end: a space outside of double quotes, in which a backslash keeps a
/// quote from ending them.
fn end_of_options(line: &[u8]) -> usize {
    let (mut quoted, mut kept) = (false, false);
    for (place, byte) in line.iter().enumerate() {
        match byte {
            b'"' if !kept => quoted = !quoted,
            b' ' | b'\t' if !quoted => return place,
            _ => {}
        }
        kept = *byte == b'\\' && !kept;
    }
    line.len()
}

fn after_spaces(line: &[u8], from: usize) -> usize {
    let rest = line.get(from..).unwrap_or_default();
    let spaces = rest.iter().take_while(|byte| b" \t".contains(byte));
    from + spaces.count()
}

fn word(line: &[u8], from: usize) -> &[u8] {
    let rest = line.get(from..).unwrap_or_default();
    let end = rest.iter().position(|byte| b" \t\r".contains(byte));
    rest.get(..end.unwrap_or(rest.len())).unwrap_or_default()
}

/// Whether a word is the name of a type of keys, as OpenSSH has them.
fn is_key_type(word: &[u8]) -> bool {
    let begins = |part: &[u8]| word.starts_with(part);
    begins(b"ssh-") || begins(b"ecdsa-sha2-") || begins(b"sk-ssh-") || begins(b"sk-ecdsa-sha2-")
}

/// The place, the type and the base64 of the key on a line; none on a comment and an empty line.
fn key_of(line: &[u8]) -> Option<(usize, &[u8], &[u8])> {
    let begin = after_spaces(line, 0);
    let first = word(line, begin);
    if first.starts_with(b"#") || first.is_empty() {
        return None;
    }
    let place = if is_key_type(first) {
        begin
    } else {
        let options = line.get(begin..).unwrap_or_default();
        after_spaces(line, begin + end_of_options(options))
    };
    let kind = word(line, place);
    if !is_key_type(kind) {
        return None;
    }
    let encoded = word(line, after_spaces(line, place + kind.len()));
    (!encoded.is_empty()).then_some((place, kind, encoded))
}

/// Whether the comment of a line is this mark.
fn is_marked(line: &[u8], mark: &str) -> bool {
    let Some((place, kind, _)) = key_of(line) else {
        return false;
    };
    let encoded = after_spaces(line, place + kind.len());
    let comment = after_spaces(line, encoded + word(line, encoded).len());
    let comment = line.get(comment..).unwrap_or_default();
    comment.trim_ascii_end() == mark.as_bytes()
}

/// Lines with what ends them.
fn lines(file: &[u8]) -> impl Iterator<Item = &[u8]> {
    file.split_inclusive(|byte| *byte == b'\n')
}

/// A line without what ends it, and that.
fn parts(line: &[u8]) -> (&[u8], &[u8]) {
    let end = line
        .iter()
        .rposition(|byte| !b"\r\n".contains(byte))
        .map_or(0, |last| last + 1);
    line.split_at(end)
}

/// The file with a new key of a credential beside its former one. The former line is marked, and its
/// options are those of the new one; where there is none, the new key has none. A key that is there
/// already is not added twice.
#[must_use]
pub fn with_added(
    file: &[u8],
    former: Option<&PublicKeyLine>,
    new: &PublicKeyLine,
    credential: Uuid,
) -> Vec<u8> {
    let mark = mark(credential);
    let ours = |key: &PublicKeyLine| format!("{} {} {mark}", key.kind, key.encoded);
    let mut out = vec![];
    let mut added = lines(file).any(|line| new.place_in(parts(line).0).is_some());
    for line in lines(file) {
        let (text, end) = parts(line);
        let known = former.and_then(|former| Some((former, former.place_in(text)?)));
        let Some((former, place)) = known else {
            out.extend_from_slice(line);
            continue;
        };
        let options = text.get(..place).unwrap_or_default();
        out.extend_from_slice(options);
        out.extend_from_slice(ours(former).as_bytes());
        out.extend_from_slice(if end.is_empty() { b"\n" } else { end });
        if !added {
            out.extend_from_slice(options);
            out.extend_from_slice(ours(new).as_bytes());
            out.extend_from_slice(if end.is_empty() { b"\n" } else { end });
            added = true;
        }
    }
    if !added {
        if out.last().is_some_and(|byte| *byte != b'\n') {
            out.push(b'\n');
        }
        out.extend_from_slice(ours(new).as_bytes());
        out.push(b'\n');
    }
    out
}

/// The file without a key that was added and did not open the account.
#[must_use]
pub fn without(file: &[u8], key: &PublicKeyLine) -> Vec<u8> {
    let kept = lines(file).filter(|line| key.place_in(parts(line).0).is_none());
    kept.flatten().copied().collect()
}

/// The file with one key of a credential alone: its former key, and whatever else has its mark, is
/// gone.
#[must_use]
pub fn with_only(
    file: &[u8],
    former: Option<&PublicKeyLine>,
    new: &PublicKeyLine,
    credential: Uuid,
) -> Vec<u8> {
    let mark = mark(credential);
    let kept = lines(file).filter(|line| {
        let text = parts(line).0;
        let is = |key: &PublicKeyLine| key.place_in(text).is_some();
        is(new) || !(former.is_some_and(is) || is_marked(text, &mark))
    });
    kept.flatten().copied().collect()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const WHOSE: Uuid = Uuid::from_u128(7);

    fn key(text: &str) -> PublicKeyLine {
        PublicKeyLine::parse(&format!("ssh-ed25519 {text}")).unwrap()
    }

    fn text(file: &[u8]) -> &str {
        std::str::from_utf8(file).unwrap()
    }

    #[test]
    fn a_key_is_added_beside_the_former_and_the_former_goes_with_its_options_kept() {
        let mark = mark(WHOSE);
        let file = "# of the pumps\nssh-rsa AAAA= ines of the works\n\
                    from=\"10.20.0.0/16\",command=\"say \\\"ssh-ed25519 OLD\\\"\" ssh-ed25519 OLD pim\n\
                    ecdsa-sha2-nistp256 BBBB= ssh-ed25519 OLD\n";
        let (old, new) = (key("OLD"), key("NEW"));
        let added = with_added(file.as_bytes(), Some(&old), &new, WHOSE);
        let options = "from=\"10.20.0.0/16\",command=\"say \\\"ssh-ed25519 OLD\\\"\"";
        let both = format!(
            "# of the pumps\nssh-rsa AAAA= ines of the works\n\
             {options} ssh-ed25519 OLD {mark}\n{options} ssh-ed25519 NEW {mark}\n\
             ecdsa-sha2-nistp256 BBBB= ssh-ed25519 OLD\n"
        );
        assert_eq!(text(&added), both);
        assert_eq!(with_added(&added, Some(&old), &new, WHOSE), added, "again");
        let only = with_only(&added, Some(&old), &new, WHOSE);
        let one = format!(
            "# of the pumps\nssh-rsa AAAA= ines of the works\n\
             {options} ssh-ed25519 NEW {mark}\necdsa-sha2-nistp256 BBBB= ssh-ed25519 OLD\n"
        );
        assert_eq!(text(&only), one);
        // What did not open the account goes again.
        let back = without(&added, &new);
        assert!(text(&back).contains("OLD") && !text(&back).contains("NEW"));
    }

    #[test]
    fn a_file_without_the_former_key_or_without_an_end_gets_a_line() {
        let (old, new) = (key("OLD"), key("NEW"));
        let line = format!("ssh-ed25519 NEW {}\n", mark(WHOSE));
        assert_eq!(text(&with_added(b"", None, &new, WHOSE)), line);
        let added = with_added(b"ssh-rsa AAAA= ines", Some(&old), &new, WHOSE);
        assert_eq!(text(&added), format!("ssh-rsa AAAA= ines\n{line}"));
        let ended = with_added(b"ssh-ed25519 OLD pim", Some(&old), &new, WHOSE);
        assert_eq!(text(&with_only(&ended, Some(&old), &new, WHOSE)), line);
    }

    #[test]
    fn a_former_key_that_was_left_goes_with_the_next_rotation() {
        let (first, second, third) = (key("ONE"), key("TWO"), key("THREE"));
        let left = with_added(b"ssh-ed25519 ONE pim\n", Some(&first), &second, WHOSE);
        let next = with_added(&left, Some(&second), &third, WHOSE);
        let only = with_only(&next, Some(&second), &third, WHOSE);
        assert_eq!(text(&only), format!("ssh-ed25519 THREE {}\n", mark(WHOSE)));
        // The mark of another credential is no reason.
        let other = format!("ssh-ed25519 FOUR {}\n", mark(Uuid::from_u128(8)));
        assert_eq!(
            with_only(other.as_bytes(), None, &third, WHOSE),
            other.as_bytes()
        );
    }

    #[test]
    fn what_is_no_key_is_none() {
        for line in [
            "",
            "# ssh-ed25519 OLD",
            "hello",
            "from=\"a b\"",
            "ssh-ed25519",
        ] {
            assert_eq!(key_of(line.as_bytes()), None, "{line}");
        }
        assert_eq!(PublicKeyLine::parse("ssh-ed25519"), None);
        assert_eq!(PublicKeyLine::parse("ssh-ed25519 'x\n"), None);
    }

    proptest! {
        #[test]
        fn lines_of_others_stay_byte_for_byte(
            others in proptest::collection::vec(proptest::collection::vec(any::<u8>(), 0..60), 0..8),
            at in 0_usize..9,
            there in any::<bool>(),
        ) {
            let (old, new) = (key("OLDOLDOLD"), key("NEWNEWNEW"));
            let mut all: Vec<Vec<u8>> = others
                .into_iter()
                .map(|line| line.into_iter().filter(|byte| *byte != b'\n').collect())
                .collect();
            let others = all.clone();
            if there {
                all.insert(at.min(all.len()), b"no-pty ssh-ed25519 OLDOLDOLD pim".to_vec());
            }
            let mut file = all.join(&b'\n');
            if !file.is_empty() {
                file.push(b'\n');
            }
            let former = there.then_some(&old);
            let only = with_only(&with_added(&file, former, &new, WHOSE), former, &new, WHOSE);
            let kept: Vec<Vec<u8>> = lines(&only)
                .filter(|line| new.place_in(parts(line).0).is_none())
                .map(<[u8]>::to_vec)
                .collect();
            let wanted: Vec<Vec<u8>> = if file.is_empty() { vec![] } else {
                others.into_iter().map(|mut line| { line.push(b'\n'); line }).collect()
            };
            prop_assert_eq!(kept, wanted);
            let ours = lines(&only).filter(|line| new.place_in(parts(line).0).is_some());
            let ours: Vec<&[u8]> = ours.collect();
            prop_assert_eq!(ours.len(), 1);
            prop_assert_eq!(ours[0].starts_with(b"no-pty "), there);
        }
    }
}

//! Names and paths, parsed once at the border.
//!
//! A name is what a person reads in a list, so anything that could make two different names look
//! alike or break a line (control characters, direction marks) is refused rather than repaired.

use std::fmt;

use unicode_normalization::UnicodeNormalization as _;

/// The longest name of anything, in characters.
pub const LONGEST_NAME: usize = 200;
/// The longest note, reason or comment, in characters.
pub const LONGEST_NOTE: usize = 10_000;
/// The longest non-secret or secret field, in bytes.
pub const LONGEST_FIELD: usize = 65_536;

/// A name that can stand in a list and in a path.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Name(String);

/// Why a text is no name.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NameProblem {
    /// Nothing but white space.
    #[error("the name is empty")]
    Empty,
    /// More than [`LONGEST_NAME`] characters.
    #[error("the name has {0} characters; at most {LONGEST_NAME} are possible")]
    TooLong(usize),
    /// A control character, a line break included.
    #[error("the name contains a control character at position {0}")]
    Control(usize),
    /// A mark that changes the direction of the text or cannot be seen.
    #[error("the name contains an invisible or direction-changing mark at position {0}")]
    Invisible(usize),
    /// A slash separates folders in a path.
    #[error("the name contains a slash, which separates folders in a path")]
    Slash,
    /// `.` and `..` mean something else to every reader.
    #[error("the name consists only of dots")]
    Dots,
}

/// A text as names are compared: without white space around it, in one form (Unicode NFC).
#[must_use]
pub fn composed(text: &str) -> String {
    text.trim().nfc().collect()
}

impl Name {
    /// Reads a name; white space around it is dropped, and it is brought into one form (Unicode NFC),
    /// so that two names that look the same are the same.
    ///
    /// # Errors
    /// [`NameProblem`] says what is wrong and where, counting characters from 1.
    pub fn parse(text: &str) -> Result<Self, NameProblem> {
        let text = composed(text);
        if text.is_empty() {
            return Err(NameProblem::Empty);
        }
        let length = text.chars().count();
        if length > LONGEST_NAME {
            return Err(NameProblem::TooLong(length));
        }
        for (index, c) in text.chars().enumerate() {
            if c.is_control() {
                return Err(NameProblem::Control(index + 1));
            }
            if is_invisible(c) {
                return Err(NameProblem::Invisible(index + 1));
            }
            if c == '/' {
                return Err(NameProblem::Slash);
            }
        }
        if text.chars().all(|c| c == '.') {
            return Err(NameProblem::Dots);
        }
        Ok(Self(text))
    }

    /// The name as text.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The name as an owned text.
    #[must_use]
    pub fn into_string(self) -> String {
        self.0
    }
}

impl fmt::Display for Name {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// Zero-width and bidirectional marks (Unicode UAX 9 and general category Cf as far as it matters).
const fn is_invisible(c: char) -> bool {
    matches!(c, '\u{00AD}' | '\u{061C}' | '\u{180E}' | '\u{200B}'..='\u{200F}' | '\u{2028}'..='\u{202E}'
        | '\u{2060}'..='\u{206F}' | '\u{FEFF}' | '\u{FFF9}'..='\u{FFFB}' | '\u{E0000}'..='\u{E007F}')
}

/// Whether a character can change how the text around it is shown: a control character, a
/// terminal's escape, a mark of direction or one that cannot be seen.
#[must_use]
pub fn is_unshowable(c: char) -> bool {
    c.is_control() || is_invisible(c)
}

/// How formulas begin.
const FORMULA: [char; 6] = ['=', '+', '-', '@', '\t', '\r'];

/// A cell of CSV that no spreadsheet takes for a formula: what begins like one gets an apostrophe.
/// [`without_guard`] takes it off again.
///
/// ```
/// use jexlin_core::names::{no_formula, without_guard};
/// for text in ["=1+1", "-5", "'-5", "''=x", "-----BEGIN", "it's"] {
///     assert_eq!(without_guard(&no_formula(text)), text);
/// }
/// ```
#[must_use]
pub fn no_formula(text: &str) -> String {
    let rest = text.trim_start_matches('\'');
    let formula =
        rest.starts_with(FORMULA) && (rest.len() < text.len() || text.parse::<f64>().is_err());
    if formula {
        format!("'{text}")
    } else {
        text.to_owned()
    }
}

/// The text of a cell that [`no_formula`], or a spreadsheet, has written.
#[must_use]
pub fn without_guard(cell: &str) -> &str {
    cell.strip_prefix('\'')
        .filter(|rest| rest.trim_start_matches('\'').starts_with(FORMULA))
        .unwrap_or(cell)
}

/// Foreign text (a device's words, a banner, a file's name) as it may stand in a list, a log line
/// or a terminal: on one line, with what could forge another one replaced by `�`.
///
/// ```
/// use jexlin_core::names::show_foreign;
/// assert_eq!(show_foreign("no\u{1b}[2Jsuch\nuser\u{202e}"), "no�[2Jsuch user�");
/// ```
#[must_use]
pub fn show_foreign(text: &str) -> String {
    let shown: String = text
        .chars()
        .map(|c| match c {
            '\n' | '\r' | '\t' => ' ',
            c if is_unshowable(c) => '\u{FFFD}',
            c => c,
        })
        .collect();
    shown
        .split(' ')
        .filter(|word| !word.is_empty())
        .collect::<Vec<_>>()
        .join(" ")
}

/// Checks a text of several lines (a note, a reason): no control characters but tab and line feed.
///
/// # Errors
/// A sentence that says what is wrong.
pub fn check_note(text: &str) -> Result<(), String> {
    let length = text.chars().count();
    if length > LONGEST_NOTE {
        return Err(format!(
            "the text has {length} characters; at most {LONGEST_NOTE} are possible"
        ));
    }
    match text
        .chars()
        .position(|c| is_unshowable(c) && c != '\n' && c != '\t')
    {
        Some(index) => Err(format!(
            "the text contains a control character or an invisible mark at position {}",
            index + 1
        )),
        None => Ok(()),
    }
}

/// Checks a field of one line: no control characters, no line break, bounded.
///
/// # Errors
/// A sentence that says what is wrong; it never repeats the value.
pub fn check_line(text: &str) -> Result<(), String> {
    if text.len() > LONGEST_FIELD {
        return Err(format!(
            "the value has {} bytes; at most {LONGEST_FIELD} are possible",
            text.len()
        ));
    }
    match text.chars().position(char::is_control) {
        Some(index) => Err(format!(
            "the value contains a control character at position {}",
            index + 1
        )),
        None => Ok(()),
    }
}

/// Splits a path such as `/Pumping/North ridge` into its names.
///
/// # Errors
/// [`NameProblem`] of the first part that is no name; `/` alone has no parts.
pub fn parse_path(path: &str) -> Result<Vec<Name>, NameProblem> {
    path.split('/')
        .filter(|part| !part.trim().is_empty())
        .map(Name::parse)
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn names_that_look_the_same_are_the_same() {
        let (composed, apart) = ("M\u{FC}hle", "Mu\u{308}hle");
        assert_eq!(Name::parse(composed).unwrap(), Name::parse(apart).unwrap());
    }

    #[test]
    fn names_that_could_mislead_are_refused() {
        assert_eq!(Name::parse(" \t "), Err(NameProblem::Empty));
        assert_eq!(Name::parse("a\u{7}b"), Err(NameProblem::Control(2)));
        assert_eq!(
            Name::parse("pump\u{202E}gpj"),
            Err(NameProblem::Invisible(5))
        );
        assert_eq!(Name::parse("a/b"), Err(NameProblem::Slash));
        assert_eq!(Name::parse(".."), Err(NameProblem::Dots));
        assert_eq!(
            Name::parse(&"x".repeat(201)),
            Err(NameProblem::TooLong(201))
        );
    }

    #[test]
    fn a_path_is_its_names() {
        let names = parse_path("/Pumping/North ridge").unwrap();
        assert_eq!(
            names.iter().map(Name::as_str).collect::<Vec<_>>(),
            ["Pumping", "North ridge"]
        );
        assert!(parse_path("/").unwrap().is_empty());
        assert!(parse_path("/a/..").is_err());
    }

    #[test]
    fn lines_and_notes_have_bounds() {
        assert!(check_note("two\nlines").is_ok());
        assert!(check_note("bell\u{7}").is_err());
        assert!(check_line("two\nlines").is_err());
        assert!(check_line(&"x".repeat(LONGEST_FIELD + 1)).is_err());
    }

    proptest! {
        #[test]
        fn whatever_parses_is_trimmed_and_survives_a_second_parse(text in "\\PC{0,250}") {
            if let Ok(name) = Name::parse(&text) {
                prop_assert_eq!(name.as_str().trim(), name.as_str());
                prop_assert_eq!(Name::parse(name.as_str()), Ok(name));
            }
        }
    }
}

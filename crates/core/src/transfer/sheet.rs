//! Reading files of rows: CSV and TSV (RFC 4180 and what is called so), JSON Lines, XLSX
//! (ECMA-376), and the FIDO Alliance's Credential Exchange Format.

use serde::{Deserialize, Serialize};
use zeroize::Zeroizing;

use super::choices::Separator;
use super::rows::{Grid, ReadAs, SheetProblem};
use super::{exchange, json_lines, separated, spreadsheet};
use crate::words::word_enum;

word_enum! {
    /// What a file is.
    pub enum Format {
        /// Separated by commas, semicolons, tabs or bars.
        #[serde(rename = "csv")]
        #[strum(serialize = "csv")]
        Separated,
        /// One JSON object a line, or an array of objects.
        JsonLines,
        /// A spreadsheet.
        Xlsx,
        /// The Credential Exchange Format, version 1, as JSON.
        Exchange,
    }
}

/// How a file shall be read; what is left out is guessed.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct ReadOptions {
    /// The format.
    pub format: Option<Format>,
    /// The encoding of a file of text, by any of its labels in the Encoding Standard.
    pub encoding: Option<String>,
    /// What separates the cells of CSV.
    pub separator: Option<Separator>,
    /// The sheet of a spreadsheet: its name, or its number from 1.
    pub sheet: Option<String>,
}

impl Format {
    /// What a file probably is, by its first bytes.
    #[must_use]
    pub fn of(bytes: &[u8]) -> Self {
        if bytes.starts_with(b"PK\x03\x04") {
            return Self::Xlsx;
        }
        let start = decode(bytes.get(..4096).unwrap_or(bytes), None);
        let start = start
            .as_ref()
            .map_or("", |decoded| decoded.text.trim_start());
        if start
            .strip_prefix('[')
            .is_some_and(|rest| rest.trim_start().starts_with('{'))
        {
            return Self::JsonLines;
        }
        if start.starts_with('{') {
            let first = start.lines().next().unwrap_or_default();
            // A whole object on the first line is a row; one that goes on is a document.
            let rows = serde_json::from_str::<serde_json::Value>(first).is_ok_and(|value| {
                value.get("accounts").is_none() && value.get("version").is_none()
            });
            return if rows {
                Self::JsonLines
            } else {
                Self::Exchange
            };
        }
        Self::Separated
    }
}

/// A file of text, decoded.
struct Decoded {
    text: Zeroizing<String>,
    encoding: &'static str,
    /// Whether it is not UTF-8 although nothing said so.
    fallback: bool,
}

/// The text of bytes: in the encoding that is chosen, else the one of its byte order mark, else
/// UTF-8, else the one that office programs of the West write.
fn decode(bytes: &[u8], chosen: Option<&str>) -> Result<Decoded, SheetProblem> {
    let decoded = |encoding: &'static encoding_rs::Encoding, bytes: &[u8], fallback| Decoded {
        text: Zeroizing::new(encoding.decode_without_bom_handling(bytes).0.into_owned()),
        encoding: encoding.name(),
        fallback,
    };
    let marked = encoding_rs::Encoding::for_bom(bytes);
    if let Some(label) = chosen {
        let encoding = encoding_rs::Encoding::for_label(label.as_bytes()).ok_or_else(|| {
            SheetProblem(
                "the encoding is not known; names are those of the Encoding Standard, such as utf-8, windows-1252 or utf-16le"
                    .into(),
            )
        })?;
        let mark = marked
            .filter(|(of, _)| *of == encoding)
            .map_or(0, |(_, mark)| mark);
        return Ok(decoded(
            encoding,
            bytes.get(mark..).unwrap_or_default(),
            false,
        ));
    }
    if let Some((encoding, mark)) = marked {
        return Ok(decoded(
            encoding,
            bytes.get(mark..).unwrap_or_default(),
            false,
        ));
    }
    Ok(match std::str::from_utf8(bytes) {
        // A cut at the end of what is looked at is no other encoding.
        Err(error) if error.error_len().is_some() => {
            decoded(encoding_rs::WINDOWS_1252, bytes, true)
        }
        _ => decoded(encoding_rs::UTF_8, bytes, false),
    })
}

/// By what a file is recognised that is encrypted, and what to do about it.
fn encrypted(bytes: &[u8]) -> Option<&'static str> {
    let armour: [(&[u8], &str); 4] = [
        (
            b"age-encryption.org/",
            "the file is encrypted with age; decrypt it first",
        ),
        (
            b"-----BEGIN AGE ENCRYPTED FILE-----",
            "the file is encrypted with age; decrypt it first",
        ),
        (
            b"-----BEGIN PGP MESSAGE-----",
            "the file is encrypted with OpenPGP; decrypt it first",
        ),
        (
            b"\xD0\xCF\x11\xE0\xA1\xB1\x1A\xE1",
            "the file is a spreadsheet with a password, or in a format older than XLSX; save it as XLSX without a password",
        ),
    ];
    armour
        .into_iter()
        .find(|(start, _)| bytes.starts_with(start))
        .map(|(_, problem)| problem)
}

impl Grid {
    /// Reads a file.
    ///
    /// # Errors
    /// [`SheetProblem`], without a word of what is in the file.
    pub fn read(bytes: &[u8], options: &ReadOptions) -> Result<Self, SheetProblem> {
        if let Some(problem) = encrypted(bytes) {
            return Err(SheetProblem(problem.into()));
        }
        let format = options.format.unwrap_or_else(|| Format::of(bytes));
        if format == Format::Xlsx {
            return spreadsheet::read(bytes, options.sheet.as_deref());
        }
        let decoded = decode(bytes, options.encoding.as_deref())?;
        let mut grid = Self::empty(ReadAs {
            encoding: Some(decoded.encoding.to_owned()),
            ..ReadAs::of(format)
        });
        if decoded.fallback {
            let change = format!(
                "it is not valid UTF-8, so it is read as {}; choose the encoding if letters are wrong",
                decoded.encoding
            );
            grid.changes.note_whole(None, &change);
        }
        let text = decoded.text.as_str();
        if text.trim().is_empty() {
            return Err(SheetProblem("it is empty".into()));
        }
        match format {
            Format::JsonLines => json_lines::read(text, &mut grid)?,
            Format::Exchange => exchange::read(text, &mut grid)?,
            Format::Separated | Format::Xlsx => {
                separated::read(text, options.separator, &mut grid)?;
            }
        }
        Ok(grid)
    }
}

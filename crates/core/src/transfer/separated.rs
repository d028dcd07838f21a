//! CSV and its relatives (RFC 4180): cells apart by commas, semicolons, tabs or bars.

use strum::VariantArray as _;

use super::choices::Separator;
use super::rows::{Grid, SheetProblem};

/// So many times the file is read at most, because of quotes that are never closed.
const MOST_READINGS: usize = 8;

/// The separator that divides the first line into most cells, outside of quotes.
fn guess(text: &str) -> Separator {
    let mut counts: Vec<(Separator, usize)> = Separator::VARIANTS
        .iter()
        .map(|separator| (*separator, 0))
        .collect();
    let mut quoted = false;
    for byte in text.bytes() {
        match byte {
            b'"' => quoted = !quoted,
            b'\n' if !quoted => break,
            _ if !quoted => counts
                .iter_mut()
                .filter(|(separator, _)| separator.byte() == byte)
                .for_each(|(_, count)| *count += 1),
            _ => {}
        }
    }
    // The first of equals; without any there is one column.
    counts
        .into_iter()
        .rev()
        .max_by_key(|(_, count)| *count)
        .map_or(Separator::Comma, |(separator, _)| separator)
}

/// What is wrong with the quotes of a record, and in which cell.
///
/// ```text
/// a,"b             a quote that is opened and never closed, in cell 1
/// a,"b "c" d",e    text after a closing quote, in cell 1
/// a,5" pipe,c      nothing: a quote inside a cell that does not begin with one is a character
/// ```
fn fault(record: &[u8], separator: u8) -> Option<(usize, &'static str)> {
    #[derive(Clone, Copy)]
    enum At {
        Start,
        Plain,
        Quoted,
        Quote,
    }
    let (mut column, mut at) = (0, At::Start);
    for byte in record {
        at = match (at, *byte) {
            (At::Start, b'"') | (At::Quote, b'"') => At::Quoted,
            (At::Quoted, b'"') => At::Quote,
            (At::Quoted, _) => At::Quoted,
            (_, b'\r' | b'\n') => At::Start,
            (_, byte) if byte == separator => {
                column += 1;
                At::Start
            }
            (At::Quote, _) => {
                return Some((
                    column,
                    "there is text after a closing quote; a quote inside a quoted cell is written twice",
                ));
            }
            (At::Start | At::Plain, _) => At::Plain,
        };
    }
    matches!(at, At::Quoted).then_some((column, "a quote is opened in it and never closed"))
}

/// Reads the rows. One whose quotes are wrong has a problem, and reading goes on in the next line.
pub(super) fn read(
    text: &str,
    chosen: Option<Separator>,
    grid: &mut Grid,
) -> Result<(), SheetProblem> {
    let separator = chosen.unwrap_or_else(|| guess(text));
    grid.read_as.separator = Some(separator);
    grid.guarded = true;
    let bytes = text.as_bytes();
    let (mut begin, mut counted, mut line, mut work) = (0, 0, 1, 0);
    let mut record = csv::ByteRecord::new();
    'again: loop {
        let rest = bytes.get(begin..).unwrap_or_default();
        let mut reader = csv::ReaderBuilder::new()
            .delimiter(separator.byte())
            .flexible(true)
            .has_headers(false)
            .from_reader(rest);
        loop {
            let at = |reader: &csv::Reader<&[u8]>| {
                begin + usize::try_from(reader.position().byte()).unwrap_or(0)
            };
            let mut start = at(&reader);
            match reader.read_byte_record(&mut record) {
                Ok(true) => {}
                Ok(false) => return Ok(()),
                Err(_) => return Err(SheetProblem("it cannot be read as CSV".into())),
            }
            // Line ends that the reader passes over belong to no record.
            while matches!(bytes.get(start), Some(b'\r' | b'\n')) {
                start += 1;
            }
            let end = at(&reader);
            let ends = bytes.get(counted..start).unwrap_or_default();
            line += ends.iter().filter(|byte| **byte == b'\n').count();
            counted = start;
            let raw = bytes.get(start..end).unwrap_or_default();
            work += raw.len();
            let Some((column, problem)) = fault(raw, separator.byte()) else {
                let cells = record
                    .iter()
                    .map(|cell| String::from_utf8_lossy(cell).into_owned());
                grid.push(line, cells.collect())?;
                continue;
            };
            grid.problem(line, Some(column), problem)?;
            if work > MOST_READINGS * bytes.len() {
                return Err(SheetProblem(
                    "too many quotes in it are never closed".into(),
                ));
            }
            let Some(length) = raw.iter().position(|byte| *byte == b'\n') else {
                begin = end;
                continue 'again;
            };
            begin = start + length + 1;
            continue 'again;
        }
    }
}

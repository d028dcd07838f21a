//! Reading files of rows: CSV and TSV (RFC 4180 and what is called so), JSON Lines, XLSX
//! (ECMA-376), and the FIDO Alliance's Credential Exchange Format.

use std::collections::BTreeMap;
use std::io::Cursor;

use calamine::{Data, DataRef, Reader as _, Xlsx};
use zeroize::Zeroize;

use super::exchange;
use super::rows::{MOST_COLUMNS, MOST_ROWS, Row, Sheet, SheetProblem};
use crate::words::word_enum;

/// The most bytes of one cell.
const MOST_CELL: usize = 100_000;

/// The most bytes that a compressed file may become.
const MOST_UNPACKED: u64 = 128 * 1024 * 1024;

/// The most files that a spreadsheet consists of.
const MOST_PARTS: usize = 1_000;

/// The most merged areas of one spreadsheet.
const MOST_MERGED: usize = 1_000;

/// The most cells of one file, empty ones included.
const MOST_CELLS: usize = 2_500_000;

/// The most bytes that all cells of one file may have together.
pub const MOST_TEXT: usize = 64 * 1024 * 1024;

word_enum! {
    /// What a file is.
    pub enum Format {
        /// Separated by commas, semicolons, tabs or bars, whichever it turns out to be.
        #[serde(rename = "csv")]
        #[strum(serialize = "csv")]
        Separated,
        /// One JSON object a line.
        JsonLines,
        /// A spreadsheet; its first sheet counts.
        Xlsx,
        /// The Credential Exchange Format, version 1, as JSON.
        Exchange,
    }
}

impl Drop for Row {
    fn drop(&mut self) {
        self.cells.iter_mut().for_each(Zeroize::zeroize);
    }
}

fn whole(problem: impl Into<String>) -> SheetProblem {
    SheetProblem::Whole(problem.into())
}

fn too_much() -> SheetProblem {
    whole("its cells hold more than can be read at once; split it into several files")
}

impl Format {
    /// What a file probably is, by its first bytes.
    #[must_use]
    pub fn of(bytes: &[u8]) -> Self {
        if bytes.starts_with(b"PK\x03\x04") {
            return Self::Xlsx;
        }
        let (text, _) = decode(bytes.get(..4096).unwrap_or(bytes));
        let start = text.trim_start();
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

/// The text of bytes, and the name of the encoding that was found: by its mark, else UTF-8, else
/// the one that office programs of the West write.
fn decode(bytes: &[u8]) -> (String, &'static str) {
    if let Some((encoding, mark)) = encoding_rs::Encoding::for_bom(bytes) {
        let (text, _) = encoding.decode_without_bom_handling(bytes.get(mark..).unwrap_or_default());
        return (text.into_owned(), encoding.name());
    }
    match std::str::from_utf8(bytes) {
        Ok(text) => (text.to_owned(), "UTF-8"),
        // A cut at the end of what is looked at is no other encoding.
        Err(error) if error.error_len().is_none() => {
            (String::from_utf8_lossy(bytes).into_owned(), "UTF-8")
        }
        Err(_) => (
            encoding_rs::WINDOWS_1252
                .decode_without_bom_handling(bytes)
                .0
                .into_owned(),
            "windows-1252",
        ),
    }
}

impl Sheet {
    /// Reads a file.
    ///
    /// # Errors
    /// [`SheetProblem`], without a word of what is in the file.
    pub fn read(bytes: &[u8], format: Format) -> Result<Self, SheetProblem> {
        let sheet = match format {
            Format::Xlsx => xlsx(bytes)?,
            _ => {
                let (mut text, encoding) = decode(bytes);
                let sheet = match format {
                    Format::JsonLines => json_lines(&text),
                    Format::Exchange => exchange::read(&text),
                    Format::Separated | Format::Xlsx => separated(&text),
                };
                text.zeroize();
                let mut sheet = sheet?;
                sheet.notes.insert(0, format!("read as {encoding}"));
                sheet
            }
        };
        if sheet.rows.is_empty() {
            return Err(whole("there are no rows in it"));
        }
        Ok(sheet)
    }

    /// Adds a row, filled up or refused.
    fn push(&mut self, line: usize, mut cells: Vec<String>) -> Result<(), SheetProblem> {
        if cells.iter().all(|cell| cell.trim().is_empty()) {
            return Ok(());
        }
        if self.rows.len() == MOST_ROWS {
            return Err(whole(format!(
                "it has more than {MOST_ROWS} rows; split it into several files"
            )));
        }
        self.bytes += cells.iter().map(String::len).sum::<usize>();
        if (self.rows.len() + 1) * self.heads.len() > MOST_CELLS || self.bytes > MOST_TEXT {
            return Err(too_much());
        }
        let problem = if cells.len() > self.heads.len() {
            Some(format!(
                "it has {} cells, but there are {} columns",
                cells.len(),
                self.heads.len()
            ))
        } else if cells.iter().any(|cell| cell.contains('\0')) {
            Some("there is a NUL character in it".to_owned())
        } else if cells.iter().any(|cell| cell.len() > MOST_CELL) {
            Some(format!("a cell has more than {MOST_CELL} bytes"))
        } else {
            None
        };
        if let Some(problem) = problem {
            return Err(SheetProblem::Row { line, problem });
        }
        cells.resize(self.heads.len(), String::new());
        self.rows.push(Row { line, cells });
        Ok(())
    }

    fn begin(heads: Vec<String>) -> Result<Self, SheetProblem> {
        if heads.len() > MOST_COLUMNS {
            return Err(whole(format!(
                "it has {} columns; at most {MOST_COLUMNS} can be read",
                heads.len()
            )));
        }
        if heads.iter().all(|head| head.trim().is_empty()) {
            return Err(whole("the first row names no columns"));
        }
        Ok(Self {
            heads: heads
                .into_iter()
                .map(|head| head.trim().to_owned())
                .collect(),
            ..Self::default()
        })
    }
}

/// The separator that divides the first line into most cells, outside of quotes.
fn separator(text: &str) -> u8 {
    let mut counts = [(b',', 0_usize), (b';', 0), (b'\t', 0), (b'|', 0)];
    let mut quoted = false;
    for byte in text.bytes() {
        match byte {
            b'"' => quoted = !quoted,
            b'\n' if !quoted => break,
            _ if !quoted => counts
                .iter_mut()
                .filter(|(sign, _)| *sign == byte)
                .for_each(|(_, count)| *count += 1),
            _ => {}
        }
    }
    // The first of equals; without any there is one column.
    counts
        .into_iter()
        .rev()
        .max_by_key(|(_, count)| *count)
        .map_or(b',', |(sign, _)| sign)
}

fn separated(text: &str) -> Result<Sheet, SheetProblem> {
    let sign = separator(text);
    let mut reader = csv::ReaderBuilder::new()
        .delimiter(sign)
        .flexible(true)
        .has_headers(false)
        .from_reader(text.as_bytes());
    let mut sheet: Option<Sheet> = None;
    let mut record = csv::StringRecord::new();
    // Where a record begins: behind the line ends that the reader passes over, in lines of an
    // editor.
    let (mut line, mut seen) = (1, 0);
    let mut line_at = |byte: u64| {
        let mut offset = usize::try_from(byte).unwrap_or(0).max(seen);
        while text
            .as_bytes()
            .get(offset)
            .is_some_and(|byte| matches!(byte, b'\r' | b'\n'))
        {
            offset += 1;
        }
        line += text
            .as_bytes()
            .get(seen..offset)
            .unwrap_or_default()
            .iter()
            .filter(|byte| **byte == b'\n')
            .count();
        seen = offset;
        line
    };
    loop {
        let begin = reader.position().byte();
        match reader.read_record(&mut record) {
            Ok(false) => break,
            Err(error) => {
                return Err(SheetProblem::Row {
                    line: line_at(begin),
                    problem: error.to_string(),
                });
            }
            Ok(true) => {}
        }
        let line = line_at(begin);
        let cells: Vec<String> = record.iter().map(str::to_owned).collect();
        match &mut sheet {
            None => sheet = Some(Sheet::begin(cells)?),
            Some(sheet) => sheet.push(line, cells)?,
        }
    }
    let mut sheet = sheet.ok_or_else(|| whole("it is empty"))?;
    sheet.guarded = true;
    let name = match sign {
        b';' => "semicolons",
        b'\t' => "tabs",
        b'|' => "bars",
        _ => "commas",
    };
    sheet.notes.push(format!("separated by {name}"));
    Ok(sheet)
}

fn json_lines(text: &str) -> Result<Sheet, SheetProblem> {
    let mut heads: Vec<String> = vec![];
    let mut objects = vec![];
    for (number, line) in text
        .lines()
        .enumerate()
        .filter(|(_, line)| !line.trim().is_empty())
    {
        let problem = |problem: String| SheetProblem::Row {
            line: number + 1,
            problem,
        };
        let object: serde_json::Map<String, serde_json::Value> = serde_json::from_str(line)
            .map_err(|error| {
                problem(format!(
                    "this is not a JSON object (column {})",
                    error.column()
                ))
            })?;
        for name in object.keys() {
            if !heads.contains(name) {
                heads.push(name.clone());
            }
        }
        if heads.len() > MOST_COLUMNS {
            return Err(whole(format!("it has more than {MOST_COLUMNS} columns")));
        }
        objects.push((number + 1, object));
    }
    let mut sheet = Sheet::begin(heads.clone())?;
    for (line, mut object) in objects {
        let mut cells = vec![];
        for head in &heads {
            cells.push(match object.remove(head) {
                None | Some(serde_json::Value::Null) => String::new(),
                Some(serde_json::Value::String(text)) => text,
                Some(serde_json::Value::Array(list))
                    if list.iter().all(serde_json::Value::is_string) =>
                {
                    list.iter()
                        .filter_map(serde_json::Value::as_str)
                        .collect::<Vec<_>>()
                        .join("\n")
                }
                Some(serde_json::Value::Object(_) | serde_json::Value::Array(_)) => {
                    return Err(SheetProblem::Row {
                        line,
                        problem: format!("`{head}` is neither a string nor a list of strings"),
                    });
                }
                Some(other) => other.to_string(),
            });
        }
        sheet.push(line, cells)?;
    }
    Ok(sheet)
}

/// What has been read of a spreadsheet, within the bounds of one.
#[derive(Default)]
struct Grid {
    rows: BTreeMap<u32, Vec<String>>,
    cells: usize,
    bytes: usize,
}

impl Grid {
    /// Puts a cell where it belongs.
    fn place(&mut self, row: u32, column: u32, text: String) -> Result<(), SheetProblem> {
        let (line, column) = (
            usize::try_from(row).unwrap_or(usize::MAX),
            usize::try_from(column).unwrap_or(usize::MAX),
        );
        if column >= MOST_COLUMNS {
            return Err(whole(format!(
                "it has a cell in column {}; at most {MOST_COLUMNS} columns can be read",
                column.saturating_add(1)
            )));
        }
        if line > MOST_ROWS {
            let row = line.saturating_add(1);
            return Err(whole(format!(
                "it has a cell in row {row}; at most {MOST_ROWS} rows can be read, split it into several files"
            )));
        }
        if text.len() > MOST_CELL {
            return Err(SheetProblem::Row {
                line: line + 1,
                problem: format!("a cell has more than {MOST_CELL} bytes"),
            });
        }
        let cells = self.rows.entry(row).or_default();
        let added = (column + 1).saturating_sub(cells.len());
        self.cells += added;
        self.bytes += text.len();
        if self.cells > MOST_CELLS || self.bytes > MOST_TEXT {
            return Err(too_much());
        }
        cells.extend(std::iter::repeat_n(String::new(), added));
        if let Some(cell) = cells.get_mut(column) {
            *cell = text;
        }
        Ok(())
    }
}

fn xlsx(bytes: &[u8]) -> Result<Sheet, SheetProblem> {
    let broken = || whole("this is not a readable spreadsheet (XLSX); save it again, or as CSV");
    // What it says of its own sizes is not believed: it is unpacked up to the bound, and thrown
    // away.
    let mut archive = zip::ZipArchive::new(Cursor::new(bytes)).map_err(|_| broken())?;
    if archive.len() > MOST_PARTS {
        return Err(broken());
    }
    let mut unpacked = 0;
    for number in 0..archive.len() {
        let mut file = archive.by_index(number).map_err(|_| broken())?;
        let room = MOST_UNPACKED - unpacked;
        unpacked += std::io::copy(
            &mut std::io::Read::take(&mut file, room + 1),
            &mut std::io::sink(),
        )
        .map_err(|_| broken())?;
        if unpacked > MOST_UNPACKED {
            return Err(whole(
                "it would be larger than 128 MiB when unpacked, which is the limit",
            ));
        }
    }
    let mut book: Xlsx<_> = Xlsx::new(Cursor::new(bytes)).map_err(|_| broken())?;
    let name = book.sheet_names().first().cloned().ok_or_else(broken)?;
    let merged: Vec<calamine::Dimensions> =
        book.merge_cells_by_sheet_name(&name).unwrap_or_default();
    if merged.len() > MOST_MERGED {
        return Err(whole(format!(
            "it has more than {MOST_MERGED} merged areas"
        )));
    }
    // Cell after cell, as they stand in the file: how large the sheet says that it is counts for
    // nothing.
    let mut grid = Grid::default();
    let mut cells = book.worksheet_cells_reader(&name).map_err(|_| broken())?;
    while let Some(cell) = cells.next_cell().map_err(|_| broken())? {
        let (row, column) = cell.get_position();
        let text = match cell.get_value() {
            DataRef::Empty => continue,
            DataRef::DateTime(day) => day.as_datetime().map_or_else(
                || Data::DateTime(*day).to_string(),
                |time| time.date().to_string(),
            ),
            other => Data::from(other.clone()).to_string(),
        };
        grid.place(row, column, text)?;
    }
    drop(cells);
    // What is merged holds its text once; every cell of it means that text.
    for area in merged {
        let source = grid
            .rows
            .get(&area.start.0)
            .and_then(|row| row.get(usize::try_from(area.start.1).ok()?))
            .cloned()
            .unwrap_or_default();
        let last = grid
            .rows
            .last_key_value()
            .map_or(0, |(row, _)| *row)
            .min(area.end.0);
        let columns = area.start.1
            ..=area
                .end
                .1
                .min(u32::try_from(MOST_COLUMNS).unwrap_or(u32::MAX) - 1);
        for (row, column) in (area.start.0..=last)
            .flat_map(|row| columns.clone().map(move |column| (row, column)))
            .skip(1)
        {
            grid.place(row, column, source.clone())?;
        }
    }
    let mut formulas = 0;
    let mut cells = book.worksheet_cells_reader(&name).map_err(|_| broken())?;
    while let Some(formula) = cells.next_formula().map_err(|_| broken())? {
        formulas += usize::from(!formula.get_value().is_empty());
    }
    drop(cells);
    // Empty columns at the left are none.
    let begin = grid
        .rows
        .values()
        .filter_map(|row| row.iter().position(|cell| !cell.is_empty()))
        .min()
        .unwrap_or(0);
    let mut sheet: Option<Sheet> = None;
    for (row, mut cells) in grid.rows {
        cells.drain(..begin.min(cells.len()));
        match &mut sheet {
            None => {
                while cells.last().is_some_and(|cell| cell.trim().is_empty()) {
                    cells.pop();
                }
                sheet = Some(Sheet::begin(cells)?);
            }
            Some(sheet) => {
                let extra = cells.split_off(cells.len().min(sheet.heads.len()));
                if extra.iter().any(|cell| !cell.trim().is_empty()) {
                    cells.extend(extra);
                }
                sheet.push(usize::try_from(row).unwrap_or(0) + 1, cells)?;
            }
        }
    }
    let mut sheet = sheet.ok_or_else(|| whole("its first sheet is empty"))?;
    sheet.notes.push(format!("the sheet “{name}”"));
    if formulas > 0 {
        sheet.notes.push(format!(
            "{formulas} cells are formulas: their saved results are used"
        ));
    }
    if book.sheet_names().len() > 1 {
        sheet.notes.push(format!(
            "{} other sheets are left out",
            book.sheet_names().len() - 1
        ));
    }
    Ok(sheet)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn read(text: &str) -> Sheet {
        Sheet::read(text.as_bytes(), Format::of(text.as_bytes())).unwrap()
    }

    #[test]
    fn separators_quotes_and_line_breaks_are_found_out() {
        for sign in [",", ";", "\t", "|"] {
            let sheet = read(&format!(
                "name{sign}password\r\n\"a{sign}b\"{sign}\"two\nlines \"\"quoted\"\"\"\r\n\r\nc{sign}=1+1\r\n"
            ));
            assert_eq!(sheet.heads, ["name", "password"]);
            assert_eq!(
                sheet.rows[0].cells,
                [format!("a{sign}b"), "two\nlines \"quoted\"".into()]
            );
            // A formula is a text like any other, and the line is the one of the editor.
            assert_eq!(
                (sheet.rows[1].line, sheet.rows[1].cells[1].as_str()),
                (5, "=1+1")
            );
        }
    }

    #[test]
    fn encodings_are_found_out() {
        let utf16: Vec<u8> = [0xFF, 0xFE]
            .into_iter()
            .chain(
                "name,password\nPumpe Süd,x"
                    .encode_utf16()
                    .flat_map(u16::to_le_bytes),
            )
            .collect();
        let office = b"name;password\nPumpe S\xFCd;x";
        let marked = b"\xEF\xBB\xBFname,password\nPumpe S\xC3\xBCd,x";
        for (bytes, encoding) in [
            (&utf16[..], "UTF-16LE"),
            (office, "windows-1252"),
            (marked, "UTF-8"),
        ] {
            let sheet = Sheet::read(bytes, Format::of(bytes)).unwrap();
            assert_eq!(
                (sheet.heads[0].as_str(), sheet.rows[0].cells[0].as_str()),
                ("name", "Pumpe Süd")
            );
            assert!(sheet.notes[0].contains(encoding), "{:?}", sheet.notes);
        }
    }

    #[test]
    fn what_cannot_be_meant_is_refused_with_its_row() {
        let refused = |bytes: &[u8]| {
            Sheet::read(bytes, Format::of(bytes))
                .unwrap_err()
                .to_string()
        };
        assert!(refused(b"name,password\nok,x\na,b\0c\n").starts_with("row 3: there is a NUL"));
        assert!(refused(b"name,password\na,b,c\n").starts_with("row 2: it has 3 cells"));
        assert!(refused(",".repeat(1_000_000).as_bytes()).contains("1000001 columns"));
        assert!(refused(b"name\n").contains("no rows"));
        assert!(refused(b"").contains("empty"));
        assert!(refused(b"PK\x03\x04 and no more").contains("not a readable spreadsheet"));
        assert!(refused(b"{\"name\": \"a\"}\n{\"name\": ").starts_with("row 2"));
        assert!(refused(b"{\"name\": {\"first\": 1}}").contains("neither a string"));
    }

    #[test]
    fn a_spreadsheet_that_blows_up_is_stopped() {
        use std::io::Write as _;
        let mut packed = zip::ZipWriter::new(Cursor::new(vec![]));
        packed
            .start_file(
                "xl/worksheets/sheet1.xml",
                zip::write::SimpleFileOptions::default(),
            )
            .unwrap();
        let zeros = vec![b' '; 1 << 20];
        for _ in 0..300 {
            packed.write_all(&zeros).unwrap();
        }
        let bytes = packed.finish().unwrap().into_inner();
        assert!(bytes.len() < 1 << 20);
        assert!(
            Sheet::read(&bytes, Format::Xlsx)
                .unwrap_err()
                .to_string()
                .contains("128 MiB")
        );
    }

    #[test]
    fn json_lines_have_the_columns_of_all_rows() {
        let sheet = read(
            "{\"name\": \"a\", \"port\": 22}\n\n{\"name\": \"b\", \"urls\": [\"x\", \"y\"], \"gone\": null}\n",
        );
        assert_eq!(sheet.heads, ["name", "port", "gone", "urls"]);
        assert_eq!(sheet.rows[0].cells, ["a", "22", "", ""]);
        assert_eq!(
            (sheet.rows[1].line, sheet.rows[1].cells[3].as_str()),
            (3, "x\ny")
        );
    }

    proptest! {
        #[test]
        fn what_is_written_as_csv_comes_back(rows in prop::collection::vec(prop::collection::vec("[^\0]{0,12}", 3), 1..8)) {
            let mut writer = csv::Writer::from_writer(vec![]);
            writer.write_record(["name", "user", "password"]).unwrap();
            for row in &rows {
                writer.write_record(row).unwrap();
            }
            let text = writer.into_inner().unwrap();
            let expected: Vec<&Vec<String>> = rows.iter().filter(|row| row.iter().any(|cell| !cell.trim().is_empty())).collect();
            match Sheet::read(&text, Format::Separated) {
                Ok(sheet) => prop_assert_eq!(sheet.rows.iter().map(|row| &row.cells).collect::<Vec<_>>(), expected),
                Err(_) => prop_assert!(expected.is_empty()),
            }
        }

        #[test]
        fn nothing_makes_the_readers_stumble(bytes in prop::collection::vec(any::<u8>(), 0..400)) {
            for format in [Format::Separated, Format::JsonLines, Format::Xlsx, Format::Exchange] {
                let _ = Sheet::read(&bytes, format);
            }
        }
    }
}

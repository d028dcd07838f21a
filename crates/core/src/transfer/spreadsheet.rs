//! Spreadsheets: XLSX (ECMA-376).

use std::collections::{BTreeMap, BTreeSet};
use std::io::Cursor;

use calamine::{Data, DataRef, Dimensions, Reader as _, Xlsx};

use super::rows::{
    Grid, MOST_CELL, MOST_CELLS, MOST_COLUMNS, MOST_ROWS, MOST_TEXT, ReadAs, SheetProblem,
};
use super::sheet::Format;

/// The most bytes that a compressed file may become.
const MOST_UNPACKED: u64 = 128 * 1024 * 1024;

/// The most files that a spreadsheet consists of.
const MOST_PARTS: usize = 1_000;

/// The most merged areas of one spreadsheet.
const MOST_MERGED: usize = 1_000;

/// A number of so many digits, and no more, is what a spreadsheet stores.
const EXACT_BELOW: f64 = 1e15;

type Book<'a> = Xlsx<Cursor<&'a [u8]>>;

/// The cells of a sheet, within the bounds of one.
#[derive(Default)]
struct Cells {
    rows: BTreeMap<u32, Vec<String>>,
    count: usize,
    bytes: usize,
    /// Rows with a cell that cannot be read, the first of each.
    problems: BTreeMap<u32, (usize, String)>,
    /// Row, column and what is not taken as it is shown.
    changes: BTreeSet<(u32, usize, &'static str)>,
}

impl Cells {
    /// Puts a cell where it belongs.
    fn place(&mut self, row: u32, column: usize, text: String) -> Result<(), SheetProblem> {
        let line = usize::try_from(row).unwrap_or(usize::MAX);
        if column >= MOST_COLUMNS {
            return Err(SheetProblem(format!(
                "it has a cell in column {}; at most {MOST_COLUMNS} columns can be read",
                column.saturating_add(1)
            )));
        }
        if line > MOST_ROWS {
            let row = line.saturating_add(1);
            return Err(SheetProblem(format!(
                "it has a cell in row {row}; at most {MOST_ROWS} rows can be read, split it into several files"
            )));
        }
        if text.len() > MOST_CELL {
            self.problem(row, column, format!("it has more than {MOST_CELL} bytes"));
            return Ok(());
        }
        let cells = self.rows.entry(row).or_default();
        let added = (column + 1).saturating_sub(cells.len());
        self.count += added;
        self.bytes += text.len();
        if self.count > MOST_CELLS || self.bytes > MOST_TEXT {
            return Err(SheetProblem::too_much());
        }
        cells.extend(std::iter::repeat_n(String::new(), added));
        if let Some(cell) = cells.get_mut(column) {
            *cell = text;
        }
        Ok(())
    }

    fn problem(&mut self, row: u32, column: usize, problem: String) {
        self.problems.entry(row).or_insert((column, problem));
    }

    /// What a cell holds, as text.
    fn text(&mut self, row: u32, column: usize, value: &DataRef<'_>) -> Option<String> {
        let mut note = |change| {
            self.changes.insert((row, column, change));
        };
        Some(match value {
            DataRef::Empty => return None,
            DataRef::String(text) => text.clone(),
            DataRef::SharedString(text) => (*text).to_owned(),
            DataRef::DateTimeIso(text) | DataRef::DurationIso(text) => text.clone(),
            DataRef::Bool(value) => {
                note("yes and no of a spreadsheet are written as true and false");
                value.to_string()
            }
            DataRef::DateTime(day) => {
                note(
                    "a date of a spreadsheet is written as 2026-12-24, with its time if it has one",
                );
                match day.as_datetime().filter(|_| day.is_datetime()) {
                    Some(time) if time.time() == chrono::NaiveTime::MIN => time.date().to_string(),
                    Some(time) => time.to_string(),
                    None => Data::DateTime(*day).to_string(),
                }
            }
            DataRef::Int(number) => {
                note(STORED);
                number.to_string()
            }
            DataRef::Float(number) => {
                note(if number.abs() < EXACT_BELOW {
                    STORED
                } else {
                    "a number has more than the 15 digits that a spreadsheet stores, so its last digits may be wrong; format such cells as text"
                });
                Data::Float(*number).to_string()
            }
            DataRef::Error(_) => {
                self.problem(row, column, "its formula has an error".to_owned());
                return None;
            }
        })
    }
}

const STORED: &str = "a number is taken as it is stored, not as it is shown: without leading zeros; format such cells as text";

fn broken() -> SheetProblem {
    SheetProblem("this is not a readable spreadsheet (XLSX); save it again, or as CSV".into())
}

/// What a file says of its own sizes is not believed: it is unpacked up to the bound, and thrown
/// away.
fn check_size(bytes: &[u8]) -> Result<(), SheetProblem> {
    let mut archive = zip::ZipArchive::new(Cursor::new(bytes)).map_err(|_| broken())?;
    if archive.len() > MOST_PARTS {
        return Err(broken());
    }
    let mut unpacked = 0;
    for number in 0..archive.len() {
        if archive
            .by_index_raw(number)
            .is_ok_and(|file| file.encrypted())
        {
            return Err(SheetProblem(
                "the file is encrypted with a password; decrypt it first".into(),
            ));
        }
        let mut file = archive.by_index(number).map_err(|_| broken())?;
        let room = MOST_UNPACKED - unpacked;
        let mut bounded = std::io::Read::take(&mut file, room + 1);
        unpacked += std::io::copy(&mut bounded, &mut std::io::sink()).map_err(|_| broken())?;
        if unpacked > MOST_UNPACKED {
            return Err(SheetProblem(
                "it would be larger than 128 MiB when unpacked, which is the limit".into(),
            ));
        }
    }
    Ok(())
}

/// The sheet that is chosen by its name or its number; the first one otherwise.
fn choose(sheets: &[String], chosen: Option<&str>) -> Result<String, SheetProblem> {
    let found = match chosen {
        None => sheets.first(),
        Some(wanted) => sheets.iter().find(|name| *name == wanted).or_else(|| {
            let number: usize = wanted.parse().ok()?;
            sheets.get(number.checked_sub(1)?)
        }),
    };
    found.cloned().ok_or_else(|| {
        let count = sheets.len();
        SheetProblem(format!(
            "there is no such sheet; there are {count}: give the name or the number of one"
        ))
    })
}

/// Cell after cell, as they stand in the file: how large the sheet says that it is counts for
/// nothing.
fn read_cells(book: &mut Book<'_>, name: &str, cells: &mut Cells) -> Result<(), SheetProblem> {
    let mut reader = book.worksheet_cells_reader(name).map_err(|_| broken())?;
    while let Some(cell) = reader.next_cell().map_err(|_| broken())? {
        let (row, column) = cell.get_position();
        let column = usize::try_from(column).unwrap_or(usize::MAX);
        if let Some(text) = cells.text(row, column, cell.get_value()) {
            cells.place(row, column, text)?;
        }
    }
    Ok(())
}

/// What is merged holds its text once; every cell of it means that text.
fn spread_merged(cells: &mut Cells, areas: Vec<Dimensions>) -> Result<(), SheetProblem> {
    for area in areas {
        let first = usize::try_from(area.start.1).unwrap_or(usize::MAX);
        let row = cells.rows.get(&area.start.0);
        let source = row
            .and_then(|row| row.get(first))
            .cloned()
            .unwrap_or_default();
        let bottom = cells
            .rows
            .last_key_value()
            .map_or(0, |(row, _)| *row)
            .min(area.end.0);
        let right = usize::try_from(area.end.1)
            .unwrap_or(usize::MAX)
            .min(MOST_COLUMNS - 1);
        let all = (area.start.0..=bottom)
            .flat_map(|row| (first..=right).map(move |column| (row, column)));
        for (row, column) in all.skip(1) {
            cells.place(row, column, source.clone())?;
            cells.changes.insert((
                row,
                column,
                "the text of merged cells is used in each of them",
            ));
        }
    }
    Ok(())
}

/// Reads one sheet.
pub(super) fn read(bytes: &[u8], chosen: Option<&str>) -> Result<Grid, SheetProblem> {
    check_size(bytes)?;
    let mut book: Book<'_> = Xlsx::new(Cursor::new(bytes)).map_err(|_| broken())?;
    let sheets = book.sheet_names().clone();
    let name = choose(&sheets, chosen)?;
    let merged: Vec<Dimensions> = book.merge_cells_by_sheet_name(&name).unwrap_or_default();
    if merged.len() > MOST_MERGED {
        return Err(SheetProblem(format!(
            "it has more than {MOST_MERGED} merged areas"
        )));
    }
    let mut cells = Cells::default();
    read_cells(&mut book, &name, &mut cells)?;
    spread_merged(&mut cells, merged)?;
    let mut reader = book.worksheet_cells_reader(&name).map_err(|_| broken())?;
    while let Some(formula) = reader.next_formula().map_err(|_| broken())? {
        if !formula.get_value().is_empty() {
            let (row, column) = formula.get_position();
            let column = usize::try_from(column).unwrap_or(usize::MAX);
            let change = "a formula is taken as its saved result";
            cells.changes.insert((row, column, change));
        }
    }
    drop(reader);
    into_grid(cells, name, sheets, chosen.is_some())
}

/// The cells as rows; empty columns at the left are none.
fn into_grid(
    cells: Cells,
    name: String,
    sheets: Vec<String>,
    chosen: bool,
) -> Result<Grid, SheetProblem> {
    let left = cells
        .rows
        .values()
        .filter_map(|row| row.iter().position(|cell| !cell.is_empty()))
        .min()
        .unwrap_or(0);
    let line_of = |row: u32| usize::try_from(row).unwrap_or(0) + 1;
    let others = sheets.len() - 1;
    let mut grid = Grid::empty(ReadAs {
        sheet: Some(name),
        sheets,
        ..ReadAs::of(Format::Xlsx)
    });
    if others > 0 && !chosen {
        let change = format!("{others} other sheets are left out");
        grid.changes.note_whole(None, &change);
    }
    for (row, (column, problem)) in &cells.problems {
        grid.problem(line_of(*row), Some(column.saturating_sub(left)), problem)?;
    }
    for (row, column, change) in cells.changes {
        if !cells.problems.contains_key(&row) {
            grid.changes
                .note(line_of(row), Some(column.saturating_sub(left)), change);
        }
    }
    for (row, mut texts) in cells.rows {
        if cells.problems.contains_key(&row) {
            continue;
        }
        texts.drain(..left.min(texts.len()));
        grid.push(line_of(row), texts)?;
    }
    if grid.rows.is_empty() && grid.problems.is_empty() {
        return Err(SheetProblem("its sheet is empty".into()));
    }
    Ok(grid)
}

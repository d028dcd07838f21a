//! Rows of a file that is imported, whatever its format.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use zeroize::Zeroize;

use super::choices::Separator;
use super::sheet::Format;

/// The most rows of one file.
pub const MOST_ROWS: usize = 100_000;

/// The most columns of one file.
pub const MOST_COLUMNS: usize = 200;

/// The most bytes of one cell.
pub(super) const MOST_CELL: usize = 100_000;

/// The most cells of one file, empty ones included.
pub(super) const MOST_CELLS: usize = 2_500_000;

/// The most bytes that all cells of one file may have together.
pub const MOST_TEXT: usize = 64 * 1024 * 1024;

/// So many lines are listed of one sort of change; all are counted.
const MOST_LINES: usize = 100;

/// One row. It wipes itself.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct Row {
    /// Where it begins in the file, counted from 1 as a text editor or a spreadsheet does.
    pub line: usize,
    /// Its cells, as many as there are columns.
    pub cells: Vec<String>,
}

impl Drop for Row {
    fn drop(&mut self) {
        self.cells.iter_mut().for_each(Zeroize::zeroize);
    }
}

/// Why a row cannot be imported. Nothing in it is a value of the file.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RowProblem {
    /// Where the row begins.
    pub line: usize,
    /// The column, counted from 0, where it is the problem of one.
    pub column: Option<usize>,
    /// The problem.
    pub problem: String,
}

/// What is not taken exactly as it stands in the file, counted by column and reason.
///
/// ```text
/// changes.note(2, Some(0), "spaces around it are removed");
/// changes.note(7, Some(0), "spaces around it are removed");
/// // one entry: column 0, "spaces around it are removed", 2 rows: lines 2 and 7
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Changes(BTreeMap<(Option<usize>, String), ChangedLines>);

/// The rows that one sort of change is in.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ChangedLines {
    /// How many; 0 where it is about the whole file.
    pub rows: usize,
    /// The lines of the first hundred.
    pub lines: Vec<usize>,
}

impl Changes {
    /// Notes a change of a cell, or of a row.
    pub fn note(&mut self, line: usize, column: Option<usize>, change: &str) {
        let changed = self.0.entry((column, change.to_owned())).or_default();
        if changed.lines.last() == Some(&line) {
            return;
        }
        changed.rows += 1;
        if changed.lines.len() < MOST_LINES {
            changed.lines.push(line);
        }
    }

    /// Notes a change of the whole file, or of a whole column.
    pub fn note_whole(&mut self, column: Option<usize>, change: &str) {
        let _ = self.0.entry((column, change.to_owned())).or_default();
    }

    /// Each sort of change: the column, what is changed, and where.
    pub fn iter(&self) -> impl Iterator<Item = (Option<usize>, &str, &ChangedLines)> {
        self.0
            .iter()
            .map(|((column, change), lines)| (*column, change.as_str(), lines))
    }
}

impl Serialize for Changes {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_seq(&self.0)
    }
}

impl<'de> Deserialize<'de> for Changes {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let entries = Vec::<((Option<usize>, String), ChangedLines)>::deserialize(deserializer)?;
        Ok(Self(entries.into_iter().collect()))
    }
}

/// How a file was read: as somebody chose, or as it was guessed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ReadAs {
    /// The format.
    pub format: Format,
    /// The encoding of a file of text, by its name in the Encoding Standard.
    pub encoding: Option<String>,
    /// What separates the cells.
    pub separator: Option<Separator>,
    /// The sheet of a spreadsheet.
    pub sheet: Option<String>,
    /// All sheets of a spreadsheet.
    pub sheets: Vec<String>,
    /// The line of the headings; 0 when there are none. Unset where the format names the fields of
    /// each row.
    pub heading_row: Option<usize>,
}

impl ReadAs {
    /// Nothing but a format.
    #[must_use]
    pub const fn of(format: Format) -> Self {
        Self {
            format,
            encoding: None,
            separator: None,
            sheet: None,
            sheets: vec![],
            heading_row: None,
        }
    }
}

/// What is in a file, before it is settled which row holds the headings.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Grid {
    /// The names of the columns, where the format has them beside the rows.
    pub heads: Option<Vec<String>>,
    /// The rows, with as many cells as each has.
    pub rows: Vec<Row>,
    /// The rows that cannot be read.
    pub problems: Vec<RowProblem>,
    /// What is not taken as it stands in the file.
    pub changes: Changes,
    /// How it was read.
    pub read_as: ReadAs,
    /// Whether cells may have an apostrophe in front that only says that they are no formula.
    pub guarded: bool,
    /// The cells of all rows.
    pub(super) cells: usize,
    /// The bytes of all cells.
    pub(super) bytes: usize,
}

/// Rows under headings.
#[derive(Clone, Debug)]
pub struct Sheet {
    /// The headings of the columns.
    pub heads: Vec<String>,
    /// The rows, each with a cell for each column.
    pub rows: Vec<Row>,
    /// The rows that cannot be read.
    pub problems: Vec<RowProblem>,
    /// What is not taken as it stands in the file.
    pub changes: Changes,
    /// How it was read.
    pub read_as: ReadAs,
    /// As in [`Grid`].
    pub guarded: bool,
}

/// Why a file cannot be read at all. Nothing in it is a value of the file.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, thiserror::Error)]
#[error("{0}")]
pub struct SheetProblem(pub String);

impl SheetProblem {
    pub(super) fn too_much() -> Self {
        Self("its cells hold more than can be read at once; split it into several files".into())
    }
}

impl Grid {
    pub(super) const fn empty(read_as: ReadAs) -> Self {
        Self {
            heads: None,
            rows: vec![],
            problems: vec![],
            changes: Changes(BTreeMap::new()),
            read_as,
            guarded: false,
            cells: 0,
            bytes: 0,
        }
    }

    /// Adds a problem of a row.
    pub(super) fn problem(
        &mut self,
        line: usize,
        column: Option<usize>,
        problem: impl Into<String>,
    ) -> Result<(), SheetProblem> {
        if self.problems.len() >= MOST_ROWS {
            return Err(SheetProblem(format!(
                "more than {MOST_ROWS} of its rows cannot be read"
            )));
        }
        let problem = problem.into();
        self.problems.push(RowProblem {
            line,
            column,
            problem,
        });
        Ok(())
    }

    /// Adds a row, unless all its cells are empty.
    pub(super) fn push(&mut self, line: usize, cells: Vec<String>) -> Result<(), SheetProblem> {
        if cells.iter().all(|cell| cell.trim().is_empty()) {
            return Ok(());
        }
        let row = Row { line, cells };
        // The row of the headings is one more.
        if self.rows.len() > MOST_ROWS {
            return Err(SheetProblem(format!(
                "it has more than {MOST_ROWS} rows; split it into several files"
            )));
        }
        self.cells += row.cells.len();
        self.bytes += row.cells.iter().map(String::len).sum::<usize>();
        if self.cells > MOST_CELLS || self.bytes > MOST_TEXT {
            return Err(SheetProblem::too_much());
        }
        let problem = row.cells.iter().enumerate().find_map(|(column, cell)| {
            let problem = if cell.contains('\0') {
                "there is a NUL character in it".to_owned()
            } else if cell.len() > MOST_CELL {
                format!("it has more than {MOST_CELL} bytes")
            } else {
                return None;
            };
            Some((column, problem))
        });
        if let Some((column, problem)) = problem {
            return self.problem(line, Some(column), problem);
        }
        self.rows.push(row);
        Ok(())
    }

    /// Settles which row holds the headings: as is said (a line; 0 for none), or the first one, if
    /// most of its cells are words by which columns are known. A row that only might be headings
    /// is not shown as such, since it may hold a password.
    ///
    /// # Errors
    /// [`SheetProblem`] when there are no rows, or too many columns.
    pub fn into_sheet(
        mut self,
        heading_row: Option<usize>,
        is_known: impl Fn(&str) -> bool,
    ) -> Result<Sheet, SheetProblem> {
        let widest = |rows: &[Row]| rows.iter().map(|row| row.cells.len()).max().unwrap_or(0);
        let heads = match self.heads.take() {
            Some(heads) => heads,
            None => {
                let looks_like_headings = |row: &Row| {
                    let cells = row.cells.iter().filter(|cell| !cell.trim().is_empty());
                    let (all, known) = cells.fold((0, 0), |(all, known), cell| {
                        (all + 1, known + usize::from(is_known(cell)))
                    });
                    known == all || known >= 2 && 2 * known >= all || known >= 3
                };
                let chosen = match heading_row {
                    Some(0) => None,
                    Some(line) => Some(
                        self.rows
                            .iter()
                            .position(|row| row.line == line)
                            .ok_or_else(|| {
                                SheetProblem(format!("there is no row of headings in line {line}"))
                            })?,
                    ),
                    None => self
                        .rows
                        .first()
                        .is_some_and(looks_like_headings)
                        .then_some(0),
                };
                if let Some(index) = chosen {
                    let mut row = self.rows.remove(index);
                    let above: Vec<Row> = self.rows.drain(..index).collect();
                    for row in &above {
                        self.changes
                            .note(row.line, None, "a row above the headings is left out");
                    }
                    self.problems.retain(|problem| problem.line > row.line);
                    self.read_as.heading_row = Some(row.line);
                    let mut heads = std::mem::take(&mut row.cells);
                    for head in &mut heads {
                        *head = head.trim().to_owned();
                    }
                    while heads.last().is_some_and(String::is_empty) {
                        heads.pop();
                    }
                    heads
                } else {
                    self.read_as.heading_row = Some(0);
                    if heading_row.is_none() {
                        self.changes.note_whole(
                            None,
                            "the first row does not look like headings, so it is imported as a row; choose the row of the headings if there is one",
                        );
                    }
                    (1..=widest(&self.rows))
                        .map(|number| format!("column {number}"))
                        .collect()
                }
            }
        };
        if heads.len() > MOST_COLUMNS {
            return Err(SheetProblem(format!(
                "it has {} columns; at most {MOST_COLUMNS} can be read",
                heads.len()
            )));
        }
        if self.rows.len() > MOST_ROWS {
            return Err(SheetProblem(format!(
                "it has more than {MOST_ROWS} rows; split it into several files"
            )));
        }
        if self.rows.is_empty() && self.problems.is_empty() {
            return Err(SheetProblem("there are no rows in it".into()));
        }
        if self.rows.len() * heads.len() > MOST_CELLS {
            return Err(SheetProblem::too_much());
        }
        let mut rows = Vec::with_capacity(self.rows.len());
        for mut row in std::mem::take(&mut self.rows) {
            let (has, named) = (row.cells.len(), heads.len());
            let extra = row.cells.iter().skip(named);
            if extra.clone().any(|cell| !cell.trim().is_empty()) {
                let problem = format!("it has {has} cells, but there are {named} columns");
                self.problem(row.line, None, problem)?;
                continue;
            }
            row.cells.resize(named, String::new());
            rows.push(row);
        }
        self.problems.sort_by_key(|problem| problem.line);
        Ok(Sheet {
            heads,
            rows,
            problems: self.problems,
            changes: self.changes,
            read_as: self.read_as,
            guarded: self.guarded,
        })
    }
}

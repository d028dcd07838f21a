//! Rows of a file that is imported, whatever its format.

use serde::{Deserialize, Serialize};

/// The most rows of one file.
pub const MOST_ROWS: usize = 100_000;

/// The most columns of one file.
pub const MOST_COLUMNS: usize = 200;

/// One row.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct Row {
    /// Where it begins in the file, counted from 1 as a text editor or a spreadsheet does.
    pub line: usize,
    /// Its cells, as many as there are columns.
    pub cells: Vec<String>,
}

/// What is in a file.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct Sheet {
    /// The heads of the columns.
    pub heads: Vec<String>,
    /// The rows.
    pub rows: Vec<Row>,
    /// What the reader should know: the encoding and the separator that were found, what was left
    /// out.
    pub notes: Vec<String>,
    /// Whether cells may have an apostrophe in front that only says that they are no formula.
    pub guarded: bool,
    /// The bytes of all cells.
    pub(super) bytes: usize,
}

/// Why a file cannot be read, with the row where that is known.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, thiserror::Error)]
pub enum SheetProblem {
    /// It is nothing that is known here.
    #[error("{0}")]
    Whole(String),
    /// One row cannot be read.
    #[error("row {line}: {problem}")]
    Row {
        /// Where.
        line: usize,
        /// What.
        problem: String,
    },
}

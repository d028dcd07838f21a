//! Import and export.
//!
//! A file of any of the open formats becomes a [`Grid`] of texts, and once it is settled which row
//! holds the headings, a [`Sheet`]. [`guess`] says what each column probably is; a person may say
//! otherwise; [`read_row`] then turns each row into a [`ParsedRow`], or lists its problems. What
//! cannot be read spoils its row alone, and what is not taken exactly as it stands in the file is
//! listed ([`Changes`]). Nothing here keeps a text longer than it must: cells wipe themselves.

mod choices;
mod columns;
mod exchange;
mod json_lines;
mod protect;
mod rows;
mod separated;
mod sheet;
mod spreadsheet;
#[cfg(test)]
mod tests;

pub use choices::{ExportFormat, MatchKey, Matching, Separator};
pub use columns::{
    Column, Guess, Kinds, ParsedRow, Problem, RowDevice, guess, is_heading, read_row,
};
pub use exchange::{Exported, to_csv, to_exchange};
pub use protect::{Protection, protect};
pub use rows::{
    ChangedLines, Changes, Grid, MOST_COLUMNS, MOST_ROWS, MOST_TEXT, ReadAs, Row, RowProblem,
    Sheet, SheetProblem,
};
pub use sheet::{Format, ReadOptions};

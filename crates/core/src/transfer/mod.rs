//! Import and export.
//!
//! A file of any of the open formats becomes a [`Sheet`]: columns with heads, and rows of texts.
//! [`guess`] says what each column probably is; a person may say otherwise; [`read_row`] then turns
//! each row into a [`ParsedRow`], or lists its problems. Nothing here keeps a text
//! longer than it must: cells wipe themselves.

mod choices;
mod columns;
mod exchange;
mod protect;
mod rows;
mod sheet;

pub use choices::{ExportFormat, MatchKey, Matching};
pub use columns::{Column, Kinds, ParsedRow, guess, name_of, read_row};
pub use exchange::{Exported, to_csv, to_exchange};
pub use protect::{Protection, protect};
pub use rows::{MOST_COLUMNS, MOST_ROWS, Row, Sheet, SheetProblem};
pub use sheet::{Format, MOST_TEXT};

//! Import and export.

use chrono::{DateTime, Utc};
use jexlin_core::transfer::{ExportFormat, Format, MatchKey, Matching, Separator};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// How a file is imported. The file itself is the body.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct ImportOptions {
    /// An identifier chosen by the caller, used to read the progress.
    pub id: Uuid,
    /// The name of the file, for the log.
    pub name: String,
    /// Its format (`csv` with any separator); detected when left out.
    pub format: Option<Format>,
    /// The encoding of a text file, by its name in the Encoding Standard, such as `windows-1252`;
    /// detected when left out.
    pub encoding: Option<String>,
    /// What separates the cells of CSV; detected when left out.
    pub separator: Option<Separator>,
    /// The sheet of a spreadsheet, by its name or its number; the first when left out.
    pub sheet: Option<String>,
    /// The line of the headings, 0 if there are none; detected when left out.
    pub heading_row: Option<usize>,
    /// The folder to import into; a folder column names folders below it.
    pub folder: Uuid,
    /// The kind of rows that name none.
    pub kind: String,
    /// What each column holds: `name`, `folder`, `tags`, `kind`, a field of the kind, or `-`;
    /// guessed when left out.
    pub columns: Option<Vec<String>>,
    /// The field by which an existing credential in the same folder is recognised.
    pub key: MatchKey,
    /// What to do with an existing credential.
    pub matching: Matching,
    /// Import the valid rows and leave out the rest; otherwise all or nothing.
    pub only_good: bool,
    /// Import although some values are not taken exactly as they stand in the file; the preview
    /// lists them in `changes`. Without this, such a file is not imported.
    pub accept_changes: bool,
    /// Change nothing; report what would happen.
    pub preview: bool,
}

/// The result of an import, or of its preview.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ImportReport {
    /// The import.
    pub id: Uuid,
    /// Whether it was done.
    pub done: bool,
    /// How the file was read.
    pub read_as: ImportReadAs,
    /// Notes on the report.
    pub notes: Vec<String>,
    /// The columns.
    pub columns: Vec<ImportColumn>,
    /// What several columns look like; `columns` in the options must say which of them it is.
    pub ambiguous: Vec<ImportAmbiguity>,
    /// The number of rows.
    pub rows: usize,
    /// The number of credentials added.
    pub added: usize,
    /// The number of credentials updated.
    pub updated: usize,
    /// The number of credentials left unchanged.
    pub skipped: usize,
    /// The number of folders added.
    pub folders: usize,
    /// The number of devices added.
    pub devices: usize,
    /// The problems of rows that cannot be imported, in the order of their lines.
    pub problems: Vec<ImportProblem>,
    /// What is not taken exactly as it stands in the file.
    pub changes: Vec<ImportChange>,
    /// A summary in one sentence.
    pub sentence: String,
    /// In a preview: whose access changes because tags change that grants are limited to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub access: Option<crate::Preview>,
}

/// A column of a file.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ImportColumn {
    /// Its heading.
    pub head: String,
    /// What it holds.
    pub holds: String,
}

/// How a file was read: as the options say, or as it was detected.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ImportReadAs {
    /// Its format.
    pub format: Format,
    /// The encoding of a text file.
    #[schema(required)]
    pub encoding: Option<String>,
    /// What separates the cells of CSV.
    #[schema(required)]
    pub separator: Option<Separator>,
    /// The sheet of a spreadsheet.
    #[schema(required)]
    pub sheet: Option<String>,
    /// All sheets of a spreadsheet.
    pub sheets: Vec<String>,
    /// The line of the headings, 0 if there are none; null where the format has names for its
    /// fields.
    #[schema(required)]
    pub heading_row: Option<usize>,
}

/// Several columns that look like the same thing.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ImportAmbiguity {
    /// What they look like, such as `password`.
    pub holds: String,
    /// Their headings.
    pub heads: Vec<String>,
}

/// A problem of a row.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ImportProblem {
    /// Its line.
    pub line: usize,
    /// The heading of the column; empty where it is a problem of the whole row.
    pub column: String,
    /// The problem.
    pub problem: String,
}

/// What is not taken exactly as it stands in a file.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ImportChange {
    /// The heading of the column; empty where it is not about one.
    pub column: String,
    /// What is different.
    pub change: String,
    /// The number of rows; 0 where it is about the whole file.
    pub rows: usize,
    /// The lines of the first hundred rows.
    pub lines: Vec<usize>,
}

/// The progress of an import.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct ImportProgress {
    /// The number of rows done.
    pub done: usize,
    /// The number of rows.
    pub rows: usize,
}

/// A past import.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ImportItem {
    /// Identifier.
    pub id: Uuid,
    /// The name of the file.
    pub name: String,
    /// The folder that it was imported into.
    pub place: String,
    /// When it was made.
    pub made_at: DateTime<Utc>,
    /// Who made it.
    #[schema(required)]
    pub made_by: Option<String>,
    /// The number of credentials added.
    pub added: i32,
    /// The number of credentials updated.
    pub updated: i32,
    /// The number of credentials left unchanged.
    pub skipped: i32,
    /// When it was undone.
    #[schema(required)]
    pub undone_at: Option<DateTime<Utc>>,
}

/// The result of undoing an import.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ImportUndone {
    /// The number of credentials moved to the bin.
    pub removed: usize,
    /// The number of credentials restored.
    pub restored: usize,
    /// The number of credentials left as they are: changed since, or where the caller is not a
    /// steward.
    pub left: usize,
    /// The number of devices moved to the bin: those that the import added and that are not used.
    pub devices: usize,
    /// The number of folders moved to the bin: those that the import added and that are empty now.
    pub folders: usize,
}

/// What to export, and exactly one way to protect it.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct ExportOptions {
    /// Only this folder and what is below it; everything when left out.
    pub folder: Option<Uuid>,
    /// The format.
    pub format: ExportFormat,
    /// Encrypt for these age recipients (`age1…`).
    pub recipients: Vec<String>,
    /// Encrypt with this passphrase.
    pub passphrase: Option<crate::SecretText>,
    /// Do not encrypt. Needs the duty `export`, a recent sign-in and a reason.
    pub plain: bool,
    /// The reason, recorded in the audit log.
    pub reason: String,
}

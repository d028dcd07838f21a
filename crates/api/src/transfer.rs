//! Import and export.

use chrono::{DateTime, Utc};
use jexlin_core::transfer::{ExportFormat, Format, MatchKey, Matching};
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
    #[serde(default)]
    pub format: Option<Format>,
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
    /// The format that the file was read as.
    pub format: Format,
    /// Notes on how the file was read.
    pub notes: Vec<String>,
    /// The columns.
    pub columns: Vec<ImportColumn>,
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
    /// The problems of rows that cannot be imported, in the order of their lines.
    pub problems: Vec<ImportProblem>,
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

/// A problem of a row.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ImportProblem {
    /// Its line.
    pub line: usize,
    /// The name in the row, else its URL or user name.
    pub name: String,
    /// The heading of the column.
    pub column: String,
    /// The problem.
    pub problem: String,
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

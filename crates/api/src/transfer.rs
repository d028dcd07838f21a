//! Bringing in and taking out.

use chrono::{DateTime, Utc};
use jexlin_core::transfer::{ExportFormat, Format, MatchKey, Matching};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// How a file is imported. The file itself is the body.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct ImportOptions {
    /// An identifier of one's own choice, by which the progress can be asked for.
    pub id: Uuid,
    /// The name of the file, for the log.
    pub name: String,
    /// Its format (`csv` with whatever separator); found out when left out.
    #[serde(default)]
    pub format: Option<Format>,
    /// Into this folder, and below it where a column names folders.
    pub folder: Uuid,
    /// Default kind, where no column says it.
    pub kind: String,
    /// What each column is: `name`, `folder`, `tags`, `kind`, a field of the kind, or `-`; guessed
    /// when left out.
    pub columns: Option<Vec<String>>,
    /// What a thing that is there already is recognised by, in its folder.
    pub key: MatchKey,
    /// What is done with one that is there already.
    pub matching: Matching,
    /// Import the valid rows and leave out the rest; otherwise all or nothing.
    pub only_good: bool,
    /// Change nothing; say what would happen.
    pub preview: bool,
}

/// What became, or would become, of a file.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ImportReport {
    /// The import.
    pub id: Uuid,
    /// Whether it was done.
    pub done: bool,
    /// What the file was read as.
    pub format: Format,
    /// What one should know of the file.
    pub notes: Vec<String>,
    /// The columns: head, and what each is.
    pub columns: Vec<ImportColumn>,
    /// How many rows there are.
    pub rows: usize,
    /// How many are added.
    pub added: usize,
    /// How many change what is there.
    pub updated: usize,
    /// How many are left as they are.
    pub skipped: usize,
    /// How many folders are made.
    pub folders: usize,
    /// Everything that is wrong with rows that cannot be imported, in the order of their lines.
    pub problems: Vec<ImportProblem>,
    /// A sentence that says it.
    pub sentence: String,
    /// In a preview: whose access changes, since tags change that a grant is narrowed to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub access: Option<crate::Preview>,
}

/// A column of a file.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ImportColumn {
    /// Its head.
    pub head: String,
    /// What it is taken for.
    pub holds: String,
}

/// What is wrong with a row.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ImportProblem {
    /// Its line.
    pub line: usize,
    /// What the row calls itself: its name, else its URL or user name.
    pub name: String,
    /// The head of the column.
    pub column: String,
    /// What is wrong.
    pub problem: String,
}

/// How far an import is.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct ImportProgress {
    /// Rows that are done.
    pub done: usize,
    /// Rows that there are.
    pub rows: usize,
}

/// An import that was made.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ImportItem {
    /// Identifier.
    pub id: Uuid,
    /// The name of the file.
    pub name: String,
    /// Into which folder.
    pub place: String,
    /// When.
    pub made_at: DateTime<Utc>,
    /// Who.
    #[schema(required)]
    pub made_by: Option<String>,
    /// How many were added.
    pub added: i32,
    /// How many were changed.
    pub updated: i32,
    /// How many were left as they were.
    pub skipped: i32,
    /// When it was undone.
    #[schema(required)]
    pub undone_at: Option<DateTime<Utc>>,
}

/// What came of taking an import back.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ImportUndone {
    /// How many went to the bin.
    pub removed: usize,
    /// How many are as they were before.
    pub restored: usize,
    /// How many stay as they are: changed since, or where the asker is no steward.
    pub left: usize,
}

/// What is exported, and how it is protected. Exactly one way of protecting it is given.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct ExportOptions {
    /// What is in this folder and below it; everything when left out.
    pub folder: Option<Uuid>,
    /// The format.
    pub format: ExportFormat,
    /// Encrypted for these age recipients (`age1…`).
    pub recipients: Vec<String>,
    /// Encrypted by this passphrase.
    pub passphrase: Option<crate::SecretText>,
    /// Not encrypted at all. It takes the duty `export`, a fresh sign-in and a reason.
    pub plain: bool,
    /// Why.
    pub reason: String,
}

//! Import and export.

use std::io::{IsTerminal as _, Write as _};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use clap::{Args, Subcommand};
use jexlin_api::words::{ExportFormat, Format as FileFormat, MatchKey, Matching};
use jexlin_api::{
    ExportOptions, ImportItem, ImportOptions, ImportProgress, ImportReport, ImportUndone,
    no_formula,
};
use uuid::Uuid;

use crate::args::Format;
use crate::connection::query;
use crate::error::ClientError;
use crate::lookup;
use crate::output::{self, Column, say};
use crate::run::{Done, Run};
use crate::secrets;

/// Imports.
#[derive(Debug, Subcommand)]
pub enum Import {
    /// Import a file: CSV, TSV, JSON Lines, XLSX, or the Credential Exchange Format
    #[command(after_help = "EXAMPLES
  jexlin import file logins.csv --into /Office --preview
  jexlin import file keys.xlsx --into /Pumping --kind ssh-key --columns name,folder,-,password --only-good
  jexlin import file logins.json --into /Office --match update --by user_name")]
    File(FileArgs),
    /// List the imports that were made, newest first
    List,
    /// Undo an import: what it added goes to the bin, what it changed is restored
    Undo {
        /// Its identifier, as `import list` shows it
        id: Uuid,
    },
}

/// A file and how it is imported.
#[derive(Debug, Args)]
pub struct FileArgs {
    /// The file
    file: PathBuf,
    /// The folder to import into; a folder column names folders below it
    #[arg(long, value_name = "PATH")]
    into: String,
    /// The kind of rows that name none
    #[arg(long, default_value = "login")]
    kind: String,
    /// What each column is: name, folder, tags, kind, a field of the kind, or - for nothing
    /// [default: guessed]
    #[arg(long, value_name = "COLUMN", value_delimiter = ',')]
    columns: Option<Vec<String>>,
    /// csv, json-lines, xlsx or exchange [default: found out]
    #[arg(long = "as", value_name = "FORMAT")]
    format: Option<FileFormat>,
    /// The field by which an existing credential is recognised: name, user_name or url
    #[arg(long = "by", value_name = "KEY", default_value = "name")]
    key: MatchKey,
    /// What to do with an existing credential: skip, update or duplicate
    #[arg(long = "match", value_name = "WHAT", default_value = "skip")]
    matching: Matching,
    /// Import the valid rows, and write the others to this file (CSV, without values)
    #[arg(long, value_name = "FILE", num_args = 0..=1, default_missing_value = "-")]
    only_good: Option<PathBuf>,
    /// Change nothing; show what would happen
    #[arg(long)]
    preview: bool,
}

/// What is exported, and how it is protected.
#[derive(Debug, Args)]
#[command(after_help = "EXAMPLES
  jexlin export office.age --folder /Office --recipient age1…
  jexlin export all.csv.age --as csv --passphrase-file pass
  jexlin export all.json --plain --reason \"moving to the new site\"")]
pub struct ExportArgs {
    /// The file to write
    file: PathBuf,
    /// Export this folder and what is below it [default: everything that you may reveal]
    #[arg(long, value_name = "PATH")]
    folder: Option<String>,
    /// exchange (the Credential Exchange Format) or csv
    #[arg(long = "as", value_name = "FORMAT", default_value = "exchange")]
    format: ExportFormat,
    /// Encrypt for this age recipient (repeatable)
    #[arg(long, value_name = "AGE1…")]
    recipient: Vec<String>,
    /// Encrypt with a passphrase read from this file, or from standard input with `-`
    #[arg(long, value_name = "FILE", conflicts_with_all = ["recipient", "plain"])]
    passphrase_file: Option<PathBuf>,
    /// Do not encrypt; needs the duty `export`, a sign-in within the last five minutes, and a
    /// reason
    #[arg(long, conflicts_with = "recipient")]
    plain: bool,
    /// The reason, recorded in the audit log
    #[arg(long, default_value = "")]
    reason: String,
}

const PROBLEM: [Column; 4] = [
    ("line", "line"),
    ("name", "name"),
    ("column", "column"),
    ("problem", "problem"),
];
/// So many problems are shown on a terminal; a file can have all.
const SHOWN: usize = 100;

impl Run {
    pub fn import(&self, command: Import) -> Done {
        match command {
            Import::File(args) => self.import_file(args),
            Import::List => {
                let columns: [Column; 8] = [
                    ("imported", "made_at"),
                    ("file", "name"),
                    ("into", "place"),
                    ("by", "made_by"),
                    ("added", "added"),
                    ("updated", "updated"),
                    ("undone", "undone_at"),
                    ("id", "id"),
                ];
                output::list(
                    self.format,
                    &self
                        .connection
                        .list::<ImportItem>("/api/v1/imports", None)?,
                    &columns,
                    "Nothing has been imported into folders that you may change.",
                )
            }
            Import::Undo { id } => {
                let undone: ImportUndone = self.connection.post(
                    &format!("/api/v1/imports/{id}/undo"),
                    &serde_json::json!({}),
                )?;
                say(&format!(
                    "Moved to the bin: {}. Restored: {}. Left unchanged: {} (changed since, or moved to where you are not a steward).",
                    undone.removed, undone.restored, undone.left
                ))
            }
        }
    }

    fn import_file(&self, args: FileArgs) -> Done {
        let file = std::fs::File::open(&args.file).map_err(|error| {
            ClientError::local(format!("{} cannot be read: {error}.", args.file.display()))
        })?;
        let length = file.metadata().map(|meta| meta.len()).ok();
        let options = ImportOptions {
            id: Uuid::now_v7(),
            name: args
                .file
                .file_name()
                .map(|name| name.to_string_lossy().into_owned())
                .unwrap_or_default(),
            format: args.format,
            folder: lookup::folder(&self.connection, &args.into)?.id,
            kind: args.kind,
            columns: args.columns,
            key: args.key,
            matching: args.matching,
            only_good: args.only_good.is_some(),
            preview: args.preview,
        };
        let text = serde_json::to_string(&options)
            .map_err(|error| ClientError::local(error.to_string()))?;
        let address = format!("/api/v1/imports?options={}", query(&text));
        let ended = AtomicBool::new(false);
        let report: ImportReport = std::thread::scope(|scope| {
            let waiting = scope.spawn(|| self.watch_import(options.id, &ended));
            let report = self.connection.send(&address, file, length);
            ended.store(true, Ordering::Relaxed);
            waiting.thread().unpark();
            report
        })?;
        if self.format != Format::Table {
            return output::one(
                self.format,
                &report,
                &[
                    ("sentence", "sentence"),
                    ("added", "added"),
                    ("updated", "updated"),
                    ("problems", "problems"),
                ],
            );
        }
        self.show_report(&report)?;
        if let Some(path) = &args.only_good
            && path != Path::new("-")
            && !report.problems.is_empty()
        {
            write_problems(path, &report.problems)?;
            say(&format!(
                "The rows that were not imported are in {}.",
                path.display()
            ))?;
        }
        if report.done || args.preview {
            if report.done {
                say(&format!(
                    "Undo the import: jexlin import undo {}",
                    report.id
                ))?;
            }
            return Ok(());
        }
        Err(ClientError::input(
            "Nothing was imported.",
            "Correct the file, name the columns with --columns, or use --only-good.",
        ))
    }

    /// Shows what an import did or would do, for people.
    fn show_report(&self, report: &ImportReport) -> Done {
        let columns = report.columns.iter().map(|column| {
            format!(
                "{} → {}",
                column.head,
                if column.holds == "-" {
                    "left out"
                } else {
                    &column.holds
                }
            )
        });
        say(&format!(
            "{}, {}; columns: {}.",
            output::counted(report.rows, "row", "rows"),
            report.notes.join(", "),
            columns.collect::<Vec<_>>().join(", ")
        ))?;
        if !report.problems.is_empty() {
            say("")?;
            output::list(
                self.format,
                report.problems.get(..SHOWN).unwrap_or(&report.problems),
                &PROBLEM,
                "",
            )?;
            if report.problems.len() > SHOWN {
                say(&format!(
                    "These are the first {SHOWN} of {}; --only-good FILE writes all to a file.",
                    report.problems.len()
                ))?;
            }
            say("")?;
        }
        say(&report.sentence)?;
        if let Some(access) = &report.access {
            say("Tags change that grants depend on:")?;
            self.show_shifts(access)?;
        }
        Ok(())
    }

    /// Tells how far an import is, where there is somebody to read it.
    fn watch_import(&self, import: Uuid, ended: &AtomicBool) {
        while !ended.load(Ordering::Relaxed) {
            std::thread::park_timeout(Duration::from_millis(500));
            if ended.load(Ordering::Relaxed) || !std::io::stderr().is_terminal() {
                continue;
            }
            if let Ok(progress) = self
                .connection
                .get::<ImportProgress>(&format!("/api/v1/imports/{import}/progress"))
            {
                let _ = write!(
                    std::io::stderr(),
                    "\r{} of {} rows",
                    progress.done,
                    progress.rows
                );
            }
        }
        if std::io::stderr().is_terminal() {
            let _ = write!(std::io::stderr(), "\r\u{1b}[K");
        }
    }

    pub fn export(&self, args: ExportArgs) -> Done {
        let passphrase = match (&args.passphrase_file, args.recipient.is_empty(), args.plain) {
            (Some(file), ..) => Some(secrets::read("Passphrase of the file", Some(file), true)?),
            (None, true, false) => Some(secrets::read("Passphrase of the file", None, true)?),
            _ => None,
        };
        let folder = args
            .folder
            .as_ref()
            .map(|path| lookup::folder(&self.connection, path))
            .transpose()?
            .map(|folder| folder.id);
        let options = ExportOptions {
            folder,
            format: args.format,
            recipients: args.recipient,
            passphrase,
            plain: args.plain,
            reason: args.reason,
        };
        let (bytes, taken, left_out) = self.connection.export_file("/api/v1/export", &options)?;
        let mut file = secrets::private_file(&args.file)?;
        file.write_all(&bytes)
            .map_err(|error| ClientError::local(error.to_string()))?;
        let left = if left_out == "0" {
            String::new()
        } else {
            format!(" Left out, behind a gate: {left_out}.")
        };
        say(&format!(
            "Credentials exported to {}: {taken}.{left}",
            args.file.display()
        ))?;
        if args.plain {
            say(
                "The file is not encrypted: anybody who finds it can read every password. Delete it after use.",
            )?;
        }
        Ok(())
    }
}

/// Writes the problems of rows to a file: CSV, without values.
fn write_problems(path: &Path, problems: &[jexlin_api::ImportProblem]) -> Done {
    let mut writer = csv::Writer::from_writer(secrets::private_file(path)?);
    writer
        .write_record(["line", "name", "column", "problem"])
        .and_then(|()| {
            problems.iter().try_for_each(|item| {
                writer.write_record([
                    item.line.to_string(),
                    no_formula(&item.name),
                    no_formula(&item.column),
                    no_formula(&item.problem),
                ])
            })
        })
        .map_err(|error| ClientError::local(error.to_string()))
}

//! Importing what exists, and exporting what one may see.

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
    /// Undo an import: what it added goes to the bin, what it changed becomes what it was
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
    /// Into this folder, and below it where a column names folders
    #[arg(long, value_name = "PATH")]
    into: String,
    /// Default kind, where no column says it
    #[arg(long, default_value = "login")]
    kind: String,
    /// What each column is: name, folder, tags, kind, a field of the kind, or - for nothing
    /// [default: guessed]
    #[arg(long, value_name = "COLUMN", value_delimiter = ',')]
    columns: Option<Vec<String>>,
    /// csv, json-lines, xlsx or exchange [default: found out]
    #[arg(long = "as", value_name = "FORMAT")]
    format: Option<FileFormat>,
    /// What one that is there already is recognised by: name, user_name or url
    #[arg(long = "by", value_name = "KEY", default_value = "name")]
    key: MatchKey,
    /// What is done with one that is there already: skip, update or duplicate
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
    /// What is in this folder and below it [default: everything that you may reveal]
    #[arg(long, value_name = "PATH")]
    folder: Option<String>,
    /// exchange (the Credential Exchange Format) or csv
    #[arg(long = "as", value_name = "FORMAT", default_value = "exchange")]
    format: ExportFormat,
    /// Encrypt for this recipient of age; again for more
    #[arg(long, value_name = "AGE1…")]
    recipient: Vec<String>,
    /// Encrypt by a passphrase, from this file, or from standard input with `-`
    #[arg(long, value_name = "FILE", conflicts_with_all = ["recipient", "plain"])]
    passphrase_file: Option<PathBuf>,
    /// Do not encrypt; it takes the duty `export`, a sign-in of the last five minutes, and a reason
    #[arg(long, conflicts_with = "recipient")]
    plain: bool,
    /// Why
    #[arg(long, default_value = "")]
    reason: String,
}

const PROBLEM: [Column; 4] = [
    ("line", "line"),
    ("name", "name"),
    ("column", "column"),
    ("what is wrong", "problem"),
];
/// So many problems are shown on a terminal; a file can have all.
const SHOWN: usize = 100;

impl Run {
    pub fn import(&self, command: Import) -> Done {
        match command {
            Import::File(args) => self.import_file(args),
            Import::List => {
                let columns: [Column; 8] = [
                    ("made", "made_at"),
                    ("file", "name"),
                    ("into", "place"),
                    ("by", "made_by"),
                    ("added", "added"),
                    ("changed", "updated"),
                    ("undone", "undone_at"),
                    ("id", "id"),
                ];
                output::list(
                    self.format,
                    &self.link.list::<ImportItem>("/api/v1/imports", None)?,
                    &columns,
                    "Nothing has been imported where you may change things.",
                )
            }
            Import::Undo { id } => {
                let undone: ImportUndone = self.link.post(
                    &format!("/api/v1/imports/{id}/undo"),
                    &serde_json::json!({}),
                )?;
                say(&format!(
                    "{} are in the bin, {} are as they were, {} stay as they are: changed since, or moved where you are no steward.",
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
            folder: lookup::folder(&self.link, &args.into)?.id,
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
            let report = self.link.send(&address, file, length);
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
                    ("changed", "updated"),
                    ("problems", "problems"),
                ],
            );
        }
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
            say("Tags change that grants are narrowed to:")?;
            self.show_shifts(access)?;
        }
        if let Some(path) = args
            .only_good
            .filter(|path| path != Path::new("-") && !report.problems.is_empty())
        {
            let mut writer = csv::Writer::from_writer(secrets::private_file(&path)?);
            let wrote = writer
                .write_record(["line", "name", "column", "problem"])
                .and_then(|()| {
                    report.problems.iter().try_for_each(|item| {
                        writer.write_record([
                            item.line.to_string(),
                            no_formula(&item.name),
                            no_formula(&item.column),
                            no_formula(&item.problem),
                        ])
                    })
                });
            wrote.map_err(|error| ClientError::local(error.to_string()))?;
            say(&format!(
                "The rows that were not imported are in {}.",
                path.display()
            ))?;
        }
        if report.done || args.preview {
            if report.done {
                say(&format!("Undo it as one: jexlin import undo {}", report.id))?;
            }
            return Ok(());
        }
        Err(ClientError::input(
            "Nothing was imported.",
            "Correct the file, name the columns with --columns, or say --only-good.",
        ))
    }

    /// Tells how far an import is, where there is somebody to read it.
    fn watch_import(&self, import: Uuid, ended: &AtomicBool) {
        while !ended.load(Ordering::Relaxed) {
            std::thread::park_timeout(Duration::from_millis(500));
            if ended.load(Ordering::Relaxed) || !std::io::stderr().is_terminal() {
                continue;
            }
            if let Ok(progress) = self
                .link
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
            .map(|path| lookup::folder(&self.link, path))
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
        let (bytes, taken, left_out) = self.link.export_file("/api/v1/export", &options)?;
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
                "The file is not encrypted: anybody who finds it can read every password. Destroy it after use.",
            )?;
        }
        Ok(())
    }
}

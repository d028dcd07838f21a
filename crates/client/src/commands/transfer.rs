//! Import and export.

use std::io::{IsTerminal as _, Write as _};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use clap::{Args, Subcommand};
use jexlin_api::words::{
    ExportFormat, Format as FileFormat, MatchKey, Matching, Separator, Word as _,
};
use jexlin_api::{
    ExportOptions, ImportChange, ImportItem, ImportOptions, ImportProgress, ImportReadAs,
    ImportReport, ImportUndone, no_formula,
};
use uuid::Uuid;

use crate::args::Format;
use crate::connection::query;
use crate::error::ClientError;
use crate::files::{self, Output};
use crate::lookup;
use crate::output::{self, Column, say};
use crate::run::{Done, Run};
use crate::secrets;

/// Imports.
#[derive(Debug, Subcommand)]
pub enum Import {
    /// Import a file: CSV, TSV, JSON, XLSX, or the Credential Exchange Format
    #[command(after_help = "EXAMPLES
  jexlin import file logins.csv --into /Office --preview
  jexlin import file keys.xlsx --into /Pumping --sheet Keys --map name,folder,-,password --only-good
  jexlin import file old.csv --into /Office --encoding windows-1252 --separator semicolon --heading-row 3 --accept-changes
  jexlin import file logins.jsonl --into /Office --match update --by user_name")]
    File(FileArgs),
    /// List the imports that were made, newest first
    List,
    /// Undo an import: what it added goes to the bin, what it changed is restored
    Undo {
        /// Its identifier, as `import list --wide` shows it
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
    #[arg(long, value_name = "WHAT", value_delimiter = ',')]
    map: Option<Vec<String>>,
    /// csv, json-lines, xlsx or exchange [default: found out]
    #[arg(long = "as", value_name = "FORMAT")]
    format: Option<FileFormat>,
    /// The encoding of a text file, such as windows-1252 or utf-16le [default: found out]
    #[arg(long, value_name = "NAME")]
    encoding: Option<String>,
    /// What separates the cells of CSV: comma, semicolon, tab or bar [default: found out]
    #[arg(long, value_name = "SEPARATOR")]
    separator: Option<Separator>,
    /// The sheet of a spreadsheet, by its name or its number [default: the first]
    #[arg(long, value_name = "SHEET")]
    sheet: Option<String>,
    /// The line of the headings, 0 if there are none [default: found out]
    #[arg(long, value_name = "LINE")]
    heading_row: Option<usize>,
    /// The field by which an existing credential is recognised: name, user_name or url
    #[arg(long = "by", value_name = "KEY", default_value = "name")]
    key: MatchKey,
    /// What to do with an existing credential: skip, update or duplicate
    #[arg(long = "match", value_name = "WHAT", default_value = "skip")]
    matching: Matching,
    /// Import the valid rows, and write the others to this file (CSV, without values)
    #[arg(long, value_name = "FILE", num_args = 0..=1, default_missing_value = "-")]
    only_good: Option<PathBuf>,
    /// Import although some values are not taken exactly as they stand in the file
    #[arg(long)]
    accept_changes: bool,
    /// Overwrite the file of --only-good if it exists
    #[arg(long)]
    force: bool,
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
    /// The file to write; - for standard output
    file: PathBuf,
    /// Overwrite the file if it exists
    #[arg(long)]
    force: bool,
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

const PROBLEM: [Column; 3] = [
    ("line", "line"),
    ("column", "column"),
    ("problem", "problem"),
];
const CHANGE: [Column; 4] = [
    ("rows", "rows"),
    ("lines", "lines"),
    ("column", "column"),
    ("not taken as it is", "change"),
];
/// So many lines of a change are shown on a terminal.
const LINES_SHOWN: usize = 5;
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
                    "Moved to the bin: {}, {} and {}. Restored: {}. Left unchanged: {} (changed since, or moved to where you are not a steward).",
                    output::counted(undone.removed, "credential", "credentials"),
                    output::counted(undone.devices, "device", "devices"),
                    output::counted(undone.folders, "empty folder", "empty folders"),
                    undone.restored,
                    undone.left
                ))
            }
        }
    }

    fn import_file(&self, args: FileArgs) -> Done {
        let mut options = ImportOptions {
            id: Uuid::now_v7(),
            name: args
                .file
                .file_name()
                .map(|name| name.to_string_lossy().into_owned())
                .unwrap_or_default(),
            format: args.format,
            encoding: args.encoding.clone(),
            separator: args.separator,
            sheet: args.sheet.clone(),
            heading_row: args.heading_row,
            folder: lookup::folder(&self.connection, &args.into)?.id,
            kind: args.kind.clone(),
            columns: args.map.clone(),
            key: args.key,
            matching: args.matching,
            only_good: args.only_good.is_some(),
            accept_changes: args.accept_changes,
            preview: args.preview,
        };
        let mut report = self.send_import(&args.file, &options)?;
        if self.format != Format::Table {
            output::one(
                self.format,
                &report,
                &[
                    ("sentence", "sentence"),
                    ("added", "added"),
                    ("updated", "updated"),
                    ("problems", "problems"),
                    ("changes", "changes"),
                ],
            )?;
            return self.import_ended(&args, &report);
        }
        self.show_report(&report)?;
        // What would be different is shown; somebody who is there can say yes to it.
        if stopped_by_changes(&report, &options)
            && secrets::can_ask()
            && secrets::confirm("Import it like this?")?
        {
            options.accept_changes = true;
            options.id = Uuid::now_v7();
            report = self.send_import(&args.file, &options)?;
            say(&report.sentence)?;
        }
        if let Some(path) = &args.only_good
            && path != Path::new("-")
            && !report.problems.is_empty()
        {
            write_problems(path, args.force, &report.problems)?;
            say(&format!(
                "The rows that were not imported are in {}.",
                path.display()
            ))?;
        }
        if report.done {
            say(&format!(
                "Undo the import: jexlin import undo {}",
                report.id
            ))?;
        }
        self.import_ended(&args, &report)
    }

    fn send_import(
        &self,
        file: &Path,
        options: &ImportOptions,
    ) -> Result<ImportReport, ClientError> {
        let (opened, length) = files::open_to_send(file)?;
        let text = serde_json::to_string(options)
            .map_err(|error| ClientError::local(error.to_string()))?;
        let address = format!("/api/v1/imports?options={}", query(&text));
        let ended = AtomicBool::new(false);
        std::thread::scope(|scope| {
            let waiting = scope.spawn(|| self.watch_import(options.id, &ended));
            let report = self.connection.send(&address, opened, length);
            ended.store(true, Ordering::Relaxed);
            waiting.thread().unpark();
            report
        })
    }

    /// An import that was not made is an error, and says what to do.
    fn import_ended(&self, args: &FileArgs, report: &ImportReport) -> Done {
        if report.done || args.preview {
            return Ok(());
        }
        let advice = if report.ambiguous.is_empty() {
            if report.problems.is_empty() || args.only_good.is_some() {
                "Correct the file, or use --accept-changes."
            } else {
                "Correct the file, name the columns with --map, or use --only-good."
            }
        } else {
            "Say what each column is with --map, with - for those to leave out."
        };
        Err(ClientError::input("Nothing was imported.", advice))
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
            read_as(&report.read_as),
            columns.collect::<Vec<_>>().join(", ")
        ))?;
        for note in &report.notes {
            say(&format!("Note: {note}."))?;
        }
        for each in &report.ambiguous {
            let (heads, holds) = (each.heads.join("” and “"), &each.holds);
            say(&format!(
                "The columns “{heads}” all look like `{holds}`: name the one with --map."
            ))?;
        }
        if !report.changes.is_empty() {
            say("")?;
            let changes: Vec<serde_json::Value> = report.changes.iter().map(change_shown).collect();
            output::list(self.format, &changes, &CHANGE, "")?;
        }
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
        }
        if !report.changes.is_empty() || !report.problems.is_empty() {
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
        let mut output = Output::open(&args.file, args.force)?;
        let (bytes, taken, left_out) = self.connection.export_file("/api/v1/export", &options)?;
        output
            .write_all(&bytes)
            .map_err(files::cannot("written", &args.file))?;
        if !output.finish()? {
            return Ok(());
        }
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

/// Whether nothing but the changes keeps a file from being imported.
fn stopped_by_changes(report: &ImportReport, options: &ImportOptions) -> bool {
    !report.done
        && !options.preview
        && !options.accept_changes
        && !report.changes.is_empty()
        && report.ambiguous.is_empty()
        && (report.problems.is_empty() || options.only_good)
        && report.added + report.updated > 0
}

/// How a file was read, for people: `csv, UTF-8, separator semicolon, headings in line 1`.
fn read_as(read_as: &ImportReadAs) -> String {
    let mut parts = vec![read_as.format.word().to_owned()];
    parts.extend(read_as.encoding.clone());
    parts.extend(
        read_as
            .separator
            .map(|separator| format!("separator {}", separator.word())),
    );
    parts.extend(
        read_as
            .sheet
            .as_ref()
            .map(|sheet| format!("the sheet “{sheet}”")),
    );
    parts.extend(read_as.heading_row.map(|line| match line {
        0 => "no headings".to_owned(),
        line => format!("headings in line {line}"),
    }));
    parts.join(", ")
}

/// A change for people: with its first lines.
fn change_shown(change: &ImportChange) -> serde_json::Value {
    let mut lines: Vec<String> = change
        .lines
        .iter()
        .take(LINES_SHOWN)
        .map(ToString::to_string)
        .collect();
    if change.rows > lines.len() && !lines.is_empty() {
        lines.push("…".to_owned());
    }
    let rows = match change.rows {
        0 => "all".to_owned(),
        rows => rows.to_string(),
    };
    serde_json::json!({
        "rows": rows, "lines": lines.join(", "), "column": change.column, "change": change.change
    })
}

/// Writes the problems of rows to a file: CSV, without values.
fn write_problems(path: &Path, force: bool, problems: &[jexlin_api::ImportProblem]) -> Done {
    let mut writer = csv::Writer::from_writer(Output::open(path, force)?);
    writer
        .write_record(["line", "column", "problem"])
        .and_then(|()| {
            problems.iter().try_for_each(|item| {
                writer.write_record([
                    item.line.to_string(),
                    no_formula(&item.column),
                    no_formula(&item.problem),
                ])
            })
        })
        .map_err(|error| ClientError::local(error.to_string()))?;
    let output = writer
        .into_inner()
        .map_err(|error| ClientError::local(error.error().to_string()))?;
    output.finish().map(|_| ())
}

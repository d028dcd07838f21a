//! The audit log: read, export and verify it.

use std::fs;
use std::path::{Path, PathBuf};

use chrono::{DateTime, Utc};
use clap::Subcommand;
use jexlin_api::words::{Action, Outcome, VariantArray as _, Word as _};
use jexlin_api::{AuditEvent, AuditKey, proof};
use serde_json::{Value, json};

use crate::args::Format;
use crate::connection::query;
use crate::error::ClientError;
use crate::files::Output;
use crate::lookup;
use crate::output::{self, Column, say};
use crate::run::{Done, Run};

/// The audit log.
#[derive(Debug, Subcommand)]
pub enum Audit {
    /// List events, newest first
    #[command(
        after_help = "EXAMPLES\n  jexlin audit list --action credential.reveal --since 7d\n  jexlin audit list --outcome refused --find calder"
    )]
    List {
        /// This action and all below it: `credential` finds `credential.reveal`
        #[arg(long, value_parser = action)]
        action: Option<String>,
        /// By this person
        #[arg(long, value_name = "NAME")]
        actor: Option<String>,
        /// On this credential
        #[arg(long, value_name = "PATH")]
        credential: Option<String>,
        /// On this device
        #[arg(long, value_name = "PATH", conflicts_with = "credential")]
        device: Option<String>,
        /// done, refused or failed
        #[arg(long)]
        outcome: Option<Outcome>,
        /// At this time or later
        #[arg(long, value_name = "TIME", value_parser = crate::time::back)]
        since: Option<DateTime<Utc>>,
        /// Before this time
        #[arg(long, value_name = "TIME", value_parser = crate::time::back)]
        until: Option<DateTime<Utc>>,
        /// With this text in the name of the actor or target
        #[arg(long, value_name = "TEXT")]
        find: Option<String>,
    },
    /// Write the whole log and its signed checkpoints to a file
    Export {
        /// The file to write; `-` for standard output
        file: PathBuf,
        /// Overwrite the file if it exists
        #[arg(long)]
        force: bool,
    },
    /// Print the log's public key; keep it apart from the log
    Key,
    /// Verify an export with the public key alone; no service is needed
    #[command(
        after_help = "EXAMPLES\n  jexlin audit key > osmere.key\n  jexlin audit export osmere.jsonl\n  jexlin audit verify osmere.jsonl --key-file osmere.key\n  jexlin audit verify osmere.jsonl --key-file osmere.key --since october.jsonl"
    )]
    Verify {
        /// The export
        file: PathBuf,
        /// The file with the public key
        #[arg(long, value_name = "FILE")]
        key_file: PathBuf,
        /// Also verify that it continues the log of this earlier export
        #[arg(long, value_name = "FILE")]
        since: Option<PathBuf>,
        /// Also verify that it continues the log of this earlier checkpoint, a signed note
        #[arg(long, value_name = "FILE", conflicts_with = "since")]
        checkpoint: Option<PathBuf>,
    },
}

/// What an export is verified with.
#[derive(Clone, Copy, Debug)]
pub struct Proof<'a> {
    /// The public key.
    pub key_file: &'a Path,
    /// An earlier export.
    pub since: Option<&'a Path>,
    /// An earlier checkpoint.
    pub checkpoint: Option<&'a Path>,
}

/// An action, or the beginning of several: `credential`, `credential.reveal`.
fn action(text: &str) -> Result<String, String> {
    let known = Action::VARIANTS.iter().any(|action| {
        let rest = action.word().strip_prefix(text);
        rest.is_some_and(|rest| rest.is_empty() || rest.starts_with('.'))
    });
    if known {
        return Ok(text.to_owned());
    }
    let mut groups: Vec<&str> = Action::VARIANTS
        .iter()
        .filter_map(|action| action.word().split('.').next())
        .collect();
    groups.sort_unstable();
    groups.dedup();
    Err(format!(
        "no action begins so; they begin with {}",
        groups.join(", ")
    ))
}

impl Run {
    pub fn audit(&self, command: Audit) -> Done {
        match command {
            Audit::List {
                action,
                actor,
                credential,
                device,
                outcome,
                since,
                until,
                find: text,
            } => {
                let actor = actor
                    .map(|name| lookup::person(&self.connection, &name))
                    .transpose()?
                    .map(|person| person.id.to_string());
                let credential = credential.map(|path| lookup::credential(&self.connection, &path));
                let device = device.map(|path| lookup::device(&self.connection, &path));
                let target = credential.or(device).transpose()?.map(|id| id.to_string());
                let filters = [
                    ("action", action),
                    ("actor", actor),
                    ("target", target),
                    ("outcome", outcome.map(|outcome| outcome.word().to_owned())),
                    ("since", since.map(|time| time.to_rfc3339())),
                    ("until", until.map(|time| time.to_rfc3339())),
                    ("find", text),
                ];
                let address: String = filters
                    .into_iter()
                    .filter_map(|(name, value)| {
                        value.map(|value| format!("{name}={}&", query(&value)))
                    })
                    .collect();
                let rows: Vec<AuditEvent> = self.connection.list(
                    &format!("/api/v1/audit?{}", address.trim_end_matches('&')),
                    Some(50),
                )?;
                self.show_events(&rows)
            }
            Audit::Key => {
                let key: AuditKey = self.connection.get("/api/v1/audit/key")?;
                if self.format == Format::Json {
                    output::one(self.format, &key, &[])
                } else {
                    say(&key.key)
                }
            }
            Audit::Export { file, force } => {
                let mut output = Output::open(&file, force)?;
                self.connection
                    .copy_to("/api/v1/audit/export", &mut output)?;
                if !output.finish()? {
                    return Ok(());
                }
                say(&format!(
                    "The audit log is in {}. Verify it: jexlin audit verify {} --key-file KEY",
                    file.display(),
                    file.display()
                ))
            }
            Audit::Verify {
                file,
                key_file,
                since,
                checkpoint,
            } => {
                let proof = Proof {
                    key_file: &key_file,
                    since: since.as_deref(),
                    checkpoint: checkpoint.as_deref(),
                };
                verify(self.format, &file, proof)
            }
        }
    }

    /// Shows events.
    pub fn show_events(&self, rows: &[AuditEvent]) -> Done {
        let rows: Vec<Value> = rows
            .iter()
            .map(|event| with_detail(event, self.format))
            .collect::<Result<_, _>>()?;
        let columns: [Column; 7] = [
            ("at", "at"),
            ("who", "actor_name"),
            ("action", "action"),
            ("outcome", "outcome"),
            ("on", "target_name"),
            ("from", "origin"),
            ("detail", "detail"),
        ];
        output::list(self.format, &rows, &columns, "There are no such events.")
    }
}

/// An event with its details as one text, for a table.
fn with_detail(event: &AuditEvent, format: Format) -> Result<Value, ClientError> {
    let mut value =
        serde_json::to_value(event).map_err(|error| ClientError::local(error.to_string()))?;
    if format != Format::Json {
        let skipped = ["job", "checkout", "request"];
        let text: Vec<String> = event
            .detail
            .iter()
            .filter(|(name, _)| !skipped.contains(&name.as_str()))
            .map(|(name, value)| format!("{name}: {value}"))
            .collect();
        if let Some(object) = value.as_object_mut() {
            object.insert("detail".into(), text.join("; ").into());
        }
    }
    Ok(value)
}

pub fn verify(format: Format, file: &Path, with: Proof<'_>) -> Done {
    let key_file = with.key_file;
    let read = |path: &Path| {
        fs::read_to_string(path).map_err(|error| {
            ClientError::local(format!("{} cannot be read: {error}.", path.display()))
        })
    };
    let key = proof::Verifier::parse(&read(key_file)?).map_err(|problem| {
        ClientError::input(
            format!("{}: {problem}.", key_file.display()),
            "Give the file that `jexlin audit key` printed.",
        )
    })?;
    let text = read(file)?;
    let report = match (with.since, with.checkpoint) {
        (Some(earlier), _) => proof::verify_since(text.lines(), read(earlier)?.lines(), &key),
        (None, Some(note)) => proof::verify_from_checkpoint(text.lines(), &read(note)?, &key),
        (None, None) => proof::verify_export(text.lines(), &key),
    };
    if let Some(finding) = report.first {
        return Err(ClientError::failed(
            format!("The log has been changed: {finding}."),
            "Keep this export and the database as they are, and compare them with a backup and with checkpoints kept elsewhere.",
        ));
    }
    if format == Format::Json {
        return output::one(
            format,
            &json!({"verified": true, "events": report.events, "checkpoints": report.checkpoints, "signed": report.signed}),
            &[],
        );
    }
    say(&format!(
        "The log is complete and unchanged: {} events under {} signed checkpoints of {}.",
        report.events,
        report.checkpoints,
        key.origin()
    ))?;
    match with.since.or(with.checkpoint) {
        Some(earlier) => say(&format!("It continues {}.", earlier.display())),
        None => Ok(()),
    }
}

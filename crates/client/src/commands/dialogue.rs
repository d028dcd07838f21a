//! Dialogues and recipes: how to talk to a command line or an HTTP API.

use std::path::{Path, PathBuf};

use clap::Subcommand;
use jexlin_api::words::Purpose;
use jexlin_api::{
    Dialogue as DialogueItem, DialogueFile, DialogueFinding, DialogueRehearsal, InspectDialogue,
    NewDialogue, Page, RehearseDialogue,
};
use uuid::Uuid;

use crate::args::Format;
use crate::error::ClientError;
use crate::files::cannot;
use crate::output::{self, Column, say};
use crate::run::{Done, Run};

/// Dialogues.
#[derive(Debug, Subcommand)]
pub enum Dialogue {
    /// List dialogues and recipes
    List {
        /// List all versions, not only the newest
        #[arg(long)]
        versions: bool,
    },
    /// Print the file of a dialogue or recipe
    Show {
        /// Its name, maybe with a version: "ridge-switch 2"
        name: String,
    },
    /// Add a dialogue or recipe, or another version of it; devices keep the version that they have
    #[command(after_help = "EXAMPLES
  jexlin dialogue add ridge-switch ridge-switch.toml
  jexlin device edit \"/Works/Highfield/filter hall switch\" --dialogue ridge-switch")]
    Add {
        /// Its name
        name: String,
        /// The file, TOML
        file: PathBuf,
    },
    /// Look for what is wrong with a file; nothing is stored
    Inspect {
        /// The file, TOML
        file: PathBuf,
    },
    /// Talk to a transcript instead of a device; nothing is stored, and nothing is sent
    #[command(after_help = "EXAMPLES
  jexlin dialogue rehearse ridge-switch.toml --for operator --transcript session.txt

A transcript is text: < begins what the device wrote, > what was typed, with {new} and the like for
the secrets. jexlin upkeep transcript prints that of a job.")]
    Rehearse {
        /// The file, TOML
        file: PathBuf,
        /// What for: check, operator or account
        #[arg(long = "for", value_name = "PURPOSE")]
        purpose: Purpose,
        /// The transcript
        #[arg(long, value_name = "FILE")]
        transcript: PathBuf,
        /// The name of the account
        #[arg(long, default_value = "duty")]
        account: String,
    },
}

const COLUMNS: [Column; 7] = [
    ("name", "name"),
    ("kind", "kind"),
    ("version", "number"),
    ("title", "title"),
    ("for", "purposes"),
    ("devices", "devices"),
    ("added by", "added_by_name"),
];

fn text_of(file: &Path) -> Result<String, ClientError> {
    std::fs::read_to_string(file).map_err(cannot("read", file))
}

impl Run {
    fn dialogues(&self) -> Result<Vec<DialogueItem>, ClientError> {
        self.connection.list("/api/v1/dialogues", None)
    }

    /// A version of a dialogue: by name and version, or the newest of a name.
    pub fn dialogue_id(&self, name: &str) -> Result<Uuid, ClientError> {
        let all = self.dialogues()?;
        let same = |text: &str| text.to_lowercase() == name.to_lowercase();
        all.iter()
            .find(|each| each.newest && same(&each.name))
            .or_else(|| {
                all.iter()
                    .find(|each| same(&format!("{} {}", each.name, each.number)))
            })
            .map(|each| each.id)
            .ok_or_else(|| {
                ClientError::unknown(
                    format!("There is no dialogue {name}."),
                    "List dialogues: jexlin dialogue list",
                )
            })
    }

    pub fn dialogue(&self, command: Dialogue) -> Done {
        match command {
            Dialogue::List { versions } => {
                let mut all = self.dialogues()?;
                all.retain(|each| versions || each.newest);
                output::list(
                    self.format,
                    &all,
                    &COLUMNS,
                    "There are no dialogues yet. Add one: jexlin dialogue add",
                )
            }
            Dialogue::Show { name } => {
                let id = self.dialogue_id(&name)?;
                let file: DialogueFile = self.connection.get(&format!("/api/v1/dialogues/{id}"))?;
                if self.format == Format::Table {
                    return say(file.text.trim_end());
                }
                output::one(self.format, &file, &COLUMNS)
            }
            Dialogue::Add { name, file } => {
                let text = text_of(&file)?;
                let body = NewDialogue { name, text };
                let added: DialogueItem = self.connection.post("/api/v1/dialogues", &body)?;
                output::one(self.format, &added, &COLUMNS)
            }
            Dialogue::Inspect { file } => {
                let text = text_of(&file)?;
                let found: Page<DialogueFinding> = self
                    .connection
                    .post("/api/v1/dialogues/inspect", &InspectDialogue { text })?;
                let columns: [Column; 4] = [
                    ("line", "line"),
                    ("severity", "severity"),
                    ("step", "step"),
                    ("what", "message"),
                ];
                output::list(
                    self.format,
                    &found.items,
                    &columns,
                    "Nothing is wrong with it.",
                )
            }
            Dialogue::Rehearse {
                file,
                purpose,
                transcript,
                account,
            } => {
                let body = RehearseDialogue {
                    text: text_of(&file)?,
                    purpose,
                    account,
                    transcript: text_of(&transcript)?,
                };
                let came: DialogueRehearsal =
                    self.connection.post("/api/v1/dialogues/rehearse", &body)?;
                if self.format != Format::Table {
                    return output::one(self.format, &came, &[("result", "result")]);
                }
                for turn in &came.turns {
                    for line in turn.text.lines().filter(|line| !line.trim().is_empty()) {
                        say(&format!("{} {line}", if turn.typed { '>' } else { '<' }))?;
                    }
                }
                if !came.accounts.is_empty() {
                    say("Accounts:")?;
                }
                for account in &came.accounts {
                    let privileged = account.privileged.as_deref();
                    let why = privileged.map_or_else(String::new, |why| format!(" ({why})"));
                    say(&format!("  {}{why}", account.login))?;
                }
                if came.done {
                    return say("The conversation ends in success.");
                }
                Err(ClientError::failed(
                    format!(
                        "The conversation does not end in success: {}.",
                        came.result.trim_end_matches('.')
                    ),
                    "Compare the transcript with the step that it stopped at.",
                ))
            }
        }
    }
}

//! Dialogues and recipes: how to talk to a command line or to an HTTP API.

use chrono::{DateTime, Utc};
use jexlin_core::dialogue::{InstructionsKind, Purpose, Severity};
use jexlin_core::upkeep::FoundAccount;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// A version of a dialogue or recipe.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Dialogue {
    /// Identifier of this version.
    pub id: Uuid,
    /// The name that its versions share.
    pub name: String,
    /// Which of the two it is.
    #[schema(required)]
    pub kind: Option<InstructionsKind>,
    /// The number of this version.
    pub number: i32,
    /// Whether there is none after it.
    pub newest: bool,
    /// Its title.
    pub title: String,
    /// What it is for, in the author's words.
    pub about: String,
    /// What it can be used for.
    pub purposes: Vec<Purpose>,
    /// How many devices use this version.
    pub devices: i64,
    /// When it was added.
    pub added_at: DateTime<Utc>,
    /// By whom.
    pub added_by_name: String,
}

/// A version of a dialogue or recipe with its file.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DialogueFile {
    /// The version.
    #[serde(flatten)]
    pub dialogue: Dialogue,
    /// The file, TOML.
    pub text: String,
}

/// Adds a dialogue or recipe, or another version of one.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewDialogue {
    /// Its name; one that is taken gets another version.
    pub name: String,
    /// The file, TOML.
    pub text: String,
}

/// A file to be inspected.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct InspectDialogue {
    /// The file, TOML.
    pub text: String,
}

/// Something that is wrong with a file.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DialogueFinding {
    /// How bad it is.
    pub severity: Severity,
    /// The line of the file.
    #[schema(required)]
    pub line: Option<usize>,
    /// The step or request.
    #[schema(required)]
    pub step: Option<String>,
    /// What is wrong.
    pub message: String,
}

/// A file to be rehearsed against a transcript.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RehearseDialogue {
    /// The file, TOML.
    pub text: String,
    /// What for.
    pub purpose: Purpose,
    /// The name of the account; `duty` when left out.
    #[serde(default = "duty")]
    pub account: String,
    /// The transcript: `<` begins what the device wrote, `>` what was typed.
    pub transcript: String,
}

fn duty() -> String {
    "duty".into()
}

/// A part of a conversation, without secrets.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DialogueTurn {
    /// Whether it was typed; else the device wrote it.
    pub typed: bool,
    /// The text.
    pub text: String,
}

/// What came of a rehearsal.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DialogueRehearsal {
    /// The conversation, as far as it went.
    pub turns: Vec<DialogueTurn>,
    /// Whether it came to `done`.
    pub done: bool,
    /// How it ended, in words, or where dialogue and transcript part.
    pub result: String,
    /// The accounts that were listed.
    pub accounts: Vec<FoundAccount>,
}

/// What was said and heard in a job, without secrets.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct JobTranscript {
    /// The text, as a rehearsal takes it; empty when there was no dialogue.
    pub text: String,
}

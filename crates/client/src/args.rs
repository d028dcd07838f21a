//! Arguments that several commands share.

use std::path::PathBuf;

use clap::{Args, ValueEnum};

/// How to print.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Format {
    /// For people.
    Table,
    /// For programs.
    Json,
    /// For spreadsheets.
    Csv,
}

/// A password that comes from a prompt, a file or standard input.
#[derive(Debug, Default, Args)]
pub struct FromFile {
    /// Read the password from this file, or from standard input with `-`, instead of asking
    #[arg(long, value_name = "FILE")]
    pub password_file: Option<PathBuf>,
}

/// A folder or a credential.
#[derive(Debug, Args)]
#[group(required = true, multiple = false)]
pub struct Place {
    /// On this folder
    #[arg(long, value_name = "PATH")]
    pub folder: Option<String>,
    /// On this credential
    #[arg(long, value_name = "PATH")]
    pub credential: Option<String>,
}

/// A person or a group.
#[derive(Debug, Args)]
#[group(required = true, multiple = false)]
pub struct Who {
    /// This person, by sign-in name
    #[arg(long, value_name = "NAME")]
    pub person: Option<String>,
    /// This group
    #[arg(long, value_name = "NAME")]
    pub group: Option<String>,
}

/// The credentials that a command is for: by name, or by where they are and what they have.
#[derive(Debug, Default, Args)]
pub struct Selection {
    /// Paths or identifiers of the credentials
    #[arg(value_name = "PATH", required_unless_present_any = ["below", "tag", "stdin", "seen_by"])]
    pub paths: Vec<String>,
    #[command(flatten)]
    pub rule: SelectionRule,
}

/// Credentials that are selected by where they are and what they have.
#[derive(Debug, Default, Args)]
pub struct SelectionRule {
    /// All in this folder and below it
    #[arg(long, value_name = "FOLDER")]
    pub below: Option<String>,
    /// All with this tag
    #[arg(long, value_name = "TAG")]
    pub tag: Option<String>,
    /// All that this person has seen and that has not been changed since
    #[arg(long, value_name = "NAME")]
    pub seen_by: Option<String>,
    /// Read paths or identifiers from standard input, one a line
    #[arg(long)]
    pub stdin: bool,
}

impl SelectionRule {
    /// Whether it selects what nobody named.
    pub fn selects(&self) -> bool {
        self.below.is_some() || self.tag.is_some() || self.seen_by.is_some()
    }
}

/// Options of `setup`.
#[derive(Debug, Args)]
#[command(
    after_help = "EXAMPLE\n  jexlin setup --organisation \"Osmere Water\" --name ines --display-name \"Ines Calder\" --code-file /var/lib/jexlin/setup-code"
)]
pub struct SetupArgs {
    /// The organisation's name
    #[arg(long)]
    pub organisation: String,
    /// The first administrator's sign-in name
    #[arg(long)]
    pub name: String,
    /// The first administrator's display name
    #[arg(long)]
    pub display_name: String,
    /// Read the set-up code, which the service wrote, from this file
    #[arg(long, value_name = "FILE")]
    pub code_file: Option<PathBuf>,
    /// Read the first administrator's password from this file
    #[arg(long, value_name = "FILE")]
    pub password_file: Option<PathBuf>,
    /// Read the root key's passphrase from this file
    #[arg(long, value_name = "FILE")]
    pub passphrase_file: Option<PathBuf>,
    /// The service manager holds the root key; there is no passphrase
    #[arg(long)]
    pub managed_key: bool,
}

//! The commands, their options and their help. The examples are of the demo.

use std::path::PathBuf;

use clap::{Parser, Subcommand};

use crate::args::{FromFile, SetupArgs};
use crate::commands::access::{Access, AccessIssueCommand, TransferStewardshipArgs};
use crate::commands::access_request::AccessRequest;
use crate::commands::audit::Audit;
use crate::commands::client::Client;
use crate::commands::credential::Credential;
use crate::commands::device::Device;
use crate::commands::dialogue::Dialogue;
use crate::commands::folder::Folder;
use crate::commands::gate::{Checkout, Gate, Request};
use crate::commands::grant::Grant;
use crate::commands::group::Group;
use crate::commands::keys::Keys;
use crate::commands::kind::Kind;
use crate::commands::pending::Pending;
use crate::commands::people::People;
use crate::commands::personal::Personal;
use crate::commands::plan::Plan;
use crate::commands::policy::Policy;
use crate::commands::removal::Bin;
use crate::commands::search::Search;
use crate::commands::secret::CopyArgs;
use crate::commands::session::SessionCommand;
use crate::commands::settings::Settings;
use crate::commands::transfer::{ExportArgs, Import};
use crate::commands::upkeep::Upkeep;
use crate::pin::Pin;
use crate::view::View;

/// Passwords of devices and people: kept, shared, checked, rotated, asked for, and accounted for.
#[derive(Debug, Parser)]
#[command(
    name = "jexlin",
    version,
    max_term_width = 100,
    after_help = "EXAMPLES
  jexlin sign-in ines                                   sign in; the password is asked for
  jexlin find ridge                                     what is there about the ridge
  jexlin request ask \"/Pumping/North ridge/duty\" --reason \"pump 3 stopped\" --minutes 30
  jexlin reveal \"/Pumping/Weir lane/duty\"              see the password
  jexlin upkeep watch                                   follow the jobs as they run

EXIT CODES
  0 done  1 failed here  2 wrong usage  3 not signed in  4 not allowed  5 not found
  6 conflict or changed meanwhile  7 bad input  8 service away or locked  9 proof or job failed"
)]
pub struct Cli {
    /// Where the service is [default: that of the kept session, else http://127.0.0.1:8470]
    #[arg(
        long,
        global = true,
        help_heading = "Global options",
        env = "JEXLIN_SERVICE",
        value_name = "URL",
        hide_env = true
    )]
    pub service: Option<String>,
    /// Verify the service's certificate with those in this file (PEM), and no others [default: that
    /// of the kept session, else those of public authorities]
    #[arg(
        long,
        global = true,
        help_heading = "Global options",
        env = "JEXLIN_CA_FILE",
        value_name = "FILE",
        hide_env = true
    )]
    pub ca_file: Option<PathBuf>,
    /// Take the service only if its certificate has this public key, as `jexlind check` shows it
    /// [default: that of the kept session, else any key that is certified]
    #[arg(
        long,
        global = true,
        help_heading = "Global options",
        env = "JEXLIN_PINNED_KEY",
        value_name = "SHA256:KEY",
        hide_env = true
    )]
    pub pinned_key: Option<Pin>,
    #[command(flatten)]
    pub view: View,
    /// Do not ask before what changes access or cannot be undone
    #[arg(long, short, global = true, help_heading = "Global options")]
    pub yes: bool,
    /// What to do
    #[command(subcommand)]
    pub command: Command,
}

/// What to do.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// Set up a new service: organisation, first administrator, root key
    Setup(SetupArgs),
    /// Open the vault with the root key's passphrase
    Unlock {
        /// Read the passphrase from this file, or from standard input with `-`
        #[arg(long, value_name = "FILE")]
        passphrase_file: Option<PathBuf>,
    },
    /// Lock the vault on all services at once
    #[command(
        after_help = "EXAMPLE\n  jexlin lock --reason \"a laptop with an open session was stolen\""
    )]
    Lock {
        /// Reason, recorded in the audit log
        #[arg(long)]
        reason: String,
    },
    /// Keys of the vault: change the root key or the organisation's key
    #[command(subcommand)]
    Keys(Keys),
    /// Show the state of the service
    Status,
    /// Sign in and keep the session
    SignIn {
        /// The sign-in name
        name: String,
        /// The organisation, if the service has several
        #[arg(long)]
        organisation: Option<String>,
        #[command(flatten)]
        password: FromFile,
    },
    /// End the session
    SignOut,
    /// Show who is signed in
    Me,
    /// Sessions: yours, and by duty those of others
    #[command(subcommand)]
    Session(SessionCommand),
    /// Change your own sign-in password
    Password {
        /// Read the current password from this file
        #[arg(long, value_name = "FILE")]
        password_file: Option<PathBuf>,
        /// Read the new password from this file
        #[arg(long, value_name = "FILE")]
        new_password_file: Option<PathBuf>,
    },
    /// People
    #[command(subcommand)]
    People(People),
    /// Clients: programs that sign in
    #[command(subcommand)]
    Client(Client),
    /// Groups of people and of other groups
    #[command(subcommand)]
    Group(Group),
    /// Folders
    #[command(subcommand)]
    Folder(Folder),
    /// Search credentials by name, folder, device and every field that is not secret
    #[command(
        after_help = "EXAMPLES\n  jexlin find weir\n  jexlin find ridge duty      each word must be somewhere\n  jexlin find dosign          slips of typing are forgiven when nothing else is found"
    )]
    Find {
        /// Words, or parts of words
        #[arg(required = true)]
        words: Vec<String>,
    },
    /// Credentials
    #[command(subcommand)]
    Credential(Box<Credential>),
    /// Show a secret; the audit event is recorded first
    #[command(
        after_help = "EXAMPLES\n  jexlin reveal \"/Pumping/Weir lane/duty\"\n  jexlin reveal \"/Works/Highfield/historian reports\" --version 1    a former value"
    )]
    Reveal {
        /// The credential
        path: String,
        /// The field
        #[arg(long, default_value = "password")]
        field: String,
        /// Which version [default: the current one]
        #[arg(long, value_name = "NUMBER")]
        version: Option<i32>,
        /// Print even if standard output is not a terminal
        #[arg(long)]
        pipe: bool,
        /// Spell it out, letter by letter
        #[arg(long)]
        spell: bool,
    },
    /// Copy a password, user name, code or connection line; the clipboard is cleared afterwards
    Copy(CopyArgs),
    /// Print the current one-time code of a credential that you may use
    #[command(after_help = "EXAMPLES\n  jexlin code \"/Office/Bank portal\"")]
    Code {
        /// The credential
        path: String,
        /// Print even if standard output is not a terminal
        #[arg(long)]
        pipe: bool,
    },
    /// Kinds of credentials: built-in, and your organisation's own
    #[command(subcommand)]
    Kind(Kind),
    /// Saved searches
    #[command(subcommand)]
    Search(Search),
    /// List the tags of the credentials that you may list
    Tags,
    /// The bin: restore or purge what was removed
    #[command(subcommand)]
    Bin(Bin),
    /// Import credentials from a file
    #[command(subcommand)]
    Import(Import),
    /// Export what you may reveal, encrypted with age
    Export(ExportArgs),
    /// Your personal folder, which nobody else can open
    #[command(subcommand)]
    Personal(Personal),
    /// Settings of your organisation
    #[command(subcommand)]
    Settings(Settings),
    /// Generate a password by a policy, and store it nowhere
    Generate {
        /// The policy's name [default: the default policy]
        #[arg(long)]
        policy: Option<String>,
    },
    /// Password policies
    #[command(subcommand)]
    Policy(Policy),
    /// Grants: who may do what
    #[command(subcommand)]
    Grant(Grant),
    /// Explain why somebody has access to a folder or a credential, or why not
    #[command(after_help = "EXAMPLES
  jexlin explain marek \"/Pumping/North ridge/duty\"
  jexlin explain pim /Pumping")]
    Explain {
        /// The person's sign-in name
        person: String,
        /// The folder or the credential
        path: String,
    },
    /// Access: export, compare and apply it as a file; see who has it
    #[command(subcommand)]
    Access(Access),
    /// Access issues: what is wrong with grants and stewards, and how to fix it
    #[command(subcommand)]
    AccessIssue(AccessIssueCommand),
    /// Access requests: ask for access to what you cannot open
    #[command(subcommand)]
    AccessRequest(AccessRequest),
    /// Pending acts: changes that wait for a second person
    #[command(subcommand)]
    Pending(Pending),
    /// Transfer stewardship from one person to another
    TransferStewardship(TransferStewardshipArgs),
    /// Devices
    #[command(subcommand)]
    Device(Device),
    /// Dialogues and recipes: how to talk to devices that have only a command line or an HTTP API
    #[command(subcommand)]
    Dialogue(Dialogue),
    /// Upkeep plans: when to check and rotate
    #[command(subcommand)]
    Plan(Plan),
    /// Accounts on devices: check, rotate, follow the jobs
    #[command(subcommand)]
    Upkeep(Upkeep),
    /// Gates: conditions for access to a credential
    #[command(subcommand)]
    Gate(Gate),
    /// Requests to pass a gate
    #[command(subcommand)]
    Request(Request),
    /// Checkouts: what you hold, and until when
    #[command(subcommand)]
    Checkout(Checkout),
    /// Audit log: read, export and verify it
    #[command(subcommand)]
    Audit(Audit),
    /// Print the lines with which a shell completes commands, paths and names
    #[command(after_help = "EXAMPLES
  jexlin completions bash > ~/.local/share/bash-completion/completions/jexlin
  jexlin completions fish > ~/.config/fish/completions/jexlin.fish
  jexlin completions zsh > ~/.zfunc/_jexlin")]
    Completions {
        /// The shell
        shell: clap_complete::Shell,
    },
    /// Write the man pages of all commands to a folder
    #[command(after_help = "EXAMPLE
  jexlin man-pages ~/.local/share/man/man1")]
    ManPages {
        /// The folder, which must exist
        folder: PathBuf,
    },
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory as _;

    use super::*;

    fn every(command: &clap::Command, path: &str, seen: &mut Vec<(String, clap::Command)>) {
        let path = format!("{path} {}", command.get_name());
        seen.push((path.trim().to_owned(), command.clone()));
        for below in command.get_subcommands() {
            every(below, &path, seen);
        }
    }

    #[test]
    fn every_command_and_option_says_what_it_is_and_none_takes_a_secret_from_the_command_line() {
        Cli::command().debug_assert();
        let mut seen = vec![];
        every(&Cli::command(), "", &mut seen);
        assert!(seen.len() > 60, "{}", seen.len());
        for (path, command) in seen {
            assert!(command.get_about().is_some(), "`{path}` says nothing");
            for argument in command.get_arguments() {
                assert!(
                    argument.get_help().is_some(),
                    "`{path}`: {} says nothing",
                    argument.get_id()
                );
                let name = argument.get_id().as_str();
                let secret = ["password", "passphrase", "secret", "seed", "token"]
                    .iter()
                    .any(|word| name.contains(word));
                let flag = !argument.get_action().takes_values();
                assert!(
                    !secret || flag || name.ends_with("_file"),
                    "`{path}`: {name} would take a secret from the command line"
                );
            }
        }
    }
}

//! The commands, their options and their help. The examples are of the demo.

use std::path::PathBuf;

use chrono::{DateTime, Utc};
use clap::{Args, Parser, Subcommand, ValueEnum};

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
  jexlin reveal \"/Pumping/North ridge/duty\"             see the password
  jexlin upkeep watch                                   follow the jobs as they run

EXIT CODES
  0 done  1 failed here  2 wrong usage  3 not signed in  4 not allowed  5 not found
  6 in the way or changed meanwhile  7 bad input  8 service away or locked  9 proof or job failed"
)]
pub struct Cli {
    /// Where the service is [default: that of the kept session, else http://127.0.0.1:8470]
    #[arg(long, global = true, env = "JEXLIN_SERVICE", value_name = "URL", hide_env = true)]
    pub service: Option<String>,
    /// How to print lists and things
    #[arg(long, short, global = true, value_enum, default_value = "table", value_name = "FORMAT")]
    pub output: Format,
    /// What to do
    #[command(subcommand)]
    pub command: Command,
}

/// A password that comes from a prompt, a file or standard input.
#[derive(Debug, Args)]
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

/// What to do.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// Set a new service up: organisation, first administrator, root key
    Setup(SetupArgs),
    /// Open the vault with the root key's passphrase
    Unlock {
        /// Read the passphrase from this file, or from standard input with `-`
        #[arg(long, value_name = "FILE")]
        passphrase_file: Option<PathBuf>,
    },
    /// Say how the service is
    Status,
    /// Sign in and keep the session
    SignIn {
        /// The sign-in name
        name: String,
        /// The organisation, where there are several
        #[arg(long)]
        organisation: Option<String>,
        #[command(flatten)]
        password: FromFile,
    },
    /// End the session
    SignOut,
    /// Say who is signed in
    Me,
    /// Change your own sign-in password
    Password {
        /// Read the present one from this file
        #[arg(long, value_name = "FILE")]
        present_file: Option<PathBuf>,
        /// Read the new one from this file
        #[arg(long, value_name = "FILE")]
        new_file: Option<PathBuf>,
    },
    /// People
    #[command(subcommand)]
    People(People),
    /// Groups of people and groups
    #[command(subcommand)]
    Group(Group),
    /// Folders
    #[command(subcommand)]
    Folder(Folder),
    /// Find credentials by name, user name, URL or device
    #[command(after_help = "EXAMPLE\n  jexlin find weir")]
    Find {
        /// A part of it
        text: String,
    },
    /// Credentials
    #[command(subcommand)]
    Credential(Box<Credential>),
    /// Show a secret; the look is recorded first
    #[command(
        after_help = "EXAMPLES\n  jexlin reveal \"/Pumping/North ridge/duty\"\n  jexlin reveal \"/Works/Historian reports\" --version 1    a former value"
    )]
    Reveal {
        /// The credential
        path: String,
        /// Which field
        #[arg(long, default_value = "password")]
        field: String,
        /// Which version [default: the current one]
        #[arg(long, value_name = "NUMBER")]
        version: Option<i32>,
    },
    /// Print the current one-time code of a credential that you may use
    #[command(after_help = "EXAMPLES\n  jexlin code \"/Office/Ordering portal\"")]
    Code {
        /// The credential
        path: String,
    },
    /// Make a password by a policy, and store it nowhere
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
    /// Say by which way somebody holds a level on a credential, or why not
    #[command(after_help = "EXAMPLE\n  jexlin explain marek \"/Pumping/North ridge/duty\"")]
    Explain {
        /// The person's sign-in name
        person: String,
        /// The credential
        path: String,
    },
    /// Devices
    #[command(subcommand)]
    Device(Device),
    /// Upkeep plans: when to check and rotate
    #[command(subcommand)]
    Plan(Plan),
    /// Accounts on devices: check, rotate, follow the jobs
    #[command(subcommand)]
    Upkeep(Upkeep),
    /// Gates: conditions on reaching a credential
    #[command(subcommand)]
    Gate(Gate),
    /// Requests to pass a gate
    #[command(subcommand)]
    Request(Request),
    /// Checkouts: what you hold, and until when
    #[command(subcommand)]
    Checkout(Checkout),
    /// The audit log: read it, take it out, prove it
    #[command(subcommand)]
    Audit(Audit),
    /// Print completions for a shell
    Completions {
        /// Which shell
        shell: clap_complete::Shell,
    },
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
    /// The first administrator's name for people
    #[arg(long)]
    pub display_name: String,
    /// Read the set-up code that the service wrote from this file
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

/// People.
#[derive(Debug, Subcommand)]
pub enum People {
    /// List them
    List,
    /// Add one; without a password they are invited and cannot sign in yet
    #[command(after_help = "EXAMPLE\n  jexlin people add marek --display-name \"Marek Tull\" --with-password")]
    Add {
        /// The sign-in name
        name: String,
        /// The name for people
        #[arg(long)]
        display_name: String,
        /// Ask for a first password
        #[arg(long)]
        with_password: bool,
        /// Duties: people, folders, policy, audit
        #[arg(long = "duty", value_name = "DUTY")]
        duties: Vec<String>,
        #[command(flatten)]
        password: FromFile,
    },
    /// Change one
    Change {
        /// The sign-in name
        name: String,
        /// active, suspended or left
        #[arg(long)]
        state: Option<String>,
        /// Another name for people
        #[arg(long)]
        display_name: Option<String>,
        /// Duties, all of them anew
        #[arg(long = "duty", value_name = "DUTY")]
        duties: Option<Vec<String>>,
        /// Ask for a new password
        #[arg(long)]
        with_password: bool,
        #[command(flatten)]
        password: FromFile,
    },
}

/// Groups.
#[derive(Debug, Subcommand)]
pub enum Group {
    /// List them with their members
    List,
    /// Add one
    Add {
        /// Its name
        name: String,
    },
    /// Rename one
    Rename {
        /// Its name
        name: String,
        /// Its new name
        new_name: String,
    },
    /// Remove one; grants to it end
    Remove {
        /// Its name
        name: String,
    },
    /// Put somebody in
    Join {
        /// The group
        name: String,
        #[command(flatten)]
        who: Who,
    },
    /// Take somebody out
    Leave {
        /// The group
        name: String,
        #[command(flatten)]
        who: Who,
    },
}

/// Folders.
#[derive(Debug, Subcommand)]
pub enum Folder {
    /// List those that you may see
    List,
    /// Add one
    #[command(after_help = "EXAMPLE\n  jexlin folder add \"/Pumping/North ridge\"")]
    Add {
        /// Its whole path
        path: String,
        /// Grants from above stop here
        #[arg(long)]
        closed: bool,
    },
    /// Rename one
    Rename {
        /// Its path
        path: String,
        /// Its new name
        name: String,
    },
    /// Move one into another
    Move {
        /// Its path
        path: String,
        /// The path of the folder to move it into; `/` for the top
        to: String,
    },
    /// Let no grant from above in
    Close {
        /// Its path
        path: String,
    },
    /// Let grants from above in again
    Open {
        /// Its path
        path: String,
    },
    /// Remove one that is empty
    Remove {
        /// Its path
        path: String,
    },
}

/// Credentials.
#[derive(Debug, Subcommand)]
pub enum Credential {
    /// List those of a folder, or all that you may know of
    List {
        /// The folder
        folder: Option<String>,
    },
    /// Show one without its secrets
    Show {
        /// Its path
        path: String,
    },
    /// Add one; the password is generated unless it is typed
    #[command(after_help = "EXAMPLES
  jexlin credential add \"/Pumping/North ridge/duty\" --kind device-admin --user duty --device \"/Pumping/North ridge/telemetry\" --type-password
  jexlin credential add \"/Office/Ordering portal\" --user office@osmere.example --url https://orders.example/
  jexlin credential add \"/Office/Ordering portal\" --user office@osmere.example --secret-file one_time_seed=seed.txt
  jexlin credential add \"/Control room/Historian licence\" --kind licence --set product=Historian --set expires=2027-03-31 --type-password")]
    Add {
        /// Its whole path
        path: String,
        /// Its kind; jexlin credential kinds lists them with their fields
        #[arg(long, default_value = "login")]
        kind: String,
        /// The user name
        #[arg(long)]
        user: Option<String>,
        /// The URL
        #[arg(long)]
        url: Option<String>,
        /// A note that is not secret
        #[arg(long)]
        note: Option<String>,
        /// Any field that is not secret, as expires=2027-03-31; may be given several times
        #[arg(long, value_name = "FIELD=VALUE")]
        set: Vec<String>,
        /// A secret field from a file, as one_time_seed=seed.txt, or - for standard input
        #[arg(long, value_name = "FIELD=FILE")]
        secret_file: Vec<String>,
        /// The device that it is an account of
        #[arg(long, value_name = "PATH")]
        device: Option<String>,
        /// Ask for the password instead of generating one
        #[arg(long)]
        type_password: bool,
        #[command(flatten)]
        password: FromFile,
    },
    /// Change one; a password is changed in the vault alone
    Edit {
        /// Its path
        path: String,
        /// A new name
        #[arg(long)]
        name: Option<String>,
        /// The user name
        #[arg(long)]
        user: Option<String>,
        /// The URL
        #[arg(long)]
        url: Option<String>,
        /// A note that is not secret
        #[arg(long)]
        note: Option<String>,
        /// Any field that is not secret, as expires=2027-03-31; may be given several times
        #[arg(long, value_name = "FIELD=VALUE")]
        set: Vec<String>,
        /// A secret field from a file, as one_time_seed=seed.txt, or - for standard input
        #[arg(long, value_name = "FIELD=FILE")]
        secret_file: Vec<String>,
        /// The device that it is an account of
        #[arg(long, value_name = "PATH")]
        device: Option<String>,
        /// Take it off its device
        #[arg(long)]
        no_device: bool,
        /// Ask for a new password
        #[arg(long)]
        type_password: bool,
        /// Generate a new password
        #[arg(long)]
        generate: bool,
        /// Change it only if it still has this version
        #[arg(long, value_name = "NUMBER")]
        if_version: Option<i32>,
        #[command(flatten)]
        password: FromFile,
    },
    /// Move one into another folder
    Move {
        /// Its path
        path: String,
        /// The folder
        to: String,
    },
    /// Remove one
    Remove {
        /// Its path
        path: String,
    },
    /// List the versions of its secrets, without their values
    History {
        /// Its path
        path: String,
    },
    /// List the kinds of credentials
    Kinds,
}

/// Password policies.
#[derive(Debug, Subcommand)]
pub enum Policy {
    /// List them
    List,
    /// Add one
    Add {
        /// Its name
        name: String,
        #[command(flatten)]
        rules: PolicyRules,
    },
    /// Change one; all its rules are given anew
    Change {
        /// Its name
        name: String,
        #[command(flatten)]
        rules: PolicyRules,
    },
}

/// What a password must look like.
#[derive(Debug, Args)]
pub struct PolicyRules {
    /// Characters of a generated password
    #[arg(long, default_value_t = 20)]
    pub length: u16,
    /// The fewest characters of a typed one
    #[arg(long, default_value_t = 14)]
    pub shortest: u16,
    /// At least so many small letters
    #[arg(long, default_value_t = 1)]
    pub lower: u16,
    /// At least so many capital letters
    #[arg(long, default_value_t = 1)]
    pub upper: u16,
    /// At least so many digits
    #[arg(long, default_value_t = 1)]
    pub digits: u16,
    /// At least so many symbols
    #[arg(long, default_value_t = 1)]
    pub symbols_least: u16,
    /// The symbols that may occur
    #[arg(long, default_value = "-_.+=#@%")]
    pub symbols: String,
    /// Allow characters that look alike, such as 0 and O
    #[arg(long)]
    pub look_alikes: bool,
}

/// Grants.
#[derive(Debug, Subcommand)]
pub enum Grant {
    /// List those that reach a folder or a credential
    List {
        #[command(flatten)]
        place: Place,
    },
    /// Grant a level
    #[command(after_help = "EXAMPLES
  jexlin grant give reveal --folder /Pumping --group \"Duty engineers\"
  jexlin grant give use --credential \"/Control room/contractor\" --person pim --until 2026-12-01T17:00:00Z")]
    Give {
        /// list, use, reveal, edit or steward
        level: String,
        #[command(flatten)]
        place: Place,
        #[command(flatten)]
        who: Who,
        /// It ends then
        #[arg(long, value_name = "TIME")]
        until: Option<DateTime<Utc>>,
        /// Why
        #[arg(long, default_value = "")]
        note: String,
    },
    /// Take a grant away
    Take {
        /// Its identifier, as `grant list` shows it
        grant: uuid::Uuid,
    },
}

/// Devices.
#[derive(Debug, Subcommand)]
pub enum Device {
    /// List them
    List {
        /// Those of this folder
        folder: Option<String>,
    },
    /// Add one
    #[command(after_help = "EXAMPLE\n  jexlin device add \"/Pumping/North ridge/telemetry\" --address 127.0.10.5 --operator \"/Pumping/North ridge/root\"")]
    Add {
        /// Its whole path
        path: String,
        /// Host name or IP address
        #[arg(long)]
        address: String,
        /// TCP port
        #[arg(long, default_value_t = 22)]
        port: u16,
        /// The credential that its accounts are changed with
        #[arg(long, value_name = "PATH")]
        operator: Option<String>,
    },
    /// Change one
    Edit {
        /// Its path
        path: String,
        /// A new name
        #[arg(long)]
        name: Option<String>,
        /// A new address
        #[arg(long)]
        address: Option<String>,
        /// A new port
        #[arg(long)]
        port: Option<u16>,
        /// The credential that its accounts are changed with
        #[arg(long, value_name = "PATH")]
        operator: Option<String>,
        /// Forget the pinned host key; the next contact pins anew
        #[arg(long)]
        accept_new_key: bool,
    },
    /// Remove one that has no accounts
    Remove {
        /// Its path
        path: String,
    },
}

/// Upkeep plans.
#[derive(Debug, Subcommand)]
pub enum Plan {
    /// List them
    List,
    /// Set the plan of a folder or a credential, anew if there is one
    #[command(
        after_help = "EXAMPLE\n  jexlin plan set --folder /Pumping --check \"FREQ=DAILY;BYHOUR=3;BYMINUTE=0\" --out-of-step tell --every-days 30 --hours 01:00-04:00 --time-zone Europe/London"
    )]
    Set(PlanArgs),
    /// Remove the plan of a folder or a credential
    Remove {
        #[command(flatten)]
        place: Place,
    },
}

/// Options of `plan set`.
#[derive(Debug, Args)]
pub struct PlanArgs {
    #[command(flatten)]
    pub place: Place,
    /// When to check: an RFC 5545 recurrence rule
    #[arg(long, value_name = "RRULE")]
    pub check: Option<String>,
    /// When out of step: tell, rotate or both
    #[arg(long, default_value = "tell", value_name = "WHAT")]
    pub out_of_step: String,
    /// When to rotate: an RFC 5545 recurrence rule
    #[arg(long, value_name = "RRULE", conflicts_with = "every_days")]
    pub rotate: Option<String>,
    /// Rotate so many days after the last rotation
    #[arg(long, value_name = "DAYS")]
    pub every_days: Option<u16>,
    /// Rotate only in these hours, such as 22:00-04:00
    #[arg(long, value_name = "FROM-TO")]
    pub hours: Option<String>,
    /// The time zone of rules and hours
    #[arg(long, default_value = "UTC", value_name = "ZONE")]
    pub time_zone: String,
    /// The password policy for new passwords [default: the default policy]
    #[arg(long, value_name = "NAME")]
    pub policy: Option<String>,
}

/// Accounts and jobs.
#[derive(Debug, Subcommand)]
pub enum Upkeep {
    /// List the accounts under upkeep
    List,
    /// Check now whether the stored password opens the account
    Check {
        /// The credential
        path: String,
        /// Wait until the job has ended
        #[arg(long)]
        wait: bool,
    },
    /// Rotate the password now, on the device and in the vault
    Rotate {
        /// The credential
        path: String,
        /// As the account itself, at the device's own prompt
        #[arg(long)]
        as_itself: bool,
        /// Wait until the job has ended
        #[arg(long)]
        wait: bool,
    },
    /// List jobs, newest first
    Jobs {
        /// Of this credential
        #[arg(long, value_name = "PATH")]
        credential: Option<String>,
        /// queued, running, done or failed
        #[arg(long)]
        state: Option<String>,
        /// At most so many
        #[arg(long, default_value_t = 50)]
        most: usize,
    },
    /// Follow the jobs as they run
    Watch,
}

/// Gates.
#[derive(Debug, Subcommand)]
pub enum Gate {
    /// List them
    List,
    /// Set the gate of a folder or a credential, anew if there is one
    #[command(
        after_help = "EXAMPLE\n  jexlin gate set --folder \"/Control room\" --reason --approver-group \"Shift leads\" --minutes 60 --one-holder --rotate-on-return"
    )]
    Set(GateArgs),
    /// Remove the gate of a folder or a credential
    Remove {
        #[command(flatten)]
        place: Place,
    },
}

/// Options of `gate set`.
#[derive(Debug, Args)]
pub struct GateArgs {
    #[command(flatten)]
    pub place: Place,
    /// A reason must be given
    #[arg(long)]
    pub reason: bool,
    /// A person who may approve; one approval is then needed
    #[arg(long, value_name = "NAME")]
    pub approver: Vec<String>,
    /// A group whose members may approve
    #[arg(long, value_name = "NAME")]
    pub approver_group: Vec<String>,
    /// The longest time of a checkout, in minutes
    #[arg(long, default_value_t = 60)]
    pub minutes: i32,
    /// Only one person at a time holds it
    #[arg(long)]
    pub one_holder: bool,
    /// Rotate the password when a checkout ends
    #[arg(long)]
    pub rotate_on_return: bool,
}

/// Requests.
#[derive(Debug, Subcommand)]
pub enum Request {
    /// List yours, and those that you may decide
    List {
        /// waiting, approved, refused, withdrawn or expired
        #[arg(long)]
        state: Option<String>,
    },
    /// Ask to pass a gate
    Ask {
        /// The credential
        path: String,
        /// Why
        #[arg(long, default_value = "")]
        reason: String,
        /// For how long
        #[arg(long, default_value_t = 60)]
        minutes: i32,
    },
    /// Approve somebody else's request
    Approve {
        /// The request
        id: uuid::Uuid,
        /// What to tell them
        #[arg(long, default_value = "")]
        comment: String,
    },
    /// Refuse somebody else's request
    Refuse {
        /// The request
        id: uuid::Uuid,
        /// What to tell them
        #[arg(long, default_value = "")]
        comment: String,
    },
    /// Take your own request back
    Withdraw {
        /// The request
        id: uuid::Uuid,
    },
}

/// Checkouts.
#[derive(Debug, Subcommand)]
pub enum Checkout {
    /// List yours; with a credential, everybody's
    List {
        /// Of this credential
        #[arg(long, value_name = "PATH")]
        credential: Option<String>,
        /// Only those that are open
        #[arg(long)]
        open: bool,
    },
    /// Take one: with an approved request, or with a reason where no approval is needed
    Take {
        /// The credential
        path: String,
        /// The approved request [default: your newest for this credential]
        #[arg(long, value_name = "ID")]
        request: Option<uuid::Uuid>,
        /// Why, where no approval is needed
        #[arg(long, default_value = "")]
        reason: String,
        /// For how long, where no approval is needed
        #[arg(long)]
        minutes: Option<i32>,
    },
    /// Give one back
    CheckIn {
        /// The credential
        path: String,
    },
    /// Take somebody's back, as a steward
    Recall {
        /// The checkout
        id: uuid::Uuid,
    },
}

/// The audit log.
#[derive(Debug, Subcommand)]
pub enum Audit {
    /// List events, newest first
    #[command(
        after_help = "EXAMPLES\n  jexlin audit list --action credential.reveal --since 2026-11-01T00:00:00Z\n  jexlin audit list --outcome refused --find calder"
    )]
    List {
        /// Of this action, or of all below it: `credential` finds `credential.reveal`
        #[arg(long)]
        action: Option<String>,
        /// By this person
        #[arg(long, value_name = "NAME")]
        actor: Option<String>,
        /// On this credential
        #[arg(long, value_name = "PATH")]
        credential: Option<String>,
        /// done, refused or failed
        #[arg(long)]
        outcome: Option<String>,
        /// From then on
        #[arg(long, value_name = "TIME")]
        since: Option<String>,
        /// Before then
        #[arg(long, value_name = "TIME")]
        until: Option<String>,
        /// With this in the name of who or what
        #[arg(long, value_name = "TEXT")]
        find: Option<String>,
        /// At most so many
        #[arg(long, default_value_t = 50)]
        most: usize,
    },
    /// Write the whole log and its signed checkpoints to a file
    Export {
        /// The file; `-` for standard output
        file: PathBuf,
    },
    /// Print the log's public key; keep it somewhere else than the log
    Key,
    /// Verify an export with nothing but the public key; no service is needed
    #[command(
        after_help = "EXAMPLE\n  jexlin audit key > osmere.key\n  jexlin audit export osmere.jsonl\n  jexlin audit verify osmere.jsonl --key-file osmere.key"
    )]
    Verify {
        /// The export
        file: PathBuf,
        /// The file with the public key
        #[arg(long, value_name = "FILE")]
        key_file: PathBuf,
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
                assert!(argument.get_help().is_some(), "`{path}`: {} says nothing", argument.get_id());
                let name = argument.get_id().as_str();
                let secret = ["password", "passphrase", "secret", "seed", "token"].iter().any(|word| name.contains(word));
                let flag = !argument.get_action().takes_values();
                assert!(!secret || flag || name.ends_with("_file"), "`{path}`: {name} would take a secret from the command line");
            }
        }
    }
}

//! Which command does what.

use std::path::Path;

use clap::CommandFactory as _;
use jexlin_api::words::{ServiceState, Word as _};
use jexlin_api::{ChangePassword, LockVault, Me, Status, Unlock};
use serde_json::{Value, json};

use crate::args::Format;
use crate::cli::{Cli, Command};
use crate::commands::audit::{Audit, Proof, verify};
use crate::completions;
use crate::connection::{Connection, Target};
use crate::error::ClientError;
use crate::output::{self, say};
use crate::run::{Done, Run};
use crate::secrets;
use crate::view;

/// Runs a command.
pub fn run(cli: Cli) -> Done {
    let format = cli.view.output;
    view::set(cli.view);
    let run = |connection| Run {
        connection,
        format,
        yes: cli.yes,
    };
    let target = Target {
        service: cli.service,
        ca_file: cli.ca_file,
        pinned_key: cli.pinned_key,
    };
    command(cli.command, target, format, run)?;
    output::finish()
}

fn command(
    command: Command,
    target: Target,
    format: Format,
    run: impl FnOnce(Connection) -> Run,
) -> Done {
    if let Command::Completions { shell } = command {
        return completions::register(shell);
    }
    if let Command::ManPages { folder } = &command {
        return man_pages(folder);
    }
    if let Command::Audit(Audit::Verify {
        file,
        key_file,
        since,
        checkpoint,
    }) = &command
    {
        let proof = Proof {
            key_file,
            since: since.as_deref(),
            checkpoint: checkpoint.as_deref(),
        };
        return verify(format, file, proof);
    }
    let run = run(Connection::open(target)?);
    match command {
        Command::Setup(args) => run.setup(args),
        Command::Unlock { passphrase_file } => {
            let passphrase = secrets::read(
                "Passphrase of the root key",
                passphrase_file.as_deref(),
                false,
            )?;
            let status: Status = run
                .connection
                .post("/api/v1/unlock", &Unlock { passphrase })?;
            say(&format!(
                "The vault is {}.",
                if status.state == ServiceState::Ready {
                    "open"
                } else {
                    status.state.word()
                }
            ))
        }
        Command::Lock { reason } => {
            let _: Status = run.connection.post("/api/v1/lock", &LockVault { reason })?;
            say("The vault is locked on all services. Unlock each service with: jexlin unlock")
        }
        Command::Keys(command) => run.keys(command),
        Command::Status => {
            let status: Status = run.connection.get("/api/v1/status")?;
            output::one(
                run.format,
                &status,
                &[("state", "state"), ("version", "version")],
            )
        }
        Command::SignIn {
            name,
            organisation,
            password,
        } => run.sign_in(name, organisation, password.password_file.as_deref()),
        Command::SignOut => {
            run.connection
                .post::<Value>("/api/v1/sign-out", &json!({}))?;
            run.connection.forget()?;
            say("Signed out.")
        }
        Command::Me => {
            let me: Me = run.connection.get("/api/v1/me")?;
            output::one(
                run.format,
                &me,
                &[
                    ("name", "display_name"),
                    ("sign-in name", "sign_in_name"),
                    ("organisation", "organisation"),
                    ("duties", "duties"),
                ],
            )
        }
        Command::Password {
            password_file,
            new_password_file,
        } => {
            let present = secrets::read("Current password", password_file.as_deref(), false)?;
            let new = secrets::read("New password", new_password_file.as_deref(), true)?;
            run.connection
                .post::<Value>("/api/v1/me/password", &ChangePassword { present, new })?;
            say("Your password is changed; your other sessions have ended.")
        }
        Command::Session(command) => run.session(command),
        Command::People(command) => run.people(command),
        Command::Client(command) => run.clients(command),
        Command::Group(command) => run.group(command),
        Command::Folder(command) => run.folder(command),
        Command::Find { words } => run.find(&words.join(" ")),
        Command::Credential(command) => run.credential(*command),
        Command::Kind(command) => run.kind(command),
        Command::Search(command) => run.search(command),
        Command::Tags => run.tags(),
        Command::Bin(command) => run.bin(command),
        Command::Import(command) => run.import(command),
        Command::Export(args) => run.export(args),
        Command::Personal(command) => run.personal(command),
        Command::Settings(command) => run.settings(command),
        Command::Code { path, pipe } => run.code(&path, pipe),
        Command::Reveal {
            path,
            field,
            version,
            pipe,
            spell,
        } => run.reveal(&path, field, version, pipe, spell),
        Command::Copy(args) => run.copy(&args),
        Command::Generate { policy } => run.generate(policy),
        Command::Dialogue(command) => run.dialogue(command),
        Command::Policy(command) => run.policy(command),
        Command::Grant(command) => run.grant(command),
        Command::Explain { person, path } => run.explain(&person, &path),
        Command::Access(command) => run.access(command),
        Command::AccessIssue(command) => run.access_issue(command),
        Command::AccessRequest(command) => run.access_request(command),
        Command::Pending(command) => run.pending(command),
        Command::TransferStewardship(args) => run.transfer_stewardship(&args),
        Command::Device(command) => run.device(command),
        Command::Plan(command) => run.plan(command),
        Command::Upkeep(command) => run.upkeep(command),
        Command::Gate(command) => run.gate(command),
        Command::Request(command) => run.request(command),
        Command::Checkout(command) => run.checkout(command),
        Command::Audit(command) => run.audit(command),
        Command::Completions { .. } | Command::ManPages { .. } => Ok(()),
    }
}

/// Writes a man page for `jexlin` and each of its commands.
fn man_pages(folder: &Path) -> Done {
    clap_mangen::generate_to(Cli::command(), folder).map_err(|error| {
        ClientError::input(
            format!("{}: {error}.", folder.display()),
            "Name an existing folder that you may write to.",
        )
    })
}

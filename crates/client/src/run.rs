//! What the commands do.

use std::path::Path;

use clap::CommandFactory as _;
use jexlin_api::{ChangePassword, LockVault, Me, Setup, SignIn, SignedIn, Status, Unlock};
use serde_json::{Value, json};

use crate::cli::{Cli, Command, Format, SetupArgs};
use crate::commands::audit::{Audit, verify};
use crate::connection::Connection;
use crate::error::ClientError;
use crate::output::{self, say};
use crate::secrets;

/// What a command comes to.
pub type Done = Result<(), ClientError>;

/// Runs a command.
pub fn run(cli: Cli) -> Done {
    if let Command::Completions { shell } = cli.command {
        clap_complete::generate(shell, &mut Cli::command(), "jexlin", &mut std::io::stdout());
        return Ok(());
    }
    if let Command::Audit(Audit::Verify { file, key_file }) = &cli.command {
        return verify(cli.output, file, key_file);
    }
    let link = Connection::open(cli.service)?;
    let run = Run {
        link,
        format: cli.output,
    };
    match cli.command {
        Command::Setup(args) => run.setup(args),
        Command::Unlock { passphrase_file } => {
            let passphrase = secrets::read(
                "Passphrase of the root key",
                passphrase_file.as_deref(),
                false,
            )?;
            let status: Status = run.link.post("/api/v1/unlock", &Unlock { passphrase })?;
            say(&format!(
                "The vault is {}.",
                if status.state == "ready" {
                    "open"
                } else {
                    &status.state
                }
            ))
        }
        Command::Lock { reason } => {
            let _: Status = run.link.post("/api/v1/lock", &LockVault { reason })?;
            say("The vault is locked on all services. Unlock each service with: jexlin unlock")
        }
        Command::Keys(command) => run.keys(command),
        Command::Status => {
            let status: Status = run.link.get("/api/v1/status")?;
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
            run.link.post::<Value>("/api/v1/sign-out", &json!({}))?;
            run.link.forget()?;
            say("Signed out.")
        }
        Command::Me => {
            let me: Me = run.link.get("/api/v1/me")?;
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
            present_file,
            new_file,
        } => {
            let present = secrets::read("Present password", present_file.as_deref(), false)?;
            let new = secrets::read("New password", new_file.as_deref(), true)?;
            run.link
                .post::<Value>("/api/v1/me/password", &ChangePassword { present, new })?;
            say("Your password is changed; your other sessions have ended.")
        }
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
        Command::Completions { .. } => Ok(()),
    }
}

/// What every command has at hand.
pub struct Run {
    /// The service.
    pub link: Connection,
    /// How to print.
    pub format: Format,
}

impl Run {
    fn setup(&self, args: SetupArgs) -> Done {
        let code = secrets::read(
            "Set-up code (from the file `setup-code` in the service's folder)",
            args.code_file.as_deref(),
            false,
        )?;
        let password = secrets::read(
            "Password of the first administrator",
            args.password_file.as_deref(),
            true,
        )?;
        let passphrase = if args.managed_key {
            None
        } else {
            Some(secrets::read(
                "Passphrase to protect the root key with",
                args.passphrase_file.as_deref(),
                true,
            )?)
        };
        let name = args.organisation.clone();
        let body = Setup {
            code,
            organisation: args.organisation,
            sign_in_name: args.name,
            display_name: args.display_name,
            password,
            passphrase,
        };
        let _: Status = self.link.post("/api/v1/setup", &body)?;
        say(&format!(
            "{name} is set up. Keep a copy of root-key.json and its passphrase apart from the database's backups: without both, nothing can be opened."
        ))
    }

    fn sign_in(&self, name: String, organisation: Option<String>, file: Option<&Path>) -> Done {
        let password = secrets::read(&format!("Password of {name}"), file, false)?;
        let signed: SignedIn = self.link.post(
            "/api/v1/sign-in",
            &SignIn {
                organisation,
                sign_in_name: name,
                password,
                channel: "client".into(),
            },
        )?;
        let token = signed
            .token
            .ok_or_else(|| ClientError::local("The service sent no token."))?;
        self.link.keep(token)?;
        say(&format!(
            "Signed in to {} as {} until {}.",
            signed.me.organisation,
            signed.me.display_name,
            signed.ends_at.format("%Y-%m-%d %H:%M UTC")
        ))
    }
}

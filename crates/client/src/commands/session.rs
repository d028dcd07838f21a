//! Set-up, signing in and out, and who is signed in.

use std::path::Path;

use clap::Subcommand;
use jexlin_api::words::Channel;
use jexlin_api::{Session, SessionsEnded, Setup, SignIn, SignedIn, Status};
use uuid::Uuid;

use crate::args::SetupArgs;
use crate::error::ClientError;
use crate::lookup;
use crate::output::{self, Column, say};
use crate::run::{Done, Run};
use crate::secrets;

/// Sessions.
#[derive(Debug, Subcommand)]
pub enum SessionCommand {
    /// List sessions that have not ended: your own, or those of a person
    #[command(after_help = "EXAMPLES
  jexlin session list
  jexlin session list --person marek      takes the duty `people`")]
    List {
        /// Of this person, by sign-in name
        #[arg(long, value_name = "NAME")]
        person: Option<String>,
    },
    /// End a session, or all but this one
    #[command(after_help = "EXAMPLES
  jexlin session end 0199c3a0-55d2-7a41-9d25-2f1b7a3cbb04
  jexlin session end --all
  jexlin session end --all --person marek")]
    End {
        /// Its identifier, as `session list` shows it
        #[arg(required_unless_present = "all", conflicts_with = "all")]
        id: Option<Uuid>,
        /// End all sessions but this one
        #[arg(long)]
        all: bool,
        /// Of this person, by sign-in name
        #[arg(long, value_name = "NAME", requires = "all")]
        person: Option<String>,
    },
}

// The identifier is what `session end` wants: it is not hidden.
const SESSION: [Column; 7] = [
    ("session", "id"),
    ("from", "origin"),
    ("by", "channel"),
    ("begun", "created_at"),
    ("last used", "last_used_at"),
    ("ends", "ends_at"),
    ("this one", "current"),
];

impl Run {
    pub fn session(&self, command: SessionCommand) -> Done {
        let of = |person: Option<String>| match person {
            None => Ok(String::new()),
            Some(name) => {
                let person = lookup::person(&self.connection, &name)?;
                Ok(format!("?person={}", person.id))
            }
        };
        match command {
            SessionCommand::List { person } => {
                let address = format!("/api/v1/sessions{}", of(person)?);
                let sessions = self.connection.list::<Session>(&address, None)?;
                output::list(self.format, &sessions, &SESSION, "No session is open.")
            }
            SessionCommand::End { id: Some(id), .. } => {
                self.connection
                    .delete(&format!("/api/v1/sessions/{id}"), None)?;
                say("The session has ended.")
            }
            SessionCommand::End { person, .. } => {
                if let Some(name) = &person {
                    self.confirm(&format!("End all sessions of {name}?"))?;
                }
                let address = format!("/api/v1/sessions{}", of(person)?);
                let ended: SessionsEnded = self.connection.delete_for(&address)?;
                say(&format!(
                    "{} ended.",
                    output::counted(ended.ended, "session", "sessions")
                ))
            }
        }
    }

    pub fn setup(&self, args: SetupArgs) -> Done {
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
        let _: Status = self.connection.post("/api/v1/setup", &body)?;
        say(&format!(
            "{name} is set up. Keep a copy of root-key.json and its passphrase apart from the database's backups: without both, nothing can be opened."
        ))
    }

    pub fn sign_in(&self, name: String, organisation: Option<String>, file: Option<&Path>) -> Done {
        let password = secrets::read(&format!("Password of {name}"), file, false)?;
        let signed: SignedIn = self.connection.post(
            "/api/v1/sign-in",
            &SignIn {
                organisation,
                sign_in_name: name,
                password,
                channel: Channel::Client,
            },
        )?;
        let token = signed
            .token
            .ok_or_else(|| ClientError::local("The service sent no token."))?;
        self.connection.keep(token)?;
        say(&format!(
            "Signed in to {} as {} until {}.",
            signed.me.organisation,
            signed.me.display_name,
            crate::time::shown(signed.ends_at)
        ))
    }
}

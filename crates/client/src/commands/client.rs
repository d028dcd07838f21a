//! Clients: programs that sign in.

use clap::Subcommand;
use jexlin_api::words::{PersonState, PersonType};
use jexlin_api::{ClientSecret, EditPerson, NewClient, Person};

use super::people::{PERSON, settable_state};
use crate::error::ClientError;
use crate::lookup;
use crate::output::{self, Column, say};
use crate::run::{Done, Run};

/// Clients.
#[derive(Debug, Subcommand)]
pub enum Client {
    /// List clients
    List,
    /// Show a client
    Show {
        /// Its sign-in name
        name: String,
    },
    /// Add a client; its secret is written to a file and shown nowhere else
    #[command(after_help = "EXAMPLE
  jexlin client add backup-job --display-name \"Nightly backup\" --secret-to-file backup.secret
  curl -u \"backup-job:$(cat backup.secret)\" -d grant_type=client_credentials http://127.0.0.1:8470/api/v1/oauth/token")]
    Add {
        /// The name that it signs in with
        name: String,
        /// The display name
        #[arg(long)]
        display_name: String,
        /// Write its secret to this file, which must not exist yet
        #[arg(long, value_name = "FILE")]
        secret_to_file: std::path::PathBuf,
    },
    /// Issue a new secret to a client; the old secret and its tokens stop working
    Renew {
        /// Its name
        name: String,
        /// Write its secret to this file, which must not exist yet
        #[arg(long, value_name = "FILE")]
        secret_to_file: std::path::PathBuf,
    },
    /// Set the state of a client: suspended, active again, or left
    State {
        /// Its name
        name: String,
        /// active, suspended or left
        #[arg(value_parser = settable_state)]
        state: PersonState,
    },
}

/// Writes a secret to a file of its owner's alone.
fn keep_secret(path: &std::path::Path, secret: &str) -> Result<(), ClientError> {
    let broken = |error: std::io::Error| {
        ClientError::input(
            format!("{}: {error}.", path.display()),
            "Name a file that does not exist yet, in an existing folder.",
        )
    };
    let mut options = std::fs::OpenOptions::new();
    options.write(true).create_new(true);
    #[cfg(unix)]
    std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
    std::io::Write::write_all(&mut options.open(path).map_err(broken)?, secret.as_bytes())
        .map_err(broken)
}

impl Run {
    pub fn clients(&self, command: Client) -> Done {
        let there = |path: &std::path::Path| {
            if path.exists() {
                Err(ClientError::input(
                    format!("{} already exists.", path.display()),
                    "Name a file that does not exist yet.",
                ))
            } else {
                Ok(())
            }
        };
        match command {
            Client::List => {
                let rows: Vec<Person> = self.connection.list("/api/v1/people", None)?;
                let clients: Vec<Person> = rows
                    .into_iter()
                    .filter(|row| row.person_type == PersonType::Client)
                    .collect();
                let columns: [Column; 4] = [
                    ("name", "sign_in_name"),
                    ("display name", "display_name"),
                    ("state", "state"),
                    ("id", "id"),
                ];
                output::list(self.format, &clients, &columns, "There are no clients.")
            }
            Client::Show { name } => {
                let client = lookup::person(&self.connection, &name)?;
                output::one(self.format, &client, &PERSON)
            }
            Client::Add {
                name,
                display_name,
                secret_to_file,
            } => {
                there(&secret_to_file)?;
                let made: ClientSecret = self.connection.post(
                    "/api/v1/clients",
                    &NewClient {
                        name: name.clone(),
                        display_name,
                    },
                )?;
                keep_secret(&secret_to_file, made.secret.expose_secret())?;
                say(&format!(
                    "{name} can sign in; its secret is in {}. Grant it what it needs: jexlin grant add use --person {name} …",
                    secret_to_file.display()
                ))
            }
            Client::Renew {
                name,
                secret_to_file,
            } => {
                there(&secret_to_file)?;
                let client = lookup::person(&self.connection, &name)?;
                self.confirm(&format!(
                    "Issue a new secret to {name}? The old secret and its tokens stop working."
                ))?;
                let made: ClientSecret = self.connection.post(
                    &format!("/api/v1/clients/{}/secret", client.id),
                    &serde_json::json!({}),
                )?;
                keep_secret(&secret_to_file, made.secret.expose_secret())?;
                say(&format!(
                    "The new secret of {name} is in {}; the old secret and its tokens stop working.",
                    secret_to_file.display()
                ))
            }
            Client::State { name, state } => {
                let client = lookup::person(&self.connection, &name)?;
                self.confirm(&format!("Set the client {name} to {state}?"))?;
                let body = EditPerson {
                    state: Some(state),
                    ..EditPerson::default()
                };
                let shown: Person = self.connection.change(
                    "PATCH",
                    &format!("/api/v1/people/{}", client.id),
                    &body,
                    client.revision,
                )?;
                output::one(self.format, &shown, &PERSON)
            }
        }
    }
}

//! People and groups.

use clap::Subcommand;
use jexlin_api::words::{Duty, PersonState, PersonType};
use jexlin_api::{
    Change, ClientSecret, EditPerson, Group as GroupItem, Membership, NewClient, NewGroup,
    NewPerson, Person,
};
use uuid::Uuid;

use crate::args::{FromFile, Who};
use crate::error::ClientError;
use crate::lookup;
use crate::output::{self, Column, say};
use crate::run::{Done, Run};
use crate::secrets;

/// People.
#[derive(Debug, Subcommand)]
pub enum People {
    /// List people
    List,
    /// Add a person; without a password they are invited and cannot sign in yet
    #[command(
        after_help = "EXAMPLE\n  jexlin people add marek --display-name \"Marek Tull\" --with-password"
    )]
    Add {
        /// The sign-in name
        name: String,
        /// The name for people
        #[arg(long)]
        display_name: String,
        /// Ask for a first password
        #[arg(long)]
        with_password: bool,
        /// A duty: people, folders, access, policy, audit, export or recovery (repeatable)
        #[arg(long = "duty", value_name = "DUTY")]
        duties: Vec<Duty>,
        #[command(flatten)]
        password: FromFile,
    },
    /// Edit a person
    Edit {
        /// The sign-in name
        name: String,
        /// active, suspended or left
        #[arg(long, value_parser = settable_state)]
        state: Option<PersonState>,
        /// Another name for people
        #[arg(long)]
        display_name: Option<String>,
        /// Replace all duties (repeatable)
        #[arg(long = "duty", value_name = "DUTY")]
        duties: Option<Vec<Duty>>,
        /// Ask for a new password
        #[arg(long)]
        with_password: bool,
        #[command(flatten)]
        password: FromFile,
    },
}

/// Clients.
#[derive(Debug, Subcommand)]
pub enum Client {
    /// List clients
    List,
    /// Add a client; its secret is written to a file, and told nowhere else
    #[command(after_help = "EXAMPLE
  jexlin client add backup-job --display-name \"Nightly backup\" --secret-to-file backup.secret
  curl -u \"backup-job:$(cat backup.secret)\" -d grant_type=client_credentials http://127.0.0.1:8470/api/v1/oauth/token")]
    Add {
        /// The name that it signs in with
        name: String,
        /// The name for people
        #[arg(long)]
        display_name: String,
        /// Where its secret is written to; the file must not be there yet
        #[arg(long, value_name = "FILE")]
        secret_to_file: std::path::PathBuf,
    },
    /// Give a client a new secret; the old secret and its tokens stop working
    Renew {
        /// Its name
        name: String,
        /// Where its secret is written to; the file must not be there yet
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

/// Groups.
#[derive(Debug, Subcommand)]
pub enum Group {
    /// List groups with their members
    List,
    /// Add a group
    Add {
        /// Its name
        name: String,
    },
    /// Rename a group
    Rename {
        /// Its name
        name: String,
        /// Its new name
        new_name: String,
    },
    /// Remove a group; grants to it end
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
        /// Change nothing; show who would gain or lose what
        #[arg(long)]
        preview: bool,
    },
    /// Remove a person or group from a group
    Leave {
        /// The group
        name: String,
        #[command(flatten)]
        who: Who,
        /// Change nothing; show who would gain or lose what
        #[arg(long)]
        preview: bool,
    },
}

const PERSON: [Column; 6] = [
    ("name", "sign_in_name"),
    ("display name", "display_name"),
    ("type", "type"),
    ("state", "state"),
    ("duties", "duties"),
    ("id", "id"),
];

/// Writes a secret to a file of its owner's alone.
fn keep_secret(path: &std::path::Path, secret: &str) -> Result<(), ClientError> {
    let broken = |error: std::io::Error| {
        ClientError::input(
            format!("{}: {error}.", path.display()),
            "Name a file that is not there yet, in a folder that is.",
        )
    };
    let mut options = std::fs::OpenOptions::new();
    options.write(true).create_new(true);
    #[cfg(unix)]
    std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
    std::io::Write::write_all(&mut options.open(path).map_err(broken)?, secret.as_bytes())
        .map_err(broken)
}

/// A state that people can be set to; invited is what they are until they first sign in.
fn settable_state(text: &str) -> Result<PersonState, String> {
    match text.parse() {
        Ok(PersonState::Invited) | Err(_) => Err("expected active, suspended or left".to_owned()),
        Ok(state) => Ok(state),
    }
}

impl Run {
    pub fn clients(&self, command: Client) -> Done {
        let there = |path: &std::path::Path| {
            if path.exists() {
                Err(ClientError::input(
                    format!("{} is there already.", path.display()),
                    "Name a file that is not there yet.",
                ))
            } else {
                Ok(())
            }
        };
        match command {
            Client::List => {
                let rows: Vec<Person> = self.link.list("/api/v1/people", None)?;
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
            Client::Add {
                name,
                display_name,
                secret_to_file,
            } => {
                there(&secret_to_file)?;
                let made: ClientSecret = self.link.post(
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
                let client = lookup::person(&self.link, &name)?;
                let made: ClientSecret = self.link.post(
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
                let client = lookup::person(&self.link, &name)?;
                let body = EditPerson {
                    state: Some(state),
                    ..EditPerson::default()
                };
                let shown: Person = self.link.change(
                    "PATCH",
                    &format!("/api/v1/people/{}", client.id),
                    &body,
                    client.version,
                )?;
                output::one(self.format, &shown, &PERSON)
            }
        }
    }

    pub fn people(&self, command: People) -> Done {
        match command {
            People::List => output::list(
                self.format,
                &self.link.list::<Person>("/api/v1/people", None)?,
                &PERSON,
                "There are no people.",
            ),
            People::Add {
                name,
                display_name,
                with_password,
                duties,
                password,
            } => {
                let password = if with_password || password.password_file.is_some() {
                    Some(secrets::read(
                        &format!("First password of {name}"),
                        password.password_file.as_deref(),
                        true,
                    )?)
                } else {
                    None
                };
                let person: Person = self.link.post(
                    "/api/v1/people",
                    &NewPerson {
                        sign_in_name: name,
                        display_name,
                        password,
                        duties,
                    },
                )?;
                output::one(self.format, &person, &PERSON)
            }
            People::Edit {
                name,
                state,
                display_name,
                duties,
                with_password,
                password,
            } => {
                let person = lookup::person(&self.link, &name)?;
                let password = if with_password || password.password_file.is_some() {
                    Some(secrets::read(
                        &format!("New password of {name}"),
                        password.password_file.as_deref(),
                        true,
                    )?)
                } else {
                    None
                };
                let person: Person = self.link.change(
                    "PATCH",
                    &format!("/api/v1/people/{}", person.id),
                    &EditPerson {
                        display_name,
                        state,
                        duties,
                        password,
                    },
                    person.version,
                )?;
                output::one(self.format, &person, &PERSON)
            }
        }
    }

    pub fn subject(&self, who: &Who) -> Result<Uuid, ClientError> {
        match (&who.person, &who.group) {
            (Some(name), _) => Ok(lookup::person(&self.link, name)?.id),
            (None, Some(name)) => Ok(lookup::group(&self.link, name)?.id),
            (None, None) => Err(ClientError::input(
                "No member is named.",
                "Name a person or a group.",
            )),
        }
    }

    pub fn group(&self, command: Group) -> Done {
        let columns: [Column; 3] = [("name", "name"), ("members", "members"), ("id", "id")];
        let shown = match command {
            Group::List => {
                return output::list(
                    self.format,
                    &self.link.list::<GroupItem>("/api/v1/groups", None)?,
                    &columns,
                    "There are no groups yet. Add one: jexlin group add NAME",
                );
            }
            Group::Add { name } => self
                .link
                .post::<GroupItem>("/api/v1/groups", &NewGroup { name })?,
            Group::Rename { name, new_name } => {
                let group = lookup::group(&self.link, &name)?;
                self.link.change(
                    "PATCH",
                    &format!("/api/v1/groups/{}", group.id),
                    &NewGroup { name: new_name },
                    group.version,
                )?
            }
            Group::Remove { name } => {
                let group = lookup::group(&self.link, &name)?;
                self.link
                    .delete(&format!("/api/v1/groups/{}", group.id), Some(group.version))?;
                return say(&format!(
                    "The group {} is removed, and the grants to it have ended.",
                    group.name
                ));
            }
            Group::Join {
                name,
                who,
                preview: true,
            } => {
                let join = Membership {
                    group: lookup::group(&self.link, &name)?.id,
                    member: self.subject(&who)?,
                };
                return self.preview(&Change::Join(join));
            }
            Group::Leave {
                name,
                who,
                preview: true,
            } => {
                let leave = Membership {
                    group: lookup::group(&self.link, &name)?.id,
                    member: self.subject(&who)?,
                };
                return self.preview(&Change::Leave(leave));
            }
            Group::Join { name, who, .. } => self.link.put(&format!(
                "/api/v1/groups/{}/members/{}",
                lookup::group(&self.link, &name)?.id,
                self.subject(&who)?
            ))?,
            Group::Leave { name, who, .. } => {
                let group = lookup::group(&self.link, &name)?;
                self.link.delete(
                    &format!(
                        "/api/v1/groups/{}/members/{}",
                        group.id,
                        self.subject(&who)?
                    ),
                    None,
                )?;
                lookup::group(&self.link, &name)?
            }
        };
        output::one(self.format, &shown, &columns)
    }
}

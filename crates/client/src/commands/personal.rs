//! Your personal folder.

use std::path::{Path, PathBuf};

use clap::{Args, Subcommand};
use jexlin_api::{
    ChangePassphrase, MoveIn, MoveOut, NewPersonalThing, Passphrase, PersonalState, PersonalThing,
    Revealed,
};
use serde_json::{Value, json};

use crate::error::ClientError;
use crate::lookup;
use crate::output::{self, Column, say};
use crate::run::{Done, Run};
use crate::secrets;

/// Your personal folder.
#[derive(Debug, Subcommand)]
pub enum Personal {
    /// Show whether you have a personal folder, and whether it is open
    State,
    /// Create your personal folder with a passphrase of its own. Nobody can recover a forgotten
    /// passphrase: not you, not an administrator, not with any backup
    Create {
        /// Read the passphrase from this file, or from standard input with `-`
        #[arg(long, value_name = "FILE")]
        passphrase_file: Option<PathBuf>,
    },
    /// Open your personal folder for this session
    Open {
        /// Read the passphrase from this file, or from standard input with `-`
        #[arg(long, value_name = "FILE")]
        passphrase_file: Option<PathBuf>,
    },
    /// Lock your personal folder for this session
    Lock,
    /// Change the passphrase of your personal folder
    Passphrase {
        /// Read the present passphrase from this file, or from standard input with `-`
        #[arg(long, value_name = "FILE")]
        present_file: Option<PathBuf>,
        /// Read the new passphrase from this file, or from standard input with `-`
        #[arg(long, value_name = "FILE")]
        passphrase_file: Option<PathBuf>,
    },
    /// List what is in your personal folder
    List,
    /// Add a thing to your personal folder; the password is generated unless it is typed
    Add {
        /// Its name
        name: String,
        #[command(flatten)]
        fields: Fields,
    },
    /// Edit a thing in your personal folder
    Edit {
        /// Its name
        name: String,
        /// A new name
        #[arg(long)]
        new_name: Option<String>,
        #[command(flatten)]
        fields: Fields,
    },
    /// Show the secret of a thing; the log says that you looked, not at what
    Reveal {
        /// Its name
        name: String,
        /// Print it even where standard output is no terminal
        #[arg(long)]
        pipe: bool,
    },
    /// Remove a thing permanently
    Remove {
        /// Its name
        name: String,
    },
    /// Move a thing to a shared folder
    MoveOut {
        /// Its name
        name: String,
        /// The folder
        to: String,
    },
    /// Move a shared login to your personal folder; the shared one goes to the bin
    MoveIn {
        /// The credential
        path: String,
        /// That others lose it is meant
        #[arg(long)]
        others_lose_it: bool,
    },
}

/// The fields of a personal thing.
#[derive(Debug, Args)]
pub struct Fields {
    /// The user name
    #[arg(long)]
    pub user: Option<String>,
    /// Where it is used
    #[arg(long)]
    pub url: Option<String>,
    /// A note, as secret as the rest
    #[arg(long)]
    pub note: Option<String>,
    /// Ask for the password instead of generating or keeping one
    #[arg(long)]
    pub type_password: bool,
    /// Read the password from this file, or from standard input with `-`
    #[arg(long, value_name = "FILE")]
    pub password_file: Option<PathBuf>,
}

impl Fields {
    fn read(self, name: Option<String>) -> Result<NewPersonalThing, ClientError> {
        let typed = self.type_password || self.password_file.is_some();
        let password = if typed {
            Some(secrets::read(
                "Password to keep",
                self.password_file.as_deref(),
                true,
            )?)
        } else {
            None
        };
        Ok(NewPersonalThing {
            name,
            user_name: self.user,
            url: self.url,
            note: self.note,
            password,
        })
    }
}

const THING: [Column; 5] = [
    ("name", "name"),
    ("user", "user_name"),
    ("url", "url"),
    ("note", "note"),
    ("changed", "changed_at"),
];

impl Run {
    fn thing(&self, name: &str) -> Result<PersonalThing, ClientError> {
        let all: Vec<PersonalThing> = self.link.list("/api/v1/personal/items", None)?;
        all.into_iter()
            .find(|thing| {
                thing.name.to_lowercase() == name.to_lowercase() || thing.id.to_string() == name
            })
            .ok_or_else(|| {
                ClientError::unknown(
                    format!("There is no {name} in your personal folder."),
                    "See what is there: jexlin personal list",
                )
            })
    }

    fn passphrase(
        prompt: &str,
        file: Option<&Path>,
        twice: bool,
    ) -> Result<Passphrase, ClientError> {
        Ok(Passphrase {
            passphrase: secrets::read(prompt, file, twice)?,
        })
    }

    pub fn personal(&self, command: Personal) -> Done {
        match command {
            Personal::State => {
                let state: PersonalState = self.link.get("/api/v1/personal")?;
                output::one(
                    self.format,
                    &state,
                    &[
                        ("there is one", "exists"),
                        ("open", "open"),
                        ("allowed here", "allowed"),
                    ],
                )?;
                if state.exists {
                    Ok(())
                } else {
                    say("You have no personal folder. Make one: jexlin personal create")
                }
            }
            Personal::Create { passphrase_file } => {
                eprintln!(
                    "A forgotten passphrase cannot be recovered: the contents of the folder are then lost permanently."
                );
                let body = Self::passphrase(
                    "Passphrase of your personal folder",
                    passphrase_file.as_deref(),
                    true,
                )?;
                self.link.post::<Value>("/api/v1/personal", &body)?;
                say("Your personal folder is made, and open in this session.")
            }
            Personal::Open { passphrase_file } => {
                let body = Self::passphrase(
                    "Passphrase of your personal folder",
                    passphrase_file.as_deref(),
                    false,
                )?;
                self.link.post::<Value>("/api/v1/personal/open", &body)?;
                say("Your personal folder is open in this session.")
            }
            Personal::Lock => {
                self.link
                    .post::<Value>("/api/v1/personal/lock", &json!({}))?;
                say("Your personal folder is closed.")
            }
            Personal::Passphrase {
                present_file,
                passphrase_file,
            } => {
                let present = secrets::read(
                    "Present passphrase of your personal folder",
                    present_file.as_deref(),
                    false,
                )?;
                let passphrase = secrets::read(
                    "New passphrase of your personal folder",
                    passphrase_file.as_deref(),
                    true,
                )?;
                let body = ChangePassphrase {
                    present,
                    passphrase,
                };
                self.link
                    .change::<Value>("PUT", "/api/v1/personal/passphrase", &body, 0)?;
                say("The passphrase is changed.")
            }
            Personal::List => output::list(
                self.format,
                &self
                    .link
                    .list::<PersonalThing>("/api/v1/personal/items", None)?,
                &THING,
                "Your personal folder is empty.",
            ),
            Personal::Add { name, fields } => {
                let shown: PersonalThing = self
                    .link
                    .post("/api/v1/personal/items", &fields.read(Some(name))?)?;
                output::one(self.format, &shown, &THING)
            }
            Personal::Edit {
                name,
                new_name,
                fields,
            } => {
                let present = self.thing(&name)?;
                let shown: PersonalThing = self.link.change(
                    "PATCH",
                    &format!("/api/v1/personal/items/{}", present.id),
                    &fields.read(new_name)?,
                    present.version,
                )?;
                output::one(self.format, &shown, &THING)
            }
            Personal::Reveal { name, pipe } => {
                super::secret::to_terminal(pipe, "secret")?;
                let shown: Revealed = self.link.post(
                    &format!("/api/v1/personal/items/{}/reveal", self.thing(&name)?.id),
                    &json!({}),
                )?;
                say(shown.value.expose_secret())
            }
            Personal::Remove { name } => {
                let present = self.thing(&name)?;
                self.link.delete(
                    &format!("/api/v1/personal/items/{}", present.id),
                    Some(present.version),
                )?;
                say(&format!("{} is removed permanently.", present.name))
            }
            Personal::MoveOut { name, to } => {
                let (present, folder) = (self.thing(&name)?, lookup::folder(&self.link, &to)?);
                self.link.post::<Value>(
                    &format!("/api/v1/personal/items/{}/move-out", present.id),
                    &MoveOut { folder: folder.id },
                )?;
                say(&format!("{} is now in {}.", present.name, folder.path))
            }
            Personal::MoveIn {
                path,
                others_lose_it,
            } => {
                let credential = lookup::credential(&self.link, &path)?;
                let shown: PersonalThing = self.link.post(
                    "/api/v1/personal/move-in",
                    &MoveIn {
                        credential,
                        others_lose_it,
                    },
                )?;
                output::one(self.format, &shown, &THING)
            }
        }
    }
}

//! Your personal folder.

use std::path::{Path, PathBuf};

use clap::{Args, Subcommand};
use jexlin_api::{
    ChangePassphrase, MoveIn, MoveOut, NewPersonalItem, Passphrase, PersonalItem, PersonalState,
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
        /// Read the current passphrase from this file, or from standard input with `-`
        #[arg(long, value_name = "FILE")]
        passphrase_file: Option<PathBuf>,
        /// Read the new passphrase from this file, or from standard input with `-`
        #[arg(long, value_name = "FILE")]
        new_passphrase_file: Option<PathBuf>,
    },
    /// List what is in your personal folder
    List,
    /// Add an item to your personal folder; the password is generated unless it is typed
    Add {
        /// Its name
        name: String,
        #[command(flatten)]
        fields: Fields,
    },
    /// Edit an item in your personal folder
    Edit {
        /// Its name or identifier
        item: String,
        /// A new name
        #[arg(long)]
        name: Option<String>,
        #[command(flatten)]
        fields: Fields,
    },
    /// Show an item without its secret
    Show {
        /// Its name or identifier
        name: String,
    },
    /// Show the secret of an item; the audit log records that you did, not for which item
    Reveal {
        /// Its name
        name: String,
        /// Print even if standard output is not a terminal
        #[arg(long)]
        pipe: bool,
    },
    /// Remove an item permanently
    Remove {
        /// Its name
        name: String,
    },
    /// Move an item to a shared folder
    MoveOut {
        /// Its name
        name: String,
        /// The folder
        to: String,
    },
    /// Move a shared login to your personal folder; the shared login goes to the bin
    MoveIn {
        /// The credential
        path: String,
        /// Confirm that others lose access
        #[arg(long)]
        others_lose_access: bool,
    },
}

/// The fields of a personal item.
#[derive(Debug, Args)]
pub struct Fields {
    /// The user name
    #[arg(long)]
    pub user: Option<String>,
    /// Where it is used
    #[arg(long)]
    pub url: Option<String>,
    /// A note, kept as secret as the rest
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
    fn read(self, name: Option<String>) -> Result<NewPersonalItem, ClientError> {
        let typed = self.type_password || self.password_file.is_some();
        let password = if typed {
            Some(secrets::read(
                "Password",
                self.password_file.as_deref(),
                true,
            )?)
        } else {
            None
        };
        Ok(NewPersonalItem {
            name,
            user_name: self.user,
            url: self.url,
            note: self.note,
            password,
        })
    }
}

const ITEM: [Column; 6] = [
    ("name", "name"),
    ("user", "user_name"),
    ("url", "url"),
    ("note", "note"),
    ("changed", "changed_at"),
    ("id", "id"),
];

impl Run {
    fn item(&self, name: &str) -> Result<PersonalItem, ClientError> {
        let all: Vec<PersonalItem> = self.connection.list("/api/v1/personal/items", None)?;
        let mut found = all.into_iter().filter(|item| {
            item.name.to_lowercase() == name.to_lowercase() || item.id.to_string() == name
        });
        let first = found.next();
        // Two things may have one name. Which is meant is not guessed.
        if found.next().is_some() {
            return Err(ClientError::input(
                format!("Several items in your personal folder are named {name}."),
                "Use the identifier, as `personal list --wide` shows it.",
            ));
        }
        first.ok_or_else(|| {
            ClientError::unknown(
                format!("There is no {name} in your personal folder."),
                "List your items: jexlin personal list",
            )
        })
    }

    pub fn personal(&self, command: Personal) -> Done {
        match command {
            Personal::State => self.personal_state(),
            Personal::Create { passphrase_file } => {
                output::aside(
                    "A forgotten passphrase cannot be recovered: the contents of the folder are then lost permanently.",
                );
                self.with_passphrase("/api/v1/personal", passphrase_file.as_deref(), true)?;
                say("Your personal folder is created, and open in this session.")
            }
            Personal::Open { passphrase_file } => {
                self.with_passphrase("/api/v1/personal/open", passphrase_file.as_deref(), false)?;
                say("Your personal folder is open in this session.")
            }
            Personal::Lock => {
                self.connection
                    .post::<Value>("/api/v1/personal/lock", &json!({}))?;
                say("Your personal folder is locked.")
            }
            Personal::Passphrase {
                passphrase_file,
                new_passphrase_file,
            } => self.change_passphrase(passphrase_file.as_deref(), new_passphrase_file.as_deref()),
            Personal::List => output::list(
                self.format,
                &self
                    .connection
                    .list::<PersonalItem>("/api/v1/personal/items", None)?,
                &ITEM,
                "Your personal folder is empty.",
            ),
            Personal::Add { name, fields } => {
                let shown: PersonalItem = self
                    .connection
                    .post("/api/v1/personal/items", &fields.read(Some(name))?)?;
                output::one(self.format, &shown, &ITEM)
            }
            Personal::Edit { item, name, fields } => {
                let present = self.item(&item)?;
                let shown: PersonalItem = self.connection.change(
                    "PATCH",
                    &format!("/api/v1/personal/items/{}", present.id),
                    &fields.read(name)?,
                    present.revision,
                )?;
                output::one(self.format, &shown, &ITEM)
            }
            Personal::Show { name } => output::one(self.format, &self.item(&name)?, &ITEM),
            Personal::Reveal { name, pipe } => self.reveal_item(&name, pipe),
            Personal::Remove { name } => {
                let present = self.item(&name)?;
                self.confirm(&format!("Remove {} permanently?", present.name))?;
                self.connection.delete(
                    &format!("/api/v1/personal/items/{}", present.id),
                    Some(present.revision),
                )?;
                say(&format!("{} is removed permanently.", present.name))
            }
            Personal::MoveOut { name, to } => {
                let (present, folder) = (self.item(&name)?, lookup::folder(&self.connection, &to)?);
                self.connection.post::<Value>(
                    &format!("/api/v1/personal/items/{}/move-out", present.id),
                    &MoveOut { folder: folder.id },
                )?;
                say(&format!("{} is now in {}.", present.name, folder.path))
            }
            Personal::MoveIn {
                path,
                others_lose_access,
            } => {
                let credential = lookup::credential(&self.connection, &path)?;
                let body = MoveIn {
                    credential,
                    others_lose_access,
                };
                let shown: PersonalItem =
                    self.connection.post("/api/v1/personal/move-in", &body)?;
                output::one(self.format, &shown, &ITEM)
            }
        }
    }

    fn personal_state(&self) -> Done {
        let state: PersonalState = self.connection.get("/api/v1/personal")?;
        output::one(
            self.format,
            &state,
            &[
                ("exists", "exists"),
                ("open", "open"),
                ("allowed here", "allowed"),
            ],
        )?;
        if state.exists {
            Ok(())
        } else {
            say("You have no personal folder. Create it: jexlin personal create")
        }
    }

    /// Sends the passphrase of the personal folder to an address.
    fn with_passphrase(&self, address: &str, file: Option<&Path>, twice: bool) -> Done {
        let passphrase = secrets::read("Passphrase of your personal folder", file, twice)?;
        self.connection
            .post::<Value>(address, &Passphrase { passphrase })?;
        Ok(())
    }

    fn change_passphrase(&self, current: Option<&Path>, new: Option<&Path>) -> Done {
        let present = secrets::read("Current passphrase of your personal folder", current, false)?;
        let passphrase = secrets::read("New passphrase of your personal folder", new, true)?;
        let body = ChangePassphrase {
            present,
            passphrase,
        };
        self.connection
            .change::<Value>("PUT", "/api/v1/personal/passphrase", &body, 0)?;
        say("The passphrase is changed.")
    }

    fn reveal_item(&self, name: &str, pipe: bool) -> Done {
        super::secret::to_terminal(pipe, "secret")?;
        let shown: Revealed = self.connection.post(
            &format!("/api/v1/personal/items/{}/reveal", self.item(name)?.id),
            &json!({}),
        )?;
        say(shown.value.expose_secret())
    }
}

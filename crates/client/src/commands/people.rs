//! People.

use clap::Subcommand;
use jexlin_api::words::{Duty, PersonState};
use jexlin_api::{EditPerson, Grant, NewPerson, Person, SeenItem};
use uuid::Uuid;

use crate::args::{FromFile, Who};
use crate::error::ClientError;
use crate::lookup;
use crate::output::{self, Column};
use crate::run::{Done, Run};
use crate::secrets;

/// People.
#[derive(Debug, Subcommand)]
pub enum People {
    /// List people
    List,
    /// Add a person; without a password they are invited and cannot sign in yet
    #[command(
        after_help = "EXAMPLE\n  jexlin people add ada --display-name \"Ada Brook\" --with-password"
    )]
    Add {
        /// The sign-in name
        name: String,
        /// The display name
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
    /// Show a person
    Show {
        /// The sign-in name
        name: String,
    },
    /// List the grants to a person and to their groups: what they have access to, and by which way
    #[command(after_help = "EXAMPLE\n  jexlin people grants marek")]
    Grants {
        /// The sign-in name
        name: String,
    },
    /// List what a person has seen: the secrets that they revealed or exported
    #[command(after_help = "EXAMPLES
  jexlin people seen marek
  jexlin people seen marek --unchanged")]
    Seen {
        /// The sign-in name
        name: String,
        /// Only those whose password has not been changed since
        #[arg(long)]
        unchanged: bool,
    },
    /// Edit a person; what is not given stays as it is
    #[command(after_help = "EXAMPLES
  jexlin people edit pim --duty folders --duty audit
  jexlin people edit pim --no-duties
  jexlin people edit petra --state suspended")]
    Edit {
        /// The sign-in name
        name: String,
        /// active, suspended or left
        #[arg(long, value_parser = settable_state)]
        state: Option<PersonState>,
        /// A new display name
        #[arg(long)]
        display_name: Option<String>,
        /// Replace all duties (repeatable)
        #[arg(long = "duty", value_name = "DUTY")]
        duties: Option<Vec<Duty>>,
        /// Take all duties away
        #[arg(long, conflicts_with = "duties")]
        no_duties: bool,
        /// Ask for a new password
        #[arg(long)]
        with_password: bool,
        #[command(flatten)]
        password: FromFile,
    },
}

pub(super) const PERSON: [Column; 6] = [
    ("name", "sign_in_name"),
    ("display name", "display_name"),
    ("type", "type"),
    ("state", "state"),
    ("duties", "duties"),
    ("id", "id"),
];

/// A state that people can be set to; invited is what they are until they first sign in.
pub(super) fn settable_state(text: &str) -> Result<PersonState, String> {
    match text.parse() {
        Ok(PersonState::Invited) | Err(_) => Err("expected active, suspended or left".to_owned()),
        Ok(state) => Ok(state),
    }
}

impl Run {
    /// What somebody has seen, or what of it has not been changed since.
    pub fn seen_by(&self, name: &str, unchanged: bool) -> Result<Vec<SeenItem>, ClientError> {
        let person = lookup::person(&self.connection, name)?;
        let address = format!("/api/v1/people/{}/seen", person.id);
        let mut seen: Vec<SeenItem> = self.connection.list(&address, None)?;
        seen.retain(|item| !(unchanged && item.changed_since));
        Ok(seen)
    }

    pub fn people(&self, command: People) -> Done {
        match command {
            People::List => output::list(
                self.format,
                &self.connection.list::<Person>("/api/v1/people", None)?,
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
                let person: Person = self.connection.post(
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
            People::Show { name } => {
                let person = lookup::person(&self.connection, &name)?;
                output::one(self.format, &person, &PERSON)
            }
            People::Seen { name, unchanged } => {
                let seen = self.seen_by(&name, unchanged)?;
                let columns: [Column; 7] = [
                    ("credential", "path"),
                    ("device", "device"),
                    ("last seen", "last_at"),
                    ("times", "times"),
                    ("changed since", "changed_since"),
                    ("your level", "level"),
                    ("id", "credential"),
                ];
                let none = "Nothing that you may know of.";
                output::list(self.format, &seen, &columns, none)
            }
            People::Grants { name } => {
                let person = lookup::person(&self.connection, &name)?;
                let address = format!("/api/v1/people/{}/grants", person.id);
                let grants: Vec<Grant> = self.connection.list(&address, None)?;
                let columns: [Column; 7] = [
                    ("on", "place"),
                    ("level", "level"),
                    ("by the grant to", "subject_name"),
                    ("only kind", "only_kind"),
                    ("only tag", "only_tag"),
                    ("until", "ends_at"),
                    ("id", "id"),
                ];
                output::list(
                    self.format,
                    &grants,
                    &columns,
                    "No grant is for this person.",
                )
            }
            People::Edit {
                name,
                state,
                display_name,
                duties,
                no_duties,
                with_password,
                password,
            } => {
                let duties = if no_duties { Some(vec![]) } else { duties };
                let person = lookup::person(&self.connection, &name)?;
                let password = if with_password || password.password_file.is_some() {
                    Some(secrets::read(
                        &format!("New password of {name}"),
                        password.password_file.as_deref(),
                        true,
                    )?)
                } else {
                    None
                };
                if state.is_some() || duties.is_some() {
                    self.confirm(&format!(
                        "Change what {} may do ({})?",
                        person.display_name,
                        [
                            state.map(|state| format!("state: {state}")),
                            duties.as_ref().map(|duties| {
                                let words: Vec<_> =
                                    duties.iter().map(ToString::to_string).collect();
                                let words = words.join(", ");
                                format!(
                                    "duties: {}",
                                    if words.is_empty() { "none" } else { &words }
                                )
                            }),
                        ]
                        .into_iter()
                        .flatten()
                        .collect::<Vec<_>>()
                        .join("; ")
                    ))?;
                }
                let person: Person = self.connection.change(
                    "PATCH",
                    &format!("/api/v1/people/{}", person.id),
                    &EditPerson {
                        display_name,
                        state,
                        duties,
                        password,
                    },
                    person.revision,
                )?;
                output::one(self.format, &person, &PERSON)
            }
        }
    }

    pub fn subject(&self, who: &Who) -> Result<Uuid, ClientError> {
        match (&who.person, &who.group) {
            (Some(name), _) => Ok(lookup::person(&self.connection, name)?.id),
            (None, Some(name)) => Ok(lookup::group(&self.connection, name)?.id),
            (None, None) => Err(ClientError::input(
                "Name a member.",
                "Name a person or a group.",
            )),
        }
    }
}

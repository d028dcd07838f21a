//! Kinds of credentials.

use clap::{Args, Subcommand};
use jexlin_api::words::{FieldType, UnknownWord};
use jexlin_api::{EditKind, Kind as KindItem, KindField, NewKind};

use crate::error::ClientError;
use crate::lookup::pair;
use crate::output::{self, Column};
use crate::run::{Done, Run};

/// Kinds of credentials.
#[derive(Debug, Subcommand)]
pub enum Kind {
    /// List kinds with their fields
    List,
    /// Show a kind with its fields, one per line
    Show {
        /// Its name
        name: String,
    },
    /// Add a kind of your organisation's own
    #[command(after_help = "EXAMPLE
  jexlin kind add hatch-code --label \"Hatch code\" --field hatch=text --field password=secret --required hatch --generates

FIELDS HOLD
  text  url  note  date  certificate                      for all to see
  secret  secret-note  one-time-seed  ssh-key  private-key  seen by a reveal alone")]
    Add {
        /// Its name: lower-case letters, digits and `-`
        name: String,
        /// Its label
        #[arg(long)]
        label: String,
        #[command(flatten)]
        fields: Fields,
        /// Generate the field `password` when none is given
        #[arg(long)]
        generates: bool,
    },
    /// Edit a kind; fields that are given replace all its fields
    Edit {
        /// Its name
        name: String,
        /// A new label
        #[arg(long)]
        label: Option<String>,
        #[command(flatten)]
        fields: Fields,
    },
    /// Allow no new credentials of this kind; existing ones stay
    Retire {
        /// Its name
        name: String,
    },
    /// Allow new credentials of a retired kind again
    Restore {
        /// Its name
        name: String,
    },
    /// Remove a kind that no credential has
    Remove {
        /// Its name
        name: String,
    },
}

/// The fields of a kind.
#[derive(Debug, Args)]
pub struct Fields {
    /// A field and its type, in the order of the form (repeatable)
    #[arg(long = "field", value_name = "NAME=TYPE")]
    pub fields: Vec<String>,
    /// The label of a field
    #[arg(long = "field-label", value_name = "NAME=LABEL")]
    pub labels: Vec<String>,
    /// The help text of a field
    #[arg(long = "field-help", value_name = "NAME=TEXT")]
    pub helps: Vec<String>,
    /// Make this field required
    #[arg(long, value_name = "NAME")]
    pub required: Vec<String>,
}

impl Fields {
    fn read(&self) -> Result<Vec<KindField>, ClientError> {
        let named = |all: &[String], name: &str| {
            all.iter()
                .filter_map(|text| text.split_once('='))
                .find(|(of, _)| *of == name)
                .map(|(_, text)| text.to_owned())
        };
        let read = |text: &String| {
            let (name, holds) = pair(
                text,
                "Write NAME=TYPE, as in valve=text; jexlin kind add --help lists the types.",
            )?;
            let label = named(&self.labels, name).unwrap_or_else(|| capital(name));
            Ok(KindField {
                name: name.to_owned(),
                label,
                holds: field_type(holds)?,
                required: self.required.iter().any(|required| required == name),
                help: named(&self.helps, name).unwrap_or_default(),
            })
        };
        self.fields.iter().map(read).collect()
    }
}

/// A label made of a name: `gate_number` is `Gate number`.
pub fn capital(name: &str) -> String {
    let words = name.replace('_', " ");
    let mut letters = words.chars();
    letters
        .next()
        .map(|first| first.to_uppercase().collect::<String>() + letters.as_str())
        .unwrap_or_default()
}

const KIND: [Column; 6] = [
    ("kind", "name"),
    ("label", "label"),
    ("own", "own"),
    ("generates", "generates"),
    ("retired", "retired"),
    ("fields", "fields"),
];

impl Run {
    fn kind_item(&self, name: &str) -> Result<KindItem, ClientError> {
        let all: Vec<KindItem> = self.connection.list("/api/v1/kinds", None)?;
        all.into_iter()
            .find(|kind| kind.name == name)
            .ok_or_else(|| {
                ClientError::unknown(
                    format!("There is no kind {name}."),
                    "List kinds: jexlin kind list",
                )
            })
    }

    fn edit_kind(&self, name: &str, change: &EditKind) -> Done {
        let present = self.kind_item(name)?;
        let shown: KindItem = self.connection.change(
            "PATCH",
            &format!("/api/v1/kinds/{name}"),
            change,
            present.revision,
        )?;
        output::one(self.format, &shown, &KIND)
    }

    pub fn kind(&self, command: Kind) -> Done {
        match command {
            Kind::List => output::list(
                self.format,
                &self.connection.list::<KindItem>("/api/v1/kinds", None)?,
                &KIND,
                "There are no kinds.",
            ),
            Kind::Show { name } => {
                let columns: [Column; 5] = [
                    ("field", "name"),
                    ("label", "label"),
                    ("holds", "holds"),
                    ("required", "required"),
                    ("help", "help"),
                ];
                output::list(
                    self.format,
                    &self.kind_item(&name)?.fields,
                    &columns,
                    "It has no fields.",
                )
            }
            Kind::Add {
                name,
                label,
                fields,
                generates,
            } => {
                let shown: KindItem = self.connection.post(
                    "/api/v1/kinds",
                    &NewKind {
                        name,
                        label,
                        generates,
                        fields: fields.read()?,
                    },
                )?;
                output::one(self.format, &shown, &KIND)
            }
            Kind::Edit {
                name,
                label,
                fields,
            } => {
                let fields = fields.read()?;
                self.edit_kind(
                    &name,
                    &EditKind {
                        label,
                        fields: (!fields.is_empty()).then_some(fields),
                        ..Default::default()
                    },
                )
            }
            Kind::Retire { name } => self.edit_kind(
                &name,
                &EditKind {
                    retired: Some(true),
                    ..Default::default()
                },
            ),
            Kind::Restore { name } => self.edit_kind(
                &name,
                &EditKind {
                    retired: Some(false),
                    ..Default::default()
                },
            ),
            Kind::Remove { name } => {
                let present = self.kind_item(&name)?;
                self.connection
                    .delete(&format!("/api/v1/kinds/{name}"), Some(present.revision))?;
                output::say(&format!("The kind {} is removed.", present.label))
            }
        }
    }
}

/// Reads the type of a field.
///
/// # Errors
/// [`ClientError::input`] with the types that there are.
pub fn field_type(word: &str) -> Result<FieldType, ClientError> {
    word.parse().map_err(|problem: UnknownWord| {
        ClientError::input(
            format!("`{word}` is not a type of field: {problem}."),
            "Use one of these.",
        )
    })
}

//! Credentials.

use std::collections::BTreeMap;
use std::fs;
use std::io::Read as _;
use std::path::{Path, PathBuf};

use clap::{Args, Subcommand};
use jexlin_api::{
    Attachment, Change, CopyCredential, Credential as CredentialItem, CredentialsMoved,
    EditCredential, KindField, NewCredential, OperatorScope, Restore, Reveal, Revealed, SecretText,
    SeedInPicture, TagsChanged, UseItem, Version,
};
use serde_json::{Value, json};
use uuid::Uuid;

use crate::args::{Format, FromFile, Selection, SelectionRule};
use crate::commands::kind::capital;
use crate::commands::search::Narrow;
use crate::commands::secret::to_terminal;
use crate::connection::query;
use crate::error::ClientError;
use crate::files::{self, Output};
use crate::lookup::{self, pair};
use crate::output::{self, Column, say};
use crate::run::{Done, Run, Selected};
use crate::secrets;

/// What a credential has: for adding and for changing one.
#[derive(Debug, Default, Args)]
pub struct Given {
    /// The user name
    #[arg(long)]
    pub user: Option<String>,
    /// A URL (repeatable)
    #[arg(long)]
    pub url: Vec<String>,
    /// A note that is not secret
    #[arg(long)]
    pub note: Option<String>,
    /// A field that is not secret, such as expires=2027-03-31 (repeatable)
    #[arg(long, value_name = "FIELD=VALUE")]
    pub set: Vec<String>,
    /// A field that is not secret, read from a file, such as certificate=weir.pem
    #[arg(long, value_name = "FIELD=FILE")]
    pub set_file: Vec<String>,
    /// A secret field read from a file, such as one_time_seed=seed.txt; - is standard input
    #[arg(long, value_name = "FIELD=FILE")]
    pub secret_file: Vec<String>,
    /// Read the seed of one-time codes from an image of a QR code (PNG or JPEG)
    #[arg(long, value_name = "FILE")]
    pub qr_code_file: Option<PathBuf>,
    /// An extra field for this credential alone, such as floor=text (repeatable)
    #[arg(long, value_name = "NAME=TYPE")]
    pub extra: Vec<String>,
    /// A tag (repeatable)
    #[arg(long = "tag", value_name = "TAG")]
    pub tags: Vec<String>,
    /// The device that this account is on
    #[arg(long, value_name = "PATH")]
    pub device: Option<String>,
    /// Ask for the password instead of generating one
    #[arg(long)]
    pub type_password: bool,
    /// The policy to generate by, where the folder lets people choose
    #[arg(long, value_name = "NAME")]
    pub policy: Option<String>,
    /// The type of SSH key to make: ed25519, ecdsa-p256, ecdsa-p384, rsa-3072 or rsa-4096
    #[arg(long, value_name = "TYPE")]
    pub key_type: Option<String>,
    /// The reason, kept with the values in the history
    #[arg(long, default_value = "")]
    pub reason: String,
    #[command(flatten)]
    pub password: FromFile,
}

/// Credentials.
#[derive(Debug, Subcommand)]
pub enum Credential {
    /// List all credentials, or those of a folder, with filters
    #[command(after_help = "EXAMPLES
  jexlin credential list /Pumping/\"North ridge\"
  jexlin credential list --below /Pumping --finding any
  jexlin credential list --view favourites")]
    List {
        /// The folder
        folder: Option<String>,
        #[command(flatten)]
        narrow: Box<Narrow>,
    },
    /// Show a credential without its secrets
    Show {
        /// Path of the credential
        path: String,
    },
    /// Add a credential; the password is generated unless it is typed
    #[command(after_help = "EXAMPLES
  jexlin credential add \"/Pumping/North ridge/night duty\" --kind device-admin --user night --device \"/Pumping/North ridge/telemetry\" --type-password
  jexlin credential add \"/Office/Ordering, second account\" --user office@osmere.example --url https://orders.example/ --url https://sign-in.example/
  jexlin credential add \"/Office/Payroll portal\" --user office@osmere.example --secret-file one_time_seed=seed.txt
  jexlin credential add \"/Control room/Telemetry licence\" --kind licence --set product=Telemetry --set expires=2027-03-31 --type-password
  jexlin credential add \"/Works/Backup key\" --kind ssh-key --user backup --key-type ed25519")]
    Add {
        /// Path of the new credential
        path: String,
        /// Its kind; jexlin kind list lists them with their fields
        #[arg(long, default_value = "login")]
        kind: String,
        #[command(flatten)]
        given: Box<Given>,
    },
    /// Edit a credential; a password is changed in the vault alone
    Edit {
        /// Path of the credential
        path: String,
        /// A new name
        #[arg(long)]
        name: Option<String>,
        #[command(flatten)]
        given: Box<Given>,
        /// Remove it from its device
        #[arg(long)]
        no_device: bool,
        /// Remove a field, such as one_time_seed (repeatable); the values of a secret field stay in
        /// the history
        #[arg(long, value_name = "FIELD")]
        remove_field: Vec<String>,
        /// Generate a new password
        #[arg(long)]
        generate: bool,
        /// Apply only if it still has this revision
        #[arg(long, value_name = "NUMBER")]
        if_revision: Option<i32>,
    },
    /// Move credentials to another folder
    #[command(
        after_help = "EXAMPLES\n  jexlin credential move \"/Office/Postal franking\" /Office/Stationery \"/Control room\"\n  jexlin credential move --tag counter \"/Control room\" --preview"
    )]
    Move {
        /// Paths of the credentials, if they are named, then the path of the folder
        #[arg(required = true, num_args = 1.., value_name = "PATH")]
        paths: Vec<String>,
        #[command(flatten)]
        rule: SelectionRule,
        /// Change nothing; show who would gain or lose what
        #[arg(long)]
        preview: bool,
    },
    /// Copy a credential to a folder, with its current values
    Copy {
        /// Path of the credential
        path: String,
        /// The folder
        to: String,
        /// A new name
        #[arg(long)]
        name: Option<String>,
    },
    /// Remove credentials: they go to the bin
    #[command(after_help = "EXAMPLES
  jexlin credential remove \"/Office/Courier account\" \"/Office/Insurer portal\"
  jexlin credential remove --below /Office --tag counter")]
    Remove(Selection),
    /// Add tags to credentials, or remove tags
    #[command(
        after_help = "EXAMPLES\n  jexlin credential tag \"/Pumping/North ridge/duty\" --add storm --remove spring\n  jexlin credential tag --below /Pumping --add storm"
    )]
    Tag {
        #[command(flatten)]
        selection: Selection,
        /// A tag to add (repeatable)
        #[arg(long, value_name = "TAG")]
        add: Vec<String>,
        /// A tag to remove (repeatable)
        #[arg(long, value_name = "TAG")]
        remove: Vec<String>,
        /// Change nothing; show whose access would change
        #[arg(long)]
        preview: bool,
    },
    /// Add credentials to your favourites
    AddFavourite(Selection),
    /// Remove credentials from your favourites
    RemoveFavourite(Selection),
    /// Show or set the devices for which a credential may be used, as the operator or at a jump host
    #[command(
        after_help = "EXAMPLES\n  jexlin credential operator-scope \"/Pumping/North ridge/telemetry root\"\n  jexlin credential operator-scope \"/Pumping/North ridge/telemetry root\" --folder \"/Pumping/North ridge\"\n  jexlin credential operator-scope \"/Works/Highfield/historian root\" --nowhere"
    )]
    OperatorScope {
        /// Path of the credential
        path: String,
        /// On this device (repeatable)
        #[arg(long, value_name = "PATH")]
        device: Vec<String>,
        /// On all devices in and below this folder (repeatable)
        #[arg(long, value_name = "PATH")]
        folder: Vec<String>,
        /// On no device
        #[arg(long, conflicts_with_all = ["device", "folder"])]
        nowhere: bool,
    },
    /// List the versions of the secrets of a credential, without values
    History {
        /// Path of the credential
        path: String,
    },
    /// Compare two versions of a secret; both reveals are recorded
    Compare {
        /// Path of the credential
        path: String,
        /// The first version
        version: i32,
        /// The second version
        other: i32,
        /// The field
        #[arg(long, default_value = "password")]
        field: String,
        /// Print even if standard output is not a terminal
        #[arg(long)]
        pipe: bool,
    },
    /// Restore a former value as the current one in the vault; the device is not changed
    Restore {
        /// Path of the credential
        path: String,
        /// The version
        version: i32,
        /// The field
        #[arg(long, default_value = "password")]
        field: String,
        /// The reason, kept with the value in the history
        #[arg(long, default_value = "")]
        reason: String,
    },
    /// List who revealed or used a credential
    Uses {
        /// Path of the credential
        path: String,
    },
    /// Attach a file to a credential
    Attach {
        /// Path of the credential
        path: String,
        /// The file
        file: PathBuf,
        /// A new name
        #[arg(long)]
        name: Option<String>,
    },
    /// Download an attachment; the rules for a reveal apply
    Download {
        /// Path of the credential
        path: String,
        /// The name of the attachment
        attachment: String,
        /// Where to write it; `-` for standard output [default: its name, here]
        #[arg(long, value_name = "FILE")]
        to: Option<PathBuf>,
        /// Overwrite the file if it exists
        #[arg(long)]
        force: bool,
    },
    /// Remove an attachment
    RemoveAttachment {
        /// Path of the credential
        path: String,
        /// The name of the attachment
        attachment: String,
    },
}

/// What a finished upload or download can end with.
fn broken(path: &Path) -> impl Fn(std::io::Error) -> ClientError + '_ {
    move |error| ClientError::local(format!("{} cannot be used: {error}.", path.display()))
}

impl Run {
    fn show_credential(&self, shown: &CredentialItem) -> Done {
        let before: [Column; 3] = [("name", "name"), ("folder", "place"), ("kind", "kind")];
        let after: [Column; 15] = [
            ("secret fields", "secret_fields"),
            ("tags", "tags"),
            ("findings", "findings"),
            ("attachments", "attachments"),
            ("device", "device_name"),
            ("your level", "level"),
            ("gate", "gate/place"),
            ("last check", "upkeep/check_outcome"),
            ("checked", "upkeep/checked_at"),
            ("last rotated", "upkeep/rotated_at"),
            ("next rotation", "upkeep/next_rotation_at"),
            ("added", "created_at"),
            ("added by", "created_by"),
            ("changed", "changed_at"),
            ("revision", "revision"),
        ];
        // What a kind of the organisation's own has is shown like the rest; of a certificate, what
        // it says.
        let mut fields: Vec<(String, String)> = shown
            .fields
            .keys()
            .filter(|name| !shown.facts.contains_key(*name))
            .map(|name| (capital(name).to_lowercase(), format!("fields/{name}")))
            .collect();
        for (field, facts) in &shown.facts {
            let of = if field == "password" {
                String::new()
            } else {
                format!("{} ", capital(field).to_lowercase())
            };
            fields.extend(facts.keys().map(|fact| {
                (
                    format!("{of}{}", capital(fact).to_lowercase()),
                    format!("facts/{field}/{fact}"),
                )
            }));
        }
        let fields: Vec<Column<'_>> = fields
            .iter()
            .map(|(heading, field)| (heading.as_str(), field.as_str()))
            .collect();
        output::one(self.format, shown, &[&before[..], &fields, &after].concat())
    }

    fn known(&self, path: &str) -> Result<CredentialItem, ClientError> {
        self.connection.get(&format!(
            "/api/v1/credentials/{}",
            lookup::credential(&self.connection, path)?
        ))
    }

    fn secrets_of(&self, given: &Given) -> Result<BTreeMap<String, SecretText>, ClientError> {
        let mut secrets = secret_files(&given.secret_file)?;
        if let Some(picture) = &given.qr_code_file {
            let bytes = fs::read(picture).map_err(broken(picture))?;
            let length = bytes.len() as u64;
            let read: SeedInPicture = self.connection.send(
                "/api/v1/read-picture",
                std::io::Cursor::new(bytes),
                Some(length),
            )?;
            secrets.insert("one_time_seed".into(), read.address);
        }
        Ok(secrets)
    }

    fn password_of(given: &Given) -> Result<Option<SecretText>, ClientError> {
        let typed = given.type_password || given.password.password_file.is_some();
        if typed {
            secrets::read("Password", given.password.password_file.as_deref(), true).map(Some)
        } else {
            Ok(None)
        }
    }

    fn add_credential(&self, path: &str, kind: String, given: &Given) -> Done {
        let (folder, name) = lookup::split(path)?;
        let folder = lookup::folder(&self.connection, &folder)?;
        let body = NewCredential {
            folder: folder.id,
            kind,
            name,
            fields: fields(given)?,
            password: Self::password_of(given)?,
            secrets: self.secrets_of(given)?,
            device: given
                .device
                .as_ref()
                .map(|path| lookup::device(&self.connection, path))
                .transpose()?,
            extra: extra(&given.extra)?,
            tags: given.tags.clone(),
            policy: given
                .policy
                .as_ref()
                .map(|name| self.policy_id(name).map(|policy| policy.id))
                .transpose()?,
            key: given.key_type.clone(),
            reason: given.reason.clone(),
            kind_revision: None,
        };
        self.show_credential(&self.connection.post("/api/v1/credentials", &body)?)
    }

    /// What is given, as an edit of a credential.
    fn edited(&self, given: &Given) -> Result<EditCredential, ClientError> {
        Ok(EditCredential {
            fields: fields(given)?,
            password: Self::password_of(given)?,
            secrets: self.secrets_of(given)?,
            device: given
                .device
                .as_ref()
                .map(|path| lookup::device(&self.connection, path))
                .transpose()?,
            extra: if given.extra.is_empty() {
                None
            } else {
                Some(extra(&given.extra)?)
            },
            tags: (!given.tags.is_empty()).then(|| given.tags.clone()),
            policy: given
                .policy
                .as_ref()
                .map(|name| self.policy_id(name).map(|policy| policy.id))
                .transpose()?,
            key: given.key_type.clone(),
            reason: given.reason.clone(),
            ..EditCredential::default()
        })
    }

    /// Asks before a password that a device has is changed in the vault alone, where a rotation may
    /// be meant.
    fn confirm_vault_alone(&self, path: &str, present: &CredentialItem) -> Done {
        if present.upkeep.is_none() {
            return Ok(());
        }
        output::aside(&format!(
            "The device keeps its password. To change both: jexlin upkeep rotate \"{path}\""
        ));
        self.confirm(&format!(
            "{} is the password of an account on {}. Change it in the vault alone?",
            present.name,
            present.device_name.as_deref().unwrap_or("a device")
        ))
    }

    fn edit_credential(
        &self,
        present: &CredentialItem,
        body: &EditCredential,
        if_revision: Option<i32>,
    ) -> Done {
        self.show_credential(&self.connection.change(
            "PATCH",
            &format!("/api/v1/credentials/{}", present.id),
            body,
            if_revision.unwrap_or(present.revision),
        )?)
    }

    fn attachment(&self, path: &str, name: &str) -> Result<(Uuid, Attachment), ClientError> {
        let known = self.known(path)?;
        let found = known
            .attachments
            .into_iter()
            .find(|attachment| attachment.name.to_lowercase() == name.to_lowercase());
        found
            .map(|attachment| (known.id, attachment))
            .ok_or_else(|| {
                ClientError::unknown(
                    format!("{path} has no attachment {name}."),
                    "Show the credential: jexlin credential show",
                )
            })
    }

    fn fetch(&self, path: &str, name: &str, to: Option<PathBuf>, force: bool) -> Done {
        let (id, attachment) = self.attachment(path, name)?;
        let address = format!("/api/v1/credentials/{id}/attachments/{}", attachment.id);
        // The name is somebody else's: it is no path.
        let to = to.unwrap_or_else(|| {
            PathBuf::from(Path::new(&attachment.name).file_name().unwrap_or_default())
        });
        let mut output = Output::open(&to, force)?;
        self.connection.copy_to(&address, &mut output)?;
        if u64::try_from(attachment.size) != Ok(output.written()) {
            return Err(ClientError::local(
                "The download was interrupted; nothing was kept.",
            ));
        }
        if !output.finish()? {
            return Ok(());
        }
        say(&format!(
            "{} is in {}: {} bytes, readable only by you.",
            attachment.name,
            to.display(),
            attachment.size
        ))
    }

    fn compare(&self, path: &str, (entry, other): (i32, i32), field: &str, pipe: bool) -> Done {
        to_terminal(pipe, "secret")?;
        let id = lookup::credential(&self.connection, path)?;
        let look = |version| -> Result<Revealed, ClientError> {
            self.connection.post(
                &format!("/api/v1/credentials/{id}/reveal"),
                &Reveal {
                    field: Some(field.to_owned()),
                    version: Some(version),
                },
            )
        };
        let (first, second) = (look(entry)?, look(other)?);
        let (a, b) = (first.value.expose_secret(), second.value.expose_secret());
        if self.format == Format::Json {
            return output::one(
                self.format,
                &json!({"same": a == b, "one": {"version": entry, "value": a}, "other": {"version": other, "value": b}}),
                &[],
            );
        }
        let width = entry.to_string().len().max(other.to_string().len());
        say(&format!("{entry:>width$}  {a}\n{other:>width$}  {b}"))?;
        if a == b {
            say("They are the same.")
        } else {
            say(&format!("{:>width$}  {}", "", marks(a, b)))
        }
    }

    fn list_credential(&self, folder: Option<String>, narrow: Box<Narrow>) -> Done {
        let view = narrow.view.clone();
        let mut filters = self.filters(*narrow)?;
        if let Some(path) = folder {
            filters.insert(
                "folder".into(),
                lookup::folder(&self.connection, &path)?.id.to_string(),
            );
        }
        self.listed(
            &filters,
            view.as_deref(),
            "There are no such credentials that you have access to. Add one: jexlin credential add",
        )
    }

    /// The identifiers of things that were selected, for a preview of what is done to all of them.
    fn identifiers(&self, many: &[Selected]) -> Result<Vec<Uuid>, ClientError> {
        let each = many.iter();
        each.map(|one| lookup::credential(&self.connection, &one.key))
            .collect()
    }

    fn move_credential(&self, mut paths: Vec<String>, rule: SelectionRule, preview: bool) -> Done {
        let to = lookup::folder(&self.connection, &paths.pop().unwrap_or_default())?;
        let selection = Selection { paths, rule };
        let many = self.selected(&selection)?;
        let change = || -> Result<Change, ClientError> {
            Ok(Change::Credentials(CredentialsMoved {
                ids: self.identifiers(&many)?,
                to: to.id,
            }))
        };
        if preview {
            return self.preview(&change()?);
        }
        if !self.yes {
            self.confirm_change(&change()?)?;
        }
        self.each(&many, |path| {
            let present = self.known(path)?;
            let body = EditCredential {
                folder: Some(to.id),
                ..Default::default()
            };
            let moved: CredentialItem = self.connection.change(
                "PATCH",
                &format!("/api/v1/credentials/{}", present.id),
                &body,
                present.revision,
            )?;
            Ok(format!("is now {}/{}", moved.place, moved.name))
        })
    }

    fn copy_credential(&self, path: String, to: String, name: Option<String>) -> Done {
        let (id, folder) = (
            lookup::credential(&self.connection, &path)?,
            lookup::folder(&self.connection, &to)?.id,
        );
        self.show_credential(&self.connection.post(
            &format!("/api/v1/credentials/{id}/copy"),
            &CopyCredential { folder, name },
        )?)
    }

    fn remove_credential(&self, selection: &Selection) -> Done {
        let many = self.selected(selection)?;
        self.confirm_many(selection, &many, "Remove")?;
        self.each(&many, |path| {
            let present = self.known(path)?;
            self.connection.delete(
                &format!("/api/v1/credentials/{}", present.id),
                Some(present.revision),
            )?;
            Ok(format!(
                "is in the bin; restore it: jexlin bin restore \"{}/{}\"",
                present.place, present.name
            ))
        })
    }

    fn remove_favourite(&self, selection: &Selection) -> Done {
        self.each(&self.selected(selection)?, |path| {
            self.connection.delete(
                &format!(
                    "/api/v1/credentials/{}/favourite",
                    lookup::credential(&self.connection, path)?
                ),
                None,
            )?;
            Ok("is no longer a favourite".into())
        })
    }

    fn operator_scope_credential(
        &self,
        path: String,
        device: Vec<String>,
        folder: Vec<String>,
        nowhere: bool,
    ) -> Done {
        let address = format!(
            "/api/v1/credentials/{}/operator-scope",
            lookup::credential(&self.connection, &path)?
        );
        let scope: OperatorScope = if nowhere || !device.is_empty() || !folder.is_empty() {
            let devices = device
                .iter()
                .map(|path| lookup::device(&self.connection, path))
                .collect::<Result<_, _>>()?;
            let folders = folder
                .iter()
                .map(|path| lookup::folder(&self.connection, path).map(|folder| folder.id))
                .collect::<Result<_, _>>()?;
            self.connection.set(
                &address,
                &OperatorScope {
                    devices,
                    folders,
                    paths: vec![],
                },
            )?
        } else {
            self.connection.get(&address)?
        };
        let rows: Vec<Value> = scope
            .paths
            .iter()
            .map(|path| json!({ "path": path }))
            .collect();
        output::list(
            self.format,
            &rows,
            &[("may be used for", "path")],
            "It may not be used as an operator, or at a jump host, for any device.",
        )
    }

    fn history_credential(&self, path: String) -> Done {
        let rows: Vec<Version> = self.connection.list(
            &format!(
                "/api/v1/credentials/{}/history",
                lookup::credential(&self.connection, &path)?
            ),
            None,
        )?;
        let columns: [Column; 7] = [
            ("field", "field"),
            ("version", "number"),
            ("state", "state"),
            ("made", "made_at"),
            ("by", "made_by"),
            ("how", "made_how"),
            ("reason", "reason"),
        ];
        output::list(self.format, &rows, &columns, "There is no history.")
    }

    fn restore_credential(
        &self,
        path: String,
        version: i32,
        field: String,
        reason: String,
    ) -> Done {
        let id = lookup::credential(&self.connection, &path)?;
        self.show_credential(&self.connection.post(
            &format!("/api/v1/credentials/{id}/restore"),
            &Restore {
                field: Some(field),
                version,
                reason,
            },
        )?)
    }

    fn uses_credential(&self, path: String) -> Done {
        let rows: Vec<UseItem> = self.connection.list(
            &format!(
                "/api/v1/credentials/{}/uses",
                lookup::credential(&self.connection, &path)?
            ),
            None,
        )?;
        output::list(
            self.format,
            &rows,
            &[
                ("person", "person"),
                ("last", "last_at"),
                ("times", "times"),
            ],
            "It has not been revealed or used.",
        )
    }

    fn attach_credential(&self, path: String, file: PathBuf, name: Option<String>) -> Done {
        let id = lookup::credential(&self.connection, &path)?;
        let name = name
            .or_else(|| {
                file.file_name()
                    .map(|name| name.to_string_lossy().into_owned())
            })
            .unwrap_or_default();
        let address = format!("/api/v1/credentials/{id}/attachments?name={}", query(&name));
        let (mut open, length) = files::open_to_send(&file)?;
        let shown: Attachment = if length.is_some() {
            self.connection.send(&address, open, length)?
        } else {
            // A pipe does not say how much it holds: that is known once it has been read.
            let mut bytes = vec![];
            open.read_to_end(&mut bytes)
                .map_err(files::cannot("read", &file))?;
            let length = bytes.len() as u64;
            self.connection
                .send(&address, std::io::Cursor::new(bytes), Some(length))?
        };
        output::one(
            self.format,
            &shown,
            &[("name", "name"), ("bytes", "size"), ("added", "made_at")],
        )
    }

    fn remove_attachment(&self, path: String, attachment: String) -> Done {
        let (id, found) = self.attachment(&path, &attachment)?;
        self.confirm(&format!("Remove {} permanently?", found.name))?;
        self.connection.delete(
            &format!("/api/v1/credentials/{id}/attachments/{}", found.id),
            None,
        )?;
        say(&format!(
            "The attachment {} is removed permanently.",
            found.name
        ))
    }

    fn tag_credential(
        &self,
        selection: &Selection,
        add: Vec<String>,
        remove: Vec<String>,
        preview: bool,
    ) -> Done {
        let many = self.selected(selection)?;
        if preview || !self.yes {
            let change = Change::Tags(TagsChanged {
                ids: self.identifiers(&many)?,
                add: add.clone(),
                remove: remove.clone(),
            });
            if preview {
                return self.preview(&change);
            }
            // Most tags change nobody's access, and nobody is asked about them.
            if self.changes_access(&change)? {
                self.confirm_change(&change)?;
            }
        }
        let gone: Vec<String> = remove.iter().map(|tag| tag.to_lowercase()).collect();
        self.each(&many, |path| {
            let present = self.known(path)?;
            let tags = present
                .tags
                .iter()
                .chain(&add)
                .filter(|tag| !gone.contains(&tag.to_lowercase()))
                .cloned()
                .collect();
            let body = EditCredential {
                tags: Some(tags),
                ..Default::default()
            };
            let changed: CredentialItem = self.connection.change(
                "PATCH",
                &format!("/api/v1/credentials/{}", present.id),
                &body,
                present.revision,
            )?;
            Ok(if changed.tags.is_empty() {
                "has no tags".into()
            } else {
                format!("has the tags {}", changed.tags.join(", "))
            })
        })
    }

    pub fn credential(&self, command: Credential) -> Done {
        match command {
            Credential::List { folder, narrow } => self.list_credential(folder, narrow),
            Credential::Show { path } => self.show_credential(&self.known(&path)?),
            Credential::Add { path, kind, given } => self.add_credential(&path, kind, &given),
            Credential::Edit {
                path,
                name,
                given,
                no_device,
                remove_field,
                generate,
                if_revision,
            } => {
                let present = self.known(&path)?;
                let given_password = given.type_password || given.password.password_file.is_some();
                if (generate || given_password) && !no_device {
                    self.confirm_vault_alone(&path, &present)?;
                }
                let mut body = EditCredential {
                    name,
                    no_device,
                    generate,
                    ..self.edited(&given)?
                };
                for field in remove_field {
                    if present.fields.contains_key(&field) {
                        body.fields.insert(field, String::new());
                    } else {
                        body.remove_secrets.push(field);
                    }
                }
                self.edit_credential(&present, &body, if_revision)
            }
            Credential::Move {
                paths,
                rule,
                preview,
            } => self.move_credential(paths, rule, preview),
            Credential::Copy { path, to, name } => self.copy_credential(path, to, name),
            Credential::Remove(selection) => self.remove_credential(&selection),
            Credential::Tag {
                selection,
                add,
                remove,
                preview,
            } => self.tag_credential(&selection, add, remove, preview),
            Credential::AddFavourite(selection) => self.each(&self.selected(&selection)?, |path| {
                self.connection.put::<Value>(&format!(
                    "/api/v1/credentials/{}/favourite",
                    lookup::credential(&self.connection, path)?
                ))?;
                Ok("is a favourite".into())
            }),
            Credential::RemoveFavourite(selection) => self.remove_favourite(&selection),
            Credential::OperatorScope {
                path,
                device,
                folder,
                nowhere,
            } => self.operator_scope_credential(path, device, folder, nowhere),
            Credential::History { path } => self.history_credential(path),
            Credential::Compare {
                path,
                version,
                other,
                field,
                pipe,
            } => self.compare(&path, (version, other), &field, pipe),
            Credential::Restore {
                path,
                version,
                field,
                reason,
            } => self.restore_credential(path, version, field, reason),
            Credential::Uses { path } => self.uses_credential(path),
            Credential::Attach { path, file, name } => self.attach_credential(path, file, name),
            Credential::Download {
                path,
                attachment,
                to,
                force,
            } => self.fetch(&path, &attachment, to, force),
            Credential::RemoveAttachment { path, attachment } => {
                self.remove_attachment(path, attachment)
            }
        }
    }
}

/// A mark under each place where two texts differ.
fn marks(a: &str, b: &str) -> String {
    let (a, b): (Vec<char>, Vec<char>) = (a.chars().collect(), b.chars().collect());
    (0..a.len().max(b.len()))
        .map(|index| {
            if a.get(index) == b.get(index) {
                ' '
            } else {
                '^'
            }
        })
        .collect()
}

fn fields(given: &Given) -> Result<BTreeMap<String, String>, ClientError> {
    let url = (!given.url.is_empty()).then(|| given.url.join("\n"));
    let known = [
        ("user_name", given.user.clone()),
        ("url", url),
        ("note", given.note.clone()),
    ];
    let mut all: BTreeMap<String, String> = known
        .into_iter()
        .filter_map(|(name, value)| value.map(|value| (name.to_owned(), value)))
        .collect();
    for text in &given.set {
        let (name, value) = pair(
            text,
            "Write FIELD=VALUE, as in expires=2027-03-31; jexlin kind list lists the fields.",
        )?;
        all.insert(name.to_owned(), value.to_owned());
    }
    for text in &given.set_file {
        let (name, file) = pair(text, "Write FIELD=FILE, as in certificate=weir.pem.")?;
        all.insert(
            name.to_owned(),
            fs::read_to_string(file).map_err(broken(Path::new(file)))?,
        );
    }
    Ok(all)
}

fn extra(texts: &[String]) -> Result<Vec<KindField>, ClientError> {
    let read = |text: &String| {
        let (name, holds) = pair(
            text,
            "Write NAME=TYPE, as in floor=text; jexlin kind add --help lists the types.",
        )?;
        Ok(KindField {
            name: name.to_owned(),
            label: capital(name),
            holds: super::kind::field_type(holds)?,
            required: false,
            help: String::new(),
        })
    };
    texts.iter().map(read).collect()
}

/// Secret fields from files, so that no secret is on the command line.
fn secret_files(files: &[String]) -> Result<BTreeMap<String, SecretText>, ClientError> {
    let read = |text: &String| {
        let (name, file) = pair(
            text,
            "Write FIELD=FILE, as in one_time_seed=seed.txt, or FIELD=- for standard input.",
        )?;
        Ok((
            name.to_owned(),
            secrets::read(name, Some(Path::new(file)), false)?,
        ))
    };
    files.iter().map(read).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_place_where_two_values_differ_is_marked() {
        assert_eq!(marks("Winter-41", "Winter-42x"), "        ^^");
        assert_eq!(marks("a", "a").trim(), "");
    }

    #[test]
    fn several_urls_are_one_field_with_a_line_each() {
        let given = Given {
            url: vec!["https://a.example/".into(), "https://b.example/".into()],
            set: vec!["floor=2".into()],
            ..Given::default()
        };
        let fields = fields(&given).unwrap_or_else(|_| unreachable!("nothing to read"));
        assert_eq!(
            (fields["url"].as_str(), fields["floor"].as_str()),
            ("https://a.example/\nhttps://b.example/", "2")
        );
    }
}

//! Folders.

use clap::Subcommand;
use jexlin_api::words::RuleMode;
use jexlin_api::{
    Change, EditFolder, Folder as FolderItem, FolderChange, NewFolder, PasswordPolicy,
    PasswordRule, PasswordRuleItem, parse_path,
};

use crate::error::ClientError;
use crate::lookup;
use crate::output::{self, Column, say};
use crate::run::{Done, Run};

/// Folders.
#[derive(Debug, Subcommand)]
pub enum Folder {
    /// List folders
    List,
    /// Add a folder
    #[command(after_help = "EXAMPLE\n  jexlin folder add \"/Pumping/North ridge\"")]
    Add {
        /// Its whole path
        path: String,
        /// Grants from above stop here
        #[arg(long)]
        closed: bool,
    },
    /// Rename a folder
    Rename {
        /// Its path
        path: String,
        /// Its new name
        name: String,
    },
    /// Move a folder into another
    Move {
        /// Its path
        path: String,
        /// The path of the folder to move it into; `/` for the top
        to: String,
        /// Change nothing; show who would gain or lose what
        #[arg(long)]
        preview: bool,
    },
    /// Stop inheriting grants
    Close {
        /// Its path
        path: String,
        /// Change nothing; show who would gain or lose what
        #[arg(long)]
        preview: bool,
    },
    /// Inherit grants again
    Open {
        /// Its path
        path: String,
        /// Change nothing; show who would gain or lose what
        #[arg(long)]
        preview: bool,
    },
    /// Remove a folder: it goes to the bin
    Remove {
        /// Its path
        path: String,
        /// With everything in it
        #[arg(long)]
        with_contents: bool,
    },
    /// Show the activity in a folder and below it, newest first; for its stewards
    History {
        /// Its path
        path: String,
        /// At most so many
        #[arg(long, default_value_t = 50)]
        limit: usize,
    },
    /// Show or set the password policy of a folder
    #[command(after_help = "EXAMPLES
  jexlin folder passwords /Pumping
  jexlin folder passwords /Pumping --enforce \"Pump controllers\"
  jexlin folder passwords /Office --choose Standard --choose Phrases")]
    Passwords {
        /// Its path
        path: String,
        /// Generate by this policy, and tell of passwords that break it
        #[arg(long, value_name = "POLICY", conflicts_with_all = ["enforce", "choose", "nothing"])]
        advise: Option<String>,
        /// Store only what complies with this policy
        #[arg(long, value_name = "POLICY", conflicts_with_all = ["choose", "nothing"])]
        enforce: Option<String>,
        /// Let people choose among these policies
        #[arg(long, value_name = "POLICY", conflicts_with = "nothing")]
        choose: Vec<String>,
        /// Demand nothing of its own any more
        #[arg(long)]
        nothing: bool,
    },
}

impl Run {
    pub fn folder(&self, command: Folder) -> Done {
        let columns: [Column; 5] = [
            ("path", "path"),
            ("level", "level"),
            ("closed", "closed"),
            ("own grants", "own_grants"),
            ("shared", "shared"),
        ];
        let change = |path: &str, body: EditFolder| -> Result<FolderItem, ClientError> {
            let folder = lookup::folder(&self.link, path)?;
            self.link.change(
                "PATCH",
                &format!("/api/v1/folders/{}", folder.id),
                &body,
                folder.version,
            )
        };
        let shown: FolderItem = match command {
            Folder::List => {
                return output::list(
                    self.format,
                    &self.link.list::<FolderItem>("/api/v1/folders", None)?,
                    &columns,
                    "There is no folder that you may see.",
                );
            }
            Folder::Add { path, closed } => {
                let names = parse_path(&path).map_err(|problem| {
                    ClientError::input(
                        format!("{path}: {problem}."),
                        "Write a path such as \"/Pumping/North ridge\".",
                    )
                })?;
                let (name, above) = names.split_last().ok_or_else(|| {
                    ClientError::input(
                        "The path is empty.",
                        "Write a path such as \"/Pumping/North ridge\".",
                    )
                })?;
                let above = above
                    .iter()
                    .map(|name| name.as_str())
                    .collect::<Vec<_>>()
                    .join("/");
                let parent = if above.is_empty() {
                    None
                } else {
                    Some(lookup::folder(&self.link, &above)?.id)
                };
                self.link.post(
                    "/api/v1/folders",
                    &NewFolder {
                        parent,
                        name: name.as_str().to_owned(),
                        closed,
                    },
                )?
            }
            Folder::Rename { path, name } => change(
                &path,
                EditFolder {
                    name: Some(name),
                    ..Default::default()
                },
            )?,
            Folder::Move {
                path,
                to,
                preview: true,
            } => {
                let parent = if to.trim() == "/" {
                    None
                } else {
                    Some(lookup::folder(&self.link, &to)?.id)
                };
                let folder = FolderChange {
                    id: lookup::folder(&self.link, &path)?.id,
                    parent,
                    to_top: parent.is_none(),
                    closed: None,
                };
                return self.preview(&Change::Folder(folder));
            }
            Folder::Close {
                ref path,
                preview: true,
            }
            | Folder::Open {
                ref path,
                preview: true,
            } => {
                let closed = Some(matches!(command, Folder::Close { .. }));
                let folder = FolderChange {
                    id: lookup::folder(&self.link, path)?.id,
                    parent: None,
                    to_top: false,
                    closed,
                };
                return self.preview(&Change::Folder(folder));
            }
            Folder::Move { path, to, .. } if to.trim() == "/" => change(
                &path,
                EditFolder {
                    to_top: true,
                    ..Default::default()
                },
            )?,
            Folder::Move { path, to, .. } => change(
                &path,
                EditFolder {
                    parent: Some(lookup::folder(&self.link, &to)?.id),
                    ..Default::default()
                },
            )?,
            Folder::Close { path, .. } => change(
                &path,
                EditFolder {
                    closed: Some(true),
                    ..Default::default()
                },
            )?,
            Folder::Open { path, .. } => change(
                &path,
                EditFolder {
                    closed: Some(false),
                    ..Default::default()
                },
            )?,
            Folder::Remove {
                path,
                with_contents,
            } => {
                let folder = lookup::folder(&self.link, &path)?;
                self.link.delete(
                    &format!("/api/v1/folders/{}?contents={with_contents}", folder.id),
                    Some(folder.version),
                )?;
                return say(&format!(
                    "{} is in the bin. Restore it: jexlin bin restore \"{}\"",
                    folder.path, folder.path
                ));
            }
            Folder::History { path, limit } => {
                let folder = lookup::folder(&self.link, &path)?;
                return self.show_events(&self.link.list(
                    &format!("/api/v1/folders/{}/history", folder.id),
                    Some(limit),
                )?);
            }
            Folder::Passwords {
                path,
                advise,
                enforce,
                choose,
                nothing,
            } => return self.folder_passwords(&path, advise, enforce, &choose, nothing),
        };
        output::one(self.format, &shown, &columns)
    }

    fn folder_passwords(
        &self,
        path: &str,
        advise: Option<String>,
        enforce: Option<String>,
        choose: &[String],
        nothing: bool,
    ) -> Done {
        let folder = lookup::folder(&self.link, path)?;
        let address = format!("/api/v1/folders/{}/password-rule", folder.id);
        let (mode, names) = match (advise, enforce) {
            (Some(name), _) => (RuleMode::Advise, vec![name]),
            (_, Some(name)) => (RuleMode::Enforce, vec![name]),
            _ => (RuleMode::Choose, choose.to_vec()),
        };
        if nothing {
            self.link.delete(&address, None)?;
        } else if !names.is_empty() {
            let policies = names
                .iter()
                .map(|name| self.policy_id(name).map(|policy| policy.id))
                .collect::<Result<_, _>>()?;
            let _: PasswordRuleItem =
                self.link
                    .change("PUT", &address, &PasswordRule { mode, policies }, 0)?;
        }
        let Some(shown) = self.link.get::<Option<PasswordRuleItem>>(&address)? else {
            return say("No folder on the way demands anything: the default policy is advised.");
        };
        let all: Vec<PasswordPolicy> = self.link.list("/api/v1/password-policies", None)?;
        let names: Vec<String> = shown
            .rule
            .policies
            .iter()
            .filter_map(|id| all.iter().find(|policy| policy.id == *id))
            .map(|policy| policy.name.clone())
            .collect();
        let value =
            serde_json::json!({"mode": shown.rule.mode, "policies": names, "place": shown.place});
        output::one(
            self.format,
            &value,
            &[
                ("mode", "mode"),
                ("policies", "policies"),
                ("set on", "place"),
            ],
        )
    }
}

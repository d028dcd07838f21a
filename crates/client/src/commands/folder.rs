//! Folders.

use clap::Subcommand;
use jexlin_api::words::RuleMode;
use jexlin_api::{
    Change, EditFolder, Folder as FolderItem, FolderChange, NewFolder, PasswordPolicy,
    PasswordRule, PasswordRuleItem,
};

use crate::lookup;
use crate::output::{self, Column, say};
use crate::run::{Done, Run};

/// Folders.
#[derive(Debug, Subcommand)]
pub enum Folder {
    /// List folders
    List,
    /// Show a folder
    Show {
        /// Path of the folder
        path: String,
    },
    /// Add a folder
    #[command(after_help = "EXAMPLE\n  jexlin folder add \"/Pumping/Hollow mere\"")]
    Add {
        /// Path of the new folder
        path: String,
        /// Do not inherit grants from the folders above
        #[arg(long)]
        closed: bool,
    },
    /// Edit a folder
    #[command(
        after_help = "EXAMPLE\n  jexlin folder edit \"/Pumping/Low meadow\" --name \"Lower meadow\""
    )]
    Edit {
        /// Path of the folder
        path: String,
        /// A new name
        #[arg(long)]
        name: String,
    },
    /// Move a folder into another
    Move {
        /// Path of the folder
        path: String,
        /// The path of the folder to move it into; `/` for the top
        to: String,
        /// Change nothing; show who would gain or lose what
        #[arg(long)]
        preview: bool,
    },
    /// Stop inheriting grants
    Close {
        /// Path of the folder
        path: String,
        /// Change nothing; show who would gain or lose what
        #[arg(long)]
        preview: bool,
    },
    /// Inherit grants again
    Reopen {
        /// Path of the folder
        path: String,
        /// Change nothing; show who would gain or lose what
        #[arg(long)]
        preview: bool,
    },
    /// Remove a folder: it goes to the bin
    Remove {
        /// Path of the folder
        path: String,
        /// Remove its contents too
        #[arg(long)]
        with_contents: bool,
    },
    /// Show the activity in a folder and below it, newest first; for its stewards
    History {
        /// Path of the folder
        path: String,
    },
    /// Show or set the password policy of a folder
    #[command(after_help = "EXAMPLES
  jexlin folder passwords /Pumping
  jexlin folder passwords /Pumping --enforce \"Pump controllers\"
  jexlin folder passwords /Office --choose Standard --choose \"Phrases for people\"")]
    Passwords {
        /// Path of the folder
        path: String,
        /// Generate by this policy and report passwords that break it
        #[arg(long, value_name = "POLICY", conflicts_with_all = ["enforce", "choose", "none"])]
        advise: Option<String>,
        /// Store only what complies with this policy
        #[arg(long, value_name = "POLICY", conflicts_with_all = ["choose", "none"])]
        enforce: Option<String>,
        /// Let people choose among these policies
        #[arg(long, value_name = "POLICY", conflicts_with = "none")]
        choose: Vec<String>,
        /// Remove the folder's own policy
        #[arg(long)]
        none: bool,
    },
}

const COLUMNS: [Column; 5] = [
    ("path", "path"),
    ("level", "level"),
    ("closed", "closed"),
    ("own grants", "own_grants"),
    ("shared", "shared"),
];

impl Run {
    pub fn folder(&self, command: Folder) -> Done {
        match command {
            Folder::List => output::list(
                self.format,
                &self
                    .connection
                    .list::<FolderItem>("/api/v1/folders", None)?,
                &COLUMNS,
                "There is no folder that you have access to.",
            ),
            Folder::Show { path } => {
                let folder = lookup::folder(&self.connection, &path)?;
                output::one(self.format, &folder, &COLUMNS)
            }
            Folder::Add { path, closed } => self.add_folder(&path, closed),
            Folder::Edit { path, name } => self.edit_folder(
                &path,
                &EditFolder {
                    name: Some(name),
                    ..Default::default()
                },
            ),
            Folder::Move { path, to, preview } => self.move_folder(&path, &to, preview),
            Folder::Close { path, preview } => self.set_closed(&path, true, preview),
            Folder::Reopen { path, preview } => self.set_closed(&path, false, preview),
            Folder::Remove {
                path,
                with_contents,
            } => self.remove_folder(&path, with_contents),
            Folder::History { path } => {
                let folder = lookup::folder(&self.connection, &path)?;
                self.show_events(
                    &self
                        .connection
                        .list(&format!("/api/v1/folders/{}/history", folder.id), Some(50))?,
                )
            }
            Folder::Passwords {
                path,
                advise,
                enforce,
                choose,
                none,
            } => self.folder_passwords(&path, advise, enforce, &choose, none),
        }
    }

    fn add_folder(&self, path: &str, closed: bool) -> Done {
        let (above, name) = lookup::split_at_top(path)?;
        let parent = above
            .map(|above| lookup::folder(&self.connection, &above).map(|folder| folder.id))
            .transpose()?;
        let shown: FolderItem = self.connection.post(
            "/api/v1/folders",
            &NewFolder {
                parent,
                name,
                closed,
            },
        )?;
        output::one(self.format, &shown, &COLUMNS)
    }

    fn edit_folder(&self, path: &str, body: &EditFolder) -> Done {
        let folder = lookup::folder(&self.connection, path)?;
        let shown: FolderItem = self.connection.change(
            "PATCH",
            &format!("/api/v1/folders/{}", folder.id),
            body,
            folder.revision,
        )?;
        output::one(self.format, &shown, &COLUMNS)
    }

    fn move_folder(&self, path: &str, to: &str, preview: bool) -> Done {
        let parent = if to.trim() == "/" {
            None
        } else {
            Some(lookup::folder(&self.connection, to)?.id)
        };
        let change = Change::Folder(FolderChange {
            id: lookup::folder(&self.connection, path)?.id,
            parent,
            to_top: parent.is_none(),
            closed: None,
        });
        if preview {
            return self.preview(&change);
        }
        self.confirm_change(&change)?;
        let body = EditFolder {
            parent,
            to_top: parent.is_none(),
            ..Default::default()
        };
        self.edit_folder(path, &body)
    }

    /// Stops a folder from inheriting grants, or lets it inherit them again.
    fn set_closed(&self, path: &str, closed: bool, preview: bool) -> Done {
        let change = Change::Folder(FolderChange {
            id: lookup::folder(&self.connection, path)?.id,
            parent: None,
            to_top: false,
            closed: Some(closed),
        });
        if preview {
            return self.preview(&change);
        }
        self.confirm_change(&change)?;
        let body = EditFolder {
            closed: Some(closed),
            ..Default::default()
        };
        self.edit_folder(path, &body)
    }

    fn remove_folder(&self, path: &str, with_contents: bool) -> Done {
        let folder = lookup::folder(&self.connection, path)?;
        self.connection.delete(
            &format!("/api/v1/folders/{}?contents={with_contents}", folder.id),
            Some(folder.revision),
        )?;
        say(&format!(
            "{} is in the bin. Restore it: jexlin bin restore \"{}\"",
            folder.path, folder.path
        ))
    }

    fn folder_passwords(
        &self,
        path: &str,
        advise: Option<String>,
        enforce: Option<String>,
        choose: &[String],
        none: bool,
    ) -> Done {
        let folder = lookup::folder(&self.connection, path)?;
        let address = format!("/api/v1/folders/{}/password-rule", folder.id);
        let (mode, names) = match (advise, enforce) {
            (Some(name), _) => (RuleMode::Advise, vec![name]),
            (_, Some(name)) => (RuleMode::Enforce, vec![name]),
            _ => (RuleMode::Choose, choose.to_vec()),
        };
        if none {
            self.connection.delete(&address, None)?;
        } else if !names.is_empty() {
            let policies = names
                .iter()
                .map(|name| self.policy_id(name).map(|policy| policy.id))
                .collect::<Result<_, _>>()?;
            let _: PasswordRuleItem =
                self.connection
                    .change("PUT", &address, &PasswordRule { mode, policies }, 0)?;
        }
        let Some(shown) = self.connection.get::<Option<PasswordRuleItem>>(&address)? else {
            return say("No folder on its path sets a policy: the default policy is advised.");
        };
        let all: Vec<PasswordPolicy> = self.connection.list("/api/v1/password-policies", None)?;
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

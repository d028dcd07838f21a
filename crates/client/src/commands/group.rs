//! Groups and their members.

use clap::Subcommand;
use jexlin_api::{Change, Group as GroupItem, Membership, NewGroup};

use crate::args::Who;
use crate::lookup;
use crate::output::{self, Column, say};
use crate::run::{Done, Run};

/// Groups.
#[derive(Debug, Subcommand)]
pub enum Group {
    /// List groups with their members
    List,
    /// Show a group with its members
    Show {
        /// The group
        name: String,
    },
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
    /// Add a person or a group to a group
    AddMember {
        /// The group
        name: String,
        #[command(flatten)]
        who: Who,
        /// Change nothing; show who would gain or lose what
        #[arg(long)]
        preview: bool,
    },
    /// Remove a person or group from a group
    RemoveMember {
        /// The group
        name: String,
        #[command(flatten)]
        who: Who,
        /// Change nothing; show who would gain or lose what
        #[arg(long)]
        preview: bool,
    },
}

impl Run {
    pub fn group(&self, command: Group) -> Done {
        let columns: [Column; 3] = [("name", "name"), ("members", "members"), ("id", "id")];
        let shown = match command {
            Group::List => {
                return output::list(
                    self.format,
                    &self.connection.list::<GroupItem>("/api/v1/groups", None)?,
                    &columns,
                    "There are no groups yet. Add one: jexlin group add NAME",
                );
            }
            Group::Show { name } => lookup::group(&self.connection, &name)?,
            Group::Add { name } => self
                .connection
                .post::<GroupItem>("/api/v1/groups", &NewGroup { name })?,
            Group::Rename { name, new_name } => {
                let group = lookup::group(&self.connection, &name)?;
                self.connection.change(
                    "PATCH",
                    &format!("/api/v1/groups/{}", group.id),
                    &NewGroup { name: new_name },
                    group.revision,
                )?
            }
            Group::Remove { name } => {
                let group = lookup::group(&self.connection, &name)?;
                self.connection.delete(
                    &format!("/api/v1/groups/{}", group.id),
                    Some(group.revision),
                )?;
                return say(&format!(
                    "The group {} is removed, and the grants to it have ended.",
                    group.name
                ));
            }
            Group::AddMember {
                name,
                who,
                preview: true,
            } => {
                let join = Membership {
                    group: lookup::group(&self.connection, &name)?.id,
                    member: self.subject(&who)?,
                };
                return self.preview(&Change::Join(join));
            }
            Group::RemoveMember {
                name,
                who,
                preview: true,
            } => {
                let leave = Membership {
                    group: lookup::group(&self.connection, &name)?.id,
                    member: self.subject(&who)?,
                };
                return self.preview(&Change::Leave(leave));
            }
            Group::AddMember { name, who, .. } => self.connection.put(&format!(
                "/api/v1/groups/{}/members/{}",
                lookup::group(&self.connection, &name)?.id,
                self.subject(&who)?
            ))?,
            Group::RemoveMember { name, who, .. } => {
                let group = lookup::group(&self.connection, &name)?;
                self.connection.delete(
                    &format!(
                        "/api/v1/groups/{}/members/{}",
                        group.id,
                        self.subject(&who)?
                    ),
                    None,
                )?;
                lookup::group(&self.connection, &name)?
            }
        };
        output::one(self.format, &shown, &columns)
    }
}

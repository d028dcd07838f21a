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
    /// Edit a group
    #[command(
        after_help = "EXAMPLE\n  jexlin group edit Operations --name \"Operations and control\""
    )]
    Edit {
        /// The group
        group: String,
        /// A new name
        #[arg(long)]
        name: String,
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
            Group::Edit { group, name } => {
                let group = lookup::group(&self.connection, &group)?;
                if group.name == name {
                    return output::one(self.format, &group, &columns);
                }
                self.connection.change(
                    "PATCH",
                    &format!("/api/v1/groups/{}", group.id),
                    &NewGroup { name },
                    group.revision,
                )?
            }
            Group::Remove { name } => {
                let group = lookup::group(&self.connection, &name)?;
                self.confirm(&format!(
                    "Remove the group {} with {}, and all grants to it?",
                    group.name,
                    output::counted(group.members.len(), "member", "members")
                ))?;
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
            Group::AddMember { name, who, .. } => {
                let join = Membership {
                    group: lookup::group(&self.connection, &name)?.id,
                    member: self.subject(&who)?,
                };
                self.confirm_change(&Change::Join(join.clone()))?;
                let address = format!("/api/v1/groups/{}/members/{}", join.group, join.member);
                self.connection.put(&address)?
            }
            Group::RemoveMember { name, who, .. } => {
                let leave = Membership {
                    group: lookup::group(&self.connection, &name)?.id,
                    member: self.subject(&who)?,
                };
                self.confirm_change(&Change::Leave(leave.clone()))?;
                let address = format!("/api/v1/groups/{}/members/{}", leave.group, leave.member);
                self.connection.delete(&address, None)?;
                lookup::group(&self.connection, &name)?
            }
        };
        output::one(self.format, &shown, &columns)
    }
}

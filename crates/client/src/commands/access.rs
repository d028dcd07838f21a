//! Access files, access issues, and transfers of stewardship.

use std::path::{Path, PathBuf};

use clap::{Args, Subcommand};
use jexlin_api::words::IssueType;
use jexlin_api::{
    AccessApplied, AccessCompared, AccessIssue, AccessIssuesFixed, Change, FixAccessIssues,
    StewardshipTransferred, TransferStewardship,
};
use uuid::Uuid;

use crate::args::{Format, Who};
use crate::connection::query;
use crate::error::ClientError;
use crate::files::Output;
use crate::lookup;
use crate::output::{self, Column, counted, say};
use crate::run::{Done, Run};
use crate::secrets;

/// Access as a whole.
#[derive(Debug, Subcommand)]
pub enum Access {
    /// List who has access to a folder or a credential, and through which grant
    #[command(after_help = "EXAMPLES
  jexlin access who \"/Pumping/North ridge/duty\"
  jexlin access who /Pumping -o csv")]
    Who {
        /// The folder or the credential
        path: String,
    },
    /// Write folders, groups, grants, gates and password policies as one text file
    #[command(after_help = "EXAMPLES
  jexlin access export access.toml
  jexlin access export pumping.toml --below /Pumping
  jexlin access export -                                to standard output")]
    Export {
        /// The file to write; `-` for standard output
        file: PathBuf,
        /// Overwrite the file if it exists
        #[arg(long)]
        force: bool,
        /// Only this folder and what is below it, without groups and policies
        #[arg(long, value_name = "PATH")]
        below: Option<String>,
    },
    /// Show what a file would change, and who would gain or lose what; change nothing
    #[command(after_help = "EXAMPLE\n  jexlin access compare access.toml")]
    Compare {
        /// The file
        file: PathBuf,
    },
    /// Apply a file, all of it or nothing
    #[command(after_help = "EXAMPLES
  jexlin access apply access.toml           on a terminal, shows what would change and asks first
  jexlin access apply access.toml --yes")]
    Apply {
        /// The file
        file: PathBuf,
    },
}

/// Access issues.
#[derive(Debug, Subcommand)]
pub enum AccessIssueCommand {
    /// List folders without an active steward, and grants that are redundant or expired
    List,
    /// Remove grants that are redundant or expired
    #[command(after_help = "EXAMPLES
  jexlin access-issue remove 0199c3a0-55d2-7a41-9d25-2f1b7a3cbb04
  jexlin access-issue remove --all expired --all left")]
    Remove {
        /// The grants, as `access-issue list` shows them
        #[arg(required_unless_present = "all")]
        grants: Vec<Uuid>,
        /// All of this type: left, expired or redundant
        #[arg(long, value_name = "TYPE")]
        all: Vec<IssueType>,
    },
    /// Appoint a steward for folders that have none
    #[command(after_help = "EXAMPLES
  jexlin access-issue appoint --person yusra /Archive
  jexlin access-issue appoint --group \"Shift leads\" --all")]
    Appoint {
        #[command(flatten)]
        who: Who,
        /// The folders
        #[arg(required_unless_present = "all")]
        folders: Vec<String>,
        /// All folders without a steward
        #[arg(long)]
        all: bool,
    },
}

/// From whom stewardship is transferred, and to whom.
#[derive(Debug, Args)]
#[command(after_help = "EXAMPLES
  jexlin transfer-stewardship ines yusra --preview
  jexlin transfer-stewardship ines yusra --below /Pumping --keep")]
pub struct TransferStewardshipArgs {
    /// The current steward, by sign-in name
    from: String,
    /// The new steward, by sign-in name
    to: String,
    /// Only what is on this folder or below it
    #[arg(long, value_name = "PATH")]
    below: Option<String>,
    /// The current steward stays a steward
    #[arg(long)]
    keep: bool,
    /// Change nothing; show who would gain or lose what
    #[arg(long)]
    preview: bool,
}

const CHANGE: [Column; 3] = [
    ("line", "line"),
    ("where", "place"),
    ("planned change", "text"),
];
const ACCESS_ISSUE: [Column; 5] = [
    ("issue", "type"),
    ("where", "place"),
    ("for", "subject_name"),
    ("level", "level"),
    ("id", "id"),
];

fn read(file: &Path) -> Result<Vec<u8>, ClientError> {
    std::fs::read(file).map_err(|error| {
        ClientError::input(
            format!("{}: {error}.", file.display()),
            "Name an access file, as `jexlin access export` writes it.",
        )
    })
}

impl Run {
    pub fn access(&self, command: Access) -> Done {
        match command {
            Access::Who { path } => self.who_has_access(&path),
            Access::Export { file, below, force } => {
                let address = below.map_or_else(
                    || "/api/v1/access".to_owned(),
                    |below| format!("/api/v1/access?below={}", query(&below)),
                );
                let mut output = Output::open(&file, force)?;
                self.connection.copy_to(&address, &mut output)?;
                if !output.finish()? {
                    return Ok(());
                }
                say(&format!(
                    "The access file is {}. After you have edited it, compare it: jexlin access compare {}",
                    file.display(),
                    file.display()
                ))
            }
            Access::Compare { file } => {
                let compared = self.compare_access(&read(&file)?)?;
                if self.show_compared(&compared)? && self.format == Format::Table {
                    say("\nNothing was changed.")?;
                }
                Ok(())
            }
            Access::Apply { file } => {
                let bytes = read(&file)?;
                let mut address = "/api/v1/access/apply".to_owned();
                if !self.yes {
                    secrets::must_be_able_to_ask("This changes access.")?;
                    let compared = self.compare_access(&bytes)?;
                    if !self.show_compared(&compared)? {
                        return Ok(());
                    }
                    self.confirm("\nApply these changes?")?;
                    address = format!("{address}?expect={}", compared.state);
                }
                let length = u64::try_from(bytes.len()).ok();
                let made: AccessApplied =
                    self.connection
                        .send(&address, std::io::Cursor::new(bytes), length)?;
                if self.format != Format::Table {
                    return output::one(self.format, &made, &[("count", "count")]);
                }
                match made.count {
                    0 => say("Nothing was changed: access is already as the file says."),
                    1 => say("1 change is made."),
                    count => say(&format!("{count} changes are made.")),
                }
            }
        }
    }

    fn compare_access(&self, bytes: &[u8]) -> Result<AccessCompared, ClientError> {
        let length = u64::try_from(bytes.len()).ok();
        self.connection.send(
            "/api/v1/access/compare",
            std::io::Cursor::new(bytes.to_vec()),
            length,
        )
    }

    /// Whether there is anything to change.
    fn show_compared(&self, compared: &AccessCompared) -> Result<bool, ClientError> {
        if self.format != Format::Table {
            output::list(self.format, &compared.changes, &CHANGE, "")?;
            return Ok(compared.count > 0);
        }
        if compared.count == 0 {
            say("There is nothing to change.")?;
            return Ok(false);
        }
        output::list(self.format, &compared.changes, &CHANGE, "")?;
        if compared.count > compared.changes.len() {
            say(&format!(
                "There are {} changes; these are the first.",
                compared.count
            ))?;
        }
        say(&format!("\n{}", compared.preview.sentence))?;
        if !compared.preview.shifts.is_empty() {
            say("")?;
            self.show_shifts(&compared.preview)?;
        }
        Ok(true)
    }

    pub fn access_issue(&self, command: AccessIssueCommand) -> Done {
        let found = || {
            self.connection
                .list::<AccessIssue>("/api/v1/access-issues", None)
        };
        match command {
            AccessIssueCommand::List => output::list(
                self.format,
                &found()?,
                &ACCESS_ISSUE,
                "There are no access issues: every folder has a steward, and no grant is redundant or expired.",
            ),
            AccessIssueCommand::Remove { grants, all } => {
                if all.contains(&IssueType::NoSteward) {
                    return Err(ClientError::input(
                        "A folder without a steward has no grant to remove.",
                        "Use left, expired or redundant; appoint a steward with `access-issue appoint`.",
                    ));
                }
                let mut withdraw = grants;
                if !all.is_empty() {
                    withdraw.extend(
                        found()?
                            .into_iter()
                            .filter(|item| all.contains(&item.issue_type))
                            .map(|item| item.id),
                    );
                }
                if withdraw.is_empty() {
                    return say("There are no such grants.");
                }
                self.confirm(&format!(
                    "Remove {}?",
                    counted(withdraw.len(), "grant", "grants")
                ))?;
                self.fix(&FixAccessIssues {
                    withdraw,
                    ..FixAccessIssues::default()
                })
            }
            AccessIssueCommand::Appoint { who, folders, all } => {
                let found = found()?;
                let orphans = || {
                    found
                        .iter()
                        .filter(|item| item.issue_type == IssueType::NoSteward)
                };
                let mut wanted: Vec<Uuid> = if all {
                    orphans().map(|item| item.id).collect()
                } else {
                    vec![]
                };
                for path in &folders {
                    let item = orphans().find(|item| item.place == *path);
                    let advice = "List the folders without a steward: `jexlin access-issue list`.";
                    wanted.push(
                        item.ok_or_else(|| {
                            ClientError::unknown(
                                format!("{path} is not a folder without a steward."),
                                advice,
                            )
                        })?
                        .id,
                    );
                }
                if wanted.is_empty() {
                    return say("Every folder has a steward.");
                }
                self.confirm(&format!(
                    "Appoint {} as steward of {}?",
                    who.person
                        .as_deref()
                        .or(who.group.as_deref())
                        .unwrap_or("nobody"),
                    counted(wanted.len(), "folder", "folders")
                ))?;
                let person = who
                    .person
                    .as_ref()
                    .map(|name| lookup::person(&self.connection, name))
                    .transpose()?
                    .map(|person| person.id);
                let group = who
                    .group
                    .as_ref()
                    .map(|name| lookup::group(&self.connection, name))
                    .transpose()?
                    .map(|group| group.id);
                self.fix(&FixAccessIssues {
                    folders: wanted,
                    person,
                    group,
                    ..FixAccessIssues::default()
                })
            }
        }
    }

    fn fix(&self, wanted: &FixAccessIssues) -> Done {
        let fixed: AccessIssuesFixed = self.connection.post("/api/v1/access-issues", wanted)?;
        say(&match (fixed.withdrawn, fixed.appointed) {
            (withdrawn, 0) => {
                let removed = counted(withdrawn, "grant is removed", "grants are removed");
                format!("{removed}; no access is lost.")
            }
            (_, appointed) => {
                let folders = counted(appointed, "folder has", "folders have");
                format!("{folders} a steward.")
            }
        })
    }

    pub fn transfer_stewardship(&self, args: &TransferStewardshipArgs) -> Done {
        let (from, to) = (
            lookup::person(&self.connection, &args.from)?.id,
            lookup::person(&self.connection, &args.to)?.id,
        );
        let below = args
            .below
            .as_ref()
            .map(|path| lookup::folder(&self.connection, path))
            .transpose()?
            .map(|folder| folder.id);
        let body = TransferStewardship {
            from,
            to,
            below,
            keep: args.keep,
        };
        let change = Change::TransferStewardship(body.clone());
        if args.preview {
            return self.preview(&change);
        }
        self.confirm_change(&change)?;
        let done: StewardshipTransferred = self
            .connection
            .post("/api/v1/transfer-stewardship", &body)?;
        say(&format!(
            "{} is a steward of these {} {}:",
            args.to,
            if args.keep {
                "together with"
            } else {
                "in place of"
            },
            args.from
        ))?;
        done.places
            .iter()
            .try_for_each(|place| say(&format!("  {place}")))
    }
}

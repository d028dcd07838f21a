//! Grants: who may do what, and why.

use chrono::{DateTime, Utc};
use clap::Subcommand;
use jexlin_api::words::{PersonState, Word as _};
use jexlin_api::{
    AccessHolder, Change, EditGrant, Explanation, Grant as GrantItem, GrantTerms, Level, NewGrant,
    Preview, Shift,
};
use serde_json::json;
use uuid::Uuid;

use crate::args::{Format, Place, Who};
use crate::error::ClientError;
use crate::lookup;
use crate::output::{self, Column, say};
use crate::run::{Done, Run, Selected};

/// Grants.
#[derive(Debug, Subcommand)]
pub enum Grant {
    /// List the grants that apply to a folder or a credential
    List {
        #[command(flatten)]
        place: Place,
    },
    /// Show a grant
    Show {
        /// Its identifier, as `grant list --wide` shows it
        grant: Uuid,
    },
    /// Add a grant
    #[command(after_help = "EXAMPLES
  jexlin grant add reveal --folder /Office --group \"Shift leads\"
  jexlin grant add reveal --folder /Pumping --group Contractors --only-tag pumps --without-history --preview
  jexlin grant add use --credential \"/Control room/Radio network\" --person pim --until 7d")]
    Add {
        /// list, use, reveal, edit or steward
        level: Level,
        #[command(flatten)]
        place: Place,
        #[command(flatten)]
        who: Who,
        /// When it expires
        #[arg(long, value_name = "TIME", value_parser = crate::time::ahead)]
        until: Option<DateTime<Utc>>,
        /// A note, stored with the grant
        #[arg(long, default_value = "")]
        note: String,
        /// Only credentials of this kind
        #[arg(long, value_name = "KIND")]
        only_kind: Option<String>,
        /// Only credentials with this tag
        #[arg(long, value_name = "TAG")]
        only_tag: Option<String>,
        /// Without access to former values
        #[arg(long)]
        without_history: bool,
        /// Change nothing; show who would gain or lose what
        #[arg(long)]
        preview: bool,
    },
    /// Edit a grant; what is not given stays as it is
    #[command(after_help = "EXAMPLES
  jexlin grant edit 0199c3a0-55d2-7a41-9d25-2f1b7a3cbb04 --level use --preview
  jexlin grant edit 0199c3a0-55d2-7a41-9d25-2f1b7a3cbb04 --until 18:00 --note \"until the shift ends\"")]
    Edit {
        /// Its identifier, as `grant list --wide` shows it
        grant: Uuid,
        /// list, use, reveal, edit or steward
        #[arg(long)]
        level: Option<Level>,
        /// When it expires
        #[arg(long, value_name = "TIME", value_parser = crate::time::ahead)]
        until: Option<DateTime<Utc>>,
        /// Remove the expiry
        #[arg(long, conflicts_with = "until")]
        no_expiry: bool,
        /// A note, stored with the grant
        #[arg(long)]
        note: Option<String>,
        /// Access to former values: yes or no
        #[arg(long, value_name = "YES-OR-NO", value_parser = yes_or_no)]
        history: Option<bool>,
        /// Change nothing; show who would gain or lose what
        #[arg(long)]
        preview: bool,
    },
    /// Remove grants
    Remove {
        /// Identifiers, as `grant list --wide` shows them
        #[arg(required = true, value_name = "GRANT")]
        grants: Vec<Uuid>,
        /// Change nothing; show who would gain or lose what
        #[arg(long)]
        preview: bool,
    },
}

const GRANT: [Column; 9] = [
    ("level", "level"),
    ("to", "subject_name"),
    ("on", "place"),
    ("only kind", "only_kind"),
    ("only tag", "only_tag"),
    ("history", "history"),
    ("until", "ends_at"),
    ("note", "note"),
    ("id", "id"),
];
const SHIFT: [Column; 6] = [
    ("who", "name"),
    ("before", "before"),
    ("after", "after"),
    ("folders", "folders"),
    ("credentials", "credentials"),
    ("under a gate", "gated"),
];

const REACHER: [Column; 6] = [
    ("level", "level"),
    ("who", "name"),
    ("state", "state"),
    ("by a grant on", "stands_on"),
    ("through", "through"),
    ("other grants", "others"),
];

fn yes_or_no(text: &str) -> Result<bool, String> {
    match text {
        "yes" => Ok(true),
        "no" => Ok(false),
        _ => Err("say yes or no".into()),
    }
}

impl Run {
    pub fn place(&self, place: &Place) -> Result<(Option<Uuid>, Option<Uuid>), ClientError> {
        let folder = place
            .folder
            .as_ref()
            .map(|path| lookup::folder(&self.connection, path))
            .transpose()?
            .map(|folder| folder.id);
        let credential = place
            .credential
            .as_ref()
            .map(|path| lookup::credential(&self.connection, path))
            .transpose()?;
        Ok((folder, credential))
    }

    pub fn grant(&self, command: Grant) -> Done {
        match command {
            Grant::List { place } => {
                let address = match self.place(&place)? {
                    (Some(folder), _) => format!("/api/v1/grants?folder={folder}"),
                    (None, credential) => format!(
                        "/api/v1/grants?credential={}",
                        credential.unwrap_or_default()
                    ),
                };
                output::list(
                    self.format,
                    &self.connection.list::<GrantItem>(&address, None)?,
                    &GRANT,
                    "No grant applies to this.",
                )
            }
            Grant::Show { grant } => {
                let grant: GrantItem = self.connection.get(&format!("/api/v1/grants/{grant}"))?;
                output::one(self.format, &grant, &GRANT)
            }
            Grant::Add {
                level,
                place,
                who,
                until,
                note,
                only_kind,
                only_tag,
                without_history,
                preview,
            } => {
                let (folder, credential) = self.place(&place)?;
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
                let new = NewGrant {
                    folder,
                    credential,
                    person,
                    group,
                    level,
                    ends_at: until,
                    note,
                    only_kind,
                    only_tag,
                    without_history,
                };
                let change = Change::Grant(new.clone());
                if preview {
                    return self.preview(&change);
                }
                self.confirm_change(&change)?;
                let shown: GrantItem = self.connection.post("/api/v1/grants", &new)?;
                output::one(self.format, &shown, &GRANT)
            }
            Grant::Edit {
                grant,
                level,
                until,
                no_expiry,
                note,
                history,
                preview,
            } => {
                let to = EditGrant {
                    level,
                    ends_at: until,
                    no_expiry,
                    note,
                    history,
                };
                let change = Change::Terms(GrantTerms {
                    id: grant,
                    to: to.clone(),
                });
                if preview {
                    return self.preview(&change);
                }
                self.confirm_change(&change)?;
                let address = format!("/api/v1/grants/{grant}");
                let revision = self.connection.get::<GrantItem>(&address)?.revision;
                let shown: GrantItem = self.connection.change("PATCH", &address, &to, revision)?;
                output::one(self.format, &shown, &GRANT)
            }
            Grant::Remove {
                grants,
                preview: true,
            } => grants
                .iter()
                .try_for_each(|grant| self.preview(&Change::Withdraw(*grant))),
            Grant::Remove {
                grants,
                preview: false,
            } => self.remove_grants(&grants),
        }
    }

    fn remove_grants(&self, grants: &[Uuid]) -> Done {
        for grant in grants {
            self.confirm_change(&Change::Withdraw(*grant))?;
        }
        if let [grant] = grants {
            self.connection
                .delete(&format!("/api/v1/grants/{grant}"), None)?;
            return say("The grant is removed.");
        }
        let many: Vec<Selected> = grants
            .iter()
            .map(|grant| Selected::named(&grant.to_string()))
            .collect();
        self.each(&many, |grant| {
            self.connection
                .delete(&format!("/api/v1/grants/{grant}"), None)?;
            Ok("removed".into())
        })
    }

    /// Whether a change would alter the access of anybody.
    pub fn changes_access(&self, change: &Change) -> Result<bool, ClientError> {
        let shown: Preview = self.connection.post("/api/v1/preview", change)?;
        Ok(!shown.shifts.is_empty())
    }

    /// Shows on standard error who would gain or lose what by a change, before somebody is asked
    /// about it.
    pub fn show_preview(&self, change: &Change) -> Done {
        let shown: Preview = self.connection.post("/api/v1/preview", change)?;
        output::aside(&shown.sentence);
        for shift in &shown.shifts {
            let word = |level: Option<Level>| level.map_or("nothing", Level::word);
            output::aside(&format!(
                "  {}: {} → {}",
                jexlin_api::show_foreign(&shift.name),
                word(shift.before),
                word(shift.after)
            ));
        }
        if shown.more {
            output::aside("  There are more than these.");
        }
        Ok(())
    }

    /// Shows who would gain or lose what by a change, and makes none.
    pub fn preview(&self, change: &Change) -> Done {
        let shown: Preview = self.connection.post("/api/v1/preview", change)?;
        if self.format == Format::Table {
            say(&shown.sentence)?;
            if shown.shifts.is_empty() {
                return Ok(());
            }
            say("")?;
        }
        self.show_shifts(&shown)?;
        if self.format == Format::Table {
            say("\nNothing was changed.")?;
        }
        Ok(())
    }

    /// Shows the shifts of a preview.
    pub fn show_shifts(&self, shown: &Preview) -> Done {
        if self.format != Format::Table {
            return output::list(self.format, &shown.shifts, &SHIFT, "");
        }
        let word = |level: Option<Level>| level.map_or("nothing", Level::word);
        let row = |shift: &Shift| {
            let name = if shift.state == PersonState::Active {
                shift.name.clone()
            } else {
                format!("{} ({})", shift.name, shift.state)
            };
            json!({"name": name, "before": word(shift.before), "after": word(shift.after), "folders": shift.folders, "credentials": shift.credentials, "gated": shift.gated})
        };
        output::list(
            self.format,
            &shown.shifts.iter().map(row).collect::<Vec<_>>(),
            &SHIFT,
            "",
        )?;
        if shown.more {
            say("There are more than these.")?;
        }
        Ok(())
    }

    /// Lists who has access to a folder or a credential.
    pub fn who_has_access(&self, path: &str) -> Done {
        let place = lookup::folder_or_credential(&self.connection, path)?;
        let shown: Vec<AccessHolder> = self
            .connection
            .list(&format!("/api/v1/reach?{place}"), None)?;
        output::list(self.format, &shown, &REACHER, "Nobody has access to this.")
    }

    pub fn explain(&self, person: &str, path: &str) -> Done {
        let (person, place) = (
            lookup::person(&self.connection, person)?.id,
            lookup::folder_or_credential(&self.connection, path)?,
        );
        let shown: Explanation = self
            .connection
            .get(&format!("/api/v1/explain?person={person}&{place}"))?;
        if self.format != Format::Table {
            return output::one(
                self.format,
                &shown,
                &[
                    ("person", "person"),
                    ("place", "place"),
                    ("level", "level"),
                    ("sentence", "sentence"),
                ],
            );
        }
        say(&shown.sentence)?;
        if shown.ways.is_empty() {
            return Ok(());
        }
        say("")?;
        output::list(
            self.format,
            &shown.ways,
            &[
                ("level", "level"),
                ("on", "stands_on"),
                ("through", "through"),
                ("does not count because", "stopped"),
            ],
            "",
        )
    }
}

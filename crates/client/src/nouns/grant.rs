//! Grants: who may do what, and why.

use chrono::{DateTime, Utc};
use clap::Subcommand;
use jexlin_api::{Explanation, Grant as GrantItem, Level, NewGrant};
use uuid::Uuid;

use crate::cli::{Format, Place, Who};
use crate::find;
use crate::output::{self, Column, say};
use crate::run::{Done, Run};
use crate::trouble::Trouble;

/// Grants.
#[derive(Debug, Subcommand)]
pub enum Grant {
    /// List those that reach a folder or a credential
    List {
        #[command(flatten)]
        place: Place,
    },
    /// Grant a level
    #[command(after_help = "EXAMPLES
  jexlin grant give reveal --folder /Pumping --group \"Duty engineers\"
  jexlin grant give use --credential \"/Control room/contractor\" --person pim --until 2026-12-01T17:00:00Z")]
    Give {
        /// list, use, reveal, edit or steward
        level: String,
        #[command(flatten)]
        place: Place,
        #[command(flatten)]
        who: Who,
        /// It ends then
        #[arg(long, value_name = "TIME")]
        until: Option<DateTime<Utc>>,
        /// Why
        #[arg(long, default_value = "")]
        note: String,
    },
    /// Take a grant away
    Take {
        /// Its identifier, as `grant list` shows it
        grant: uuid::Uuid,
    },
}

const GRANT: [Column; 6] = [("level", "level"), ("to", "subject_name"), ("stands on", "place"), ("until", "ends_at"), ("note", "note"), ("id", "id")];

impl Run {
    pub fn place(&self, place: &Place) -> Result<(Option<Uuid>, Option<Uuid>), Trouble> {
        let folder = place.folder.as_ref().map(|path| find::folder(&self.link, path)).transpose()?.map(|folder| folder.id);
        let credential = place.credential.as_ref().map(|path| find::credential(&self.link, path)).transpose()?;
        Ok((folder, credential))
    }

    pub fn grant(&self, command: Grant) -> Done {
        match command {
            Grant::List { place } => {
                let address = match self.place(&place)? {
                    (Some(folder), _) => format!("/api/v1/grants?folder={folder}"),
                    (None, credential) => format!("/api/v1/grants?credential={}", credential.unwrap_or_default()),
                };
                output::list(self.format, &self.link.list::<GrantItem>(&address, None)?, &GRANT, "No grant reaches this.")
            }
            Grant::Give { level, place, who, until, note } => {
                let level: Level = level.parse().map_err(|problem: String| Trouble::input(format!("{problem}."), "Name one of them."))?;
                let (folder, credential) = self.place(&place)?;
                let person = who.person.as_ref().map(|name| find::person(&self.link, name)).transpose()?.map(|person| person.id);
                let group = who.group.as_ref().map(|name| find::group(&self.link, name)).transpose()?.map(|group| group.id);
                let shown: GrantItem = self.link.post("/api/v1/grants", &NewGrant { folder, credential, person, group, level, ends_at: until, note })?;
                output::one(self.format, &shown, &GRANT)
            }
            Grant::Take { grant } => {
                self.link.delete(&format!("/api/v1/grants/{grant}"), None)?;
                say("The grant is taken away.")
            }
        }
    }

    pub fn explain(&self, person: &str, path: &str) -> Done {
        let (person, credential) = (find::person(&self.link, person)?.id, find::credential(&self.link, path)?);
        let shown: Explanation = self.link.get(&format!("/api/v1/explain?person={person}&credential={credential}"))?;
        if self.format != Format::Table {
            return output::one(self.format, &shown, &[("person", "person"), ("credential", "credential"), ("level", "level"), ("sentence", "sentence")]);
        }
        say(&shown.sentence)?;
        if shown.ways.is_empty() {
            return Ok(());
        }
        say("")?;
        output::list(
            self.format,
            &shown.ways,
            &[("level", "level"), ("stands on", "stands_on"), ("through", "through"), ("does not count because", "stopped")],
            "",
        )
    }
}

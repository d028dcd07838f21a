//! Searches, saved searches and tags.

use std::collections::BTreeMap;

use clap::{Args, Subcommand};
use jexlin_api::{CredentialItem as Listed, NewSavedSearch, SavedSearch, TagItem};

use crate::args::Format;
use crate::connection::query;
use crate::error::ClientError;
use crate::lookup;
use crate::output::{self, Column, say};
use crate::run::{Done, Run};

/// The columns of a list.
pub const LISTED: [Column; 11] = [
    ("name", "name"),
    ("folder", "place"),
    ("user", "user_name"),
    ("device", "device"),
    ("check", "check"),
    ("gate", "gated"),
    ("level", "level"),
    ("own grants", "own_grants"),
    ("shared", "shared"),
    ("tags", "tags"),
    ("findings", "findings"),
];

/// How a list of credentials is narrowed.
#[derive(Debug, Default, Args)]
pub struct Narrow {
    /// With these words in the name, folder, device or a field that is not secret
    #[arg(long, value_name = "TEXT")]
    pub find: Option<String>,
    /// In this folder or below it
    #[arg(long, value_name = "PATH")]
    pub below: Option<String>,
    /// With this text in the name
    #[arg(long, value_name = "TEXT")]
    pub name: Option<String>,
    /// With this text in the user name
    #[arg(long, value_name = "TEXT")]
    pub user: Option<String>,
    /// Of this kind
    #[arg(long)]
    pub kind: Option<String>,
    /// With this tag
    #[arg(long)]
    pub tag: Option<String>,
    /// With this text in the name of the device
    #[arg(long, value_name = "TEXT")]
    pub device: Option<String>,
    /// With this outcome of the last check
    #[arg(long, value_name = "OUTCOME")]
    pub check: Option<String>,
    /// With this wrong: any, leaked, weak, reused, breaks-policy, expired, expires-soon, old,
    /// out-of-sync
    #[arg(long)]
    pub finding: Option<String>,
    /// favourites, recent, most-used, mine, shared-with-me, shared-by-me or with-nobody
    #[arg(long)]
    pub view: Option<String>,
}

/// Saved searches.
#[derive(Debug, Subcommand)]
pub enum Search {
    /// List your saved searches
    List,
    /// Save a search
    #[command(
        after_help = "EXAMPLE\n  jexlin search save \"Weak pumps\" --below /Pumping --finding weak"
    )]
    Save {
        /// Its name
        #[arg(value_name = "NAME")]
        title: String,
        #[command(flatten)]
        narrow: Box<Narrow>,
    },
    /// Show a saved search
    Show {
        /// Its name
        name: String,
    },
    /// Run a saved search
    Run {
        /// Its name
        name: String,
    },
    /// Remove a saved search
    Remove {
        /// Its name
        name: String,
    },
}

impl Run {
    /// The filters by their names in the interface.
    pub fn filters(&self, narrow: Narrow) -> Result<BTreeMap<String, String>, ClientError> {
        let below = narrow
            .below
            .filter(|path| path.trim() != "/")
            .map(|path| lookup::folder(&self.connection, &path))
            .transpose()?
            .map(|folder| folder.id.to_string());
        let all = [
            ("find", narrow.find),
            ("below", below),
            ("name", narrow.name),
            ("user", narrow.user),
            ("kind", narrow.kind),
            ("tag", narrow.tag),
            ("device", narrow.device),
            ("check", narrow.check),
            ("finding", narrow.finding),
        ];
        Ok(all
            .into_iter()
            .filter_map(|(name, value)| value.map(|value| (name.to_owned(), value)))
            .collect())
    }

    /// The credentials that match filters.
    pub fn credentials_that_match(
        &self,
        filters: &BTreeMap<String, String>,
        view: Option<&str>,
    ) -> Result<Vec<Listed>, ClientError> {
        let mut parts: Vec<String> = filters
            .iter()
            .map(|(name, value)| format!("{name}={}", query(value)))
            .collect();
        parts.extend(view.map(|view| format!("view={}", query(view))));
        self.connection
            .list(&format!("/api/v1/credentials?{}", parts.join("&")), None)
    }

    /// Prints the credentials that match filters.
    pub fn listed(
        &self,
        filters: &BTreeMap<String, String>,
        view: Option<&str>,
        none: &str,
    ) -> Done {
        let rows = self.credentials_that_match(filters, view)?;
        if self.format == Format::Table && rows.first().is_some_and(|row| row.near) {
            output::aside("No exact match. Similar credentials:");
        }
        output::list(self.format, &rows, &LISTED, none)
    }

    pub fn find(&self, words: &str) -> Done {
        self.listed(
            &[("find".to_owned(), words.to_owned())].into(),
            None,
            "No credential matches.",
        )
    }

    pub fn tags(&self) -> Done {
        output::list(
            self.format,
            &self.connection.list::<TagItem>("/api/v1/tags", None)?,
            &[("tag", "tag"), ("credentials", "times")],
            "There are no tags yet. Add one: jexlin credential tag",
        )
    }

    fn saved(&self, name: &str) -> Result<SavedSearch, ClientError> {
        let all: Vec<SavedSearch> = self.connection.list("/api/v1/searches", None)?;
        all.into_iter()
            .find(|search| search.name.to_lowercase() == name.to_lowercase())
            .ok_or_else(|| {
                ClientError::unknown(
                    format!("You have no saved search {name}."),
                    "List your saved searches: jexlin search list",
                )
            })
    }

    pub fn search(&self, command: Search) -> Done {
        let columns: [Column; 2] = [("name", "name"), ("filters", "filters")];
        match command {
            Search::List => output::list(
                self.format,
                &self
                    .connection
                    .list::<SavedSearch>("/api/v1/searches", None)?,
                &columns,
                "You have no saved searches. Save one: jexlin search save",
            ),
            Search::Save { title, narrow } => {
                if narrow.view.is_some() {
                    return Err(ClientError::input(
                        "A view is not part of a saved search.",
                        "Leave --view out; jexlin credential list --view shows one.",
                    ));
                }
                let shown: SavedSearch = self.connection.post(
                    "/api/v1/searches",
                    &NewSavedSearch {
                        name: title,
                        filters: self.filters(*narrow)?,
                        page: None,
                    },
                )?;
                output::one(self.format, &shown, &columns)
            }
            Search::Show { name } => output::one(self.format, &self.saved(&name)?, &columns),
            Search::Run { name } => {
                self.listed(&self.saved(&name)?.filters, None, "No credential matches.")
            }
            Search::Remove { name } => {
                let saved = self.saved(&name)?;
                self.connection
                    .delete(&format!("/api/v1/searches/{}", saved.id), None)?;
                say(&format!("The saved search {} is removed.", saved.name))
            }
        }
    }
}

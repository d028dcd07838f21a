//! Wishes: asking for what one sees the name of and no more.

use clap::Subcommand;
use jexlin_api::{Beyond, Decide, Level, NewWish, Wish as WishItem};
use uuid::Uuid;

use crate::find;
use crate::link::query;
use crate::output::{self, Column};
use crate::run::{Done, Run};
use crate::trouble::Trouble;

/// Wishes.
#[derive(Debug, Subcommand)]
pub enum Wish {
    /// List yours, and those for what you are a steward of
    List,
    /// Find what you hold nothing on by its name, where your organisation shows names
    #[command(after_help = "EXAMPLE\n  jexlin wish find portal")]
    Find {
        /// Letters of the name
        text: String,
    },
    /// Ask the stewards of something for a level on it
    #[command(after_help = "EXAMPLE\n  jexlin wish ask \"/Office/Bank portal\" --level use --reason \"paying the chlorine\"")]
    Ask {
        /// Its path, as `wish find` shows it
        path: String,
        /// list, use, reveal or edit
        #[arg(long, default_value = "use")]
        level: String,
        /// What for
        #[arg(long)]
        reason: String,
    },
    /// Grant somebody else's wish
    Grant {
        /// The wish
        id: Uuid,
        /// What to tell them
        #[arg(long, default_value = "")]
        comment: String,
    },
    /// Refuse somebody else's wish
    Refuse {
        /// The wish
        id: Uuid,
        /// What to tell them
        #[arg(long, default_value = "")]
        comment: String,
    },
    /// Withdraw your own
    Withdraw {
        /// The wish
        id: Uuid,
    },
}

const WISH: [Column; 8] = [
    ("id", "id"),
    ("state", "state"),
    ("who", "person_name"),
    ("level", "level"),
    ("for", "place"),
    ("reason", "reason"),
    ("settled by", "decided_by"),
    ("comment", "comment"),
];

impl Run {
    pub fn wish(&self, command: Wish) -> Done {
        let beyond = |text: &str| self.link.list::<Beyond>(&format!("/api/v1/beyond?find={}", query(text)), Some(500));
        let shown: WishItem = match command {
            Wish::List => {
                let rows: Vec<WishItem> = self.link.list("/api/v1/wishes", None)?;
                return output::list(self.format, &rows, &WISH, "Nobody has asked for anything that concerns you.");
            }
            Wish::Find { text } => {
                let columns: [Column; 4] = [("name", "name"), ("in", "place"), ("kind", "kind"), ("asked for", "asked")];
                return output::list(self.format, &beyond(&text)?, &columns, "There is nothing of this name beyond what you see.");
            }
            Wish::Ask { path, level, reason } => {
                let level: Level = level.parse().map_err(|problem: String| Trouble::input(format!("{problem}."), "Name one of them."))?;
                let (folder, name) = find::split(&path)?;
                let found = beyond(&name)?.into_iter().find(|item| item.name == name && item.place.trim_matches('/') == folder.trim_matches('/'));
                let credential = found
                    .ok_or_else(|| Trouble::unknown(format!("There is no {path} beyond what you see."), "Find it by a part of its name: jexlin wish find"))?
                    .id;
                self.link.post("/api/v1/wishes", &NewWish { credential, level, reason })?
            }
            Wish::Grant { id, comment } => self.link.post(&format!("/api/v1/wishes/{id}/grant"), &Decide { comment })?,
            Wish::Refuse { id, comment } => self.link.post(&format!("/api/v1/wishes/{id}/refuse"), &Decide { comment })?,
            Wish::Withdraw { id } => self.link.post(&format!("/api/v1/wishes/{id}/withdraw"), &serde_json::json!({}))?,
        };
        output::one(self.format, &shown, &WISH)
    }
}

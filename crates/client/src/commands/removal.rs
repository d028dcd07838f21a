//! The bin.

use clap::Subcommand;
use jexlin_api::Removed;
use serde_json::{Value, json};

use crate::error::ClientError;
use crate::output::{self, Column, say};
use crate::run::{Done, Run};

/// The bin.
#[derive(Debug, Subcommand)]
pub enum Bin {
    /// List what is in the bin of the folders that you are a steward of, newest first
    List,
    /// Restore what was removed last under a path, all of it in one step
    #[command(after_help = "EXAMPLE\n  jexlin bin restore \"/Office/Ordering portal\"")]
    Restore {
        /// Where it was, or its identifier in the bin
        path: String,
    },
    /// Delete permanently what was removed; it cannot be restored
    Purge {
        /// Where it was, or its identifier in the bin
        path: String,
        /// Confirm that it cannot be restored
        #[arg(long)]
        for_good: bool,
    },
}

impl Run {
    fn removed(&self, path: &str) -> Result<Removed, ClientError> {
        let wanted = format!("/{}", path.trim_matches('/')).to_lowercase();
        let all: Vec<Removed> = self.link.list("/api/v1/bin", None)?;
        all.into_iter()
            .find(|removed| removed.path.to_lowercase() == wanted || removed.id.to_string() == path)
            .ok_or_else(|| {
                ClientError::unknown(
                    format!(
                        "There is no {path} in the bin, or you are no steward of where it was."
                    ),
                    "See what is there: jexlin bin list",
                )
            })
    }

    pub fn bin(&self, command: Bin) -> Done {
        match command {
            Bin::List => {
                let columns: [Column; 7] = [
                    ("path", "path"),
                    ("type", "target_type"),
                    ("credentials", "credentials"),
                    ("removed", "removed_at"),
                    ("by", "removed_by"),
                    ("purged from", "purged_from"),
                    ("id", "id"),
                ];
                output::list(
                    self.format,
                    &self.link.list::<Removed>("/api/v1/bin", None)?,
                    &columns,
                    "The bin is empty, as far as you are a steward.",
                )
            }
            Bin::Restore { path } => {
                let removed = self.removed(&path)?;
                self.link
                    .post::<Value>(&format!("/api/v1/bin/{}/restore", removed.id), &json!({}))?;
                say(&format!("{} is back.", removed.path))
            }
            Bin::Purge { path, for_good } => {
                let removed = self.removed(&path)?;
                if !for_good {
                    return Err(ClientError::input(
                        format!(
                            "{} with {} will be deleted permanently, with all former values and attachments.",
                            removed.path,
                            output::counted(
                                usize::try_from(removed.credentials).unwrap_or(0),
                                "credential",
                                "credentials"
                            )
                        ),
                        "Use --for-good to allow this.",
                    ));
                }
                self.link
                    .delete(&format!("/api/v1/bin/{}", removed.id), None)?;
                say(&format!("{} is deleted permanently.", removed.path))
            }
        }
    }
}

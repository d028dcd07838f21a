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
    /// List what was removed from the folders that you are a steward of, newest first
    List,
    /// Restore what was last removed from a path, in one step
    #[command(after_help = "EXAMPLE\n  jexlin bin restore \"/Office/Ordering portal\"")]
    Restore {
        /// Its former path, or its identifier in the bin
        path: String,
    },
    /// Delete permanently what was removed; it cannot be restored
    Purge {
        /// Its former path, or its identifier in the bin
        path: String,
        /// Confirm that it cannot be restored
        #[arg(long)]
        permanently: bool,
    },
}

impl Run {
    fn removed(&self, path: &str) -> Result<Removed, ClientError> {
        let wanted = format!("/{}", path.trim_matches('/')).to_lowercase();
        let all: Vec<Removed> = self.connection.list("/api/v1/bin", None)?;
        all.into_iter()
            .find(|removed| removed.path.to_lowercase() == wanted || removed.id.to_string() == path)
            .ok_or_else(|| {
                ClientError::unknown(
                    format!(
                        "There is no {path} in the bin, or you are not a steward of its folder."
                    ),
                    "List the bin: jexlin bin list",
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
                    &self.connection.list::<Removed>("/api/v1/bin", None)?,
                    &columns,
                    "The bin of the folders that you are a steward of is empty.",
                )
            }
            Bin::Restore { path } => {
                let removed = self.removed(&path)?;
                self.connection
                    .post::<Value>(&format!("/api/v1/bin/{}/restore", removed.id), &json!({}))?;
                say(&format!("{} is back.", removed.path))
            }
            Bin::Purge { path, permanently } => {
                let removed = self.removed(&path)?;
                if !permanently {
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
                        "Use --permanently to allow this.",
                    ));
                }
                self.connection
                    .delete(&format!("/api/v1/bin/{}", removed.id), None)?;
                say(&format!("{} is deleted permanently.", removed.path))
            }
        }
    }
}

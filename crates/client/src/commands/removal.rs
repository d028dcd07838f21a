//! The bin.

use clap::Subcommand;
use jexlin_api::Removed;
use serde_json::{Value, json};

use crate::error::ClientError;
use crate::output::{self, Column};
use crate::run::{Done, Run, Selected};

/// The bin.
#[derive(Debug, Subcommand)]
pub enum Bin {
    /// List what was removed from the folders that you are a steward of, newest first
    List,
    /// Restore what was last removed from a path, in one step
    #[command(after_help = "EXAMPLE\n  jexlin bin restore \"/Office/Courier account\"")]
    Restore {
        /// Former paths, or identifiers in the bin
        #[arg(required = true, value_name = "PATH")]
        paths: Vec<String>,
    },
    /// Delete permanently what was removed; it cannot be restored
    Purge {
        /// Former paths, or identifiers in the bin
        #[arg(required = true, value_name = "PATH")]
        paths: Vec<String>,
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
            Bin::Restore { paths } => self.each(&several(&paths), |path| {
                let removed = self.removed(path)?;
                let address = format!("/api/v1/bin/{}/restore", removed.id);
                self.connection.post::<Value>(&address, &json!({}))?;
                Ok("is back".into())
            }),
            Bin::Purge { paths } => {
                let found: Vec<Removed> = paths
                    .iter()
                    .map(|path| self.removed(path))
                    .collect::<Result<_, _>>()?;
                for removed in &found {
                    let credentials = usize::try_from(removed.credentials).unwrap_or(0);
                    self.confirm(&format!(
                        "Delete {} permanently, with {}, all former values and attachments?",
                        removed.path,
                        output::counted(credentials, "credential", "credentials")
                    ))?;
                }
                let many: Vec<Selected> = found
                    .iter()
                    .map(|removed| Selected {
                        path: removed.path.clone(),
                        key: removed.id.to_string(),
                    })
                    .collect();
                self.each(&many, |id| {
                    self.connection.delete(&format!("/api/v1/bin/{id}"), None)?;
                    Ok("is deleted permanently".into())
                })
            }
        }
    }
}

fn several(paths: &[String]) -> Vec<Selected> {
    paths.iter().map(|path| Selected::named(path)).collect()
}

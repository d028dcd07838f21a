//! The keys of the vault.

use std::path::PathBuf;

use clap::Subcommand;
use jexlin_api::{ChangeKey, ChangeRootKey, ChangeRootPassphrase, KeysView};
use serde_json::json;

use crate::args::Format;
use crate::output::{self, Column};
use crate::run::{Done, Run};
use crate::secrets;

/// The root key and the organisation's key.
#[derive(Debug, Subcommand)]
pub enum Keys {
    /// Show the keys and the progress of a key change
    Show,
    /// Prepare a change of the root key: the present one and the next both open the vault until it
    /// is finished
    #[command(
        after_help = "EXAMPLE\n  jexlin keys change-root --reason \"the administrator who knew the passphrase has left\""
    )]
    ChangeRoot {
        /// Reason, recorded in the audit log
        #[arg(long)]
        reason: String,
        /// Read the current passphrase from this file
        #[arg(long, value_name = "FILE")]
        passphrase_file: Option<PathBuf>,
        /// Read the new passphrase from this file
        #[arg(long, value_name = "FILE")]
        new_passphrase_file: Option<PathBuf>,
    },
    /// Change the passphrase of the root key file; the root key stays
    #[command(
        after_help = "EXAMPLE\n  jexlin keys passphrase --reason \"somebody watched it being typed\""
    )]
    Passphrase {
        /// Reason, recorded in the audit log
        #[arg(long)]
        reason: String,
        /// Read the current passphrase from this file
        #[arg(long, value_name = "FILE")]
        passphrase_file: Option<PathBuf>,
        /// Read the new passphrase from this file
        #[arg(long, value_name = "FILE")]
        new_passphrase_file: Option<PathBuf>,
    },
    /// Finish a change of the root key: the old key stops working
    FinishRoot,
    /// Abandon a change of the root key that is not finished
    AbandonRoot,
    /// Change the organisation's key; the data keys follow in the background
    #[command(after_help = "EXAMPLE\n  jexlin keys change-organisation --reason \"yearly change\"")]
    ChangeOrganisation {
        /// Reason, recorded in the audit log
        #[arg(long)]
        reason: String,
    },
}

const KEYS: [Column; 4] = [
    ("root key", "root_key"),
    ("next root key", "next_root_key"),
    ("organisation key", "organisation_key"),
    ("data keys under the old key", "left"),
];
const SERVICES: [Column; 3] = [
    ("service", "name"),
    ("has the next root key", "ready"),
    ("heard of", "seen_at"),
];

impl Run {
    pub fn keys(&self, command: Keys) -> Done {
        let (view, next): (KeysView, &str) = match command {
            Keys::Show => (self.connection.get("/api/v1/keys")?, ""),
            Keys::ChangeRoot {
                reason,
                passphrase_file,
                new_passphrase_file,
            } => {
                let passphrase = secrets::read(
                    "Current passphrase of the root key",
                    passphrase_file.as_deref(),
                    false,
                )?;
                let new_passphrase =
                    secrets::read("New passphrase", new_passphrase_file.as_deref(), true)?;
                let next = "The next root key is prepared. Copy root-key.next.json into the folder of each other service and unlock it there with the new passphrase, keep a copy apart from the database's backups, then run: jexlin keys finish-root";
                (
                    self.connection.post(
                        "/api/v1/keys/root",
                        &ChangeRootKey {
                            passphrase,
                            new_passphrase,
                            reason,
                        },
                    )?,
                    next,
                )
            }
            Keys::Passphrase {
                reason,
                passphrase_file,
                new_passphrase_file,
            } => {
                let body = ChangeRootPassphrase {
                    passphrase: secrets::read(
                        "Current passphrase of the root key",
                        passphrase_file.as_deref(),
                        false,
                    )?,
                    new_passphrase: secrets::read(
                        "New passphrase",
                        new_passphrase_file.as_deref(),
                        true,
                    )?,
                    reason,
                };
                (
                    self.connection
                        .post("/api/v1/keys/root/passphrase", &body)?,
                    "The passphrase is changed in the root-key.json of the service that answered. Copy the file to each other service and to where its backup is kept: earlier copies still open with the former passphrase.",
                )
            }
            Keys::FinishRoot => {
                self.confirm("Finish the change of the root key? The old key stops working.")?;
                (
                    self.connection
                        .post("/api/v1/keys/root/finish", &json!({}))?,
                    "The root key is changed. Earlier backups need the old key: keep root-key.previous.json with them.",
                )
            }
            Keys::AbandonRoot => (
                self.connection
                    .post("/api/v1/keys/root/abandon", &json!({}))?,
                "The change of the root key is abandoned.",
            ),
            Keys::ChangeOrganisation { reason } => (
                self.connection
                    .post("/api/v1/keys/organisation", &ChangeKey { reason })?,
                "The organisation's key is changed. Data keys move to it in the background.",
            ),
        };
        match self.format {
            Format::Table if !next.is_empty() => output::say(next)?,
            _ if !next.is_empty() => output::aside(next),
            _ => {}
        }
        output::one(self.format, &view, &KEYS)?;
        if self.format == Format::Table && view.next_root_key.is_some() {
            output::list(
                self.format,
                &view.services,
                &SERVICES,
                "No service is running.",
            )
        } else {
            Ok(())
        }
    }
}

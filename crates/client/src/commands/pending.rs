//! Acts that wait for a second person.

use clap::Subcommand;
use jexlin_api::{ActConfirmed, Decide, PendingAct};
use uuid::Uuid;

use crate::args::Format;
use crate::error::ClientError;
use crate::output::{self, Column};
use crate::run::{Done, Run};

/// Pending acts.
#[derive(Debug, Subcommand)]
pub enum Pending {
    /// List the acts that you proposed or could confirm
    List {
        /// Show only acts that are waiting
        #[arg(long)]
        waiting: bool,
    },
    /// Show an act
    Show {
        /// The act, as `pending list --wide` shows it
        id: Uuid,
    },
    /// Confirm an act that somebody else proposed; it is carried out at once
    Confirm {
        /// The act, as `pending list --wide` shows it
        id: Uuid,
        /// A comment for the requester
        #[arg(long, default_value = "")]
        comment: String,
    },
    /// Refuse an act that somebody else proposed
    Refuse {
        /// The act, as `pending list --wide` shows it
        id: Uuid,
        /// A comment for the requester
        #[arg(long, default_value = "")]
        comment: String,
    },
    /// Withdraw an act that you proposed
    Withdraw {
        /// The act, as `pending list --wide` shows it
        id: Uuid,
    },
}

const ACT: [Column; 6] = [
    ("id", "id"),
    ("state", "state"),
    ("act", "summary"),
    ("proposed by", "proposed_by"),
    ("expires", "expires_at"),
    ("comment", "comment"),
];

impl Run {
    pub fn pending(&self, command: Pending) -> Done {
        let address = |id: Uuid, what: &str| format!("/api/v1/pending-acts/{id}/{what}");
        let shown: PendingAct = match command {
            Pending::List { waiting } => {
                let rows: Vec<PendingAct> = self
                    .connection
                    .list(&format!("/api/v1/pending-acts?waiting={waiting}"), None)?;
                return output::list(
                    self.format,
                    &rows,
                    &ACT,
                    "No act waits for a second person.",
                );
            }
            Pending::Show { id } => {
                let rows: Vec<PendingAct> = self
                    .connection
                    .list("/api/v1/pending-acts?waiting=false", None)?;
                rows.into_iter().find(|row| row.id == id).ok_or_else(|| {
                    ClientError::unknown(
                        format!("There is no act {id} that you proposed or could confirm."),
                        "List pending acts: jexlin pending list",
                    )
                })?
            }
            Pending::Confirm { id, comment } => {
                let done: ActConfirmed = self
                    .connection
                    .post(&address(id, "confirm"), &Decide { comment })?;
                if self.format == Format::Json {
                    return output::one(self.format, &done, &[]);
                }
                if let Some(secret) = &done.secret {
                    output::aside("The new secret, which is not shown again:");
                    output::document(secret.expose_secret())?;
                }
                done.act
            }
            Pending::Refuse { id, comment } => self
                .connection
                .post(&address(id, "refuse"), &Decide { comment })?,
            Pending::Withdraw { id } => self.connection.post(
                &address(id, "withdraw"),
                &Decide {
                    comment: String::new(),
                },
            )?,
        };
        output::one(self.format, &shown, &ACT)
    }
}

//! Access requests.

use clap::Subcommand;
use jexlin_api::{
    AccessRequest as AccessRequestItem, Decide, Discoverable, Level, NewAccessRequest,
};
use uuid::Uuid;

use crate::connection::query;
use crate::error::ClientError;
use crate::lookup;
use crate::output::{self, Column};
use crate::run::{Done, Run};

/// Access requests.
#[derive(Debug, Subcommand)]
pub enum AccessRequest {
    /// List your access requests, and those that you may decide
    List,
    /// Show an access request
    Show {
        /// The access request, as `access-request list --wide` shows it
        id: Uuid,
    },
    /// Find credentials that you cannot open by their name, where your organisation allows it
    #[command(after_help = "EXAMPLE\n  jexlin access-request find portal")]
    Find {
        /// Letters of the name
        text: String,
    },
    /// Ask the stewards of a credential for access
    #[command(
        after_help = "EXAMPLE\n  jexlin access-request ask \"/Office/Bank portal\" --level use --reason \"paying the chlorine\""
    )]
    Ask {
        /// Its path, as `access-request find` shows it
        path: String,
        /// list, use, reveal or edit
        #[arg(long, default_value = "use")]
        level: String,
        /// The reason
        #[arg(long)]
        reason: String,
    },
    /// Grant an access request
    Grant {
        /// The access request, as `access-request list --wide` shows it
        id: Uuid,
        /// A comment for the requester
        #[arg(long, default_value = "")]
        comment: String,
    },
    /// Refuse an access request
    Refuse {
        /// The access request, as `access-request list --wide` shows it
        id: Uuid,
        /// A comment for the requester
        #[arg(long, default_value = "")]
        comment: String,
    },
    /// Withdraw your access request
    Withdraw {
        /// The access request, as `access-request list --wide` shows it
        id: Uuid,
    },
}

const ACCESS_REQUEST: [Column; 8] = [
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
    pub fn access_request(&self, command: AccessRequest) -> Done {
        let discoverable = |text: &str| {
            self.connection.list::<Discoverable>(
                &format!("/api/v1/discoverable?find={}", query(text)),
                Some(500),
            )
        };
        let shown: AccessRequestItem = match command {
            AccessRequest::List => {
                let rows: Vec<AccessRequestItem> =
                    self.connection.list("/api/v1/access-requests", None)?;
                return output::list(
                    self.format,
                    &rows,
                    &ACCESS_REQUEST,
                    "There are no access requests that concern you.",
                );
            }
            AccessRequest::Show { id } => {
                let rows: Vec<AccessRequestItem> =
                    self.connection.list("/api/v1/access-requests", None)?;
                rows.into_iter().find(|row| row.id == id).ok_or_else(|| {
                    ClientError::unknown(
                        format!("There is no access request {id} that concerns you."),
                        "List access requests: jexlin access-request list",
                    )
                })?
            }
            AccessRequest::Find { text } => {
                let columns: [Column; 4] = [
                    ("name", "name"),
                    ("in", "place"),
                    ("kind", "kind"),
                    ("asked for", "asked"),
                ];
                return output::list(
                    self.format,
                    &discoverable(&text)?,
                    &columns,
                    "No credential of this name can be requested.",
                );
            }
            AccessRequest::Ask {
                path,
                level,
                reason,
            } => {
                let level: Level = level.parse().map_err(|problem| {
                    ClientError::input(
                        format!("`{level}` is not a level: {problem}."),
                        "Use one of these.",
                    )
                })?;
                let (folder, name) = lookup::split(&path)?;
                let found = discoverable(&name)?.into_iter().find(|item| {
                    item.name == name && item.place.trim_matches('/') == folder.trim_matches('/')
                });
                let credential = found
                    .ok_or_else(|| {
                        ClientError::unknown(
                            format!("There is no {path} that you could request."),
                            "Find it by part of its name: jexlin access-request find",
                        )
                    })?
                    .id;
                self.connection.post(
                    "/api/v1/access-requests",
                    &NewAccessRequest {
                        credential,
                        level,
                        reason,
                    },
                )?
            }
            AccessRequest::Grant { id, comment } => self.connection.post(
                &format!("/api/v1/access-requests/{id}/grant"),
                &Decide { comment },
            )?,
            AccessRequest::Refuse { id, comment } => self.connection.post(
                &format!("/api/v1/access-requests/{id}/refuse"),
                &Decide { comment },
            )?,
            AccessRequest::Withdraw { id } => self.connection.post(
                &format!("/api/v1/access-requests/{id}/withdraw"),
                &serde_json::json!({}),
            )?,
        };
        output::one(self.format, &shown, &ACCESS_REQUEST)
    }
}

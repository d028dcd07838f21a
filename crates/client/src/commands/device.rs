//! Devices.

use clap::Subcommand;
use jexlin_api::{
    BindingsConfirmed, Device as DeviceItem, DeviceIdentity, EditDevice, NewDevice, Page,
    parse_path,
};
use serde_json::json;

use crate::error::ClientError;
use crate::lookup;
use crate::output::{self, Column, say};
use crate::run::{Done, Run};

/// Devices.
#[derive(Debug, Subcommand)]
pub enum Device {
    /// List devices
    List {
        /// Those of this folder
        folder: Option<String>,
    },
    /// Add a device
    #[command(
        after_help = "EXAMPLE\n  jexlin device add \"/Pumping/North ridge/telemetry\" --address 127.0.10.5 --operator \"/Pumping/North ridge/root\""
    )]
    Add {
        /// Its whole path
        path: String,
        /// Host name or IP address
        #[arg(long)]
        address: String,
        /// TCP port
        #[arg(long, default_value_t = 22)]
        port: u16,
        /// The credential that its accounts are changed with
        #[arg(long, value_name = "PATH")]
        operator: Option<String>,
        /// Its identity: a host key, a known_hosts line, an SSHFP record or a SHA256
        /// fingerprint (repeatable)
        #[arg(long, value_name = "LINE")]
        identity: Vec<String>,
    },
    /// Edit a device
    Edit {
        /// Its path
        path: String,
        /// A new name
        #[arg(long)]
        name: Option<String>,
        /// A new address
        #[arg(long)]
        address: Option<String>,
        /// A new port
        #[arg(long)]
        port: Option<u16>,
        /// The credential that its accounts are changed with
        #[arg(long, value_name = "PATH")]
        operator: Option<String>,
        /// It has no operator from now on
        #[arg(long, conflicts_with = "operator")]
        no_operator: bool,
    },
    /// Show what a device must prove before a password is sent to it, and what answers now
    #[command(
        after_help = "EXAMPLES\n  jexlin device identity \"/Pumping/North ridge/telemetry\"\n  jexlin device identity \"/Pumping/North ridge/telemetry\" --confirm SHA256:…"
    )]
    Identity {
        /// Its path
        path: String,
        /// Confirm the key with this fingerprint, which must be the one that answers
        #[arg(long, value_name = "FINGERPRINT")]
        confirm: Option<String>,
        /// Set a host key, a known_hosts line, an SSHFP record or a fingerprint by hand
        /// (repeatable)
        #[arg(long, value_name = "LINE", conflicts_with = "confirm")]
        set: Vec<String>,
    },
    /// Confirm the suspended bindings of a device whose passwords you may see
    Confirm {
        /// Its path
        path: String,
    },
    /// Let jobs use the operator of a paused device again
    Resume {
        /// Its path
        path: String,
    },
    /// Remove a device that has no accounts
    Remove {
        /// Its path
        path: String,
    },
}

impl Run {
    pub fn device(&self, command: Device) -> Done {
        let columns: [Column; 6] = [
            ("name", "name"),
            ("folder", "place"),
            ("address", "address"),
            ("port", "port"),
            ("accounts", "accounts"),
            ("paused", "paused_why"),
        ];
        let shown: DeviceItem = match command {
            Device::List { folder } => {
                let address = match folder {
                    Some(path) => format!(
                        "/api/v1/devices?folder={}",
                        lookup::folder(&self.link, &path)?.id
                    ),
                    None => "/api/v1/devices".into(),
                };
                return output::list(
                    self.format,
                    &self.link.list::<DeviceItem>(&address, None)?,
                    &columns,
                    "There is no device that you may know of. Add one: jexlin device add",
                );
            }
            Device::Add {
                path,
                address,
                port,
                operator,
                identity,
            } => {
                let names = parse_path(&path).map_err(|problem| {
                    ClientError::input(
                        format!("{path}: {problem}."),
                        "Write a path such as \"/Pumping/North ridge/telemetry\".",
                    )
                })?;
                let (name, folder) = names.split_last().ok_or_else(|| {
                    ClientError::input(
                        "The path is empty.",
                        "Write a path such as \"/Pumping/North ridge/telemetry\".",
                    )
                })?;
                let folder = lookup::folder(
                    &self.link,
                    &folder
                        .iter()
                        .map(|name| name.as_str())
                        .collect::<Vec<_>>()
                        .join("/"),
                )?;
                let operator = operator
                    .map(|path| lookup::credential(&self.link, &path))
                    .transpose()?;
                self.link.post(
                    "/api/v1/devices",
                    &NewDevice {
                        folder: folder.id,
                        name: name.as_str().to_owned(),
                        address,
                        port: Some(port),
                        operator,
                        identity,
                    },
                )?
            }
            Device::Edit {
                path,
                name,
                address,
                port,
                operator,
                no_operator,
            } => {
                let id = lookup::device(&self.link, &path)?;
                let present: DeviceItem = self.link.get(&format!("/api/v1/devices/{id}"))?;
                let operator = operator
                    .map(|path| lookup::credential(&self.link, &path))
                    .transpose()?;
                self.link.change(
                    "PATCH",
                    &format!("/api/v1/devices/{id}"),
                    &EditDevice {
                        name,
                        address,
                        port,
                        operator,
                        no_operator,
                        identity: None,
                    },
                    present.version,
                )?
            }
            Device::Identity { path, confirm, set } => {
                return self.device_identity(&path, confirm, set);
            }
            Device::Confirm { path } => {
                let id = lookup::device(&self.link, &path)?;
                let present: DeviceItem = self.link.get(&format!("/api/v1/devices/{id}"))?;
                let done: BindingsConfirmed = self.link.change(
                    "POST",
                    &format!("/api/v1/devices/{id}/confirm-bindings"),
                    &json!({}),
                    present.version,
                )?;
                if done.left > 0 {
                    eprintln!(
                        "{} left for a person who may see the password.",
                        output::counted(done.left, "binding is", "bindings are")
                    );
                }
                return say(&format!(
                    "{} confirmed.",
                    output::counted(done.confirmed, "binding is", "bindings are")
                ));
            }
            Device::Resume { path } => {
                let id = lookup::device(&self.link, &path)?;
                let present: DeviceItem = self.link.get(&format!("/api/v1/devices/{id}"))?;
                self.link.change(
                    "POST",
                    &format!("/api/v1/devices/{id}/resume"),
                    &json!({}),
                    present.version,
                )?
            }
            Device::Remove { path } => {
                let id = lookup::device(&self.link, &path)?;
                let present: DeviceItem = self.link.get(&format!("/api/v1/devices/{id}"))?;
                self.link
                    .delete(&format!("/api/v1/devices/{id}"), Some(present.version))?;
                return say(&format!(
                    "{}/{} is in the bin.",
                    present.place, present.name
                ));
            }
        };
        output::one(self.format, &shown, &columns)
    }

    /// Shows what a device must prove and what answers now; confirms or sets it when that is
    /// wanted.
    fn device_identity(&self, path: &str, confirm: Option<String>, set: Vec<String>) -> Done {
        let columns: [Column; 3] = [
            ("state", "state"),
            ("kind", "kind"),
            ("fingerprint", "fingerprint"),
        ];
        let id = lookup::device(&self.link, path)?;
        let address = format!("/api/v1/devices/{id}");
        let present: DeviceItem = self.link.get(&address)?;
        let mut lines = set;
        if lines.is_empty() {
            let shown: Page<DeviceIdentity> = self
                .link
                .post(&format!("{address}/read-identity"), &json!({}))?;
            let known = |identity: &DeviceIdentity| {
                present
                    .identity
                    .iter()
                    .any(|known| known.fingerprint == identity.fingerprint)
            };
            let Some(fingerprint) = confirm else {
                let mut rows: Vec<serde_json::Value> = vec![];
                for identity in &shown.items {
                    let state = if known(identity) {
                        "answers, confirmed"
                    } else {
                        "answers, not confirmed"
                    };
                    rows.push(json!({"state": state, "kind": identity.kind, "fingerprint": identity.fingerprint, "line": identity.line}));
                }
                for identity in present.identity.iter().filter(|known| {
                    !shown
                        .items
                        .iter()
                        .any(|shown| shown.fingerprint == known.fingerprint)
                }) {
                    rows.push(
                        json!({"state": "confirmed, does not answer", "kind": identity.kind, "fingerprint": identity.fingerprint, "line": identity.line}),
                    );
                }
                return output::list(
                    self.format,
                    &rows,
                    &columns,
                    "The device shows no identity.",
                );
            };
            let found = shown.items.into_iter().find(|identity| identity.fingerprint == fingerprint).ok_or_else(|| {
                ClientError::failed(
                    "No key with this fingerprint answers.",
                    "Compare it with the device's own: ssh-keygen -l -f /etc/ssh/ssh_host_ed25519_key.pub",
                )
            })?;
            lines.push(found.line);
        }
        let body = EditDevice {
            identity: Some(lines),
            ..EditDevice::default()
        };
        let changed: DeviceItem = self
            .link
            .change("PATCH", &address, &body, present.version)?;
        let suspended = changed
            .bindings
            .iter()
            .filter(|binding| !binding.suspended.is_empty())
            .count();
        if suspended > 0 {
            eprintln!(
                "{} suspended until a person who may see the password confirms: jexlin device confirm",
                output::counted(suspended, "binding is", "bindings are")
            );
        }
        output::list(
            self.format,
            &changed.identity,
            &columns[1..],
            "The device has no confirmed identity.",
        )
    }
}

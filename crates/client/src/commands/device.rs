//! Devices.

use std::collections::BTreeMap;
use std::path::PathBuf;

use clap::Subcommand;
use jexlin_api::words::{ChangeMethod, ConnectorKind, JobState, Topic, Word as _};
use jexlin_api::{
    BindingsConfirmed, Change, Credential, Device as DeviceItem, DeviceAccounts, DeviceIdentity,
    DeviceMoved, DeviceType, EditDevice, NewCredential, NewDevice, NewJob, Page,
};
use serde_json::json;
use uuid::Uuid;

use crate::args::Format;
use crate::error::ClientError;
use crate::files::cannot;
use crate::lookup;
use crate::output::{self, Column, say};
use crate::run::{Done, Run};

/// Devices.
#[derive(Debug, Subcommand)]
pub enum Device {
    /// List devices
    List {
        /// Only devices in this folder
        folder: Option<String>,
    },
    /// Show a device with its accounts
    Show {
        /// Path of the device
        path: String,
    },
    /// List the types of devices, with what operators and accounts must be allowed to do there
    Types,
    /// Add a device
    #[command(after_help = "EXAMPLES
  jexlin device add \"/Pumping/North ridge/radio\" --address 127.0.10.5 --operator \"/Pumping/North ridge/telemetry root\"
  jexlin device add \"/Works/Highfield/trends database\" --type postgresql --address 127.0.10.7
  jexlin device add \"/Works/Lower Osmere/dosing switch\" --type command-line --dialogue ridge-switch --address 127.0.10.11
  jexlin device add \"/Works/Lower Osmere/outlet unit\" --type telnet --dialogue tarn-telemetry --address 127.0.10.16 --jump-account \"/Works/Highfield/historian tunnel\"")]
    Add {
        /// Path of the new device
        path: String,
        /// Host name or IP address
        #[arg(long)]
        address: String,
        /// Its type; jexlin device types lists them
        #[arg(long = "type", value_name = "TYPE", default_value = "ssh")]
        connector: ConnectorKind,
        /// TCP port [default: the usual one of its type]
        #[arg(long)]
        port: Option<u16>,
        /// What it runs, as a label
        #[arg(long, default_value = "", hide_default_value = true)]
        platform: String,
        /// What it is, in words
        #[arg(long, default_value = "", hide_default_value = true)]
        description: String,
        /// The operator: the credential that changes its accounts' passwords
        #[arg(long, value_name = "PATH")]
        operator: Option<String>,
        /// The jump account: the credential of an account on an SSH host, through which the device is
        /// reached
        #[arg(long, value_name = "PATH")]
        jump_account: Option<String>,
        /// The dialogue or recipe that it is talked to by: its newest version, or "NAME VERSION"
        #[arg(long, value_name = "NAME")]
        dialogue: Option<String>,
        /// Its identity: a host key, a known_hosts line, an SSHFP record or a SHA256
        /// fingerprint (repeatable)
        #[arg(long, value_name = "LINE")]
        identity: Vec<String>,
        /// The main device, to add a further account family to it; it must be in the same folder
        #[arg(long, value_name = "PATH")]
        family_of: Option<String>,
    },
    /// Edit a device
    Edit {
        /// Path of the device
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
        /// What it runs, as a label
        #[arg(long)]
        platform: Option<String>,
        /// What it is, in words
        #[arg(long)]
        description: Option<String>,
        /// The operator: the credential that changes its accounts' passwords
        #[arg(long, value_name = "PATH")]
        operator: Option<String>,
        /// Another dialogue or recipe, or another version of it: the newest, or "NAME VERSION"
        #[arg(long, value_name = "NAME")]
        dialogue: Option<String>,
        /// Remove its operator
        #[arg(long, conflicts_with = "operator")]
        no_operator: bool,
        /// The jump account: the credential of an account on an SSH host, through which the device is
        /// reached
        #[arg(long, value_name = "PATH")]
        jump_account: Option<String>,
        /// Reach it directly
        #[arg(long, conflicts_with = "jump_account")]
        no_jump_host: bool,
    },
    /// List the accounts that a device has, as its operator last read them
    #[command(
        after_help = "EXAMPLES\n  jexlin device accounts \"/Pumping/North ridge/telemetry\" --read\n  jexlin device accounts \"/Pumping/North ridge/telemetry\" --missing"
    )]
    Accounts {
        /// Path of the device
        path: String,
        /// Have the operator read them now
        #[arg(long)]
        read: bool,
        /// Only those whose password the vault does not have
        #[arg(long)]
        missing: bool,
    },
    /// Add accounts of a device to the vault: the operator gives each a new password
    AddAccounts {
        /// Path of the device
        path: String,
        /// User names of the accounts
        #[arg(required = true)]
        accounts: Vec<String>,
        /// The folder of the credentials [default: that of the device]
        #[arg(long)]
        folder: Option<String>,
    },
    /// Move a device to another folder; its accounts stay in theirs
    #[command(
        after_help = "EXAMPLES\n  jexlin device move \"/Works/maintenance database\" \"/Control room\" --preview"
    )]
    Move {
        /// Path of the device
        path: String,
        /// The folder
        folder: String,
        /// Change nothing; show who would gain or lose what
        #[arg(long)]
        preview: bool,
    },
    /// Show the identity that a device must prove, and the identity it shows now
    #[command(
        after_help = "EXAMPLES\n  jexlin device identity \"/Pumping/North ridge/telemetry\"\n  jexlin device identity \"/Pumping/North ridge/telemetry\" --confirm SHA256:…"
    )]
    Identity {
        /// Path of the device
        path: String,
        /// Confirm the key with this fingerprint, which the device must show now
        #[arg(long, value_name = "FINGERPRINT")]
        confirm: Option<String>,
        /// Set a host key, a known_hosts line, an SSHFP record or a fingerprint by hand
        /// (repeatable)
        #[arg(long, value_name = "LINE", conflicts_with = "confirm")]
        set: Vec<String>,
        /// Accept each certificate that the authority in this file (PEM) signs for the address
        #[arg(long, value_name = "FILE", conflicts_with = "confirm")]
        authority: Option<PathBuf>,
    },
    /// Confirm the suspended bindings of a device, for passwords that you may reveal
    Confirm {
        /// Path of the device
        path: String,
    },
    /// Let jobs use the operator of a paused device again
    Resume {
        /// Path of the device
        path: String,
    },
    /// Remove a device that has no accounts
    Remove {
        /// Path of the device
        path: String,
    },
}

const COLUMNS: [Column; 10] = [
    ("name", "name"),
    ("folder", "place"),
    ("type", "connector"),
    ("address", "address"),
    ("port", "port"),
    ("platform", "platform"),
    ("dialogue", "dialogue_name"),
    ("accounts", "accounts"),
    ("paused", "paused_why"),
    ("description", "description"),
];

impl Run {
    pub fn device(&self, command: Device) -> Done {
        match command {
            Device::List { folder } => self.list_devices(folder),
            Device::Types => {
                let types: Vec<DeviceType> = self.connection.list("/api/v1/device-types", None)?;
                let columns: [Column; 4] = [
                    ("type", "connector"),
                    ("what", "label"),
                    ("port", "port"),
                    ("needed rights", "needed_rights"),
                ];
                output::list(self.format, &types, &columns, "There is no type.")
            }
            Device::Show { path } => {
                let id = lookup::device(&self.connection, &path)?;
                self.show_device(&self.connection.get(&format!("/api/v1/devices/{id}"))?)
            }
            Device::Add {
                path,
                address,
                connector,
                port,
                platform,
                description,
                operator,
                jump_account,
                dialogue,
                identity,
                family_of,
            } => {
                let (folder, name) = lookup::split(&path)?;
                let family_of = family_of.map(|path| self.known_device(&path)).transpose()?;
                let body = NewDevice {
                    folder: lookup::folder(&self.connection, &folder)?.id,
                    name,
                    address,
                    connector: Some(connector),
                    port,
                    platform,
                    description,
                    operator: self.known_credential(operator)?,
                    jump_account: self.known_credential(jump_account)?,
                    dialogue: self.known_dialogue(dialogue)?,
                    identity,
                    family_of: family_of.map(|device| device.id),
                };
                self.show_device(&self.connection.post("/api/v1/devices", &body)?)
            }
            Device::Edit {
                path,
                name,
                address,
                port,
                platform,
                description,
                operator,
                dialogue,
                no_operator,
                jump_account,
                no_jump_host,
            } => {
                let present = self.known_device(&path)?;
                let body = EditDevice {
                    name,
                    folder: None,
                    address,
                    port,
                    platform,
                    description,
                    operator: self.known_credential(operator)?,
                    no_operator,
                    jump_account: self.known_credential(jump_account)?,
                    no_jump_host,
                    dialogue: self.known_dialogue(dialogue)?,
                    identity: None,
                };
                self.show_device(&self.connection.change(
                    "PATCH",
                    &format!("/api/v1/devices/{}", present.id),
                    &body,
                    present.revision,
                )?)
            }
            Device::Identity {
                path,
                confirm,
                mut set,
                authority,
            } => {
                if let Some(file) = authority {
                    set.push(std::fs::read_to_string(&file).map_err(cannot("read", &file))?);
                }
                self.device_identity(&path, confirm, set)
            }
            Device::Accounts {
                path,
                read,
                missing,
            } => self.device_accounts(&path, read, missing),
            Device::AddAccounts {
                path,
                accounts,
                folder,
            } => self.add_accounts(&path, accounts, folder),
            Device::Move {
                path,
                folder,
                preview,
            } => self.move_device(&path, &folder, preview),
            Device::Confirm { path } => self.confirm_bindings(&path),
            Device::Resume { path } => {
                let present = self.known_device(&path)?;
                self.show_device(&self.connection.change(
                    "POST",
                    &format!("/api/v1/devices/{}/resume", present.id),
                    &json!({}),
                    present.revision,
                )?)
            }
            Device::Remove { path } => {
                let present = self.known_device(&path)?;
                self.connection.delete(
                    &format!("/api/v1/devices/{}", present.id),
                    Some(present.revision),
                )?;
                say(&format!(
                    "{}/{} is in the bin.",
                    present.place, present.name
                ))
            }
        }
    }

    fn list_devices(&self, folder: Option<String>) -> Done {
        let address = match folder {
            Some(path) => format!(
                "/api/v1/devices?folder={}",
                lookup::folder(&self.connection, &path)?.id
            ),
            None => "/api/v1/devices".into(),
        };
        output::list(
            self.format,
            &self.connection.list::<DeviceItem>(&address, None)?,
            &COLUMNS,
            "There is no device that you have access to. Add one: jexlin device add",
        )
    }

    fn show_device(&self, device: &DeviceItem) -> Done {
        output::one(self.format, device, &COLUMNS)?;
        if self.format != Format::Table {
            return Ok(());
        }
        if let Some(host) = &device.jump_host {
            let path = match host.path.as_str() {
                "" => "a jump host that you have no access to",
                path => path,
            };
            say(&format!("Reached through {path}."))?;
        }
        if device.families.is_empty() {
            return Ok(());
        }
        say("Other account families on this machine:")?;
        for family in &device.families {
            let what = match family.accounts {
                1 => "1 account".to_owned(),
                many => format!("{many} accounts"),
            };
            say(&format!(
                "  {} ({}, {what})",
                family.name,
                family.connector.word()
            ))?;
        }
        Ok(())
    }

    fn known_device(&self, path: &str) -> Result<DeviceItem, ClientError> {
        let id = lookup::device(&self.connection, path)?;
        self.connection.get(&format!("/api/v1/devices/{id}"))
    }

    fn known_credential(&self, path: Option<String>) -> Result<Option<Uuid>, ClientError> {
        path.map(|path| lookup::credential(&self.connection, &path))
            .transpose()
    }

    fn known_dialogue(&self, name: Option<String>) -> Result<Option<Uuid>, ClientError> {
        name.map(|name| self.dialogue_id(&name)).transpose()
    }

    fn move_device(&self, path: &str, folder: &str, preview: bool) -> Done {
        let present = self.known_device(path)?;
        let to = lookup::folder(&self.connection, folder)?.id;
        let change = Change::Device(DeviceMoved { id: present.id, to });
        if preview {
            return self.preview(&change);
        }
        if !self.yes {
            self.confirm_change(&change)?;
        }
        let body = EditDevice {
            folder: Some(to),
            ..EditDevice::default()
        };
        self.show_device(&self.connection.change(
            "PATCH",
            &format!("/api/v1/devices/{}", present.id),
            &body,
            present.revision,
        )?)
    }

    fn device_accounts(&self, path: &str, read: bool, missing: bool) -> Done {
        let address = format!("/api/v1/devices/{}", self.known_device(path)?.id);
        let mut known: DeviceAccounts = if read {
            self.connection
                .post(&format!("{address}/read-accounts"), &json!({}))?
        } else {
            self.connection.get(&format!("{address}/accounts"))?
        };
        // What happened before the news is listened to is asked for when it begins.
        while read && matches!(known.state, Some(JobState::Queued | JobState::Running)) {
            self.connection.listen(|event, _| {
                if event == "hello" || event == "all" || event == Topic::Job.word() {
                    known = self.connection.get(&format!("{address}/accounts"))?;
                }
                Ok(matches!(
                    known.state,
                    Some(JobState::Queued | JobState::Running)
                ))
            })?;
        }
        if known.state == Some(JobState::Failed) {
            let last = if known.items.is_empty() {
                ""
            } else {
                " What was known before is kept."
            };
            let why = format!(
                "The accounts could not be read: {}.{last}",
                known.message.trim_end_matches('.')
            );
            if read {
                return Err(ClientError::failed(
                    why,
                    "Look at the device and its operator: jexlin device show",
                ));
            }
            eprintln!("{why}");
        }
        if known.state.is_none() {
            eprintln!("They were never read: add --read.");
        }
        known.items.retain(|account| !missing || !account.in_vault);
        let columns: [Column; 8] = [
            ("account", "login"),
            ("privileged", "privileged"),
            ("signs in", "signs_in"),
            ("locked", "locked"),
            ("password set", "password_set_at"),
            ("last sign-in", "signed_in_at"),
            ("in the vault", "in_vault"),
            ("credential", "credential_path"),
        ];
        output::list(self.format, &known.items, &columns, "No account is known.")
    }

    /// Makes a credential of each account, with a password that nobody has yet, and has the operator
    /// set it.
    fn add_accounts(&self, path: &str, accounts: Vec<String>, folder: Option<String>) -> Done {
        let device = self.known_device(path)?;
        if device.operator.is_none() {
            return Err(ClientError::failed(
                "The device has no operator, which sets the new passwords.",
                "Set one: jexlin device edit --operator",
            ));
        }
        let types: Vec<DeviceType> = self.connection.list("/api/v1/device-types", None)?;
        let kind = types
            .into_iter()
            .find(|each| each.connector == device.connector)
            .map_or_else(|| "device-admin".to_owned(), |each| each.account_kind);
        let folder = match folder {
            Some(path) => lookup::folder(&self.connection, &path)?.id,
            None => device.folder,
        };
        let mut last = Ok(());
        for login in accounts {
            let body = NewCredential {
                folder,
                kind: kind.clone(),
                name: login.clone(),
                fields: [("user_name".to_owned(), login)].into(),
                password: None,
                secrets: BTreeMap::new(),
                device: Some(device.id),
                extra: vec![],
                tags: vec![],
                policy: None,
                key: None,
                reason: String::new(),
                kind_revision: None,
            };
            let made: Credential = self.connection.post("/api/v1/credentials", &body)?;
            let job = self.connection.post(
                &format!("/api/v1/credentials/{}/rotate", made.id),
                &NewJob {
                    method: Some(ChangeMethod::Operator),
                },
            )?;
            // The others are tried even when one fails.
            last = self.follow(job, true).and(last);
        }
        last
    }

    fn confirm_bindings(&self, path: &str) -> Done {
        let present = self.known_device(path)?;
        let done: BindingsConfirmed = self.connection.change(
            "POST",
            &format!("/api/v1/devices/{}/confirm-bindings", present.id),
            &json!({}),
            present.revision,
        )?;
        if done.left > 0 {
            eprintln!(
                "{} left for a person who may reveal the password.",
                output::counted(done.left, "binding is", "bindings are")
            );
        }
        say(&format!(
            "{} confirmed.",
            output::counted(done.confirmed, "binding is", "bindings are")
        ))
    }

    /// Shows the identity that a device must prove and the one it shows now; confirms or sets it
    /// when that is wanted.
    fn device_identity(&self, path: &str, confirm: Option<String>, set: Vec<String>) -> Done {
        let columns: [Column; 3] = [
            ("state", "state"),
            ("kind", "kind"),
            ("fingerprint", "fingerprint"),
        ];
        let present = self.known_device(path)?;
        let address = format!("/api/v1/devices/{}", present.id);
        let mut lines = set;
        if lines.is_empty() {
            let shown: Page<DeviceIdentity> = self
                .connection
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
                        "shown, confirmed"
                    } else {
                        "shown, not confirmed"
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
                        json!({"state": "confirmed, not shown", "kind": identity.kind, "fingerprint": identity.fingerprint, "line": identity.line}),
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
                    "The device shows no key with this fingerprint.",
                    "Compare it with the device's own: ssh-keygen -l -f /etc/ssh/ssh_host_ed25519_key.pub, or for a certificate: openssl x509 -pubkey -noout -in FILE | openssl pkey -pubin -outform der | openssl dgst -sha256 -binary | base64",
                )
            })?;
            lines.push(found.line);
        }
        let body = EditDevice {
            identity: Some(lines),
            ..EditDevice::default()
        };
        let changed: DeviceItem =
            self.connection
                .change("PATCH", &address, &body, present.revision)?;
        let suspended = changed
            .bindings
            .iter()
            .filter(|binding| !binding.suspended.is_empty())
            .count();
        if suspended > 0 {
            eprintln!(
                "{} suspended until a person who may reveal the password confirms: jexlin device confirm",
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

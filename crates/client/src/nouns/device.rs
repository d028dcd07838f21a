//! Devices.

use clap::Subcommand;
use jexlin_api::{ChangeDevice, Device as DeviceItem, NewDevice, parse_path};

use crate::find;
use crate::output::{self, Column, say};
use crate::run::{Done, Run};
use crate::trouble::Trouble;

/// Devices.
#[derive(Debug, Subcommand)]
pub enum Device {
    /// List them
    List {
        /// Those of this folder
        folder: Option<String>,
    },
    /// Add one
    #[command(after_help = "EXAMPLE\n  jexlin device add \"/Pumping/North ridge/telemetry\" --address 127.0.10.5 --operator \"/Pumping/North ridge/root\"")]
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
    },
    /// Change one
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
        /// Forget the pinned host key; the next contact pins anew
        #[arg(long)]
        accept_new_key: bool,
    },
    /// Remove one that has no accounts
    Remove {
        /// Its path
        path: String,
    },
}

impl Run {
    pub fn device(&self, command: Device) -> Done {
        let columns: [Column; 6] =
            [("name", "name"), ("folder", "place"), ("address", "address"), ("port", "port"), ("accounts", "accounts"), ("host key", "host_key")];
        let shown: DeviceItem = match command {
            Device::List { folder } => {
                let address = match folder {
                    Some(path) => format!("/api/v1/devices?folder={}", find::folder(&self.link, &path)?.id),
                    None => "/api/v1/devices".into(),
                };
                return output::list(
                    self.format,
                    &self.link.list::<DeviceItem>(&address, None)?,
                    &columns[..5],
                    "There is no device that you may know of. Add one: jexlin device add",
                );
            }
            Device::Add { path, address, port, operator } => {
                let names = parse_path(&path)
                    .map_err(|problem| Trouble::input(format!("{path}: {problem}."), "Write a path such as \"/Pumping/North ridge/telemetry\"."))?;
                let (name, folder) =
                    names.split_last().ok_or_else(|| Trouble::input("The path is empty.", "Write a path such as \"/Pumping/North ridge/telemetry\"."))?;
                let folder = find::folder(&self.link, &folder.iter().map(|name| name.as_str()).collect::<Vec<_>>().join("/"))?;
                let operator = operator.map(|path| find::credential(&self.link, &path)).transpose()?;
                self.link.post("/api/v1/devices", &NewDevice { folder: folder.id, name: name.as_str().to_owned(), address, port: Some(port), operator })?
            }
            Device::Edit { path, name, address, port, operator, accept_new_key } => {
                let id = find::device(&self.link, &path)?;
                let present: DeviceItem = self.link.get(&format!("/api/v1/devices/{id}"))?;
                let operator = operator.map(|path| find::credential(&self.link, &path)).transpose()?;
                self.link.change("PATCH", &format!("/api/v1/devices/{id}"), &ChangeDevice { name, address, port, operator, accept_new_key }, present.version)?
            }
            Device::Remove { path } => {
                let id = find::device(&self.link, &path)?;
                let present: DeviceItem = self.link.get(&format!("/api/v1/devices/{id}"))?;
                self.link.delete(&format!("/api/v1/devices/{id}"), Some(present.version))?;
                return say(&format!("{}/{} is in the bin.", present.place, present.name));
            }
        };
        output::one(self.format, &shown, &columns)
    }
}

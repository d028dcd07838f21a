//! The world as `world.json` describes it.

use serde::Deserialize;

/// All of it.
#[derive(Debug, Deserialize)]
#[allow(
    missing_docs,
    reason = "the names say what they are; world.json shows them"
)]
pub struct World {
    pub organisation: String,
    pub administrator: Person,
    pub people: Vec<Person>,
    pub invited: Vec<Person>,
    pub groups: Vec<Group>,
    pub folders: Vec<String>,
    pub devices: Vec<Device>,
    pub accounts: Vec<Account>,
    pub logins: Vec<Login>,
    pub others: Vec<Other>,
}

/// A person.
#[derive(Debug, Deserialize)]
#[allow(
    missing_docs,
    reason = "the names say what they are; world.json shows them"
)]
pub struct Person {
    pub name: String,
    pub display_name: String,
    #[serde(default)]
    pub duties: Vec<String>,
}

/// A group.
#[derive(Debug, Deserialize)]
#[allow(
    missing_docs,
    reason = "the names say what they are; world.json shows them"
)]
pub struct Group {
    pub name: String,
    pub people: Vec<String>,
    pub groups: Vec<String>,
}

/// A device with its operator.
#[derive(Debug, Deserialize)]
#[allow(
    missing_docs,
    reason = "the names say what they are; world.json shows them"
)]
pub struct Device {
    pub path: String,
    #[serde(default)]
    pub platform: String,
    #[serde(default)]
    pub description: String,
    #[serde(default = "ssh")]
    pub connector: String,
    pub address: String,
    #[serde(default)]
    pub dialogue: Option<String>,
    #[serde(default = "root")]
    pub operator: String,
    pub password: String,
    /// The operator's password for privileged mode.
    #[serde(default)]
    pub enable_password: Option<String>,
    /// The account of a jump host that it is reached with.
    #[serde(default)]
    pub jump_account: Option<String>,
    /// Whether it came in the last days only.
    #[serde(default)]
    pub late: bool,
}

fn ssh() -> String {
    "ssh".into()
}

fn root() -> String {
    "root".into()
}

/// An account of a device.
#[derive(Debug, Deserialize)]
#[allow(
    missing_docs,
    reason = "the names say what they are; world.json shows them"
)]
pub struct Account {
    pub path: String,
    pub device: String,
    pub user: String,
    pub password: String,
    #[serde(default = "device_admin")]
    pub kind: String,
    /// The part of the device that it belongs to.
    #[serde(default)]
    pub context: Option<String>,
}

fn device_admin() -> String {
    "device-admin".into()
}

/// A login without a device.
#[derive(Debug, Deserialize)]
#[allow(
    missing_docs,
    reason = "the names say what they are; world.json shows them"
)]
pub struct Login {
    pub path: String,
    pub user: String,
    pub url: String,
    pub note: String,
}

/// A credential of any kind, as the network interface takes it.
#[derive(Debug, Deserialize)]
#[allow(
    missing_docs,
    reason = "the names say what they are; world.json shows them"
)]
pub struct Other {
    pub path: String,
    /// The device that it opens an account on.
    #[serde(default)]
    pub device: Option<String>,
    pub body: serde_json::Value,
}

/// A path as its folder and its last name.
#[must_use]
pub fn split(path: &str) -> (&str, &str) {
    path.rsplit_once('/').unwrap_or(("", path))
}

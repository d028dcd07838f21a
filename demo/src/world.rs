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

/// A device with its root account.
#[derive(Debug, Deserialize)]
#[allow(
    missing_docs,
    reason = "the names say what they are; world.json shows them"
)]
pub struct Device {
    pub path: String,
    pub address: String,
    pub root: String,
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
    pub body: serde_json::Value,
}

/// A path as its folder and its last name.
#[must_use]
pub fn split(path: &str) -> (&str, &str) {
    path.rsplit_once('/').unwrap_or(("", path))
}

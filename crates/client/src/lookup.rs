//! From the names that people know to the identifiers of the interface.

use jexlin_api::{Folder, Group, LookedUp, LookupType, Person, parse_path};
use serde::de::DeserializeOwned;
use uuid::Uuid;

use crate::connection::{Connection, query};
use crate::error::ClientError;

/// What a path names, as the service knows it.
fn look_up(
    connection: &Connection,
    path: &str,
    wanted: Option<LookupType>,
) -> Result<Option<LookedUp>, ClientError> {
    let wanted = wanted.map_or("", LookupType::word);
    let address = format!("/api/v1/lookup?path={}&type={wanted}", query(path));
    match connection.get(&address) {
        Ok(found) => Ok(Some(found)),
        Err(trouble) if trouble.exit_code() == 5 => Ok(None),
        Err(trouble) => Err(trouble),
    }
}

/// Whether a text is a path, before anybody is asked about it.
fn check_path(path: &str) -> Result<(), ClientError> {
    parse_path(path).map(|_| ()).map_err(|problem| {
        ClientError::input(
            format!("{path}: {problem}."),
            "Write a path such as \"/Pumping/North ridge\".",
        )
    })
}

/// A folder by its path or identifier.
pub fn folder(connection: &Connection, path: &str) -> Result<Folder, ClientError> {
    let id = match path.parse::<Uuid>() {
        Ok(id) => Some(id),
        Err(_) => {
            check_path(path)?;
            look_up(connection, path, Some(LookupType::Folder))?.map(|found| found.id)
        }
    };
    let unknown = || {
        ClientError::unknown(
            format!("There is no folder {path}, or no grant lets you know of it."),
            "List folders: jexlin folder list",
        )
    };
    let id = id.ok_or_else(unknown)?;
    match connection.get(&format!("/api/v1/folders/{id}")) {
        // One that is only on the way to others is in the list alone.
        Err(trouble) if trouble.exit_code() == 5 => connection
            .list::<Folder>("/api/v1/folders", None)?
            .into_iter()
            .find(|folder| folder.id == id)
            .ok_or_else(unknown),
        found => found,
    }
}

/// The path of the folder that something is in, and its name; no folder for a folder at the top.
///
/// # Errors
/// [`ClientError::input`] for a text that is no path.
pub fn split_at_top(path: &str) -> Result<(Option<String>, String), ClientError> {
    let advice = "Write a path such as \"/Pumping/North ridge\".";
    let names = parse_path(path)
        .map_err(|problem| ClientError::input(format!("{path}: {problem}."), advice))?;
    let (name, folders) = names
        .split_last()
        .ok_or_else(|| ClientError::input("The path is empty.", advice))?;
    let folders: Vec<&str> = folders.iter().map(|name| name.as_str()).collect();
    let above = (!folders.is_empty()).then(|| format!("/{}", folders.join("/")));
    Ok((above, name.as_str().to_owned()))
}

/// The path of the folder that something is in, and its name.
///
/// # Errors
/// [`ClientError::input`] for a text that is no path, or names no folder.
pub fn split(path: &str) -> Result<(String, String), ClientError> {
    match split_at_top(path)? {
        (Some(folder), name) => Ok((folder, name)),
        (None, _) => Err(ClientError::input(
            format!("{path} names no folder."),
            "Write the whole path, such as \"/Pumping/North ridge/duty\".",
        )),
    }
}

/// The two sides of `NAME=VALUE`.
pub fn pair<'a>(text: &'a str, advice: &str) -> Result<(&'a str, &'a str), ClientError> {
    text.split_once('=')
        .ok_or_else(|| ClientError::input("A field is given without `=`.", advice))
}

/// A credential by its path or identifier.
pub fn credential(connection: &Connection, path: &str) -> Result<Uuid, ClientError> {
    if let Ok(id) = path.parse::<Uuid>() {
        return Ok(id);
    }
    let _ = split(path)?;
    look_up(connection, path, Some(LookupType::Credential))?
        .map(|found| found.id)
        .ok_or_else(|| {
            ClientError::unknown(
                format!("There is no credential {path}, or no grant lets you know of it."),
                "List credentials: jexlin credential list; search: jexlin find",
            )
        })
}

/// A credential or a folder by its path or identifier, as the query of an address names it.
pub fn folder_or_credential(connection: &Connection, path: &str) -> Result<String, ClientError> {
    if let Ok(id) = path.parse::<Uuid>() {
        // An identifier does not tell what it is of.
        return match connection.get::<Folder>(&format!("/api/v1/folders/{id}")) {
            Ok(folder) => Ok(format!("folder={}", folder.id)),
            Err(trouble) if trouble.exit_code() != 5 => Err(trouble),
            Err(_) => Ok(format!("credential={id}")),
        };
    }
    check_path(path)?;
    match look_up(connection, path, None)? {
        Some(LookedUp {
            found: LookupType::Credential,
            id,
        }) => Ok(format!("credential={id}")),
        Some(LookedUp {
            found: LookupType::Folder,
            id,
        }) => Ok(format!("folder={id}")),
        Some(LookedUp {
            found: LookupType::Device,
            ..
        })
        | None => Err(ClientError::unknown(
            format!(
                "There is no folder and no credential {path}, or no grant lets you know of it."
            ),
            "List folders: jexlin folder list; search: jexlin find",
        )),
    }
}

/// A device by its path or identifier.
pub fn device(connection: &Connection, path: &str) -> Result<Uuid, ClientError> {
    if let Ok(id) = path.parse::<Uuid>() {
        return Ok(id);
    }
    let _ = split(path)?;
    look_up(connection, path, Some(LookupType::Device))?
        .map(|found| found.id)
        .ok_or_else(|| {
            ClientError::unknown(
                format!("There is no device {path}, or no grant lets you know of it."),
                "List devices: jexlin device list",
            )
        })
}

/// The one thing of a list that has a name, or the one of an identifier.
fn named<T: DeserializeOwned>(
    connection: &Connection,
    address: &str,
    name: &str,
    of: impl Fn(&T) -> Uuid,
) -> Result<Option<T>, ClientError> {
    if let Ok(id) = name.parse::<Uuid>() {
        let all = connection.list::<T>(address, None)?;
        return Ok(all.into_iter().find(|item| of(item) == id));
    }
    let address = format!("{address}?name={}", query(name.trim()));
    Ok(connection.list(&address, None)?.into_iter().next())
}

/// A person by sign-in name or identifier.
pub fn person(connection: &Connection, name: &str) -> Result<Person, ClientError> {
    named(connection, "/api/v1/people", name, |person: &Person| {
        person.id
    })?
    .ok_or_else(|| {
        ClientError::unknown(
            format!("There is no person {name}."),
            "List people: jexlin people list",
        )
    })
}

/// A group by name or identifier.
pub fn group(connection: &Connection, name: &str) -> Result<Group, ClientError> {
    named(connection, "/api/v1/groups", name, |group: &Group| group.id)?.ok_or_else(|| {
        ClientError::unknown(
            format!("There is no group {name}."),
            "List groups: jexlin group list",
        )
    })
}

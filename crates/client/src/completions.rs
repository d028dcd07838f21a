//! Completions that ask the service: paths, people, groups, kinds, policies and tags. The shell runs
//! `jexlin` with `JEXLIN_COMPLETE` set; whatever goes wrong then completes nothing and says nothing.

use std::ffi::OsStr;
use std::time::Duration;

use clap::{Arg, Command, CommandFactory as _};
use clap_complete::CompleteEnv;
use clap_complete::engine::{ArgValueCompleter, CompletionCandidate};
use clap_complete::env::{EnvCompleter, Shells};
use jexlin_api::words::Word as _;
use jexlin_api::{Folder, Group, Kind, Level, PasswordPolicy, Person, TagItem};
use serde::de::DeserializeOwned;

use crate::cli::Cli;
use crate::connection::{Connection, Target, query};
use crate::error::ClientError;
use crate::run::Done;

/// The variable by which the shell asks for completions.
const VARIABLE: &str = "JEXLIN_COMPLETE";

/// The most candidates of one kind.
const MOST: usize = 200;

/// So long the service may take: somebody waits at a key.
const PATIENCE: Duration = Duration::from_secs(2);

/// Answers the shell, if it asks; the process ends then.
pub fn answer() {
    CompleteEnv::with_factory(command)
        .var(VARIABLE)
        .completer("jexlin")
        .complete();
}

/// Prints the lines with which a shell asks for completions.
pub fn register(shell: clap_complete::Shell) -> Done {
    let name = shell.to_string();
    let shells = Shells::builtins();
    let completer: &dyn EnvCompleter = shells
        .completer(&name)
        .ok_or_else(|| ClientError::local(format!("There are no completions for {name}.")))?;
    let mut script = vec![];
    completer
        .write_registration(VARIABLE, "jexlin", "jexlin", "jexlin", &mut script)
        .map_err(|error| ClientError::local(error.to_string()))?;
    crate::output::document(readline_quotes(&String::from_utf8_lossy(&script)).trim())
}

/// Paths hold spaces: bash is told to quote what it inserts.
fn readline_quotes(script: &str) -> String {
    script.replace("complete -o nospace", "complete -o nospace -o filenames")
}

/// The commands, with what completes their arguments.
fn command() -> Command {
    with_completers(Cli::command(), "")
}

fn with_completers(command: Command, above: &str) -> Command {
    let noun = if above.is_empty() {
        command.get_name().to_owned()
    } else {
        above.to_owned()
    };
    let below: Vec<String> = command
        .get_subcommands()
        .map(|below| below.get_name().to_owned())
        .collect();
    let command = command.mut_args(|argument| match source(&noun, &argument) {
        Some(source) => argument.add(ArgValueCompleter::new(source)),
        None => argument,
    });
    // The commands at the top name the noun of those below them.
    let noun = if noun == "jexlin" { "" } else { &noun };
    below.into_iter().fold(command, |command, name| {
        command.mut_subcommand(name, |below| with_completers(below, noun))
    })
}

type Source = fn(&OsStr) -> Vec<CompletionCandidate>;

/// What completes an argument of a command about a noun.
fn source(noun: &str, argument: &Arg) -> Option<Source> {
    if !argument.get_action().takes_values() {
        return None;
    }
    let id = argument.get_id().as_str();
    Some(match (noun, id) {
        ("search" | "personal" | "session", "name" | "item") => return None,
        (_, "below") | ("credential" | "personal", "folder" | "to") | ("folder", "path" | "to") => {
            folders
        }
        ("access-issue", "folders") | (_, "folder") => folders,
        ("device", "path") | (_, "device") => devices,
        ("access" | "explain", "path") => folders_and_credentials,
        ("bin", _) => return None,
        (_, "path" | "paths" | "credential" | "operator") => credentials,
        ("people" | "client", "name") | (_, "person" | "approver" | "from") => people,
        ("transfer-stewardship", "to") => people,
        ("group", "name" | "group") | (_, "group" | "approver_group") => groups,
        ("kind", "name") | (_, "kind" | "only_kind") => kinds,
        ("policy", "name") | (_, "policy" | "advise" | "enforce" | "choose") => policies,
        (_, "tag" | "tags" | "only_tag") => tags,
        (_, "level") => levels,
        _ => return None,
    })
}

/// The service as the kept session knows it, if it answers soon.
fn connection() -> Option<Connection> {
    let pinned_key = match std::env::var("JEXLIN_PINNED_KEY") {
        Ok(text) => Some(text.parse().ok()?),
        Err(_) => None,
    };
    let target = Target {
        service: std::env::var("JEXLIN_SERVICE").ok(),
        ca_file: std::env::var_os("JEXLIN_CA_FILE").map(Into::into),
        pinned_key,
    };
    Connection::open_with(target, Some(PATIENCE)).ok()
}

fn all<T: DeserializeOwned>(address: &str) -> Vec<T> {
    connection()
        .and_then(|connection| connection.list(address, Some(MOST)).ok())
        .unwrap_or_default()
}

fn that_begin<'a>(
    current: &OsStr,
    names: impl IntoIterator<Item = (&'a str, &'a str)>,
) -> Vec<CompletionCandidate> {
    let begun = current.to_string_lossy().to_lowercase();
    names
        .into_iter()
        .filter(|(name, _)| name.to_lowercase().starts_with(&begun))
        .map(|(name, help)| {
            let help = (!help.is_empty()).then(|| help.to_owned().into());
            CompletionCandidate::new(name).help(help)
        })
        .collect()
}

/// The folder that is typed up to the last slash, and what is typed of a name in it.
fn split(current: &OsStr) -> (String, String) {
    let text = current.to_string_lossy();
    let (folder, name) = text.rsplit_once('/').unwrap_or(("", &text));
    (folder.to_owned(), name.to_lowercase())
}

/// The subfolders of a folder, one level deep.
fn folders_in(connection: &Connection, folder: &str, name: &str) -> Vec<CompletionCandidate> {
    let known: Vec<Folder> = connection.list("/api/v1/folders", None).unwrap_or_default();
    let wanted = format!("{folder}/{name}").to_lowercase();
    known
        .iter()
        .filter(|known| known.path.to_lowercase().starts_with(&wanted))
        .filter(|known| known.path.matches('/').count() == folder.matches('/').count() + 1)
        .take(MOST)
        .map(|known| CompletionCandidate::new(known.path.clone()))
        .collect()
}

/// What is in a folder, by its address.
fn items_in(
    connection: &Connection,
    (path, name): (&str, &str),
    address: &str,
) -> Vec<CompletionCandidate> {
    let Ok(folder) = crate::lookup::folder(connection, path) else {
        return vec![];
    };
    let address = format!("{address}?folder={}&name={}", folder.id, query(name));
    let items: Vec<NamedItem> = connection.list(&address, Some(MOST)).unwrap_or_default();
    items
        .iter()
        .filter(|known| known.name.to_lowercase().starts_with(name))
        .map(|known| CompletionCandidate::new(format!("{}/{}", folder.path, known.name)))
        .collect()
}

/// Folders to walk on through: their paths end in a slash.
fn ways(connection: &Connection, folder: &str, name: &str) -> Vec<CompletionCandidate> {
    folders_in(connection, folder, name)
        .into_iter()
        .map(|found| {
            let path = found.get_value().to_string_lossy();
            CompletionCandidate::new(format!("{path}/"))
        })
        .collect()
}

fn folders(current: &OsStr) -> Vec<CompletionCandidate> {
    let (folder, name) = split(current);
    connection().map_or_else(Vec::new, |connection| {
        folders_in(&connection, &folder, &name)
    })
}

/// What is in the folder that is typed, by an address, and the folders to walk on through.
fn walk_through(current: &OsStr, address: &str) -> Vec<CompletionCandidate> {
    let (folder, name) = split(current);
    let Some(connection) = connection() else {
        return vec![];
    };
    let mut found = ways(&connection, &folder, &name);
    found.extend(items_in(&connection, (&folder, &name), address));
    found
}

fn credentials(current: &OsStr) -> Vec<CompletionCandidate> {
    walk_through(current, "/api/v1/credentials")
}

fn devices(current: &OsStr) -> Vec<CompletionCandidate> {
    walk_through(current, "/api/v1/devices")
}

fn folders_and_credentials(current: &OsStr) -> Vec<CompletionCandidate> {
    let mut found = folders(current);
    found.extend(credentials(current));
    found
}

/// Something of which only the name is of interest here.
#[derive(serde::Deserialize)]
struct NamedItem {
    name: String,
}

fn people(current: &OsStr) -> Vec<CompletionCandidate> {
    let known: Vec<Person> = all("/api/v1/people");
    let names = known
        .iter()
        .map(|person| (person.sign_in_name.as_str(), person.display_name.as_str()));
    that_begin(current, names)
}

fn groups(current: &OsStr) -> Vec<CompletionCandidate> {
    let known: Vec<Group> = all("/api/v1/groups");
    that_begin(current, known.iter().map(|group| (group.name.as_str(), "")))
}

fn kinds(current: &OsStr) -> Vec<CompletionCandidate> {
    let known: Vec<Kind> = all("/api/v1/kinds");
    let names = known
        .iter()
        .map(|kind| (kind.name.as_str(), kind.label.as_str()));
    that_begin(current, names)
}

fn policies(current: &OsStr) -> Vec<CompletionCandidate> {
    let known: Vec<PasswordPolicy> = all("/api/v1/password-policies");
    that_begin(
        current,
        known.iter().map(|policy| (policy.name.as_str(), "")),
    )
}

fn tags(current: &OsStr) -> Vec<CompletionCandidate> {
    let known: Vec<TagItem> = all("/api/v1/tags");
    that_begin(current, known.iter().map(|tag| (tag.tag.as_str(), "")))
}

fn levels(current: &OsStr) -> Vec<CompletionCandidate> {
    let levels = [
        Level::List,
        Level::Use,
        Level::Reveal,
        Level::Edit,
        Level::Steward,
    ];
    that_begin(current, levels.map(|level| (level.word(), "")))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bash_quotes_the_paths_that_it_inserts() {
        let mut script = vec![];
        Shells::builtins()
            .completer("bash")
            .unwrap()
            .write_registration(VARIABLE, "jexlin", "jexlin", "jexlin", &mut script)
            .unwrap();
        let script = readline_quotes(&String::from_utf8(script).unwrap());
        assert_eq!(script.matches("-o filenames").count(), 2, "{script}");
    }

    /// Every argument that names something is completed, unless it is new or nobody else's.
    #[test]
    fn an_argument_that_names_something_is_completed() {
        fn walk(command: &Command, noun: &str, without: &mut Vec<String>) {
            for argument in command.get_arguments() {
                let id = argument.get_id().as_str();
                let names = [
                    "path",
                    "paths",
                    "folder",
                    "folders",
                    "credential",
                    "device",
                    "group",
                    "person",
                    "kind",
                    "level",
                    "policy",
                    "below",
                    "to",
                ];
                if names.contains(&id) && argument.get::<ArgValueCompleter>().is_none() {
                    without.push(format!("{noun} {} {id}", command.get_name()));
                }
            }
            for below in command.get_subcommands() {
                let noun = if noun.is_empty() {
                    below.get_name()
                } else {
                    noun
                };
                walk(below, noun, without);
            }
        }
        let mut without = vec![];
        walk(&command(), "", &mut without);
        // A download and a file of an export are written where somebody says; the bin has names of
        // its own.
        without.retain(|found| !found.starts_with("bin "));
        assert_eq!(without, Vec::<String>::new());
    }
}

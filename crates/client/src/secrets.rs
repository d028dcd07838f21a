//! Secrets come from a prompt, standard input or a file: never from the command line, where the
//! shell's history and every process list would have them.

use std::io::{IsTerminal as _, Read as _};
use std::path::Path;

use jexlin_api::SecretText;

use crate::error::ClientError;

/// A new file, readable to its owner alone.
pub fn private_file(path: &Path) -> Result<std::fs::File, ClientError> {
    use std::os::unix::fs::OpenOptionsExt as _;
    let _ = std::fs::remove_file(path);
    let made = std::fs::OpenOptions::new()
        .write(true)
        .create_new(true)
        .mode(0o600)
        .open(path);
    made.map_err(|error| {
        ClientError::local(format!("{} cannot be written: {error}.", path.display()))
    })
}

/// Reads a secret: from a file, from standard input (`-`), or from a prompt.
pub fn read(prompt: &str, file: Option<&Path>, twice: bool) -> Result<SecretText, ClientError> {
    let text = match file {
        Some(path) if path == Path::new("-") => {
            let mut text = String::new();
            std::io::stdin()
                .read_to_string(&mut text)
                .map_err(|error| {
                    ClientError::local(format!("Standard input cannot be read: {error}."))
                })?;
            text
        }
        Some(path) => std::fs::read_to_string(path).map_err(|error| {
            ClientError::local(format!("{} cannot be read: {error}.", path.display()))
        })?,
        None if std::io::stdin().is_terminal() => {
            let ask = |prompt: &str| {
                rpassword::prompt_password(prompt).map_err(|error| {
                    ClientError::local(format!("The terminal cannot be read: {error}."))
                })
            };
            let first = ask(&format!("{prompt}: "))?;
            if twice && ask(&format!("{prompt} again: "))? != first {
                return Err(ClientError::input(
                    "The two entries differ.",
                    "Type the same both times.",
                ));
            }
            first
        }
        None => {
            return Err(ClientError::input(
                format!("No terminal to ask for: {prompt}."),
                "Give a file, or `-` for standard input, with the option that ends in -file.",
            ));
        }
    };
    // A file made with an editor ends in a line break that nobody meant.
    Ok(SecretText::new(
        text.strip_suffix('\n')
            .map_or(text.as_str(), |text| {
                text.strip_suffix('\r').unwrap_or(text)
            })
            .to_owned(),
    ))
}

//! Secrets come from a prompt, standard input or a file: never from the command line, where the
//! shell's history and every process list would have them.

use std::io::{IsTerminal as _, Read as _, Write as _};
use std::path::Path;

use jexlin_api::SecretText;

use crate::error::ClientError;

/// Whether standard input is a terminal, so that a question can be asked.
pub fn can_ask() -> bool {
    std::io::stdin().is_terminal()
}

/// Fails when no question can be asked.
///
/// # Errors
/// Standard input is no terminal: a script says `--yes`.
pub fn must_be_able_to_ask(question: &str) -> Result<(), ClientError> {
    if can_ask() {
        return Ok(());
    }
    Err(ClientError::usage(
        format!("No terminal to ask on: {}", question.trim()),
        "Use --yes to allow this. Nothing was changed.",
    ))
}

/// Asks somebody at the terminal whether to go on.
///
/// # Errors
/// There is nobody to ask.
pub fn confirm(question: &str) -> Result<bool, ClientError> {
    must_be_able_to_ask(question)?;
    let broken = |error: std::io::Error| ClientError::local(error.to_string());
    write!(std::io::stderr(), "{question} [y/N] ").map_err(broken)?;
    let mut answer = String::new();
    std::io::stdin().read_line(&mut answer).map_err(broken)?;
    Ok(matches!(answer.trim(), "y" | "Y" | "yes"))
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

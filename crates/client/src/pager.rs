//! Long lists in a pager, where a terminal shows them.

use std::io::Write as _;
use std::process::{Command, Stdio};

use crate::error::ClientError;

/// Shows a text in the program that `PAGER` names, else in `less`. Where there is none, the text is
/// printed.
pub fn show(text: &str) -> Result<(), ClientError> {
    let chosen = std::env::var("PAGER")
        .ok()
        .filter(|pager| !pager.trim().is_empty());
    let mut words = chosen.as_deref().unwrap_or("less").split_whitespace();
    let mut command = Command::new(words.next().unwrap_or("less"));
    command.args(words).stdin(Stdio::piped());
    if std::env::var_os("LESS").is_none() {
        // Ends by itself when all fits, leaves it on the screen, and cuts long lines.
        command.env("LESS", "FRXS");
    }
    let broken = |error: std::io::Error| ClientError::local(error.to_string());
    let Ok(mut pager) = command.spawn() else {
        return std::io::stdout().write_all(text.as_bytes()).map_err(broken);
    };
    if let Some(mut input) = pager.stdin.take() {
        // Somebody who has seen enough leaves it.
        let _ = input.write_all(text.as_bytes());
    }
    pager.wait().map(|_| ()).map_err(broken)
}

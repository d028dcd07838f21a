//! The clipboard: of X11 or Wayland, or of the terminal at the other end of a line by OSC 52.

use std::io::{IsTerminal as _, Write as _};
use std::time::Duration;

use arboard::SetExtLinux as _;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;

use crate::error::ClientError;

/// Terminals refuse longer sequences.
const MOST_OSC: usize = 70_000;

/// Puts a text into the clipboard, and takes it out again after a time. Returns when it is out.
pub fn lend(text: &str, what: &str, seconds: u16) -> Result<(), ClientError> {
    let display = std::env::var_os("WAYLAND_DISPLAY")
        .map(|_| "Wayland")
        .or_else(|| std::env::var_os("DISPLAY").map(|_| "X11"));
    if let Some(way) = display {
        match by_display(text, what, way, seconds) {
            Ok(()) => return Ok(()),
            Err(error) => {
                eprintln!(
                    "The {way} clipboard cannot be used ({error}); trying the terminal's clipboard."
                )
            }
        }
    }
    by_terminal(text, what, seconds)
}

fn by_display(text: &str, what: &str, way: &str, seconds: u16) -> Result<(), arboard::Error> {
    let mut clipboard = arboard::Clipboard::new()?;
    clipboard.set().exclude_from_history().text(text)?;
    tell(what, &format!("the {way} clipboard"), seconds);
    // What was copied meanwhile by somebody else is left alone.
    if clipboard.get_text().is_ok_and(|there| there == text) {
        clipboard.clear()?;
    }
    eprintln!("The clipboard is cleared.");
    Ok(())
}

fn by_terminal(text: &str, what: &str, seconds: u16) -> Result<(), ClientError> {
    if !std::io::stderr().is_terminal() {
        return Err(ClientError::local(
            "There is no clipboard here: no X11, no Wayland, and no terminal that could pass it on.",
        ));
    }
    if text.len() > MOST_OSC {
        return Err(ClientError::local(
            "It is too long for the terminal's clipboard.",
        ));
    }
    let send = |text: &str| {
        write!(std::io::stderr(), "{}", sequence(text)).map_err(|error| {
            ClientError::local(format!("The terminal cannot be written to: {error}."))
        })
    };
    send(text)?;
    tell(
        what,
        "the terminal's clipboard (OSC 52; not every terminal supports it)",
        seconds,
    );
    send("")?;
    eprintln!("The clipboard is cleared.");
    Ok(())
}

/// The escape sequence that sets a terminal's clipboard, or, without a text, clears it.
fn sequence(text: &str) -> String {
    let body = if text.is_empty() {
        "!".to_owned()
    } else {
        STANDARD.encode(text)
    };
    format!("\u{1b}]52;c;{body}\u{7}")
}

fn tell(what: &str, way: &str, seconds: u16) {
    // Whoever presses Ctrl-C wants it out of the clipboard now, not left there.
    let (sender, pressed) = std::sync::mpsc::channel();
    let _ = ctrlc::set_handler(move || {
        let _ = sender.send(());
    });
    eprintln!("The {what} is in {way} for {seconds} seconds; wait here, or press Ctrl-C.");
    let _ = pressed.recv_timeout(Duration::from_secs(seconds.into()));
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_sequence_is_what_terminals_know_and_clears_without_a_text() {
        assert_eq!(sequence("Winter"), "\u{1b}]52;c;V2ludGVy\u{7}");
        assert_eq!(sequence(""), "\u{1b}]52;c;!\u{7}");
    }
}

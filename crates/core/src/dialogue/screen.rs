//! What a terminal was sent, as lines of text: without colours, and with what was overwritten gone.

use vte::{Params, Parser, Perform};

/// The lines of a step. Bytes come in pieces of any size; a sign that is cut in two, too.
#[derive(Default)]
pub(super) struct Screen {
    parser: Parser,
    text: Text,
}

/// The text, and where the next character goes.
#[derive(Default)]
struct Text {
    /// All of it, lines parted by line feeds.
    all: String,
    /// Where the last line begins.
    line: usize,
    /// A carriage return came: what follows overwrites the line.
    returned: bool,
}

impl std::fmt::Debug for Screen {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Screen")
    }
}

impl Screen {
    /// Takes in what a device wrote.
    pub(super) fn write(&mut self, bytes: &[u8]) {
        self.parser.advance(&mut self.text, bytes);
    }

    /// The text on the screen.
    pub(super) fn text(&self) -> &str {
        &self.text.all
    }

    /// The last line, which is not ended.
    pub(super) fn last_line(&self) -> &str {
        self.text.all.get(self.text.line..).unwrap_or_default()
    }

    /// Forgets the text up to there.
    pub(super) fn forget(&mut self, until: usize) {
        let until = until.min(self.text.all.len());
        if self.text.all.is_char_boundary(until) {
            self.text.all.drain(..until);
            self.text.line = self.text.line.saturating_sub(until);
        }
    }
}

impl Perform for Text {
    fn print(&mut self, c: char) {
        if self.returned {
            self.all.truncate(self.line);
            self.returned = false;
        }
        self.all.push(c);
    }

    fn execute(&mut self, byte: u8) {
        match byte {
            b'\n' => {
                self.all.push('\n');
                self.line = self.all.len();
                self.returned = false;
            }
            b'\r' => self.returned = true,
            // A pager rubs out its question with these.
            8 if self.all.len() > self.line => {
                self.all.pop();
            }
            b'\t' => self.print(' '),
            _ => {}
        }
    }

    fn csi_dispatch(&mut self, _: &Params, _: &[u8], _: bool, action: char) {
        // The line is cleared, and the cursor goes to its beginning.
        if action == 'K' && self.returned {
            self.all.truncate(self.line);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn shown(bytes: &[u8]) -> String {
        let mut screen = Screen::default();
        for byte in bytes {
            screen.write(&[*byte]);
        }
        screen.text().to_owned()
    }

    #[test]
    fn colours_and_overwritten_questions_are_gone() {
        assert_eq!(shown(b"\x1b[1;31mridge\x1b[0m> "), "ridge> ");
        assert_eq!(shown(b"one\r\n--More--\r        \rtwo\r\n"), "one\ntwo\n");
        assert_eq!(shown(b"--More--\x08\x08\x08\x08\x08\x08\x08\x08two"), "two");
        assert_eq!(shown(b"\x1b]0;a title\x07done"), "done");
        assert_eq!(shown("größer\r\n".as_bytes()), "größer\n");
    }

    #[test]
    fn what_was_dealt_with_is_forgotten() {
        let mut screen = Screen::default();
        screen.write(b"one\r\ntwo");
        screen.forget(4);
        assert_eq!((screen.text(), screen.last_line()), ("two", "two"));
        screen.write(b"\r\nthree");
        assert_eq!(screen.last_line(), "three");
    }
}

//! The commands between the text of Telnet (RFC 854), and the options that are agreed to by them.

/// Interpret as command.
const IAC: u8 = 255;
const DONT: u8 = 254;
const DO: u8 = 253;
const WONT: u8 = 252;
const WILL: u8 = 251;
/// The beginning and the end of what belongs to an option.
const SB: u8 = 250;
const SE: u8 = 240;

/// The device writes back what is typed (RFC 857).
const ECHO: u8 = 1;
/// Nobody waits for a turn (RFC 858).
const SUPPRESS_GO_AHEAD: u8 = 3;

/// So many requests of a device are answered, and no more: two that answer each other never end.
const MOST_ANSWERS: usize = 100;

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum State {
    Text,
    Command,
    /// Which option follows.
    Option(u8),
    Inside,
    InsideCommand,
    /// A carriage return: what follows decides what it is.
    Return,
}

/// Takes the commands out of what a device writes.
#[derive(Debug)]
pub(super) struct Options {
    state: State,
    answers: usize,
}

impl Options {
    pub(super) const fn new() -> Self {
        Self {
            state: State::Text,
            answers: 0,
        }
    }

    /// The text in these bytes, and what is answered. No option is asked for, and of those that the
    /// device asks for, its echo and talking at once are agreed to: the text is what counts.
    ///
    /// ```text
    /// IAC WILL ECHO  login:        login:     IAC DO ECHO
    /// IAC DO TERMINAL-TYPE                    IAC WONT TERMINAL-TYPE
    /// a IAC IAC b                  a \xff b
    /// ```
    pub(super) fn read(&mut self, bytes: &[u8]) -> (Vec<u8>, Vec<u8>) {
        let (mut text, mut answer) = (vec![], vec![]);
        for &byte in bytes {
            self.state = match (self.state, byte) {
                (State::Text | State::Return, IAC) => State::Command,
                // A carriage return alone is written with a zero after it.
                (State::Return, 0) => State::Text,
                (State::Text | State::Return, _) => {
                    text.push(byte);
                    if byte == b'\r' {
                        State::Return
                    } else {
                        State::Text
                    }
                }
                (State::Command, IAC) => {
                    text.push(IAC);
                    State::Text
                }
                (State::Command, DO | DONT | WILL | WONT) => State::Option(byte),
                (State::Command, SB) => State::Inside,
                (State::Command, _) => State::Text,
                (State::Option(command), option) => {
                    self.agree(command, option, &mut answer);
                    State::Text
                }
                (State::Inside, IAC) => State::InsideCommand,
                (State::InsideCommand, SE) => State::Text,
                (State::Inside | State::InsideCommand, _) => State::Inside,
            };
        }
        (text, answer)
    }

    fn agree(&mut self, command: u8, option: u8, answer: &mut Vec<u8>) {
        let said = match command {
            WILL if [ECHO, SUPPRESS_GO_AHEAD].contains(&option) => DO,
            WILL => DONT,
            DO if option == SUPPRESS_GO_AHEAD => WILL,
            DO => WONT,
            // What the other does not do, or is not to be done, is so already.
            _ => return,
        };
        if self.answers < MOST_ANSWERS {
            self.answers += 1;
            answer.extend([IAC, said, option]);
        }
    }
}

/// A text as it is typed.
pub(super) fn typed(text: &[u8]) -> Vec<u8> {
    let mut out = vec![];
    for (place, byte) in text.iter().enumerate() {
        out.push(*byte);
        match byte {
            &IAC => out.push(IAC),
            b'\r' if text.get(place + 1) != Some(&b'\n') => out.push(0),
            _ => {}
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn commands_are_answered_and_the_text_between_them_is_left() {
        let mut options = Options::new();
        let said = [
            &[IAC, WILL, ECHO, IAC, WILL, 5, IAC, DO, 24][..],
            b"log",
            &[IAC, SB, 24, 1, IAC, IAC, 2, IAC, SE, IAC, 241],
            b"in\r\0: ",
            &[IAC, IAC],
        ]
        .concat();
        let (text, answer) = options.read(&said);
        assert_eq!(text, b"login\r: \xff");
        assert_eq!(answer, [IAC, DO, ECHO, IAC, DONT, 5, IAC, WONT, 24]);
        assert_eq!(typed(b"a\xffb\rc\r\n"), b"a\xff\xffb\r\0c\r\n");
    }

    proptest! {
        #[test]
        fn it_is_the_same_in_one_piece_and_byte_by_byte(bytes in proptest::collection::vec(prop_oneof![any::<u8>(), 250_u8..=255], 0..200)) {
            let (text, answer) = Options::new().read(&bytes);
            let mut options = Options::new();
            let (mut parts, mut answers) = (vec![], vec![]);
            for byte in &bytes {
                let (text, answer) = options.read(&[*byte]);
                parts.extend(text);
                answers.extend(answer);
            }
            prop_assert_eq!((parts, answers), (text, answer));
        }

        #[test]
        fn what_is_typed_is_what_the_other_reads(text in "[ -~\u{ff}\r]{0,60}") {
            let (read, answer) = Options::new().read(&typed(text.as_bytes()));
            prop_assert_eq!(read, text.as_bytes());
            prop_assert!(answer.is_empty());
        }
    }
}

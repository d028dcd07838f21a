//! A command line over Telnet (RFC 854).

use std::io::{self, Read as _, Write as _};
use std::net::{TcpListener, TcpStream};

use super::{Machine, Manner, Model, Shared, Waits};

const IAC: u8 = 255;
const SB: u8 = 250;
const SE: u8 = 240;
/// `IAC WILL ECHO`, `IAC WILL SUPPRESS-GO-AHEAD`, `IAC DO TERMINAL-TYPE`.
const OPENING: [u8; 9] = [IAC, 251, 1, IAC, 251, 3, IAC, 253, 24];

/// Listens from now on; on which port.
pub(super) fn listen(model: Model, address: &str, shared: Shared) -> io::Result<u16> {
    let listener = TcpListener::bind(address)?;
    let port = listener.local_addr()?.port();
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            let shared = shared.clone();
            // Whoever leaves ends a session, and nothing else.
            std::thread::spawn(move || session(model, &shared, stream));
        }
    });
    Ok(port)
}

fn write(stream: &mut TcpStream, manner: Manner, text: &str) -> io::Result<()> {
    if manner == Manner::Dribbles {
        return text.bytes().try_for_each(|byte| stream.write_all(&[byte]));
    }
    stream.write_all(text.as_bytes())
}

fn session(model: Model, shared: &Shared, mut stream: TcpStream) -> io::Result<()> {
    stream.set_nodelay(true)?;
    stream.write_all(&OPENING)?;
    if shared.manner() == Manner::Floods {
        for _ in 0..40 {
            stream.write_all(&[b'x'; 32_000])?;
        }
    }
    let mut machine: Box<dyn Machine> = model.session(shared, "");
    let greeting = machine.greeting();
    write(&mut stream, shared.manner(), &greeting)?;
    let (mut line, mut commands) = (String::new(), Commands::default());
    let mut buffer = [0; 1024];
    loop {
        let count = stream.read(&mut buffer)?;
        if count == 0 {
            return Ok(());
        }
        for &byte in buffer.get(..count).unwrap_or_default() {
            // A carriage return comes with a line feed or a zero (RFC 854).
            if !commands.is_text(byte) || matches!(byte, b'\n' | 0) {
                continue;
            }
            if byte == b'\r' || machine.waits() == Waits::Key {
                let Some(answer) = machine.answer(&std::mem::take(&mut line)) else {
                    return Ok(());
                };
                write(&mut stream, shared.manner(), &answer)?;
                continue;
            }
            if machine.waits() == Waits::Line {
                stream.write_all(&[byte])?;
            }
            line.push(char::from(byte));
        }
    }
}

/// Where in a command it is.
#[derive(Clone, Copy, Default)]
enum Commands {
    #[default]
    Text,
    Command,
    Option,
    Inside,
    InsideCommand,
}

impl Commands {
    /// Whether a byte is text.
    fn is_text(&mut self, byte: u8) -> bool {
        let was = *self;
        *self = match (was, byte) {
            (Self::Text, IAC) => Self::Command,
            (Self::Command, 251..=254) => Self::Option,
            (Self::Command, SB) => Self::Inside,
            (Self::Inside, IAC) => Self::InsideCommand,
            (Self::InsideCommand, SE) => Self::Text,
            (Self::Inside | Self::InsideCommand, _) => Self::Inside,
            _ => Self::Text,
        };
        matches!((was, byte), (Self::Text, 0..=254) | (Self::Command, IAC))
    }
}

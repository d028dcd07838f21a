//! A telemetry unit of the made-up family Tarn: it asks for name and code by itself, and shows its
//! channels first, a screenful at a time.

use super::{FITTER, Machine, Manner, Repeated, Shared, Waits};

/// A unit that hears the wrong code so often ends the session.
const MOST_WRONG: u32 = 3;

/// What the unit waits for.
#[derive(Clone, Debug, PartialEq, Eq)]
enum At {
    Name,
    Code(String),
    Busy,
    Pager(u32),
    Prompt,
    Present,
    New(String),
    Again(String, String),
}

pub(super) struct Session {
    shared: Shared,
    user: String,
    wrong: u32,
    at: At,
}

impl Session {
    pub(super) const fn new(shared: Shared) -> Self {
        Self {
            shared,
            user: String::new(),
            wrong: 0,
            at: At::Name,
        }
    }

    fn sign(&self) -> String {
        match self.shared.manner() {
            Manner::OtherPrompt => "loader $ ".into(),
            _ => "tarn-2: ".into(),
        }
    }

    /// A screenful of channels, and what comes after it.
    fn channels(&self, page: u32) -> (String, At) {
        let lines: String = (1..=8)
            .map(|n| format!("channel {:>2}  level 0.{n} m\r\n", page * 8 + n))
            .collect();
        let pages = if self.shared.manner() == Manner::Chatty {
            12
        } else {
            2
        };
        if page + 1 < pages {
            (format!("{lines}space goes on"), At::Pager(page + 1))
        } else {
            (lines, At::Prompt)
        }
    }

    fn command(&self, line: &str) -> Option<(String, At)> {
        let words: Vec<&str> = line.split_whitespace().collect();
        let said = match words.as_slice() {
            [] => "",
            ["bye"] => return None,
            ["code", "own"] => return Some(("present code: ".into(), At::Present)),
            ["code", _] if self.user != FITTER => "? for fitters only\r\n",
            ["code", user] if self.shared.knows(user) => {
                return Some(("new code: ".into(), At::New((*user).to_owned())));
            }
            ["code", _] => "? no such name\r\n",
            ["names"] if self.user != FITTER => "? for fitters only\r\n",
            ["names"] => {
                let line = |name: String| {
                    let may = if name == FITTER { "changes" } else { "reads" };
                    format!("{name} {may}\r\n")
                };
                let lines: String = self.shared.users().into_iter().map(line).collect();
                return Some((lines, At::Prompt));
            }
            ["keep"] if self.shared.manner() == Manner::DoesNotSave => {
                "? the store is worn out\r\n"
            }
            ["keep"] => {
                self.shared.save();
                "kept\r\n"
            }
            _ => "? what\r\n",
        };
        Some((said.into(), At::Prompt))
    }

    fn new_code(&self, user: String, line: &str) -> Option<(String, At)> {
        self.shared.told(line);
        let plain = line.bytes().all(|byte| byte.is_ascii_alphanumeric());
        let said = match self.shared.manner() {
            Manner::HangsUp => return None,
            Manner::Refuses => "? not that one again\r\n".into(),
            Manner::ShowsSecrets => format!("? not {line} again\r\n"),
            _ if line.len() > 16 || !plain => "? letters and digits, up to 16\r\n".into(),
            _ => return Some(("again: ".into(), At::Again(user, line.to_owned()))),
        };
        Some((said, At::Prompt))
    }

    fn next(&mut self, line: &str) -> Option<(String, At)> {
        let said = match std::mem::replace(&mut self.at, At::Prompt) {
            At::Name => return Some(("code: ".into(), At::Code(line.to_owned()))),
            At::Code(name) if self.shared.opens(&name, line) => {
                self.user = name;
                if self.shared.manner() == Manner::AlreadyOpen {
                    let asked = "the panel is in use; take over (y/n) ";
                    return Some((asked.into(), At::Busy));
                }
                return Some(self.channels(0));
            }
            At::Code(_) => {
                self.wrong += 1;
                if self.wrong == MOST_WRONG {
                    return None;
                }
                return Some(("? wrong name or code\r\nname: ".into(), At::Name));
            }
            At::Busy if line == "y" => return Some(self.channels(0)),
            At::Busy => return None,
            At::Pager(page) => return Some(self.channels(page)),
            At::Prompt => return self.command(line),
            At::Present if self.shared.opens(&self.user, line) => {
                return Some(("new code: ".into(), At::New(self.user.clone())));
            }
            At::Present => "? wrong code\r\n",
            At::New(user) => return self.new_code(user, line),
            At::Again(user, new) => match self.shared.repeated(&user, &new, line) {
                Repeated::Asked => return Some(("again: ".into(), At::Again(user, new))),
                Repeated::Set => "stored\r\n",
                Repeated::Differ => "? the two differ\r\n",
            },
        };
        Some((said.into(), At::Prompt))
    }
}

impl Machine for Session {
    fn greeting(&mut self) -> String {
        match self.shared.manner() {
            Manner::Silent => String::new(),
            _ => "TARN 200\r\nname: ".into(),
        }
    }

    fn shared(&self) -> &Shared {
        &self.shared
    }

    fn said(&mut self, line: &str) -> Option<String> {
        let (said, at) = self.next(line)?;
        self.at = at;
        Some(said)
    }

    fn prompt(&self) -> Option<String> {
        (self.at == At::Prompt).then(|| self.sign())
    }

    fn waits(&self) -> Waits {
        match self.at {
            At::Name | At::Busy | At::Prompt => Waits::Line,
            At::Pager(_) => Waits::Key,
            At::Code(_) | At::Present | At::New(_) | At::Again(..) => Waits::Hidden,
        }
    }
}

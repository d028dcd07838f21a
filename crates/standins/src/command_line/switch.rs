//! A switch of the made-up family Ridge.

use super::{KEEPER, Machine, Manner, Repeated, Shared, Waits};

/// What the switch waits for.
#[derive(Clone, Debug, PartialEq, Eq)]
enum At {
    Prompt,
    Pager,
    TakeOver,
    Enable,
    Present,
    New(String),
    Again(String, String),
}

pub(super) struct Session {
    shared: Shared,
    user: String,
    privileged: bool,
    at: At,
}

impl Session {
    pub(super) const fn new(shared: Shared, user: String) -> Self {
        Self {
            shared,
            user,
            privileged: false,
            at: At::Prompt,
        }
    }

    fn sign(&self) -> String {
        let sign = if self.privileged { '#' } else { '>' };
        match self.shared.manner() {
            Manner::OtherPrompt => "ridge-3 (standby) :: ".into(),
            _ => format!("\x1b[1mridge-3\x1b[0m{sign}"),
        }
    }

    fn command(&self, line: &str) -> Option<(String, At)> {
        let words: Vec<&str> = line.split_whitespace().collect();
        let said = match words.as_slice() {
            [] => "",
            ["quit"] => return None,
            ["enable"] if self.user == KEEPER => return Some(("Password: ".into(), At::Enable)),
            ["enable"] => "Not allowed.\r\n",
            ["users"] if self.user == KEEPER => return Some((self.users(), At::Prompt)),
            ["users"] => "Not allowed.\r\n",
            ["user", user, "password"] if self.privileged && self.shared.knows(user) => {
                return Some(("New password: ".into(), At::New((*user).to_owned())));
            }
            ["user", _, "password"] if self.privileged => "No such user.\r\n",
            ["password"] => return Some(("Present password: ".into(), At::Present)),
            ["save"] if self.shared.manner() == Manner::DoesNotSave => "% The memory is full.\r\n",
            ["save"] => {
                self.shared.save();
                "Saved.\r\n"
            }
            _ => "Unknown command.\r\n",
        };
        Some((said.into(), At::Prompt))
    }

    /// The users with their roles, as a table.
    fn users(&self) -> String {
        let line = |user: String| {
            let role = if user == KEEPER { KEEPER } else { "view" };
            format!("{user:<16} {role}\r\n")
        };
        let lines: String = self.shared.users().into_iter().map(line).collect();
        format!("USER             ROLE\r\n{lines}")
    }

    /// A new password was typed.
    fn new_password(&self, user: String, line: &str) -> Option<(String, At)> {
        self.shared.told(line);
        let said = match self.shared.manner() {
            Manner::HangsUp => return None,
            Manner::Refuses => "% The password was used before.\r\n".into(),
            Manner::ShowsSecrets => format!("% The password {line} was used before.\r\n"),
            _ if line.len() < 8 => "% The password is too short.\r\n".into(),
            _ => return Some(("Once more: ".into(), At::Again(user, line.to_owned()))),
        };
        Some((said, At::Prompt))
    }

    fn next(&mut self, line: &str) -> Option<(String, At)> {
        let own = self.user.clone();
        let said = match std::mem::replace(&mut self.at, At::Prompt) {
            At::Prompt => return self.command(line),
            At::New(user) => return self.new_password(user, line),
            At::TakeOver if line != "y" => return None,
            At::Pager | At::TakeOver => "",
            At::Enable if self.shared.opens(&own, line) && own == KEEPER => {
                self.privileged = true;
                ""
            }
            At::Present if self.shared.opens(&own, line) => {
                return Some(("New password: ".into(), At::New(own)));
            }
            At::Enable | At::Present => "Wrong password.\r\n",
            At::Again(user, new) => match self.shared.repeated(&user, &new, line) {
                Repeated::Asked => return Some(("Once more: ".into(), At::Again(user, new))),
                Repeated::Set => "Password changed.\r\n",
                Repeated::Differ => "% The two differ.\r\n",
            },
        };
        Some((said.into(), At::Prompt))
    }
}

impl Machine for Session {
    fn greeting(&mut self) -> String {
        let banner = "Ridge 3.2 - property of Osmere Water\r\n";
        match self.shared.manner() {
            Manner::Silent => String::new(),
            Manner::Chatty => {
                self.at = At::Pager;
                let lines: String = (1..=20)
                    .map(|n| format!("notice {n}: read me\r\n"))
                    .collect();
                format!("{banner}{lines}-- more -- ")
            }
            Manner::AlreadyOpen => {
                self.at = At::TakeOver;
                let user = &self.user;
                format!("{banner}{user} is signed in elsewhere. Take it over? [y/n] ")
            }
            _ => format!("{banner}{}", self.sign()),
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
            At::Prompt | At::TakeOver => Waits::Line,
            At::Pager => Waits::Key,
            At::Enable | At::Present | At::New(_) | At::Again(..) => Waits::Hidden,
        }
    }
}

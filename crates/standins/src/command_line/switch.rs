//! A switch of the made-up family Ridge.

use super::{KEEPER, Machine, Manner, Shared, Waits};

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

    fn prompt(&self) -> String {
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

    fn said(&mut self, line: &str) -> Option<(String, At)> {
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
            At::Again(user, new) if self.shared.manner() == Manner::AsksForEver => {
                self.shared.told(line);
                return Some(("Once more: ".into(), At::Again(user, new)));
            }
            At::Again(user, new) => {
                self.shared.told(line);
                if new == line {
                    self.shared.set(&user, &new);
                    "Password changed.\r\n"
                } else {
                    "% The two differ.\r\n"
                }
            }
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
            _ => format!("{banner}{}", self.prompt()),
        }
    }

    fn answer(&mut self, line: &str) -> Option<String> {
        let shows = self.waits() == Waits::Hidden && self.shared.manner() == Manner::ShowsSecrets;
        let (said, at) = self.said(line)?;
        let shown = if shows { line } else { "" };
        let prompt = if at == At::Prompt {
            self.prompt()
        } else {
            String::new()
        };
        self.at = at;
        Some(format!("{shown}\r\n{said}{prompt}"))
    }

    fn waits(&self) -> Waits {
        match self.at {
            At::Prompt | At::TakeOver => Waits::Line,
            At::Pager => Waits::Key,
            At::Enable | At::Present | At::New(_) | At::Again(..) => Waits::Hidden,
        }
    }
}

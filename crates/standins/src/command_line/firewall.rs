//! A firewall of the made-up family Holloway: it is divided into contexts, a mode for changes has a
//! password of its own, and a session that is open already is asked about.

use super::{CHANGES, Machine, Manner, Repeated, Shared, WARDEN, Waits};

/// The contexts that there are.
const CONTEXTS: [&str; 2] = ["edge", "plant"];

/// What the firewall waits for.
#[derive(Clone, Debug, PartialEq, Eq)]
enum At {
    Prompt,
    Pager,
    OpenSession,
    Changes,
    Present,
    New(String),
    Again(String, String),
}

pub(super) struct Session {
    shared: Shared,
    user: String,
    context: Option<&'static str>,
    changes: bool,
    at: At,
}

impl Session {
    pub(super) const fn new(shared: Shared, user: String) -> Self {
        Self {
            shared,
            user,
            context: None,
            changes: false,
            at: At::Prompt,
        }
    }

    fn sign(&self) -> String {
        if self.shared.manner() == Manner::OtherPrompt {
            return "holloway (secondary) :: ".into();
        }
        let context = self
            .context
            .map_or_else(String::new, |it| format!(" [{it}]"));
        let sign = if self.changes { '*' } else { '>' };
        format!("holloway{context}{sign} ")
    }

    fn command(&mut self, line: &str) -> Option<(String, At)> {
        let words: Vec<&str> = line.split_whitespace().collect();
        let said = match words.as_slice() {
            [] => "",
            ["leave"] => return None,
            ["context", name] => {
                let found = CONTEXTS.into_iter().find(|known| known == name);
                self.context = found.or(self.context);
                if found.is_some() {
                    ""
                } else {
                    "Error: no such context.\r\n"
                }
            }
            ["changes", "open"] if self.user == WARDEN => {
                return Some(("Password for changes: ".into(), At::Changes));
            }
            ["changes", "open"] => "Error: only wardens make changes.\r\n",
            ["account", _, "secret"] if !self.changes || self.context.is_none() => {
                "Error: open changes in a context first.\r\n"
            }
            ["account", user, "secret"] if self.shared.knows(user) && *user != CHANGES => {
                return Some(("New secret: ".into(), At::New((*user).to_owned())));
            }
            ["account", _, "secret"] => "Error: no such account.\r\n",
            ["accounts"] if self.user != WARDEN => "Error: only wardens see accounts.\r\n",
            ["accounts"] => {
                let users = self.shared.users().into_iter();
                let line = |user: String| {
                    let role = if user == WARDEN { WARDEN } else { "reader" };
                    format!("account {user}, role {role}\r\n")
                };
                let lines: String = users.filter(|user| user != CHANGES).map(line).collect();
                return Some((lines, At::Prompt));
            }
            ["own", "secret"] => return Some(("Present secret: ".into(), At::Present)),
            ["apply"] if self.shared.manner() == Manner::DoesNotSave => {
                "Error: the standby unit does not answer.\r\n"
            }
            ["apply"] => {
                self.shared.save();
                "Applied.\r\n"
            }
            _ => "Error: unknown command.\r\n",
        };
        Some((said.into(), At::Prompt))
    }

    fn new_secret(&self, user: String, line: &str) -> Option<(String, At)> {
        self.shared.told(line);
        let said = match self.shared.manner() {
            Manner::HangsUp => return None,
            Manner::Refuses => "Error: this secret is on the list of known ones.\r\n".into(),
            Manner::ShowsSecrets => format!("Error: {line} is on the list of known ones.\r\n"),
            _ if line.len() < 10 => "Error: at least 10 characters.\r\n".into(),
            _ => return Some(("Repeat secret: ".into(), At::Again(user, line.to_owned()))),
        };
        Some((said, At::Prompt))
    }

    fn next(&mut self, line: &str) -> Option<(String, At)> {
        let own = self.user.clone();
        let said = match std::mem::replace(&mut self.at, At::Prompt) {
            At::Prompt => return self.command(line),
            At::New(user) => return self.new_secret(user, line),
            At::OpenSession if line != "r" && line != "n" => return None,
            At::Pager | At::OpenSession => "",
            At::Changes if self.shared.opens(CHANGES, line) => {
                self.changes = true;
                ""
            }
            At::Changes => "Error: that is not the password for changes.\r\n",
            At::Present if self.shared.opens(&own, line) => {
                return Some(("New secret: ".into(), At::New(own)));
            }
            At::Present => "Error: that is not the present secret.\r\n",
            At::Again(user, new) => match self.shared.repeated(&user, &new, line) {
                Repeated::Asked => return Some(("Repeat secret: ".into(), At::Again(user, new))),
                Repeated::Set => "Secret stored.\r\n",
                Repeated::Differ => "Error: the two differ.\r\n",
            },
        };
        Some((said.into(), At::Prompt))
    }
}

impl Machine for Session {
    fn greeting(&mut self) -> String {
        let banner = "Holloway HG-40, release 7\r\n";
        match self.shared.manner() {
            Manner::Silent => String::new(),
            Manner::Chatty => {
                self.at = At::Pager;
                let lines: String = (1..=24)
                    .map(|n| format!("rule {n} has matched nothing for a year\r\n"))
                    .collect();
                format!("{banner}{lines}(any key) ")
            }
            Manner::AlreadyOpen => {
                self.at = At::OpenSession;
                let user = &self.user;
                format!(
                    "{banner}{user} has a session since 02:14: (r)euse it, (n)ew one, (l)eave? "
                )
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
            At::Prompt | At::OpenSession => Waits::Line,
            At::Pager => Waits::Key,
            At::Changes | At::Present | At::New(_) | At::Again(..) => Waits::Hidden,
        }
    }
}

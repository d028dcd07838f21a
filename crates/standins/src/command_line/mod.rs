//! Devices of made-up families that have a command line and nothing else. What they say is a
//! [`Machine`]; how it is reached, over SSH or Telnet, is the same for all. Each can be told to
//! misbehave.

mod firewall;
mod ssh;
mod switch;
mod telemetry;
mod telnet;

use std::collections::BTreeMap;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// The user of a switch who may change the passwords of others.
pub const KEEPER: &str = "keeper";
/// The user of a firewall who may change the passwords of others, once the mode for that is open.
pub const WARDEN: &str = "warden";
/// The firewall's account that is no person's: its password opens the mode for changes.
pub const CHANGES: &str = "(changes)";
/// The user of a telemetry unit who may change the passwords of others.
pub const FITTER: &str = "fitter";

/// How a device behaves.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Manner {
    /// As it should.
    #[default]
    Obeys,
    /// It sends its output one byte at a time.
    Dribbles,
    /// Its greeting is longer than a screen and is shown through a pager.
    Chatty,
    /// It asks what to do about another open session.
    AlreadyOpen,
    /// It takes no new password.
    Refuses,
    /// It shows an unexpected prompt.
    OtherPrompt,
    /// It says that the password is changed, and keeps the old one.
    Lies,
    /// It echoes passwords.
    ShowsSecrets,
    /// It sends nothing after the sign-in.
    Silent,
    /// It greets without end.
    Floods,
    /// It ends the session after the new password was typed once.
    HangsUp,
    /// It asks for the new password again and again.
    AsksForEver,
    /// It does not save what was changed.
    DoesNotSave,
}

impl Manner {
    /// All of them.
    pub const ALL: [Self; 13] = [
        Self::Obeys,
        Self::Dribbles,
        Self::Chatty,
        Self::AlreadyOpen,
        Self::Refuses,
        Self::OtherPrompt,
        Self::Lies,
        Self::ShowsSecrets,
        Self::Silent,
        Self::Floods,
        Self::HangsUp,
        Self::AsksForEver,
        Self::DoesNotSave,
    ];
}

/// What a session waits for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Waits {
    /// A line that it writes back.
    Line,
    /// A line that it does not write back.
    Hidden,
    /// Any key.
    Key,
}

/// A session at a command line.
trait Machine: Send {
    /// What the device has in common with its other sessions.
    fn shared(&self) -> &Shared;
    /// The first output of a session; over SSH, after the sign-in.
    fn greeting(&mut self) -> String;
    /// What it says to a line; nothing when it hangs up.
    fn said(&mut self, line: &str) -> Option<String>;
    /// The prompt, where it waits for a command.
    fn prompt(&self) -> Option<String>;
    /// What it waits for.
    fn waits(&self) -> Waits;

    /// All that it writes for a line; nothing when it hangs up.
    fn answer(&mut self, line: &str) -> Option<String> {
        let shows = self.waits() == Waits::Hidden && self.shared().manner() == Manner::ShowsSecrets;
        let said = self.said(line)?;
        let shown = if shows { line } else { "" };
        let prompt = self.prompt().unwrap_or_default();
        Some(format!("{shown}\r\n{said}{prompt}"))
    }
}

/// What comes of a new password that was typed once more.
enum Repeated {
    /// The device asks yet again.
    Asked,
    /// Both are the same; the account has it.
    Set,
    Differ,
}

#[derive(Debug)]
struct Inner {
    manner: Manner,
    accounts: BTreeMap<String, String>,
    file: Option<PathBuf>,
    /// Every password that was tried or typed.
    told: Vec<String>,
}

/// What the sessions of a device share.
#[derive(Clone, Debug)]
struct Shared(Arc<Mutex<Inner>>);

impl Shared {
    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn manner(&self) -> Manner {
        self.lock().manner
    }

    /// Records a typed password, and tells whether it is the account's.
    fn opens(&self, user: &str, password: &str) -> bool {
        let mut inner = self.lock();
        inner.told.push(password.to_owned());
        inner.accounts.get(user).is_some_and(|own| own == password)
    }

    fn knows(&self, user: &str) -> bool {
        self.lock().accounts.contains_key(user)
    }

    /// The users.
    fn users(&self) -> Vec<String> {
        self.lock().accounts.keys().cloned().collect()
    }

    /// Records a password that was typed.
    fn told(&self, password: &str) {
        self.lock().told.push(password.to_owned());
    }

    /// An account has a new password, unless the device lies.
    fn set(&self, user: &str, password: &str) {
        let mut inner = self.lock();
        if inner.manner != Manner::Lies {
            inner.accounts.insert(user.to_owned(), password.to_owned());
        }
    }

    /// A new password was typed for the second time.
    fn repeated(&self, user: &str, new: &str, line: &str) -> Repeated {
        self.told(line);
        if self.manner() == Manner::AsksForEver {
            return Repeated::Asked;
        }
        if new != line {
            return Repeated::Differ;
        }
        self.set(user, new);
        Repeated::Set
    }

    fn save(&self) {
        let inner = self.lock();
        if let Some(file) = &inner.file {
            let lines: String = inner
                .accounts
                .iter()
                .map(|(name, password)| format!("{name} {password}\n"))
                .collect();
            let _ = std::fs::write(file, lines);
        }
    }
}

/// Which family a device is of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Model {
    /// A switch of the family Ridge, over SSH: `demo/dialogues/ridge-switch.toml`.
    Switch,
    /// A firewall of the family Holloway, over SSH: it has contexts, a mode for changes with a password
    /// of its own, and asks what to do about a session that is open:
    /// `demo/dialogues/holloway-firewall.toml`.
    Firewall,
    /// A telemetry unit of the family Tarn, over Telnet: it signs people in by itself, and stops at
    /// every screenful: `demo/dialogues/tarn-telemetry.toml`.
    Telemetry,
}

impl Model {
    fn session(self, shared: &Shared, user: &str) -> Box<dyn Machine> {
        let (shared, user) = (shared.clone(), user.to_owned());
        match self {
            Self::Switch => Box::new(switch::Session::new(shared, user)),
            Self::Firewall => Box::new(firewall::Session::new(shared, user)),
            Self::Telemetry => Box::new(telemetry::Session::new(shared)),
        }
    }
}

/// A running device. It runs until the process ends.
#[derive(Clone, Debug)]
pub struct CommandLine {
    shared: Shared,
    port: u16,
}

impl CommandLine {
    /// Starts one with these accounts on a free port of 127.0.0.1.
    ///
    /// # Errors
    /// When it does not come up.
    pub fn temporary(model: Model, accounts: &[(&str, &str)]) -> io::Result<Self> {
        Self::run(model, "127.0.0.1:0".into(), None, accounts)
    }

    /// Starts one whose key and accounts are kept in a folder; `accounts` are those of the first
    /// time.
    ///
    /// # Errors
    /// When it does not come up, or the folder cannot be used.
    pub fn start(
        model: Model,
        folder: &Path,
        address: &str,
        port: u16,
        accounts: &[(&str, &str)],
    ) -> io::Result<Self> {
        std::fs::create_dir_all(folder)?;
        let kept = std::fs::read_to_string(folder.join("accounts")).unwrap_or_default();
        let kept: Vec<(&str, &str)> = kept
            .lines()
            .filter_map(|line| line.split_once(' '))
            .collect();
        let accounts = if kept.is_empty() { accounts } else { &kept };
        Self::run(model, format!("{address}:{port}"), Some(folder), accounts)
    }

    fn run(
        model: Model,
        address: String,
        folder: Option<&Path>,
        accounts: &[(&str, &str)],
    ) -> io::Result<Self> {
        let shared = Shared(Arc::new(Mutex::new(Inner {
            manner: Manner::Obeys,
            accounts: accounts
                .iter()
                .map(|(user, password)| ((*user).to_owned(), (*password).to_owned()))
                .collect(),
            file: folder.map(|folder| folder.join("accounts")),
            told: vec![],
        })));
        let port = match model {
            Model::Switch | Model::Firewall => {
                let key = ssh::host_key(folder)?;
                ssh::listen(model, address, key, shared.clone())?
            }
            Model::Telemetry => telnet::listen(model, &address, shared.clone())?,
        };
        Ok(Self { shared, port })
    }

    /// Its port.
    #[must_use]
    pub const fn port(&self) -> u16 {
        self.port
    }

    /// From now on it behaves like this.
    pub fn behave(&self, manner: Manner) {
        self.shared.lock().manner = manner;
    }

    /// The password of an account.
    #[must_use]
    pub fn password(&self, user: &str) -> String {
        let inner = self.shared.lock();
        inner.accounts.get(user).cloned().unwrap_or_default()
    }

    /// Gives an account a password past its command line.
    pub fn set(&self, user: &str, password: &str) {
        let mut inner = self.shared.lock();
        inner.accounts.insert(user.to_owned(), password.to_owned());
    }

    /// Every password that was tried or typed so far.
    #[must_use]
    pub fn told(&self) -> Vec<String> {
        self.shared.lock().told.clone()
    }
}

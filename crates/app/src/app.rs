//! What the routes and workers of one process share. Nothing here matters to another process
//! (promise 10): all of it can be rebuilt from the configuration and the database.

use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::AtomicUsize;
use std::time::Duration;

use jexlin_core::dialogue::Instructions;
use jexlin_core::policy::{About, PasswordPolicy};
use jexlin_core::secret::Secret;
use jexlin_core::upkeep::ConnectorKind;
use jexlin_devices::{Connector, Registry, TimeLimits};
use jexlin_store::{LiveNews, Store};
use rand::SeedableRng as _;
use rand::rngs::{StdRng, SysRng};
use tokio::sync::{Mutex, Notify, broadcast};

use crate::clock::Clock;
use crate::config::Config;
use crate::keyring::{self, Keyring};
use crate::leaked_passwords::LeakedPasswords;
use crate::open_personal_folders::OpenFolders;

/// The shared parts.
#[derive(Clone, Debug)]
pub struct App {
    /// This service among those that run on the database.
    pub id: uuid::Uuid,
    /// The configuration.
    pub config: Arc<Config>,
    /// The records.
    pub store: Store,
    /// The open keys.
    pub keyring: Keyring,
    /// The time.
    pub clock: Clock,
    /// The connectors, with the operators' connections.
    pub connectors: Registry,
    /// The file of leaked passwords.
    pub leaks: LeakedPasswords,
    /// The open personal folders of this process.
    pub personal: OpenFolders,
    /// How far imports are.
    pub imports: crate::import_progress::Imports,
    /// Where no organisation's rule lets the service connect to: its own database.
    pub never_connect_to: Arc<[SocketAddr]>,
    /// Live news.
    pub news: broadcast::Sender<LiveNews>,
    /// Wakes the runners.
    pub wake: Arc<Notify>,
    /// Argon2 takes memory; so many verifications at a time.
    pub hashing: Arc<tokio::sync::Semaphore>,
    /// Set-up and unlocking happen one at a time.
    pub opening: Arc<Mutex<Opening>>,
    /// Operators that are signing in to devices.
    pub sign_ins: SignIns,
    /// Dialogues that were read, by version: a version is never changed.
    pub dialogues: ReadDialogues,
    /// Which organisation's turn it is to have a job taken.
    pub turn: Arc<AtomicUsize>,
}

/// Dialogues and recipes that were read, by version.
#[derive(Clone, Debug, Default)]
pub struct ReadDialogues(Arc<std::sync::Mutex<HashMap<uuid::Uuid, Arc<Instructions>>>>);

/// More are read again: a dialogue takes little time, and some memory.
const MOST_READ: usize = 200;

impl ReadDialogues {
    /// A version of a dialogue or recipe, read once.
    ///
    /// # Errors
    /// When its text is no dialogue any more.
    pub fn get(
        &self,
        id: uuid::Uuid,
        text: impl FnOnce() -> String,
    ) -> Result<Arc<Instructions>, crate::error::AppError> {
        let mut read = self
            .0
            .lock()
            .unwrap_or_else(std::sync::PoisonError::into_inner);
        if let Some(known) = read.get(&id) {
            return Ok(Arc::clone(known));
        }
        let dialogue = Instructions::read(&text()).map_err(|findings| {
            let all: Vec<String> = findings.iter().map(ToString::to_string).collect();
            crate::error::AppError::internal(format!("dialogue {id}: {}", all.join("; ")))
        })?;
        if read.len() >= MOST_READ {
            read.clear();
        }
        let dialogue = Arc::new(dialogue);
        read.insert(id, Arc::clone(&dialogue));
        Ok(dialogue)
    }
}

/// Operators that are signing in to devices, by device.
#[derive(Clone, Debug, Default)]
pub struct SignIns(Arc<std::sync::Mutex<HashMap<uuid::Uuid, Arc<Mutex<()>>>>>);

impl SignIns {
    /// What one that signs in to a device holds, and others wait for.
    #[must_use]
    pub fn on(&self, device: uuid::Uuid) -> Arc<Mutex<()>> {
        let mut all = self
            .0
            .lock()
            .unwrap_or_else(std::sync::PoisonError::into_inner);
        all.retain(|_, turn| Arc::strong_count(turn) > 1);
        Arc::clone(all.entry(device).or_default())
    }
}

/// What is known about opening the vault.
#[derive(Debug, Default)]
pub struct Opening {
    /// The set-up code, while there is no organisation.
    pub code: Option<Secret>,
    /// Refused tries to open the vault, told in the audit log once it is open.
    pub refused: u32,
}

impl App {
    /// Puts the parts together; connects to nothing yet.
    ///
    /// # Errors
    /// A sentence.
    pub fn new(config: Config, clock: Clock) -> Result<Self, String> {
        let store =
            Store::open(&config.database, config.connections).map_err(|error| error.to_string())?;
        let limits = TimeLimits {
            connect: Duration::from_secs(config.connect_seconds),
            change: Duration::from_secs(config.change_seconds),
            ..TimeLimits::default()
        };
        let keyring = Keyring::default();
        if let Some(root) = keyring::root_key_from_manager(config.credentials.as_deref())? {
            keyring.open(root);
        }
        Ok(Self {
            id: uuid::Uuid::now_v7(),
            store,
            keyring,
            clock,
            connectors: Registry::new(limits),
            leaks: LeakedPasswords::at(config.leaked.clone()),
            personal: OpenFolders::default(),
            imports: crate::import_progress::Imports::default(),
            never_connect_to: jexlin_store::addresses_of(&config.database).into(),
            news: broadcast::channel(1024).0,
            wake: Arc::default(),
            hashing: Arc::new(tokio::sync::Semaphore::new(2)),
            opening: Arc::default(),
            sign_ins: SignIns::default(),
            dialogues: ReadDialogues::default(),
            turn: Arc::default(),
            config: Arc::new(config),
        })
    }

    /// The connector of a kind.
    ///
    /// # Errors
    /// When this service has none.
    pub fn connector(&self, kind: ConnectorKind) -> Result<&dyn Connector, crate::error::AppError> {
        self.connectors
            .get(kind)
            .ok_or_else(|| crate::error::AppError::internal(format!("no connector for {kind}")))
    }

    /// A generator seeded from the kernel, for one use.
    ///
    /// # Errors
    /// When the kernel gives no randomness.
    pub fn rng(&self) -> Result<StdRng, crate::error::AppError> {
        StdRng::try_from_rng(&mut SysRng)
            .map_err(|error| crate::error::AppError::internal(format!("no randomness: {error}")))
    }

    /// Writes a set-up code into the service's folder when there is no organisation yet, and
    /// returns where.
    ///
    /// # Errors
    /// A sentence.
    pub async fn offer_setup(&self) -> Result<Option<std::path::PathBuf>, String> {
        if !self
            .store
            .organisations()
            .await
            .map_err(|error| error.to_string())?
            .is_empty()
        {
            return Ok(None);
        }
        let mut rng = self.rng().map_err(|fault| fault.detail().to_owned())?;
        let policy = PasswordPolicy {
            length: 24,
            min_length: 24,
            min_symbols: 0,
            symbols: String::new(),
            ..Default::default()
        };
        let code = policy
            .generate(&mut rng, About::default())
            .map_err(|problem| problem.to_string())?;
        let path = self.config.folder.join("setup-code");
        keyring::write_private(&path, code.expose_secret_text().unwrap_or_default())
            .map_err(|error| format!("the set-up code cannot be written: {error}"))?;
        self.opening.lock().await.code = Some(code);
        Ok(Some(path))
    }
}

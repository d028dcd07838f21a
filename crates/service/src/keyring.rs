//! The keys that are open in this process: none until the root key is.

use std::collections::HashMap;
use std::fs;
use std::io::Write as _;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::{Path, PathBuf};
use std::sync::{Arc, RwLock};

use jexlin_core::audit::Signer;
use jexlin_core::secret::Secret;
use jexlin_core::vault::{Key, OrganisationKey, RootKey, RootKeyProblem, Sealed, WrappedKey};
use jexlin_store::{OrganisationRow, Store};
use uuid::Uuid;

use crate::problem::{Answer, Fault};

/// The open keys of one organisation.
#[derive(Debug)]
pub struct OpenKeys {
    /// Opens data keys.
    pub key: OrganisationKey,
    /// Authenticates audit events.
    pub mac: Key,
    /// Signs checkpoints.
    pub signer: Signer,
    /// The organisation's name.
    pub name: String,
}

/// The keyring.
#[derive(Clone, Debug, Default)]
pub struct Keyring(Arc<RwLock<State>>);

#[derive(Debug, Default)]
struct State {
    root: Option<RootKey>,
    organisations: HashMap<Uuid, Arc<OpenKeys>>,
}

impl Keyring {
    /// Whether the root key is open.
    #[must_use]
    pub fn is_open(&self) -> bool {
        self.0.read().is_ok_and(|state| state.root.is_some())
    }

    /// Takes over an open root key.
    pub fn open(&self, root: RootKey) {
        if let Ok(mut state) = self.0.write() {
            state.root = Some(root);
        }
    }

    /// Forgets everything.
    pub fn lock(&self) {
        if let Ok(mut state) = self.0.write() {
            *state = State::default();
        }
    }

    /// The root key, where set-up needs it.
    fn root(&self) -> Answer<RootKey> {
        self.0.read().ok().and_then(|state| state.root.clone()).ok_or_else(Fault::locked)
    }

    /// The root key for making an organisation.
    ///
    /// # Errors
    /// When the vault is locked.
    pub fn root_for_setup(&self) -> Answer<RootKey> {
        self.root()
    }

    /// The open keys of an organisation; opened at the first use.
    ///
    /// # Errors
    /// When the vault is locked, or the root key is not the one of this database.
    pub async fn keys(&self, store: &Store, organisation: Uuid) -> Answer<Arc<OpenKeys>> {
        let root = self.root()?;
        if let Some(keys) = self.0.read().ok().and_then(|state| state.organisations.get(&organisation).cloned()) {
            return Ok(keys);
        }
        let mut tx = store.begin(organisation).await?;
        let row = tx.organisation_row().await?;
        tx.commit().await?;
        if row.locked_at.is_some() {
            return Err(Fault::locked());
        }
        self.keys_of(&root, &row)
    }

    fn keys_of(&self, root: &RootKey, row: &OrganisationRow) -> Answer<Arc<OpenKeys>> {
        let keys = Arc::new(open_keys(root, row)?);
        if let Ok(mut state) = self.0.write() {
            state.organisations.insert(row.id, Arc::clone(&keys));
        }
        Ok(keys)
    }

    /// The keys of an organisation that is being unlocked, in the transaction that does it.
    ///
    /// # Errors
    /// When the vault is locked, or the root key is not the one of this database.
    pub fn open_organisation(&self, row: &OrganisationRow) -> Answer<Arc<OpenKeys>> {
        self.keys_of(&self.root()?, row)
    }

    /// Forgets the keys of organisations that are not among those whose vault is open, and the root key
    /// when there is none. Whether any were forgotten.
    pub fn keep(&self, open: &[Uuid]) -> bool {
        let Ok(mut state) = self.0.write() else { return false };
        let before = (state.root.is_some(), state.organisations.len());
        if open.is_empty() {
            *state = State::default();
        } else {
            state.organisations.retain(|id, _| open.contains(id));
        }
        before != (state.root.is_some(), state.organisations.len())
    }
}

fn open_keys(root: &RootKey, row: &OrganisationRow) -> Answer<OpenKeys> {
    let key = OrganisationKey::unwrap_with(root, row.id, &WrappedKey(row.wrapped_key.clone()))?;
    let seed = key.open_signing_key(row.id, &Sealed(row.log_key_sealed.clone()))?;
    let seed: &[u8; 32] = seed.expose_secret().try_into().map_err(|_| Fault::internal("the audit signing key has not 32 bytes"))?;
    Ok(OpenKeys { mac: key.audit_mac_key(), signer: Signer::new(&row.log_origin, seed), key, name: row.name.clone() })
}

/// Where the root key file is.
#[must_use]
pub fn root_key_path(folder: &Path) -> PathBuf {
    folder.join("root-key.json")
}

/// Writes a file that its owner alone may read, whole or not at all.
///
/// # Errors
/// The system's words.
pub fn write_private(path: &Path, text: &str) -> std::io::Result<()> {
    let beside = path.with_extension("new");
    let mut file = fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&beside)?;
    file.write_all(text.as_bytes())?;
    file.sync_all()?;
    fs::rename(&beside, path)?;
    if let Some(folder) = path.parent() {
        fs::File::open(folder)?.sync_all()?;
    }
    Ok(())
}

/// Opens the root key file with its passphrase.
///
/// # Errors
/// [`Fault`] with what to do.
pub fn read_root_key(folder: &Path, passphrase: &Secret) -> Answer<RootKey> {
    let text = fs::read_to_string(root_key_path(folder)).map_err(|error| {
        Fault::conflict(
            "no-root-key-file",
            format!("The root key file cannot be read: {error}."),
            "Put the backup of root-key.json back into the service's folder.",
        )
    })?;
    RootKey::unprotect(&text, passphrase).map_err(|problem| match problem {
        RootKeyProblem::Refused => Fault::forbidden("The passphrase does not open the root key file.", "Check the passphrase; nothing was opened."),
        other => Fault::conflict("no-root-key-file", format!("{other}."), "Put the backup of root-key.json back into the service's folder."),
    })
}

/// The root key from the service manager's credential folder, if it is there.
///
/// # Errors
/// A sentence when it is there and cannot be used.
pub fn root_key_from_manager(credentials: Option<&Path>) -> Result<Option<RootKey>, String> {
    let Some(path) = credentials.map(|folder| folder.join("jexlin-root-key")).filter(|path| path.exists()) else { return Ok(None) };
    let text = fs::read_to_string(&path).map_err(|error| format!("the root key of the service manager cannot be read: {error}"))?;
    RootKey::from_credential(&text).map(Some).map_err(|problem| problem.to_string())
}

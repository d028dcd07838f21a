//! The keys that are open in this process: none until a root key is.
//!
//! While the root key changes there are two: the one that counts, and the next. An organisation's
//! key is wrapped under both until the change is finished, and is opened with whichever is here.

use std::collections::HashMap;
use std::fs;
use std::io::Write as _;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::{Path, PathBuf};
use std::sync::{Arc, RwLock};

use jexlin_api::ErrorCode;
use jexlin_core::audit::Signer;
use jexlin_core::secret::Secret;
use jexlin_core::vault::{
    ChangedKey, EventKey, OrganisationKey, RootKey, RootKeyProblem, SealProblem, Sealed, WrappedKey,
};
use jexlin_store::{OpenOrganisation, OrganisationRow, Store};
use rand::CryptoRng;
use uuid::Uuid;

use crate::error::{AppError, AppResult};

/// The open keys of one organisation.
#[derive(Debug)]
pub struct OpenKeys {
    /// Opens data keys.
    pub key: OrganisationKey,
    /// Authenticates audit events.
    pub mac: EventKey,
    /// Signs checkpoints.
    pub signer: Signer,
    /// The organisation's name.
    pub name: String,
}

/// A change of an organisation's key, before it is committed.
#[derive(Debug)]
pub struct NewKeys {
    /// The new keys.
    pub open: Arc<OpenKeys>,
    /// The new key under the root key.
    pub wrapped: WrappedKey,
    /// The former key under the new one.
    pub former: WrappedKey,
    /// The signing key under the new one.
    pub log_key_sealed: Sealed,
}

/// The keyring.
#[derive(Clone, Debug, Default)]
pub struct Keyring(Arc<RwLock<State>>, Arc<tokio::sync::Mutex<()>>);

#[derive(Debug, Default)]
struct State {
    roots: Vec<RootKey>,
    organisations: HashMap<Uuid, Arc<OpenKeys>>,
}

impl Keyring {
    /// Whether a root key is open.
    #[must_use]
    pub fn is_open(&self) -> bool {
        self.0.read().is_ok_and(|state| !state.roots.is_empty())
    }

    /// Held by whoever opens vaults in the database and here: what closes keys by what the database
    /// said before that would close them again.
    pub async fn turn(&self) -> tokio::sync::MutexGuard<'_, ()> {
        self.1.lock().await
    }

    /// Takes over an open root key.
    pub fn open(&self, root: RootKey) {
        if let Ok(mut state) = self.0.write()
            && state.roots.iter().all(|known| known.name() != root.name())
        {
            state.roots.push(root);
        }
    }

    /// Forgets everything.
    pub fn lock(&self) {
        if let Ok(mut state) = self.0.write() {
            *state = State::default();
        }
    }

    /// The names of the root keys that are open.
    #[must_use]
    pub fn root_names(&self) -> Vec<String> {
        self.0
            .read()
            .map(|state| state.roots.iter().map(RootKey::name).collect())
            .unwrap_or_default()
    }

    /// Forgets the root keys of other names than this.
    pub fn keep_root(&self, wanted: impl Fn(&str) -> bool) {
        if let Ok(mut state) = self.0.write() {
            state.roots.retain(|root| wanted(&root.name()));
        }
    }

    fn roots(&self) -> AppResult<Vec<RootKey>> {
        self.0
            .read()
            .ok()
            .map(|state| state.roots.clone())
            .filter(|roots| !roots.is_empty())
            .ok_or_else(AppError::locked)
    }

    /// The root key for making an organisation.
    ///
    /// # Errors
    /// When the vault is locked.
    pub fn root_for_setup(&self) -> AppResult<RootKey> {
        self.roots()?.pop().ok_or_else(AppError::locked)
    }

    /// The open keys of an organisation; opened at the first use.
    ///
    /// # Errors
    /// When the vault is locked, or the root key is not the one of this database.
    pub async fn keys(&self, store: &Store, organisation: Uuid) -> AppResult<Arc<OpenKeys>> {
        let roots = self.roots()?;
        if let Some(keys) = self
            .0
            .read()
            .ok()
            .and_then(|state| state.organisations.get(&organisation).cloned())
        {
            return Ok(keys);
        }
        let mut tx = store.begin(organisation).await?;
        let row = tx.organisation_row().await?;
        tx.commit().await?;
        if row.locked_at.is_some() {
            return Err(AppError::locked());
        }
        self.keys_of(&roots, &row)
    }

    fn keys_of(&self, roots: &[RootKey], row: &OrganisationRow) -> AppResult<Arc<OpenKeys>> {
        let (_, key) = open_key(roots, row)?;
        let seed = key.open_signing_key(row.id, &Sealed(row.log_key_sealed.clone()))?;
        let keys = Arc::new(OpenKeys {
            mac: key.event_key(),
            signer: signer(&row.log_origin, &seed)?,
            key,
            name: row.name.clone(),
        });
        self.take_over(row.id, Arc::clone(&keys));
        Ok(keys)
    }

    /// Takes over the keys of an organisation.
    pub fn take_over(&self, organisation: Uuid, keys: Arc<OpenKeys>) {
        if let Ok(mut state) = self.0.write() {
            state.organisations.insert(organisation, keys);
        }
    }

    /// The keys of an organisation that is being unlocked, in the transaction that does it.
    ///
    /// # Errors
    /// When the vault is locked, or the root key is not the one of this database.
    pub fn open_organisation(&self, row: &OrganisationRow) -> AppResult<Arc<OpenKeys>> {
        self.keys_of(&self.roots()?, row)
    }

    /// Forgets the keys of organisations that are not among those whose vault is open, and the root
    /// key when there is none; and keys that have changed, so that they are read again. Whether any
    /// vault was closed.
    ///
    /// # Errors
    /// When the database cannot be asked; then nothing is forgotten.
    pub async fn keep_open(&self, store: &Store) -> AppResult<bool> {
        let _turn = self.turn().await;
        Ok(self.keep(&store.open_organisations().await?))
    }

    fn keep(&self, open: &[OpenOrganisation]) -> bool {
        let Ok(mut state) = self.0.write() else {
            return false;
        };
        let before = (state.roots.is_empty(), state.organisations.len());
        if open.is_empty() {
            *state = State::default();
        } else {
            state
                .organisations
                .retain(|id, _| open.iter().any(|entry| entry.id == *id));
        }
        let closed = before != (state.roots.is_empty(), state.organisations.len());
        state.organisations.retain(|id, keys| {
            open.iter().any(|entry| {
                entry.id == *id
                    && entry.key_number == keys.key.number()
                    && entry.changing == keys.key.is_changing()
            })
        });
        closed
    }

    /// The name of the root key that an organisation's key is under, and that key under another
    /// one.
    ///
    /// # Errors
    /// When no root key here opens it.
    pub fn wrap_for(
        &self,
        rng: &mut dyn CryptoRng,
        row: &OrganisationRow,
        next: &RootKey,
    ) -> AppResult<(String, WrappedKey)> {
        let current = OrganisationRow {
            next_wrapped_key: None,
            ..row.clone()
        };
        let (name, key) = open_key(&self.roots()?, &current)?;
        Ok((name, key.wrap_with(rng, next, row.id)?))
    }

    /// Whether the next root key is here and opens what was prepared for it.
    #[must_use]
    pub fn opens_next(&self, row: &OrganisationRow) -> bool {
        let (Ok(mut roots), Some(next), Some(wrapped)) =
            (self.roots(), &row.next_root_key, &row.next_wrapped_key)
        else {
            return false;
        };
        roots.retain(|root| root.name() == *next);
        let prepared = OrganisationRow {
            wrapped_key: wrapped.clone(),
            ..row.clone()
        };
        open_key(&roots, &prepared).is_ok()
    }

    /// A new key of an organisation, with everything that was under the former one itself.
    ///
    /// # Errors
    /// When no root key here opens the present one.
    pub fn change(&self, rng: &mut dyn CryptoRng, row: &OrganisationRow) -> AppResult<NewKeys> {
        let roots = self.roots()?;
        let (name, present) = open_key(&roots, row)?;
        let root = roots
            .iter()
            .find(|root| root.name() == name)
            .ok_or_else(AppError::locked)?;
        let ChangedKey {
            key,
            wrapped,
            former,
        } = present.change(rng, root, row.id)?;
        let seed = present.open_signing_key(row.id, &Sealed(row.log_key_sealed.clone()))?;
        let log_key_sealed = key.seal_signing_key(rng, row.id, seed_bytes(&seed)?)?;
        let open = Arc::new(OpenKeys {
            mac: key.event_key(),
            signer: signer(&row.log_origin, &seed)?,
            key,
            name: row.name.clone(),
        });
        Ok(NewKeys {
            open,
            wrapped,
            former,
            log_key_sealed,
        })
    }
}

/// The key of an organisation, and the name of the root key that opened it.
fn open_key(roots: &[RootKey], row: &OrganisationRow) -> AppResult<(String, OrganisationKey)> {
    let former = row.former_key.clone().map(WrappedKey);
    for wrapped in [Some(&row.wrapped_key), row.next_wrapped_key.as_ref()]
        .into_iter()
        .flatten()
    {
        for root in roots {
            match OrganisationKey::unwrap_with(
                root,
                row.id,
                row.key_number,
                &WrappedKey(wrapped.clone()),
                former.as_ref(),
            ) {
                Err(SealProblem::Refused) => {}
                other => return Ok((root.name(), other?)),
            }
        }
    }
    Err(AppError::conflict(
        ErrorCode::OtherRootKey,
        "This root key does not open the vault: it is not, or no longer, the root key of this database.",
        "Put the root-key.json that belongs to the database into the service's folder, and use its passphrase.",
    ))
}

fn seed_bytes(seed: &Secret) -> AppResult<&[u8; 32]> {
    seed.expose_secret()
        .try_into()
        .map_err(|_| AppError::internal("the audit signing key does not have 32 bytes"))
}

fn signer(origin: &str, seed: &Secret) -> AppResult<Signer> {
    Ok(Signer::new(origin, seed_bytes(seed)?))
}

/// Where the root key file is.
#[must_use]
pub fn root_key_path(folder: &Path) -> PathBuf {
    folder.join("root-key.json")
}

/// Where the file of the next root key is, while it changes.
#[must_use]
pub fn next_root_key_path(folder: &Path) -> PathBuf {
    folder.join("root-key.next.json")
}

/// Where the file of the root key before the last change is: backups from then need it.
#[must_use]
pub fn previous_root_key_path(folder: &Path) -> PathBuf {
    folder.join("root-key.previous.json")
}

/// Which root key a file says that it holds.
#[must_use]
pub fn root_key_name_in(path: &Path) -> Option<String> {
    RootKey::name_in(&fs::read_to_string(path).ok()?)
}

/// Writes a file that its owner alone may read, whole or not at all.
///
/// # Errors
/// The system's words.
pub fn write_private(path: &Path, text: &str) -> std::io::Result<()> {
    rename_durably(&write_beside(path, text)?, path)
}

/// Writes a file beside another one that it will replace, readable to its owner alone.
///
/// # Errors
/// The system's words.
pub fn write_beside(path: &Path, text: &str) -> std::io::Result<PathBuf> {
    let beside = path.with_extension("new");
    let mut file = fs::OpenOptions::new()
        .write(true)
        .create(true)
        .truncate(true)
        .mode(0o600)
        .open(&beside)?;
    file.write_all(text.as_bytes())?;
    file.sync_all()?;
    Ok(beside)
}

/// Renames a file, and makes the new name durable.
///
/// # Errors
/// The system's words.
pub fn rename_durably(from: &Path, to: &Path) -> std::io::Result<()> {
    fs::rename(from, to)?;
    if let Some(folder) = to.parent() {
        fs::File::open(folder)?.sync_all()?;
    }
    Ok(())
}

/// Opens the root key file with its passphrase, and, while the root key changes, the next one's.
///
/// # Errors
/// [`AppError`] with what to do when it opens neither.
pub fn read_root_keys(folder: &Path, passphrase: &Secret) -> AppResult<Vec<RootKey>> {
    let (mut keys, mut first) = (vec![], None);
    for path in [root_key_path(folder), next_root_key_path(folder)] {
        match read_root_key(&path, passphrase) {
            Ok(key) => keys.push(key),
            Err(fault) => {
                let _ = first.get_or_insert(fault);
            }
        }
    }
    match first {
        Some(fault) if keys.is_empty() => Err(fault),
        _ => Ok(keys),
    }
}

/// Opens one root key file with its passphrase.
///
/// # Errors
/// [`AppError`] with what to do.
pub fn read_root_key(path: &Path, passphrase: &Secret) -> AppResult<RootKey> {
    let text = fs::read_to_string(path).map_err(|error| {
        AppError::conflict(
            ErrorCode::NoRootKeyFile,
            format!("The root key file cannot be read: {error}."),
            "Put the backup of root-key.json back into the service's folder.",
        )
    })?;
    RootKey::unprotect(&text, passphrase).map_err(|problem| match problem {
        RootKeyProblem::Refused => AppError::forbidden(
            "The passphrase does not open the root key file.",
            "Check the passphrase; nothing was opened.",
        ),
        other => AppError::conflict(
            ErrorCode::NoRootKeyFile,
            format!("{other}."),
            "Put the backup of root-key.json back into the service's folder.",
        ),
    })
}

/// The root key from the service manager's credential folder, if it is there.
///
/// # Errors
/// A sentence when it is there and cannot be used.
pub fn root_key_from_manager(credentials: Option<&Path>) -> Result<Option<RootKey>, String> {
    let Some(path) = credentials
        .map(|folder| folder.join("jexlin-root-key"))
        .filter(|path| path.exists())
    else {
        return Ok(None);
    };
    let text = fs::read_to_string(&path)
        .map_err(|error| format!("the root key of the service manager cannot be read: {error}"))?;
    RootKey::from_credential(&text)
        .map(Some)
        .map_err(|problem| problem.to_string())
}

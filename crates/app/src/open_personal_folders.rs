//! The personal folders that sessions have open in this process.

use std::collections::HashMap;
use std::sync::{Arc, Mutex};

use chrono::{DateTime, TimeDelta, Utc};
use jexlin_core::vault::personal::PersonalKey;
use uuid::Uuid;

/// Open keys and when each was last used, by session.
type OpenKeys = HashMap<Uuid, (PersonalKey, DateTime<Utc>)>;

/// The open personal folders of this process, by session.
#[derive(Clone, Default)]
pub struct OpenFolders(Arc<Mutex<OpenKeys>>);

impl std::fmt::Debug for OpenFolders {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("OpenFolders(…)")
    }
}

impl OpenFolders {
    /// Keeps the key of a session.
    pub fn put(&self, session: Uuid, key: PersonalKey, now: DateTime<Utc>) {
        if let Ok(mut all) = self.0.lock() {
            all.insert(session, (key, now));
        }
    }

    /// The key of a session that was used lately.
    pub fn get(&self, session: Uuid, now: DateTime<Utc>, idle: TimeDelta) -> Option<PersonalKey> {
        let mut all = self.0.lock().ok()?;
        // Sessions that ended by themselves leave nothing behind.
        all.retain(|_, (_, used)| now - *used < idle);
        all.get_mut(&session).map(|(key, used)| {
            *used = now;
            key.clone()
        })
    }

    /// The sessions with an open folder.
    #[must_use]
    pub fn sessions(&self) -> Vec<Uuid> {
        self.0
            .lock()
            .map(|all| all.keys().copied().collect())
            .unwrap_or_default()
    }

    /// Closes the folder of a session.
    pub fn close(&self, session: Uuid) {
        if let Ok(mut all) = self.0.lock() {
            all.remove(&session);
        }
    }
}

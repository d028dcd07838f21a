//! The progress of the imports of this process.

use std::collections::HashMap;
use std::sync::{Arc, Mutex};

use jexlin_api::ImportProgress;
use uuid::Uuid;

/// How far the imports of this process are.
#[derive(Clone, Debug, Default)]
pub struct Imports(pub Arc<Mutex<HashMap<Uuid, (Uuid, ImportProgress)>>>);

impl Imports {
    /// Notes how far an import is.
    pub fn note(&self, import: Uuid, person: Uuid, progress: ImportProgress) {
        if let Ok(mut all) = self.0.lock() {
            all.insert(import, (person, progress));
        }
    }
}

/// Takes an import from the list of those under way when it ends, however it ends.
pub struct UnderWay(pub Imports, pub Uuid);

impl Drop for UnderWay {
    fn drop(&mut self) {
        if let Ok(mut all) = self.0.0.lock() {
            all.remove(&self.1);
        }
    }
}

//! From paths to identifiers, a name after the other along the indexes of names.

use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use uuid::Uuid;

use crate::schema::{credential, device, folder, lower};
use crate::{Result, Tx};

impl Tx {
    /// The folder of a name in another, or at the top.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn folder_named(&mut self, parent: Option<Uuid>, name: &str) -> Result<Option<Uuid>> {
        let query = folder::table
            .filter(folder::organisation.eq(self.organisation()))
            .filter(folder::parent_id.is_not_distinct_from(parent))
            .filter(lower(folder::name).eq(lower(name)))
            .filter(folder::removed_at.is_null())
            .select(folder::id);
        Ok(query.first(self.conn()?).await.optional()?)
    }

    /// The credential of a name in a folder.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn credential_named(&mut self, place: Uuid, name: &str) -> Result<Option<Uuid>> {
        let query = credential::table
            .filter(credential::organisation.eq(self.organisation()))
            .filter(credential::folder_id.eq(place))
            .filter(lower(credential::name).eq(lower(name)))
            .filter(credential::removed_at.is_null())
            .select(credential::id);
        Ok(query.first(self.conn()?).await.optional()?)
    }

    /// The device of a name in a folder.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn device_named(&mut self, place: Uuid, name: &str) -> Result<Option<Uuid>> {
        let query = device::table
            .filter(device::organisation.eq(self.organisation()))
            .filter(device::folder_id.eq(place))
            .filter(lower(device::name).eq(lower(name)))
            .filter(device::removed_at.is_null())
            .select(device::id);
        Ok(query.first(self.conn()?).await.optional()?)
    }
}

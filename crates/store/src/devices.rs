//! Devices.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use uuid::Uuid;

use crate::people::one_row;
use crate::schema::{credential, device, lower};
use crate::{Result, Tx};

/// A device.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = device)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct DeviceRow {
    pub id: Uuid,
    pub organisation: Uuid,
    pub folder_id: Uuid,
    pub name: String,
    pub connector: String,
    pub address: String,
    pub port: i32,
    pub host_key: Option<String>,
    pub operator_id: Option<Uuid>,
    pub created_at: DateTime<Utc>,
    pub removed_at: Option<DateTime<Utc>>,
    pub version: i32,
}

impl Tx {
    /// Adds a device.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] when the name is taken in its folder.
    pub async fn add_device(&mut self, row: &DeviceRow) -> Result<()> {
        diesel::insert_into(device::table).values(row).execute(self.conn()?).await?;
        Ok(())
    }

    /// A device that is not removed.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn device(&mut self, id: Uuid) -> Result<DeviceRow> {
        Ok(device::table.find(id).filter(device::removed_at.is_null()).select(DeviceRow::as_select()).first(self.conn()?).await?)
    }

    /// The devices in folders that somebody holds a level on, by name.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn devices(
        &mut self,
        person: Uuid,
        now: DateTime<Utc>,
        folder: Option<Uuid>,
        after: Option<(String, Uuid)>,
        most: i64,
    ) -> Result<Vec<DeviceRow>> {
        use crate::schema::level_on_folder;
        let (after_name, after_id) = after.unwrap_or_default();
        let mut query = device::table
            .filter(device::removed_at.is_null())
            .filter(level_on_folder(person, device::folder_id, now).is_not_null())
            .filter(lower(device::name).gt(after_name.to_lowercase()).or(lower(device::name).eq(after_name.to_lowercase()).and(device::id.gt(after_id))))
            .order((lower(device::name), device::id))
            .limit(most)
            .select(DeviceRow::as_select())
            .into_boxed();
        if let Some(folder) = folder {
            query = query.filter(device::folder_id.eq(folder));
        }
        Ok(query.load(self.conn()?).await?)
    }

    /// Writes a device back, if nobody else has in the meantime.
    ///
    /// # Errors
    /// [`StoreError::Stale`], [`StoreError::Conflict`].
    pub async fn change_device(&mut self, row: &DeviceRow) -> Result<()> {
        let query = diesel::update(device::table.find(row.id).filter(device::version.eq(row.version))).set((
            device::folder_id.eq(row.folder_id),
            device::name.eq(&row.name),
            device::address.eq(&row.address),
            device::port.eq(row.port),
            device::host_key.eq(&row.host_key),
            device::operator_id.eq(row.operator_id),
            device::removed_at.eq(row.removed_at),
            device::version.eq(row.version + 1),
        ));
        one_row(query.execute(self.conn()?).await?)
    }

    /// Notes the host key met at first contact, unless one is pinned already.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn pin_host_key(&mut self, id: Uuid, key: &str) -> Result<bool> {
        let query =
            diesel::update(device::table.find(id).filter(device::host_key.is_null())).set((device::host_key.eq(key), device::version.eq(device::version + 1)));
        Ok(query.execute(self.conn()?).await? == 1)
    }

    /// How many credentials that are not removed are on a device.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn accounts_on(&mut self, id: Uuid) -> Result<i64> {
        Ok(credential::table.filter(credential::device_id.eq(id)).filter(credential::removed_at.is_null()).count().get_result(self.conn()?).await?)
    }
}

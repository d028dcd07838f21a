//! Devices.

use std::collections::HashMap;

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use jexlin_core::upkeep::ConnectorKind;
use uuid::Uuid;

use crate::people::one_row;
use crate::schema::{binding, credential, device, lower};
use crate::stored::Stored;
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
    pub connector: Stored<ConnectorKind>,
    pub address: String,
    pub port: i32,
    pub identity: String,
    pub created_at: DateTime<Utc>,
    pub removed_at: Option<DateTime<Utc>>,
    pub revision: i32,
    pub paused_at: Option<DateTime<Utc>>,
    pub paused_why: String,
    pub dialogue_id: Option<Uuid>,
    pub dialogue_digest: String,
    pub platform: String,
    pub description: String,
    pub family_of: Option<Uuid>,
    pub import_id: Option<Uuid>,
    pub jump_host_id: Option<Uuid>,
}

/// Another account family on the same machine.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FamilyRow {
    /// Its identifier.
    pub id: Uuid,
    /// Its name.
    pub name: String,
    /// Its type.
    pub connector: ConnectorKind,
    /// The number of its accounts.
    pub accounts: i64,
}

impl Tx {
    /// Adds a device.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] when the name is taken in its folder.
    pub async fn add_device(&mut self, row: &DeviceRow) -> Result<()> {
        diesel::insert_into(device::table)
            .values(row)
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// The other account families on the machine of a device, the main device first.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn families_beside(&mut self, row: &DeviceRow) -> Result<Vec<FamilyRow>> {
        let main = row.family_of.unwrap_or(row.id);
        let found: Vec<(Uuid, String, Stored<ConnectorKind>, Option<Uuid>)> = device::table
            .filter(device::id.eq(main).or(device::family_of.eq(main)))
            .filter(device::id.ne(row.id))
            .filter(device::removed_at.is_null())
            .order((device::family_of.is_not_null(), device::name))
            .select((
                device::id,
                device::name,
                device::connector,
                device::family_of,
            ))
            .load(self.conn()?)
            .await?;
        let mut families = vec![];
        for (id, name, connector, _) in found {
            families.push(FamilyRow {
                id,
                name,
                connector: connector.0,
                accounts: self.accounts_on(id).await?,
            });
        }
        Ok(families)
    }

    /// Moves the other account families of a main device into the folder that it goes to.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] when a name is taken there.
    pub async fn place_families(&mut self, main: Uuid, folder: Uuid) -> Result<()> {
        self.must_revalidate();
        diesel::update(device::table.filter(device::family_of.eq(main)))
            .set((
                device::folder_id.eq(folder),
                device::revision.eq(device::revision + 1),
            ))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// A device that is not removed.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn device(&mut self, id: Uuid) -> Result<DeviceRow> {
        Ok(device::table
            .find(id)
            .filter(device::removed_at.is_null())
            .select(DeviceRow::as_select())
            .first(self.conn()?)
            .await?)
    }

    /// These devices, by their identifiers; those that are removed are left out.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn devices_by_id(&mut self, ids: &[Uuid]) -> Result<HashMap<Uuid, DeviceRow>> {
        let query = device::table
            .filter(device::id.eq_any(ids))
            .filter(device::removed_at.is_null())
            .select(DeviceRow::as_select());
        let rows: Vec<DeviceRow> = query.load(self.conn()?).await?;
        Ok(rows.into_iter().map(|row| (row.id, row)).collect())
    }

    /// The jump host of a device, if it has one; without an identity when it is removed.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn jump_host(&mut self, of: &DeviceRow) -> Result<Option<DeviceRow>> {
        let Some(id) = of.jump_host_id else {
            return Ok(None);
        };
        let mut row: DeviceRow = device::table
            .find(id)
            .select(DeviceRow::as_select())
            .first(self.conn()?)
            .await?;
        if row.removed_at.is_some() {
            row.identity.clear();
        }
        Ok(Some(row))
    }

    /// Whether devices are reached through this one.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn is_jump_host(&mut self, id: Uuid) -> Result<bool> {
        let behind = device::table
            .filter(device::jump_host_id.eq(id))
            .filter(device::removed_at.is_null());
        Ok(diesel::select(diesel::dsl::exists(behind))
            .get_result(self.conn()?)
            .await?)
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
        limit: i64,
    ) -> Result<Vec<DeviceRow>> {
        use crate::schema::level_on_folder;
        let (after_name, after_id) = after.unwrap_or_default();
        let mut query = device::table
            .filter(device::removed_at.is_null())
            .filter(level_on_folder(person, device::folder_id, now).is_not_null())
            .filter(
                lower(device::name)
                    .gt(after_name.to_lowercase())
                    .or(lower(device::name)
                        .eq(after_name.to_lowercase())
                        .and(device::id.gt(after_id))),
            )
            .order((lower(device::name), device::id))
            .limit(limit)
            .select(DeviceRow::as_select())
            .into_boxed();
        if let Some(folder) = folder {
            query = query.filter(device::folder_id.eq(folder));
        }
        Ok(query.load(self.conn()?).await?)
    }

    /// The devices that are in one of these folders.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn devices_in(&mut self, folders: &[Uuid]) -> Result<Vec<DeviceRow>> {
        let query = device::table
            .filter(device::removed_at.is_null())
            .filter(device::folder_id.eq_any(folders))
            .select(DeviceRow::as_select());
        Ok(query.load(self.conn()?).await?)
    }

    /// Writes a device back, if nobody else has in the meantime.
    ///
    /// # Errors
    /// [`StoreError::Stale`], [`StoreError::Conflict`].
    pub async fn edit_device(&mut self, row: &DeviceRow) -> Result<()> {
        self.must_revalidate();
        let query = diesel::update(
            device::table
                .find(row.id)
                .filter(device::revision.eq(row.revision)),
        )
        .set((
            device::folder_id.eq(row.folder_id),
            device::name.eq(&row.name),
            device::address.eq(&row.address),
            device::port.eq(row.port),
            device::identity.eq(&row.identity),
            device::dialogue_id.eq(row.dialogue_id),
            device::dialogue_digest.eq(&row.dialogue_digest),
            device::platform.eq(&row.platform),
            device::description.eq(&row.description),
            device::jump_host_id.eq(row.jump_host_id),
            device::paused_at.eq(row.paused_at),
            device::paused_why.eq(&row.paused_why),
            device::removed_at.eq(row.removed_at),
            device::revision.eq(row.revision + 1),
        ));
        one_row(query.execute(self.conn()?).await?)
    }

    /// Notes the identity met at first contact, unless there is one already, and confirms the
    /// bindings that were made before there was any.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn note_first_identity(&mut self, id: Uuid, identity: &str) -> Result<bool> {
        let query = diesel::update(device::table.find(id).filter(device::identity.eq("")))
            .set((
                device::identity.eq(identity),
                device::revision.eq(device::revision + 1),
            ))
            .returning((device::address, device::port));
        let Some((address, port)) = query
            .get_result::<(String, i32)>(self.conn()?)
            .await
            .optional()?
        else {
            return Ok(false);
        };
        let of = binding::table
            .filter(binding::device_id.eq(id))
            .filter(binding::identity.eq(""));
        diesel::update(
            of.filter(binding::address.eq(address))
                .filter(binding::port.eq(port)),
        )
        .set(binding::identity.eq(identity))
        .execute(self.conn()?)
        .await?;
        Ok(true)
    }

    /// Leaves a device alone that refuses its operator. Whether it was not left alone before.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn pause_device(&mut self, id: Uuid, now: DateTime<Utc>, why: &str) -> Result<bool> {
        let query = diesel::update(device::table.find(id).filter(device::paused_at.is_null()))
            .set((device::paused_at.eq(now), device::paused_why.eq(why)));
        Ok(query.execute(self.conn()?).await? == 1)
    }

    /// How many credentials that are not removed are on a device.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn accounts_on(&mut self, id: Uuid) -> Result<i64> {
        Ok(credential::table
            .filter(credential::device_id.eq(id))
            .filter(credential::removed_at.is_null())
            .count()
            .get_result(self.conn()?)
            .await?)
    }
}

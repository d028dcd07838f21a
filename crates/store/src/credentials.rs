//! Credentials, their secret versions, and devices.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel::sql_types;
use diesel_async::RunQueryDsl;
use uuid::Uuid;

use crate::people::one_row;
use crate::schema::{credential, device, lower, secret_version, upkeep_state};
use crate::sql::statement;
use crate::{Result, StoreError, Tx, Withheld};

/// A credential without its secrets.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = credential)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct CredentialRow {
    pub id: Uuid,
    pub organisation: Uuid,
    pub folder_id: Uuid,
    pub kind: String,
    pub name: String,
    pub fields: serde_json::Value,
    pub device_id: Option<Uuid>,
    pub data_key: Vec<u8>,
    pub created_at: DateTime<Utc>,
    pub created_by: Option<Uuid>,
    pub changed_at: DateTime<Utc>,
    pub changed_by: Option<Uuid>,
    pub removed_at: Option<DateTime<Utc>>,
    pub version: i32,
}

/// One version of a secret field, without its value.
#[derive(Clone, Debug, Queryable, Selectable)]
#[diesel(table_name = secret_version)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct VersionRow {
    pub field: String,
    pub number: i32,
    pub state: String,
    pub made_at: DateTime<Utc>,
    pub made_by: Option<Uuid>,
    pub made_how: String,
}

/// One version of a secret field, sealed, with the wrapped key that opens it.
#[derive(Clone, Debug)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct SealedVersion {
    pub credential: Uuid,
    pub field: String,
    pub number: i32,
    pub sealed: Vec<u8>,
    pub data_key: Vec<u8>,
}

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

/// A credential in a list.
#[derive(Clone, Debug, QueryableByName)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct CredentialListing {
    #[diesel(sql_type = sql_types::Uuid)]
    pub id: Uuid,
    #[diesel(sql_type = sql_types::Uuid)]
    pub folder_id: Uuid,
    #[diesel(sql_type = sql_types::Text)]
    pub kind: String,
    #[diesel(sql_type = sql_types::Text)]
    pub name: String,
    #[diesel(sql_type = sql_types::Jsonb)]
    pub fields: serde_json::Value,
    #[diesel(sql_type = sql_types::SmallInt)]
    pub held: i16,
    #[diesel(sql_type = sql_types::Nullable<sql_types::Uuid>)]
    pub device_id: Option<Uuid>,
    #[diesel(sql_type = sql_types::Nullable<sql_types::Text>)]
    pub device_name: Option<String>,
    #[diesel(sql_type = sql_types::Nullable<sql_types::Text>)]
    pub check_outcome: Option<String>,
    #[diesel(sql_type = sql_types::Bool)]
    pub gated: bool,
    #[diesel(sql_type = sql_types::Text)]
    pub place: String,
}

/// Which credentials to list.
#[derive(Clone, Debug, Default)]
pub struct ListQuery {
    /// Only in this folder.
    pub folder: Option<Uuid>,
    /// Only those whose name, user name, URL, device, address or, across folders, folder hold this text.
    pub find: Option<String>,
    /// Only after this name and identifier, in order.
    pub after: Option<(String, Uuid)>,
    /// At most so many.
    pub most: i64,
}

/// What may be changed about a credential in one go.
#[derive(Clone, Debug)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct CredentialChange<'a> {
    pub id: Uuid,
    pub version: i32,
    pub name: &'a str,
    pub folder_id: Uuid,
    pub fields: &'a serde_json::Value,
    pub device_id: Option<Uuid>,
    pub now: DateTime<Utc>,
    pub by: Option<Uuid>,
}

/// Texts of so many letters are looked up in the index.
const SHORTEST_INDEXED: usize = 3;

impl Tx {
    /// Adds a credential.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] when the name is taken in its folder.
    pub async fn add_credential(&mut self, row: &CredentialRow) -> Result<()> {
        diesel::insert_into(credential::table).values(row).execute(self.conn()?).await?;
        self.follow_device(row.id, row.device_id).await
    }

    /// A credential on a device has a state of upkeep; one without has none to be scheduled.
    async fn follow_device(&mut self, id: Uuid, device: Option<Uuid>) -> Result<()> {
        let organisation = self.organisation();
        if device.is_some() {
            diesel::insert_into(upkeep_state::table)
                .values((upkeep_state::credential_id.eq(id), upkeep_state::organisation.eq(organisation), upkeep_state::stale.eq(true)))
                .on_conflict(upkeep_state::credential_id)
                .do_update()
                .set(upkeep_state::stale.eq(true))
                .execute(self.conn()?)
                .await?;
        } else {
            diesel::update(upkeep_state::table.find(id)).set(upkeep_state::stale.eq(true)).execute(self.conn()?).await?;
        }
        Ok(())
    }

    /// A credential that is not removed.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn credential(&mut self, id: Uuid) -> Result<CredentialRow> {
        let query = credential::table.find(id).filter(credential::removed_at.is_null()).select(CredentialRow::as_select());
        Ok(query.first(self.conn()?).await?)
    }

    /// A credential, kept from changes until the transaction ends.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn credential_locked(&mut self, id: Uuid) -> Result<CredentialRow> {
        let query = credential::table.find(id).filter(credential::removed_at.is_null()).select(CredentialRow::as_select()).for_update();
        Ok(query.first(self.conn()?).await?)
    }

    /// Writes a credential back, if nobody else has in the meantime.
    ///
    /// # Errors
    /// [`StoreError::Stale`], [`StoreError::Conflict`].
    pub async fn change_credential(&mut self, change: &CredentialChange<'_>) -> Result<()> {
        let query = diesel::update(credential::table.find(change.id).filter(credential::version.eq(change.version))).set((
            credential::name.eq(change.name),
            credential::folder_id.eq(change.folder_id),
            credential::fields.eq(change.fields),
            credential::device_id.eq(change.device_id),
            credential::changed_at.eq(change.now),
            credential::changed_by.eq(change.by),
            credential::version.eq(change.version + 1),
        ));
        one_row(query.execute(self.conn()?).await?)?;
        self.follow_device(change.id, change.device_id).await
    }

    /// Removes a credential; its versions stay. Refused while a job or a checkout is under way.
    ///
    /// # Errors
    /// [`StoreError::Stale`]; [`StoreError::Conflict`] with `job_under_way`, `checked_out` or
    /// `is_operator`.
    pub async fn remove_credential(&mut self, id: Uuid, version: i32, now: DateTime<Utc>) -> Result<()> {
        use crate::schema::{checkout, job};
        self.credential_locked(id).await?;
        let active = ["queued", "running"];
        let jobs: i64 = job::table.filter(job::credential_id.eq(id)).filter(job::state.eq_any(active)).count().get_result(self.conn()?).await?;
        let held: i64 = checkout::table.filter(checkout::credential_id.eq(id)).filter(checkout::ended_at.is_null()).count().get_result(self.conn()?).await?;
        let operates: i64 = device::table.filter(device::operator_id.eq(id)).filter(device::removed_at.is_null()).count().get_result(self.conn()?).await?;
        for (count, why) in [(jobs, "job_under_way"), (held, "checked_out"), (operates, "is_operator")] {
            if count > 0 {
                return Err(StoreError::Conflict(why.into()));
            }
        }
        let query = diesel::update(credential::table.find(id).filter(credential::version.eq(version)))
            .set((credential::removed_at.eq(now), credential::version.eq(version + 1)));
        one_row(query.execute(self.conn()?).await?)?;
        diesel::update(upkeep_state::table.find(id)).set(upkeep_state::stale.eq(true)).execute(self.conn()?).await?;
        Ok(())
    }

    /// The credentials that somebody may know of, in the order of their names.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn list_credentials(&mut self, person: Uuid, now: DateTime<Utc>, query: &ListQuery) -> Result<Vec<CredentialListing>> {
        let (after_name, after_id) = query.after.clone().unwrap_or_default();
        let find = query.find.as_deref().map(|text| format!("%{}%", text.to_lowercase().replace('\\', "\\\\").replace('%', "\\%").replace('_', "\\_")));
        // The page is chosen before anything is looked up for it. The level of each candidate is
        // the highest of the grants on it and on the sources of its folder.
        let conditions = match (query.folder, &find) {
            (Some(_), None) => "c.folder_id = $4",
            (Some(_), Some(_)) => {
                "c.folder_id = $4 AND (c.search LIKE $5 OR c.device_id IN (SELECT v.id FROM device v WHERE lower(v.name || ' ' || v.address) LIKE $5))"
            }
            // The index knows groups of three letters; with fewer nearly everything matches, and
            // going through the names in their order is soon done.
            (None, Some(text)) if text.chars().count() >= SHORTEST_INDEXED + 2 => "$4::uuid IS NULL AND c.id IN (SELECT matching($5))",
            (None, Some(_)) => {
                "$4::uuid IS NULL AND (c.search LIKE $5 OR c.device_id IN (SELECT v.id FROM device v WHERE lower(v.name || ' ' || v.address) LIKE $5)
                                       OR c.folder_id IN (SELECT f.id FROM folder f WHERE lower(f.name) LIKE $5))"
            }
            (None, None) => "$4::uuid IS NULL",
        };
        let sql = format!(
            "WITH mine AS MATERIALIZED (
                SELECT g.folder_id, g.credential_id, max(g.held) AS held FROM access_grant g
                WHERE (g.person_id = $1 OR g.group_id = ANY ((SELECT subjects_of($1))::uuid[])) AND (g.ends_at IS NULL OR $2 < g.ends_at)
                GROUP BY 1, 2
            ), reached AS MATERIALIZED (
                SELECT s.folder_id AS id, max(m.held) AS held FROM mine m JOIN folder_source s ON s.source_id = m.folder_id
                WHERE $4::uuid IS NULL OR s.folder_id = $4 GROUP BY 1
            ), page AS MATERIALIZED (
                SELECT c.id, c.folder_id, c.kind, c.name, c.fields, c.device_id, greatest(r.held, m.held) AS held
                FROM credential c LEFT JOIN reached r ON r.id = c.folder_id LEFT JOIN mine m ON m.credential_id = c.id
                WHERE c.organisation = (SELECT scope()) AND c.removed_at IS NULL AND ($5::text IS NULL OR true) AND {conditions}
                  AND (lower(c.name), c.id) > ($6, $7) AND (r.held IS NOT NULL OR m.held IS NOT NULL)
                ORDER BY lower(c.name), c.id LIMIT $3
            )
            SELECT p.id, p.folder_id, p.kind, p.name, p.fields, p.held, p.device_id, d.name AS device_name, u.check_outcome,
                   gate_of(p.id) IS NOT NULL AS gated, path_of(p.folder_id) AS place
            FROM page p LEFT JOIN device d ON d.id = p.device_id LEFT JOIN upkeep_state u ON u.credential_id = p.id ORDER BY lower(p.name), p.id"
        );
        let rows = statement(sql)
            .bind::<sql_types::Uuid, _>(person)
            .bind::<sql_types::Timestamptz, _>(now)
            .bind::<sql_types::BigInt, _>(query.most)
            .bind::<sql_types::Nullable<sql_types::Uuid>, _>(query.folder)
            .bind::<sql_types::Nullable<sql_types::Text>, _>(find)
            .bind::<sql_types::Text, _>(after_name.to_lowercase())
            .bind::<sql_types::Uuid, _>(after_id);
        Ok(rows.load(self.conn()?).await?)
    }

    /// Adds a version of a secret field as the given state. A former current one becomes previous
    /// when the new one is current.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] when there is a candidate already.
    #[allow(clippy::too_many_arguments, reason = "one row, column by column")]
    pub async fn add_version(
        &mut self,
        credential: Uuid,
        field: &str,
        number: i32,
        state: &str,
        sealed: &[u8],
        now: DateTime<Utc>,
        by: Option<Uuid>,
        how: &str,
    ) -> Result<()> {
        let organisation = self.organisation();
        if state == "current" {
            diesel::update(
                secret_version::table
                    .filter(secret_version::credential_id.eq(credential))
                    .filter(secret_version::field.eq(field))
                    .filter(secret_version::state.eq("current")),
            )
            .set(secret_version::state.eq("previous"))
            .execute(self.conn()?)
            .await?;
        }
        diesel::insert_into(secret_version::table)
            .values((
                secret_version::organisation.eq(organisation),
                secret_version::credential_id.eq(credential),
                secret_version::field.eq(field),
                secret_version::number.eq(number),
                secret_version::state.eq(state),
                secret_version::sealed.eq(sealed),
                secret_version::made_at.eq(now),
                secret_version::made_by.eq(by),
                secret_version::made_how.eq(how),
            ))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// The number that the next version of a field gets.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn next_number(&mut self, credential: Uuid, field: &str) -> Result<i32> {
        let query = secret_version::table
            .filter(secret_version::credential_id.eq(credential))
            .filter(secret_version::field.eq(field))
            .select(diesel::dsl::max(secret_version::number));
        let last: Option<i32> = query.first(self.conn()?).await?;
        Ok(last.unwrap_or(0) + 1)
    }

    /// The candidate becomes current, the current previous.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] when there is no candidate.
    pub async fn promote_candidate(&mut self, credential: Uuid, field: &str) -> Result<()> {
        let of = |state: &'static str| {
            secret_version::table
                .filter(secret_version::credential_id.eq(credential).and(secret_version::field.eq(field.to_owned())).and(secret_version::state.eq(state)))
        };
        diesel::update(of("current")).set(secret_version::state.eq("previous")).execute(self.conn()?).await?;
        let count = diesel::update(of("candidate")).set(secret_version::state.eq("current")).execute(self.conn()?).await?;
        if count == 1 { Ok(()) } else { Err(StoreError::NotFound) }
    }

    /// The candidate is not on the device: it becomes discarded.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn discard_candidate(&mut self, credential: Uuid, field: &str) -> Result<()> {
        let of = secret_version::table
            .filter(secret_version::credential_id.eq(credential).and(secret_version::field.eq(field)).and(secret_version::state.eq("candidate")));
        diesel::update(of).set(secret_version::state.eq("discarded")).execute(self.conn()?).await?;
        Ok(())
    }

    /// The versions of a credential's secret fields, newest first.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn versions(&mut self, credential: Uuid) -> Result<Vec<VersionRow>> {
        let query = secret_version::table
            .filter(secret_version::credential_id.eq(credential))
            .order((secret_version::field, secret_version::number.desc()))
            .select(VersionRow::as_select());
        Ok(query.load(self.conn()?).await?)
    }

    /// A sealed version by its state, withheld until this transaction and its audit event are
    /// durable.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn sealed_by_state(&mut self, credential: Uuid, field: &str, state: &str) -> Result<Withheld<SealedVersion>> {
        let query = secret_version::table
            .inner_join(credential::table.on(credential::id.eq(secret_version::credential_id)))
            .filter(secret_version::credential_id.eq(credential))
            .filter(secret_version::field.eq(field))
            .filter(secret_version::state.eq(state))
            .select((secret_version::number, secret_version::sealed, credential::data_key));
        let (number, sealed, data_key): (i32, Vec<u8>, Vec<u8>) = query.first(self.conn()?).await?;
        Ok(self.withhold(SealedVersion { credential, field: field.to_owned(), number, sealed, data_key }))
    }

    /// Whether a candidate is stored.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn has_candidate(&mut self, credential: Uuid) -> Result<bool> {
        Ok(self.versions(credential).await?.iter().any(|version| version.state == "candidate"))
    }

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

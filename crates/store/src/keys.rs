//! Changing keys while services run.
//!
//! What protects a key from being lost is in the database: a wrapped key changes only to what was
//! prepared, and a former key goes only when nothing is under it any more (migration 14).

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use uuid::Uuid;

use crate::people::one_row;
use crate::schema::{
    assessment, commit_lock, credential, organisation, pg_advisory_xact_lock, secret_version,
    service_seen,
};
use crate::{Result, Store, Tx};

/// A service that runs on this database.
#[derive(Clone, Debug, Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = service_seen)]
pub struct ServiceRow {
    /// Made up by the service when it starts.
    pub id: Uuid,
    /// Where it runs.
    pub name: String,
    /// The names of the root keys that it has in memory and will find again after a restart.
    pub root_keys: Vec<String>,
    /// When it said so.
    pub seen_at: DateTime<Utc>,
}

/// A credential whose data key is under the former organisation key.
#[derive(Clone, Debug)]
pub struct ToRewrap {
    /// Which.
    pub credential: Uuid,
    /// Its data key.
    pub data_key: Vec<u8>,
}

/// A version whose value has a fingerprint.
#[derive(Clone, Debug)]
pub struct Fingerprinted {
    /// The field.
    pub field: String,
    /// The number of the version.
    pub number: i32,
    /// The value.
    pub sealed: Vec<u8>,
}

impl Store {
    /// Notes that a service runs, and forgets those that have said nothing for a day.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn service_runs(&self, row: &ServiceRow) -> Result<()> {
        let mut tx = self.begin(Uuid::nil()).await?;
        diesel::insert_into(service_seen::table)
            .values(row)
            .on_conflict(service_seen::id)
            .do_update()
            .set(row)
            .execute(tx.conn()?)
            .await?;
        diesel::delete(
            service_seen::table
                .filter(service_seen::seen_at.lt(row.seen_at - chrono::TimeDelta::days(1))),
        )
        .execute(tx.conn()?)
        .await?;
        tx.commit().await
    }
}

impl Tx {
    /// The services that said since then that they run, by name.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn services_since(&mut self, since: DateTime<Utc>) -> Result<Vec<ServiceRow>> {
        let query = service_seen::table
            .filter(service_seen::seen_at.ge(since))
            .order((service_seen::name, service_seen::id))
            .select(ServiceRow::as_select());
        Ok(query.load(self.conn()?).await?)
    }

    /// Lets nobody else commit anything with an event in this organisation until this is over.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn hold_commits(&mut self) -> Result<()> {
        diesel::select(pg_advisory_xact_lock(commit_lock()))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// Keeps the organisation's key under the next root key too, or no longer.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn prepare_root_key(
        &mut self,
        present: &str,
        next: Option<(&str, &[u8])>,
    ) -> Result<()> {
        let update = diesel::update(organisation::table).set((
            organisation::root_key.eq(present),
            organisation::next_root_key.eq(next.map(|(name, _)| name)),
            organisation::next_wrapped_key.eq(next.map(|(_, wrapped)| wrapped)),
        ));
        one_row(update.execute(self.conn()?).await?)
    }

    /// Makes the next root key the one that counts.
    ///
    /// # Errors
    /// [`crate::StoreError::Stale`] when none was prepared.
    pub async fn finish_root_key(&mut self) -> Result<()> {
        let update =
            diesel::update(organisation::table.filter(organisation::next_root_key.is_not_null()))
                .set((
                    organisation::wrapped_key.eq(organisation::next_wrapped_key.assume_not_null()),
                    organisation::root_key.eq(organisation::next_root_key.assume_not_null()),
                    organisation::next_wrapped_key.eq(None::<Vec<u8>>),
                    organisation::next_root_key.eq(None::<String>),
                ));
        one_row(update.execute(self.conn()?).await?)
    }

    /// Puts a new organisation key in the place of the one of this number, which is kept beside it.
    ///
    /// # Errors
    /// [`crate::StoreError::Stale`] when the key has another number, or is just being changed.
    pub async fn change_organisation_key(
        &mut self,
        from: i32,
        wrapped: &[u8],
        former: &[u8],
        log_key_sealed: &[u8],
    ) -> Result<()> {
        self.hold_commits().await?;
        let update = diesel::update(
            organisation::table
                .filter(organisation::key_number.eq(from))
                .filter(organisation::former_key.is_null()),
        )
        .set((
            organisation::wrapped_key.eq(wrapped),
            organisation::former_key.eq(former),
            organisation::key_number.eq(from + 1),
            organisation::log_key_sealed.eq(log_key_sealed),
        ));
        one_row(update.execute(self.conn()?).await?)
    }

    /// Some credentials whose data key is not under the key of this number yet, held until this is
    /// over; those that others hold are left out.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn to_rewrap(
        &mut self,
        number: i32,
        after: Uuid,
        limit: i64,
    ) -> Result<Vec<ToRewrap>> {
        let query = credential::table
            .filter(credential::key_number.lt(number))
            .filter(credential::data_key.ne(Vec::<u8>::new()))
            .filter(credential::id.gt(after))
            .order(credential::id)
            .limit(limit)
            .select((credential::id, credential::data_key))
            .for_no_key_update()
            .skip_locked();
        let rows: Vec<(Uuid, Vec<u8>)> = query.load(self.conn()?).await?;
        Ok(rows
            .into_iter()
            .map(|(credential, data_key)| ToRewrap {
                credential,
                data_key,
            })
            .collect())
    }

    /// How many data keys are not under the key of this number yet.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn left_to_rewrap(&mut self, number: i32) -> Result<i64> {
        let query = credential::table
            .filter(credential::key_number.lt(number))
            .filter(credential::data_key.ne(Vec::<u8>::new()));
        Ok(query.count().get_result(self.conn()?).await?)
    }

    /// The data key of a credential is now under the key of this number.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn rewrapped(&mut self, id: Uuid, data_key: &[u8], number: i32) -> Result<()> {
        let update = diesel::update(credential::table.find(id)).set((
            credential::data_key.eq(data_key),
            credential::key_number.eq(number),
        ));
        one_row(update.execute(self.conn()?).await?)
    }

    /// The versions of a credential whose values have fingerprints.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn fingerprinted(&mut self, id: Uuid) -> Result<Vec<Fingerprinted>> {
        let query = secret_version::table
            .filter(secret_version::credential_id.eq(id))
            .filter(secret_version::fingerprint.is_not_null())
            .filter(secret_version::sealed.ne(Vec::<u8>::new()))
            .select((
                secret_version::field,
                secret_version::number,
                secret_version::sealed,
            ));
        let rows: Vec<(String, i32, Vec<u8>)> = query.load(self.conn()?).await?;
        Ok(rows
            .into_iter()
            .map(|(field, number, sealed)| Fingerprinted {
                field,
                number,
                sealed,
            })
            .collect())
    }

    /// Notes fingerprints again, of versions and of the assessment of the current one.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn fingerprint_anew(
        &mut self,
        id: Uuid,
        field: &str,
        number: i32,
        fingerprint: &[u8],
    ) -> Result<()> {
        diesel::update(secret_version::table.find((id, field, number)))
            .set(secret_version::fingerprint.eq(fingerprint))
            .execute(self.conn()?)
            .await?;
        let current = assessment::table
            .find(id)
            .filter(assessment::number.eq(number));
        diesel::update(current)
            .set(assessment::fingerprint.eq(fingerprint))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// Forgets the former organisation key.
    ///
    /// # Errors
    /// [`crate::StoreError::Broken`] when data keys are still under it.
    pub async fn forget_former_key(&mut self) -> Result<()> {
        one_row(
            diesel::update(organisation::table)
                .set(organisation::former_key.eq(None::<Vec<u8>>))
                .execute(self.conn()?)
                .await?,
        )
    }
}

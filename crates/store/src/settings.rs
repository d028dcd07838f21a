//! Settings of an organisation.

use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use uuid::Uuid;

use crate::people::one_row;
use crate::schema::{noted, settings};
use crate::{Result, Tx};

/// What an organisation has set; revision 0 when nothing was ever set.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = settings)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct SettingsRow {
    pub organisation: Uuid,
    pub body: serde_json::Value,
    pub revision: i32,
}

impl Tx {
    /// What is set.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn settings(&mut self) -> Result<SettingsRow> {
        let found = settings::table
            .select(SettingsRow::as_select())
            .first(self.conn()?)
            .await
            .optional()?;
        Ok(found.unwrap_or(SettingsRow {
            organisation: self.organisation(),
            body: serde_json::json!({}),
            revision: 0,
        }))
    }

    /// Sets it, if nobody else has in the meantime.
    ///
    /// # Errors
    /// [`crate::StoreError::Stale`].
    pub async fn edit_settings(&mut self, row: &SettingsRow) -> Result<()> {
        let query = diesel::insert_into(settings::table)
            .values((
                settings::organisation.eq(row.organisation),
                settings::body.eq(&row.body),
                settings::revision.eq(row.revision + 1),
            ))
            .on_conflict(settings::organisation)
            .do_nothing();
        if row.revision == 0 {
            return one_row(query.execute(self.conn()?).await?);
        }
        let query = diesel::update(settings::table.filter(settings::revision.eq(row.revision)))
            .set((
                settings::body.eq(&row.body),
                settings::revision.eq(row.revision + 1),
            ));
        one_row(query.execute(self.conn()?).await?)
    }

    /// Notes a value under a name. Whether it was another before.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn note(&mut self, name: &str, value: &str) -> Result<bool> {
        let organisation = self.organisation();
        let query = diesel::insert_into(noted::table)
            .values((
                noted::organisation.eq(organisation),
                noted::name.eq(name),
                noted::value.eq(value),
            ))
            .on_conflict((noted::organisation, noted::name))
            .do_update()
            .set(noted::value.eq(value));
        let query = diesel::query_dsl::methods::FilterDsl::filter(query, noted::value.ne(value));
        Ok(query.execute(self.conn()?).await? > 0)
    }
}

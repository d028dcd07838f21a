//! People.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use jexlin_core::people::{Duty, PersonState, PersonType};
use uuid::Uuid;

use crate::schema::{lower, person};
use crate::stored::Stored;
use crate::{Result, StoreError, Tx};

/// A person.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = person)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct PersonRow {
    pub id: Uuid,
    pub organisation: Uuid,
    pub sign_in_name: String,
    pub display_name: String,
    pub password_phc: Option<String>,
    pub state: Stored<PersonState>,
    pub duties: Vec<Stored<Duty>>,
    pub created_at: DateTime<Utc>,
    pub revision: i32,
    pub person_type: Stored<PersonType>,
    pub secret_hash: Option<Vec<u8>>,
    /// Who made the sign-in, or set its password last.
    pub sign_in_by: Option<Uuid>,
}

impl PersonRow {
    /// The duties that they hold.
    #[must_use]
    pub fn held_duties(&self) -> Vec<Duty> {
        self.duties.iter().map(|duty| duty.0).collect()
    }
}

/// An update that touched no row: somebody else was first.
pub(crate) const fn one_row(count: usize) -> Result<()> {
    if count == 1 {
        Ok(())
    } else {
        Err(StoreError::Stale)
    }
}

impl Tx {
    /// Adds a person.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] when the sign-in name is taken.
    pub async fn add_person(&mut self, row: &PersonRow) -> Result<()> {
        diesel::insert_into(person::table)
            .values(row)
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// A person.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn person(&mut self, id: Uuid) -> Result<PersonRow> {
        Ok(person::table
            .find(id)
            .select(PersonRow::as_select())
            .first(self.conn()?)
            .await?)
    }

    /// The person of a sign-in name, in any case of letters.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn person_by_name(&mut self, name: &str) -> Result<Option<PersonRow>> {
        let query = person::table
            .filter(lower(person::sign_in_name).eq(lower(name)))
            .select(PersonRow::as_select());
        Ok(query.first(self.conn()?).await.optional()?)
    }

    /// All people after a sign-in name, in order.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn people(
        &mut self,
        name: Option<&str>,
        after: Option<&str>,
        limit: i64,
    ) -> Result<Vec<PersonRow>> {
        let mut query = person::table
            .select(PersonRow::as_select())
            .order(lower(person::sign_in_name))
            .limit(limit)
            .into_boxed();
        if let Some(name) = name {
            query = query.filter(lower(person::sign_in_name).eq(lower(name)));
        }
        if let Some(after) = after {
            query = query.filter(lower(person::sign_in_name).gt(lower(after)));
        }
        Ok(query.load(self.conn()?).await?)
    }

    /// Writes a person back, if nobody else has in the meantime.
    ///
    /// # Errors
    /// [`StoreError::Stale`].
    pub async fn edit_person(&mut self, row: &PersonRow) -> Result<()> {
        self.must_revalidate();
        let query = diesel::update(
            person::table
                .find(row.id)
                .filter(person::revision.eq(row.revision)),
        )
        .set((
            person::display_name.eq(&row.display_name),
            person::password_phc.eq(&row.password_phc),
            person::secret_hash.eq(&row.secret_hash),
            person::state.eq(&row.state),
            person::duties.eq(&row.duties),
            person::sign_in_by.eq(row.sign_in_by),
            person::revision.eq(row.revision + 1),
        ));
        one_row(query.execute(self.conn()?).await?)
    }
}

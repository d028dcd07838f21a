//! Groups and their members.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use uuid::Uuid;

use crate::people::one_row;
use crate::schema::{group_member, lower, people_group};
use crate::{Result, StoreError, Tx};

/// A group of people and groups.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = people_group)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct GroupRow {
    pub id: Uuid,
    pub organisation: Uuid,
    pub name: String,
    pub created_at: DateTime<Utc>,
    pub revision: i32,
}

/// One membership.
#[derive(Clone, Debug, PartialEq, Eq, Queryable, Selectable, Insertable)]
#[diesel(table_name = group_member)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct MemberRow {
    pub organisation: Uuid,
    pub group_id: Uuid,
    pub member: Uuid,
    pub member_is_group: bool,
}

impl Tx {
    /// Adds a group.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] when the name is taken.
    pub async fn add_group(&mut self, row: &GroupRow) -> Result<()> {
        diesel::insert_into(people_group::table)
            .values(row)
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// A group.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn group(&mut self, id: Uuid) -> Result<GroupRow> {
        Ok(people_group::table
            .find(id)
            .select(GroupRow::as_select())
            .first(self.conn()?)
            .await?)
    }

    /// All groups after a name, in order.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn groups(
        &mut self,
        name: Option<&str>,
        after: Option<&str>,
        limit: i64,
    ) -> Result<Vec<GroupRow>> {
        let mut query = people_group::table
            .select(GroupRow::as_select())
            .order(lower(people_group::name))
            .limit(limit)
            .into_boxed();
        if let Some(name) = name {
            query = query.filter(lower(people_group::name).eq(lower(name)));
        }
        if let Some(after) = after {
            query = query.filter(lower(people_group::name).gt(lower(after)));
        }
        Ok(query.load(self.conn()?).await?)
    }

    /// Gives a group another name, if nobody else changed it in the meantime.
    ///
    /// # Errors
    /// [`StoreError::Stale`], [`StoreError::Conflict`].
    pub async fn rename_group(&mut self, id: Uuid, name: &str, revision: i32) -> Result<()> {
        let query = diesel::update(
            people_group::table
                .find(id)
                .filter(people_group::revision.eq(revision)),
        )
        .set((
            people_group::name.eq(name),
            people_group::revision.eq(revision + 1),
        ));
        one_row(query.execute(self.conn()?).await?)
    }

    /// Removes a group; grants to it and its places in other groups and gates go with it.
    ///
    /// # Errors
    /// [`StoreError::Stale`].
    pub async fn remove_group(&mut self, id: Uuid, revision: i32) -> Result<()> {
        use crate::schema::{access_grant, gate_approver};
        self.must_revalidate();
        diesel::delete(access_grant::table.filter(access_grant::group_id.eq(id)))
            .execute(self.conn()?)
            .await?;
        diesel::delete(group_member::table.filter(group_member::member.eq(id)))
            .execute(self.conn()?)
            .await?;
        diesel::delete(gate_approver::table.filter(gate_approver::subject.eq(id)))
            .execute(self.conn()?)
            .await?;
        let query = diesel::delete(
            people_group::table
                .find(id)
                .filter(people_group::revision.eq(revision)),
        );
        one_row(query.execute(self.conn()?).await?)
    }

    /// The members of a group, or of all groups.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn members(&mut self, group: Option<Uuid>) -> Result<Vec<MemberRow>> {
        let mut query = group_member::table
            .select(MemberRow::as_select())
            .into_boxed();
        if let Some(group) = group {
            query = query.filter(group_member::group_id.eq(group));
        }
        Ok(query.load(self.conn()?).await?)
    }

    /// Puts somebody into a group; being there already is no error.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn add_member(&mut self, row: &MemberRow) -> Result<()> {
        diesel::insert_into(group_member::table)
            .values(row)
            .on_conflict_do_nothing()
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// Takes somebody out of a group.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] when they are not in it.
    pub async fn remove_member(&mut self, group: Uuid, member: Uuid) -> Result<()> {
        self.must_revalidate();
        let count = diesel::delete(group_member::table.find((group, member)))
            .execute(self.conn()?)
            .await?;
        if count == 1 {
            Ok(())
        } else {
            Err(StoreError::NotFound)
        }
    }

    /// The person and every group they are in.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn subjects_of(&mut self, person: Uuid) -> Result<Vec<Uuid>> {
        Ok(diesel::select(crate::schema::subjects_of(person))
            .get_result(self.conn()?)
            .await?)
    }
}

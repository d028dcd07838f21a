//! Organisations, people, groups, password policies.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use jexlin_core::people::{Duty, PersonState, PersonType};
use uuid::Uuid;

use crate::schema::{group_member, lower, organisation, password_policy, people_group, person};
use crate::stored::Stored;
use crate::{Result, StoreError, Tx};

/// An organisation.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = organisation)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct OrganisationRow {
    pub id: Uuid,
    pub name: String,
    pub wrapped_key: Vec<u8>,
    pub log_origin: String,
    pub log_key_sealed: Vec<u8>,
    pub log_verifier: String,
    pub created_at: DateTime<Utc>,
    pub locked_at: Option<DateTime<Utc>>,
    /// The name of the root key that `wrapped_key` is under; empty when nobody noted it yet.
    pub root_key: String,
    /// The key under the next root key, while that changes.
    pub next_wrapped_key: Option<Vec<u8>>,
    pub next_root_key: Option<String>,
    pub key_number: i32,
    /// The former key under this one, while data keys move.
    pub former_key: Option<Vec<u8>>,
}

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
    pub version: i32,
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

/// A group of people and groups.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = people_group)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct GroupRow {
    pub id: Uuid,
    pub organisation: Uuid,
    pub name: String,
    pub created_at: DateTime<Utc>,
    pub version: i32,
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

/// A password policy.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = password_policy)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct PolicyRow {
    pub id: Uuid,
    pub organisation: Uuid,
    pub name: String,
    pub rules: serde_json::Value,
    pub is_default: bool,
    pub version: i32,
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
    /// Adds the organisation of this transaction.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] when the name is taken.
    pub async fn add_organisation(&mut self, row: &OrganisationRow) -> Result<()> {
        diesel::insert_into(organisation::table)
            .values(row)
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// The organisation of this transaction.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn organisation_row(&mut self) -> Result<OrganisationRow> {
        Ok(organisation::table
            .select(OrganisationRow::as_select())
            .first(self.conn()?)
            .await?)
    }

    /// Closes the vault of the organisation, or opens it again. While it is closed, no service
    /// commits anything that leaves an event.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn set_locked(&mut self, time: Option<DateTime<Utc>>) -> Result<()> {
        self.hold_commits().await?;
        diesel::update(organisation::table)
            .set(organisation::locked_at.eq(time))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

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
    pub async fn people(&mut self, after: Option<&str>, limit: i64) -> Result<Vec<PersonRow>> {
        let mut query = person::table
            .select(PersonRow::as_select())
            .order(lower(person::sign_in_name))
            .limit(limit)
            .into_boxed();
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
        self.must_examine();
        let query = diesel::update(
            person::table
                .find(row.id)
                .filter(person::version.eq(row.version)),
        )
        .set((
            person::display_name.eq(&row.display_name),
            person::password_phc.eq(&row.password_phc),
            person::secret_hash.eq(&row.secret_hash),
            person::state.eq(&row.state),
            person::duties.eq(&row.duties),
            person::sign_in_by.eq(row.sign_in_by),
            person::version.eq(row.version + 1),
        ));
        one_row(query.execute(self.conn()?).await?)
    }

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
    pub async fn groups(&mut self, after: Option<&str>, limit: i64) -> Result<Vec<GroupRow>> {
        let mut query = people_group::table
            .select(GroupRow::as_select())
            .order(lower(people_group::name))
            .limit(limit)
            .into_boxed();
        if let Some(after) = after {
            query = query.filter(lower(people_group::name).gt(lower(after)));
        }
        Ok(query.load(self.conn()?).await?)
    }

    /// Gives a group another name, if nobody else changed it in the meantime.
    ///
    /// # Errors
    /// [`StoreError::Stale`], [`StoreError::Conflict`].
    pub async fn rename_group(&mut self, id: Uuid, name: &str, version: i32) -> Result<()> {
        let query = diesel::update(
            people_group::table
                .find(id)
                .filter(people_group::version.eq(version)),
        )
        .set((
            people_group::name.eq(name),
            people_group::version.eq(version + 1),
        ));
        one_row(query.execute(self.conn()?).await?)
    }

    /// Removes a group; grants to it and its places in other groups and gates go with it.
    ///
    /// # Errors
    /// [`StoreError::Stale`].
    pub async fn remove_group(&mut self, id: Uuid, version: i32) -> Result<()> {
        use crate::schema::{access_grant, gate_approver};
        self.must_examine();
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
                .filter(people_group::version.eq(version)),
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
        self.must_examine();
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

    /// Adds a password policy.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] when the name is taken.
    pub async fn add_policy(&mut self, row: &PolicyRow) -> Result<()> {
        diesel::insert_into(password_policy::table)
            .values(row)
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// The password policies, by name.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn policies(&mut self) -> Result<Vec<PolicyRow>> {
        Ok(password_policy::table
            .select(PolicyRow::as_select())
            .order(lower(password_policy::name))
            .load(self.conn()?)
            .await?)
    }

    /// A password policy; without an identifier, the default.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn policy(&mut self, id: Option<Uuid>) -> Result<PolicyRow> {
        let mut query = password_policy::table
            .select(PolicyRow::as_select())
            .into_boxed();
        query = match id {
            Some(id) => query.filter(password_policy::id.eq(id)),
            None => query.filter(password_policy::is_default.eq(true)),
        };
        Ok(query.first(self.conn()?).await?)
    }

    /// Writes a policy back, if nobody else has in the meantime.
    ///
    /// # Errors
    /// [`StoreError::Stale`], [`StoreError::Conflict`].
    pub async fn edit_policy(&mut self, row: &PolicyRow) -> Result<()> {
        let query = diesel::update(
            password_policy::table
                .find(row.id)
                .filter(password_policy::version.eq(row.version)),
        )
        .set((
            password_policy::name.eq(&row.name),
            password_policy::rules.eq(&row.rules),
            password_policy::version.eq(row.version + 1),
        ));
        one_row(query.execute(self.conn()?).await?)
    }

    /// Makes a policy the one that counts where no other is named.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn make_policy_default(&mut self, id: Uuid) -> Result<()> {
        diesel::update(password_policy::table.filter(password_policy::is_default))
            .set(password_policy::is_default.eq(false))
            .execute(self.conn()?)
            .await?;
        one_row(
            diesel::update(password_policy::table.find(id))
                .set(password_policy::is_default.eq(true))
                .execute(self.conn()?)
                .await?,
        )
    }

    /// Removes a policy.
    ///
    /// # Errors
    /// [`StoreError::Stale`].
    pub async fn remove_policy(&mut self, id: Uuid, version: i32) -> Result<()> {
        one_row(
            diesel::delete(
                password_policy::table
                    .find(id)
                    .filter(password_policy::version.eq(version)),
            )
            .execute(self.conn()?)
            .await?,
        )
    }
}

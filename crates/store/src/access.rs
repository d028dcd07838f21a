//! Grants, and the fast form of the question who may do what.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel::sql_types;
use diesel_async::RunQueryDsl;
use jexlin_core::access::reference::{Grant, Only};
use jexlin_core::access::{Level, Reach};
use jexlin_core::vault::VersionState;
use uuid::Uuid;

use crate::schema::{
    access_grant, credential, gates_of, history_of, history_on_folder, level_on_credential,
    level_on_folder, path_of, secret_version, tags_move_access,
};
use crate::sql::statement;
use crate::stored::Stored;
use crate::{Result, SealedVersion, StoreError, Tx, Withheld};

/// A grant.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = access_grant)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct GrantRow {
    pub id: Uuid,
    pub organisation: Uuid,
    pub folder_id: Option<Uuid>,
    pub credential_id: Option<Uuid>,
    pub person_id: Option<Uuid>,
    pub group_id: Option<Uuid>,
    pub held: i16,
    pub ends_at: Option<DateTime<Utc>>,
    pub note: String,
    pub created_at: DateTime<Utc>,
    pub created_by: Option<Uuid>,
    pub only_kind: Option<String>,
    pub only_tag: Option<String>,
    pub history: bool,
}

/// What a grant stands on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Target {
    /// A folder and, as it flows, what is below.
    Folder(Uuid),
    /// One credential.
    Credential(Uuid),
}

/// Whom a grant is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Subject {
    /// A person.
    Person(Uuid),
    /// A group.
    Group(Uuid),
}

/// A grant with the names that people know.
#[derive(Clone, Debug, QueryableByName)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct GrantView {
    #[diesel(sql_type = sql_types::Uuid)]
    pub id: Uuid,
    #[diesel(sql_type = sql_types::Nullable<sql_types::Uuid>)]
    pub folder_id: Option<Uuid>,
    #[diesel(sql_type = sql_types::Nullable<sql_types::Uuid>)]
    pub credential_id: Option<Uuid>,
    #[diesel(sql_type = sql_types::Nullable<sql_types::Uuid>)]
    pub person_id: Option<Uuid>,
    #[diesel(sql_type = sql_types::Nullable<sql_types::Uuid>)]
    pub group_id: Option<Uuid>,
    #[diesel(sql_type = sql_types::SmallInt)]
    pub held: i16,
    #[diesel(sql_type = sql_types::Nullable<sql_types::Timestamptz>)]
    pub ends_at: Option<DateTime<Utc>>,
    #[diesel(sql_type = sql_types::Text)]
    pub note: String,
    /// The path of the folder, or of the credential's folder and its name.
    #[diesel(sql_type = sql_types::Text)]
    pub place: String,
    #[diesel(sql_type = sql_types::Text)]
    pub subject_name: String,
    #[diesel(sql_type = sql_types::Nullable<sql_types::Text>)]
    pub only_kind: Option<String>,
    #[diesel(sql_type = sql_types::Nullable<sql_types::Text>)]
    pub only_tag: Option<String>,
    #[diesel(sql_type = sql_types::Bool)]
    pub history: bool,
    /// It changes with every change.
    #[diesel(sql_type = sql_types::Integer)]
    pub version: i32,
}

/// What stands between a person and a credential.
#[derive(Clone, Debug)]
pub struct Approach {
    /// What reaches them.
    pub reach: Reach,
    /// The gates on the way.
    pub gates: Vec<Uuid>,
    /// Where the credential is: its folder's path and its name.
    pub path: String,
}

pub(crate) const VIEW: &str =
    "SELECT g.id, g.folder_id, g.credential_id, g.person_id, g.group_id, g.held, g.ends_at, g.note, g.only_kind, g.only_tag, g.history, g.version,
    coalesce(path_of(g.folder_id), path_of(c.folder_id) || '/' || c.name, '') AS place, coalesce(p.display_name, pg.name, '') AS subject_name
    FROM access_grant g LEFT JOIN credential c ON c.id = g.credential_id
    LEFT JOIN person p ON p.id = g.person_id LEFT JOIN people_group pg ON pg.id = g.group_id ";

/// What reaches somebody, as it was read.
#[allow(
    clippy::disallowed_methods,
    reason = "the store reads what reaches somebody"
)]
pub(crate) const fn read_reach(subject: Uuid, target: Uuid, level: Option<Level>) -> Reach {
    Reach::from_store(subject, target, level)
}

impl Tx {
    /// What reaches a person on a credential that is not removed.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn reach_credential(
        &mut self,
        person: Uuid,
        id: Uuid,
        now: DateTime<Utc>,
    ) -> Result<Reach> {
        Ok(self.approach(person, id, now).await?.reach)
    }

    /// The same, with the gates on the way and where the credential is, in one round trip.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn approach(
        &mut self,
        person: Uuid,
        id: Uuid,
        now: DateTime<Utc>,
    ) -> Result<Approach> {
        let query = credential::table
            .find(id)
            .filter(credential::removed_at.is_null())
            .select((
                level_on_credential(person, credential::id, now),
                gates_of(credential::id),
                path_of(credential::folder_id)
                    .assume_not_null()
                    .concat("/")
                    .concat(credential::name),
            ));
        let found: Option<(Option<i16>, Vec<Uuid>, String)> =
            query.first(self.conn()?).await.optional()?;
        let (level, gates, path) = found.unwrap_or_default();
        Ok(Approach {
            reach: read_reach(person, id, level.and_then(Level::from_number)),
            gates,
            path,
        })
    }

    /// The same, with a version of a secret field that the way leads to: the current one, or one by
    /// its number. Withheld until the receipt, whoever asks.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn approach_secret(
        &mut self,
        person: Uuid,
        id: Uuid,
        now: DateTime<Utc>,
        field: &str,
        number: Option<i32>,
    ) -> Result<(Approach, Option<Withheld<SealedVersion>>)> {
        let wanted = secret_version::credential_id
            .eq(id)
            .and(secret_version::field.eq(field));
        let query = credential::table
            .left_join(
                secret_version::table.on(wanted.and(
                    secret_version::number
                        .nullable()
                        .eq(number)
                        .or(number
                            .is_none()
                            .into_sql::<sql_types::Bool>()
                            .and(secret_version::state.eq(Stored(VersionState::Current))))
                        .assume_not_null(),
                )),
            )
            .filter(credential::id.eq(id))
            .filter(credential::removed_at.is_null())
            .select((
                level_on_credential(person, credential::id, now),
                gates_of(credential::id),
                path_of(credential::folder_id)
                    .assume_not_null()
                    .concat("/")
                    .concat(credential::name),
                credential::data_key,
                secret_version::number.nullable(),
                secret_version::sealed.nullable(),
                secret_version::facts.nullable(),
            ));
        type Found = (
            Option<i16>,
            Vec<Uuid>,
            String,
            Vec<u8>,
            Option<i32>,
            Option<Vec<u8>>,
            Option<serde_json::Value>,
        );
        let found: Option<Found> = query.first(self.conn()?).await.optional()?;
        let (level, gates, path, data_key, number, sealed, facts) = found.unwrap_or_default();
        let approach = Approach {
            reach: read_reach(person, id, level.and_then(Level::from_number)),
            gates,
            path,
        };
        let facts = facts.unwrap_or_default();
        let sealed = number.zip(sealed).map(|(number, sealed)| {
            self.withhold(SealedVersion {
                credential: id,
                field: field.to_owned(),
                number,
                sealed,
                data_key,
                facts,
            })
        });
        Ok((approach, sealed))
    }

    /// What reaches a person on a folder that is not removed.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn reach_folder(
        &mut self,
        person: Uuid,
        id: Uuid,
        now: DateTime<Utc>,
    ) -> Result<Reach> {
        use crate::schema::folder;
        let query = folder::table
            .find(id)
            .filter(folder::removed_at.is_null())
            .select(level_on_folder(person, folder::id, now));
        let found: Option<Option<i16>> = query.first(self.conn()?).await.optional()?;
        Ok(read_reach(
            person,
            id,
            found.flatten().and_then(Level::from_number),
        ))
    }

    /// Whether somebody who may see a credential's values may see former ones too.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn may_see_history(
        &mut self,
        person: Uuid,
        credential: Uuid,
        now: DateTime<Utc>,
    ) -> Result<bool> {
        Ok(diesel::select(history_of(person, credential, now))
            .get_result(self.conn()?)
            .await?)
    }

    /// The same for a folder and all that grants on it reach.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn may_see_history_in(
        &mut self,
        person: Uuid,
        folder: Uuid,
        now: DateTime<Utc>,
    ) -> Result<bool> {
        Ok(diesel::select(history_on_folder(person, folder, now))
            .get_result(self.conn()?)
            .await?)
    }

    /// Whether a change of these tags on something in a folder changes whom a narrowed grant reaches.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn tags_move_access(
        &mut self,
        folder: Uuid,
        changed: &[String],
        now: DateTime<Utc>,
    ) -> Result<bool> {
        Ok(!changed.is_empty()
            && diesel::select(tags_move_access(folder, changed, now))
                .get_result(self.conn()?)
                .await?)
    }

    /// Adds a grant.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] when the same subject has one on the same target.
    pub async fn add_grant(&mut self, row: &GrantRow) -> Result<()> {
        diesel::insert_into(access_grant::table)
            .values(row)
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// A grant.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn grant(&mut self, id: Uuid) -> Result<GrantView> {
        let sql = format!("{VIEW} WHERE g.id = $1");
        Ok(statement(sql)
            .bind::<sql_types::Uuid, _>(id)
            .get_result(self.conn()?)
            .await?)
    }

    /// The grants that stand on a target.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn grants_on(&mut self, target: Target) -> Result<Vec<GrantView>> {
        let (column, id) = match target {
            Target::Folder(id) => ("folder_id", id),
            Target::Credential(id) => ("credential_id", id),
        };
        let sql = format!("{VIEW} WHERE g.{column} = $1 ORDER BY g.held DESC, subject_name, g.id");
        Ok(statement(sql)
            .bind::<sql_types::Uuid, _>(id)
            .load(self.conn()?)
            .await?)
    }

    /// The grants that reach a credential or a folder from where it is, its own included.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn grants_reaching(&mut self, target: Target) -> Result<Vec<GrantView>> {
        let sql = match target {
            Target::Credential(_) => format!(
                "{VIEW} WHERE g.credential_id = $1 OR g.folder_id IN (SELECT s.source_id FROM folder_source s JOIN credential t ON t.folder_id = s.folder_id WHERE t.id = $1)
                 ORDER BY g.held DESC, subject_name, g.id"
            ),
            Target::Folder(_) => format!(
                "{VIEW} WHERE g.folder_id IN (SELECT s.source_id FROM folder_source s WHERE s.folder_id = $1) ORDER BY g.held DESC, subject_name, g.id"
            ),
        };
        let (Target::Folder(id) | Target::Credential(id)) = target;
        Ok(statement(sql)
            .bind::<sql_types::Uuid, _>(id)
            .load(self.conn()?)
            .await?)
    }

    /// Takes a grant away.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn remove_grant(&mut self, id: Uuid) -> Result<()> {
        self.must_examine();
        let count = diesel::delete(access_grant::table.find(id))
            .execute(self.conn()?)
            .await?;
        if count == 1 {
            Ok(())
        } else {
            Err(StoreError::NotFound)
        }
    }

    /// How many stewards a folder has of its own or from above, not counting one grant. Used to
    /// keep the last one.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn stewards_without(
        &mut self,
        target: Target,
        without: Uuid,
        now: DateTime<Utc>,
    ) -> Result<usize> {
        let reaching = self.grants_reaching(target).await?;
        let steward = Level::Steward.number();
        Ok(reaching
            .iter()
            .filter(|grant| {
                grant.id != without
                    && grant.held == steward
                    && grant.only_kind.is_none()
                    && grant.only_tag.is_none()
                    && grant.ends_at.is_none_or(|end| now < end)
            })
            .count())
    }

    /// All grants, for the plain definition of access.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn all_grants(&mut self) -> Result<Vec<GrantRow>> {
        Ok(access_grant::table
            .select(GrantRow::as_select())
            .load(self.conn()?)
            .await?)
    }
}

impl GrantRow {
    /// The grant as the plain definition sees it.
    #[must_use]
    pub fn to_plain(&self) -> Option<Grant> {
        Some(Grant {
            id: self.id,
            subject: self.person_id.or(self.group_id)?,
            target: self.folder_id.or(self.credential_id)?,
            level: Level::from_number(self.held)?,
            ends_at: self.ends_at,
            only: Only {
                kind: self.only_kind.clone(),
                tag: self.only_tag.clone(),
            },
        })
    }
}

//! Grants, and what reaches a person: the fast form of the access rule.

use std::collections::HashMap;

use chrono::{DateTime, Utc};
use diesel::helper_types::{AsSelect, IntoBoxed, Select};
use diesel::pg::Pg;
use diesel::prelude::*;
use diesel::sql_types;
use diesel_async::RunQueryDsl;
use jexlin_core::access::reference::{Grant, Only};
use jexlin_core::access::{Level, Reach};
use jexlin_core::vault::VersionState;
use uuid::Uuid;

use crate::schema::{
    access_grant, credential, folder_source, gates_of, grant_view, level_on_credential,
    level_on_folder, path_of, secret_version, tags_move_access,
};
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

/// What a grant is on.
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
#[derive(Clone, Debug, Queryable, Selectable)]
#[diesel(table_name = grant_view)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct GrantView {
    pub id: Uuid,
    pub folder_id: Option<Uuid>,
    pub credential_id: Option<Uuid>,
    pub person_id: Option<Uuid>,
    pub group_id: Option<Uuid>,
    pub held: i16,
    pub ends_at: Option<DateTime<Utc>>,
    pub note: String,
    /// The path of the folder, or of the credential's folder and its name.
    pub place: String,
    pub subject_name: String,
    pub only_kind: Option<String>,
    pub only_tag: Option<String>,
    pub history: bool,
    /// It changes with every change.
    pub revision: i32,
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

impl Approach {
    /// The approach to a credential that does not exist.
    #[must_use]
    pub const fn none(person: Uuid, credential: Uuid) -> Self {
        Self {
            reach: read_reach(person, credential, None),
            gates: Vec::new(),
            path: String::new(),
        }
    }
}

type Grants<'a> = IntoBoxed<'a, Select<grant_view::table, AsSelect<GrantView, Pg>>, Pg>;

/// Grants with names, the highest level first.
fn grants_in_order<'a>() -> Grants<'a> {
    grant_view::table
        .select(GrantView::as_select())
        .into_boxed()
        .order((
            grant_view::held.desc(),
            grant_view::subject_name,
            grant_view::id,
        ))
}

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
        let found = self.approaches(person, &[id], now).await?.remove(&id);
        Ok(found.unwrap_or_else(|| Approach::none(person, id)))
    }

    /// The approaches to many credentials. Those that do not exist or are removed are left out.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn approaches(
        &mut self,
        person: Uuid,
        ids: &[Uuid],
        now: DateTime<Utc>,
    ) -> Result<HashMap<Uuid, Approach>> {
        let query = credential::table
            .filter(credential::id.eq_any(ids))
            .filter(credential::removed_at.is_null())
            .select((
                credential::id,
                level_on_credential(person, credential::id, now),
                gates_of(credential::id),
                path_of(credential::folder_id)
                    .assume_not_null()
                    .concat("/")
                    .concat(credential::name),
            ));
        let rows: Vec<(Uuid, Option<i16>, Vec<Uuid>, String)> = query.load(self.conn()?).await?;
        let approaches = rows.into_iter().map(|(id, level, gates, path)| {
            let reach = read_reach(person, id, level.and_then(Level::from_number));
            (id, Approach { reach, gates, path })
        });
        Ok(approaches.collect())
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

    /// The grants on a credential and on the folders whose grants reach it that are for a person or
    /// a group of theirs, whatever they are narrowed to.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn grants_for(&mut self, person: Uuid, target: Target) -> Result<Vec<GrantRow>> {
        let subjects = self.subjects_of(person).await?;
        let folder = match target {
            Target::Folder(id) => id,
            Target::Credential(id) => {
                credential::table
                    .find(id)
                    .select(credential::folder_id)
                    .first(self.conn()?)
                    .await?
            }
        };
        let credential = match target {
            Target::Folder(_) => None,
            Target::Credential(id) => Some(id),
        };
        let sources = folder_source::table
            .filter(folder_source::folder_id.eq(folder))
            .select(folder_source::source_id.nullable());
        let query = access_grant::table
            .filter(
                access_grant::person_id
                    .eq(person)
                    .or(access_grant::group_id.eq_any(subjects)),
            )
            .filter(
                access_grant::credential_id
                    .eq(credential)
                    .or(access_grant::folder_id.eq_any(sources)),
            )
            .select(GrantRow::as_select());
        Ok(query.load(self.conn()?).await?)
    }

    /// Whether a change of these tags on something in a folder changes whom a narrowed grant
    /// reaches.
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
        Ok(grant_view::table
            .find(id)
            .select(GrantView::as_select())
            .first(self.conn()?)
            .await?)
    }

    /// The grants on a target.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn grants_on(&mut self, target: Target) -> Result<Vec<GrantView>> {
        let mut query = grants_in_order();
        query = match target {
            Target::Folder(id) => query.filter(grant_view::folder_id.eq(id)),
            Target::Credential(id) => query.filter(grant_view::credential_id.eq(id)),
        };
        Ok(query.load(self.conn()?).await?)
    }

    /// The grants that reach a credential or a folder from where it is, its own included.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn grants_reaching(&mut self, target: Target) -> Result<Vec<GrantView>> {
        let sources = folder_source::table.select(folder_source::source_id.nullable());
        let mut query = grants_in_order();
        query = match target {
            Target::Credential(id) => {
                let here = credential::table.find(id).select(credential::folder_id);
                let above = sources.filter(folder_source::folder_id.eq_any(here));
                query.filter(
                    grant_view::credential_id
                        .eq(id)
                        .or(grant_view::folder_id.eq_any(above)),
                )
            }
            Target::Folder(id) => query.filter(
                grant_view::folder_id.eq_any(sources.filter(folder_source::folder_id.eq(id))),
            ),
        };
        Ok(query.load(self.conn()?).await?)
    }

    /// The grants to a person and to the groups that they are in, at whatever depth, that have not
    /// expired, in the order of what they are on; after a place and a grant.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn grants_to(
        &mut self,
        person: Uuid,
        now: DateTime<Utc>,
        after: Option<(String, Uuid)>,
        limit: i64,
    ) -> Result<Vec<GrantView>> {
        let subjects = self.subjects_of(person).await?;
        let mut query = grant_view::table
            .select(GrantView::as_select())
            .filter(
                grant_view::person_id
                    .eq(person)
                    .or(grant_view::group_id.eq_any(subjects)),
            )
            .filter(
                grant_view::ends_at
                    .is_null()
                    .or(grant_view::ends_at.gt(now)),
            )
            .order((grant_view::place, grant_view::id))
            .limit(limit)
            .into_boxed();
        if let Some((place, id)) = after {
            query = query.filter(
                grant_view::place
                    .gt(place.clone())
                    .or(grant_view::place.eq(place).and(grant_view::id.gt(id))),
            );
        }
        Ok(query.load(self.conn()?).await?)
    }

    /// Takes a grant away.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn remove_grant(&mut self, id: Uuid) -> Result<()> {
        self.must_revalidate();
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

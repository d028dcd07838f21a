//! Sessions and the throttle of sign-ins.

use chrono::{DateTime, Utc};
use diesel::dsl::AsSelect;
use diesel::pg::Pg;
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use jexlin_core::audit::Action;
use jexlin_core::auth::{Assurance, Channel};
use jexlin_core::people::PersonState;
use jexlin_core::words::Word as _;
use uuid::Uuid;

use crate::schema::{
    count_stranger_refusal, person, session, sign_in_place, stranger_refusal, throttle,
};
use crate::stored::Stored;
use crate::{PersonRow, Result, Tx};

/// A session.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = session)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct SessionRow {
    pub id: Uuid,
    pub organisation: Uuid,
    pub person_id: Uuid,
    pub token_hash: Vec<u8>,
    pub channel: Stored<Channel>,
    pub assurance: Stored<Assurance>,
    pub created_at: DateTime<Utc>,
    pub last_used_at: DateTime<Utc>,
    pub ends_at: DateTime<Utc>,
    pub ended_at: Option<DateTime<Utc>>,
    pub origin: String,
}

/// Failed sign-ins of one person or one address.
#[derive(Clone, Debug, PartialEq, Eq, Queryable, Selectable)]
#[diesel(table_name = throttle)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct Throttle {
    pub failures: i32,
    pub last_failure_at: DateTime<Utc>,
}

type SessionAndPerson = (AsSelect<SessionRow, Pg>, AsSelect<PersonRow, Pg>);

/// The look for the session of a token and its person.
#[diesel::dsl::auto_type(no_type_alias)]
pub(crate) fn session_by_token<'a>(hash: &'a [u8]) -> _ {
    let row: SessionAndPerson = (SessionRow::as_select(), PersonRow::as_select());
    session::table
        .inner_join(person::table.on(person::id.eq(session::person_id)))
        .filter(session::token_hash.eq(hash))
        .select(row)
}

impl Tx {
    /// Adds a session.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn add_session(&mut self, row: &SessionRow) -> Result<()> {
        diesel::insert_into(session::table)
            .values(row)
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// The session of a token and its person.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn session_by_token(
        &mut self,
        hash: &[u8],
    ) -> Result<Option<(SessionRow, PersonRow)>> {
        Ok(session_by_token(hash)
            .first(self.conn()?)
            .await
            .optional()?)
    }

    /// Notes that a session is in use.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn touch_session(&mut self, id: Uuid, now: DateTime<Utc>) -> Result<()> {
        diesel::update(session::table.find(id))
            .set(session::last_used_at.eq(now))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// The sessions of a person that have not ended, the one used last first.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn sessions_of(
        &mut self,
        person: Uuid,
        now: DateTime<Utc>,
    ) -> Result<Vec<SessionRow>> {
        let query = session::table
            .filter(session::person_id.eq(person))
            .filter(session::ended_at.is_null())
            .filter(session::ends_at.gt(now))
            .order((session::last_used_at.desc(), session::id.desc()))
            .select(SessionRow::as_select());
        Ok(query.load(self.conn()?).await?)
    }

    /// A session that has not ended.
    ///
    /// # Errors
    /// [`crate::StoreError::NotFound`].
    pub async fn session(&mut self, id: Uuid) -> Result<SessionRow> {
        let query = session::table
            .find(id)
            .filter(session::ended_at.is_null())
            .select(SessionRow::as_select());
        Ok(query.first(self.conn()?).await?)
    }

    /// Ends one session.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn end_session(&mut self, id: Uuid, now: DateTime<Utc>) -> Result<()> {
        diesel::update(session::table.find(id))
            .set(session::ended_at.eq(now))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// Ends all sessions of a person but one.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn end_sessions_of(
        &mut self,
        person: Uuid,
        but: Option<Uuid>,
        now: DateTime<Utc>,
    ) -> Result<usize> {
        let query = diesel::update(
            session::table
                .filter(session::person_id.eq(person))
                .filter(session::ended_at.is_null())
                .filter(session::id.ne(but.unwrap_or_default())),
        )
        .set(session::ended_at.eq(now));
        Ok(query.execute(self.conn()?).await?)
    }

    /// The failed sign-ins noted under a key. With `lock`, the row is held until the transaction
    /// ends, so that attempts at the same moment count one after the other.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn throttle(&mut self, key: &str) -> Result<Option<Throttle>> {
        let organisation = self.organisation();
        let query = throttle::table
            .find((organisation, key))
            .select(Throttle::as_select())
            .for_update();
        Ok(query.first(self.conn()?).await.optional()?)
    }

    /// Notes a failed sign-in.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn note_failure(
        &mut self,
        key: &str,
        failures: i32,
        now: DateTime<Utc>,
    ) -> Result<()> {
        let organisation = self.organisation();
        diesel::insert_into(throttle::table)
            .values((
                throttle::organisation.eq(organisation),
                throttle::key.eq(key),
                throttle::failures.eq(failures),
                throttle::last_failure_at.eq(now),
            ))
            .on_conflict((throttle::organisation, throttle::key))
            .do_update()
            .set((
                throttle::failures.eq(failures),
                throttle::last_failure_at.eq(now),
            ))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// Forgets the failed sign-ins under a key.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn forget_failures(&mut self, key: &str) -> Result<()> {
        let organisation = self.organisation();
        diesel::delete(throttle::table.find((organisation, key)))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// Forgets the failed sign-ins of a name, from wherever they were made.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn forget_failures_of(&mut self, name: &str) -> Result<()> {
        let organisation = self.organisation();
        // No sign-in name has a space in it.
        let from_anywhere = format!("{} from %", crate::credential_lists::literal(name));
        diesel::delete(
            throttle::table
                .filter(throttle::organisation.eq(organisation))
                .filter(throttle::key.eq(name).or(throttle::key.like(from_anywhere))),
        )
        .execute(self.conn()?)
        .await?;
        Ok(())
    }

    /// Takes one noted failure back.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn take_failure_back(&mut self, key: &str) -> Result<()> {
        let organisation = self.organisation();
        diesel::update(
            throttle::table
                .find((organisation, key))
                .filter(throttle::failures.gt(0)),
        )
        .set(throttle::failures.eq(throttle::failures - 1))
        .execute(self.conn()?)
        .await?;
        Ok(())
    }

    /// Whether somebody has signed in from an address before.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn has_signed_in_from(
        &mut self,
        name: &str,
        origin: &str,
        since: DateTime<Utc>,
    ) -> Result<bool> {
        let query = sign_in_place::table
            .filter(
                sign_in_place::name
                    .eq(name)
                    .and(sign_in_place::origin.eq(origin))
                    .and(sign_in_place::signed_in_at.gt(since)),
            )
            .count();
        let count: i64 = query.get_result(self.conn()?).await?;
        Ok(count > 0)
    }

    /// Notes from where somebody has signed in.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn note_signed_in_from(
        &mut self,
        name: &str,
        origin: &str,
        now: DateTime<Utc>,
    ) -> Result<()> {
        let organisation = self.organisation();
        diesel::insert_into(sign_in_place::table)
            .values((
                sign_in_place::organisation.eq(organisation),
                sign_in_place::name.eq(name),
                sign_in_place::origin.eq(origin),
                sign_in_place::signed_in_at.eq(now),
            ))
            .on_conflict((
                sign_in_place::organisation,
                sign_in_place::name,
                sign_in_place::origin,
            ))
            .do_update()
            .set(sign_in_place::signed_in_at.eq(now))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// Counts a refusal of a stranger. Whether it is the first of its minute, which is recorded by
    /// itself.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn count_stranger_refusal(
        &mut self,
        action: Action,
        origin: &str,
        now: DateTime<Utc>,
    ) -> Result<bool> {
        Ok(
            diesel::select(count_stranger_refusal(action.word(), origin, now))
                .get_result(self.conn()?)
                .await?,
        )
    }

    /// Takes out the counts of refusals that began before a time: action, count, some of the
    /// addresses.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn take_stranger_refusals(
        &mut self,
        before: DateTime<Utc>,
    ) -> Result<Vec<(String, i64, Vec<String>)>> {
        let query =
            diesel::delete(stranger_refusal::table.filter(stranger_refusal::since.le(before)))
                .returning((
                    stranger_refusal::action,
                    stranger_refusal::count,
                    stranger_refusal::origins,
                ));
        Ok(query.get_results(self.conn()?).await?)
    }

    /// Of these sessions, those of this organisation that still count.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn sessions_that_count(
        &mut self,
        among: &[Uuid],
        now: DateTime<Utc>,
    ) -> Result<Vec<Uuid>> {
        let query = session::table
            .inner_join(person::table.on(person::id.eq(session::person_id)))
            .filter(session::id.eq_any(among))
            .filter(
                session::ended_at
                    .is_null()
                    .and(session::ends_at.gt(now))
                    .and(person::state.eq(Stored(PersonState::Active))),
            )
            .select(session::id);
        Ok(query.load(self.conn()?).await?)
    }
}

//! Access as a whole: read for a file that says all of it, changed in bulk, and looked through for
//! access issues.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel::sql_types;
use diesel_async::RunQueryDsl;
use jexlin_core::access::IssueType;
use uuid::Uuid;

use crate::access::VIEW;
use crate::schema::{
    access_grant, audit_event, audit_leaf, gate_approver, group_member, password_rule,
};
use crate::sql::statement;
use crate::stored::Stored;
use crate::{ApproverRow, EventRow, GrantRow, GrantView, MemberRow, Result, RuleRow, Tx};

/// A credential and where it is.
#[derive(Clone, Debug, QueryableByName)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct CredentialPlace {
    #[diesel(sql_type = sql_types::Uuid)]
    pub id: Uuid,
    #[diesel(sql_type = sql_types::Text)]
    pub name: String,
    #[diesel(sql_type = sql_types::Uuid)]
    pub folder_id: Uuid,
}

/// A folder that no active person is a steward of.
#[derive(Clone, Debug, QueryableByName)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct Orphan {
    #[diesel(sql_type = sql_types::Uuid)]
    pub id: Uuid,
    #[diesel(sql_type = sql_types::Text)]
    pub place: String,
}

/// A grant that is of no use, and why: `left`, `ended` or `redundant`.
#[derive(Clone, Debug, QueryableByName)]
#[allow(missing_docs, reason = "the parts say it")]
pub struct IdleGrant {
    #[diesel(embed)]
    pub grant: GrantView,
    #[diesel(sql_type = sql_types::Text)]
    pub why: Stored<IssueType>,
}

#[derive(QueryableByName)]
struct Id {
    #[diesel(sql_type = sql_types::Uuid)]
    id: Uuid,
}

impl Tx {
    /// One such change after the other, in an organisation: waits for whoever is at it.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn lock_access(&mut self) -> Result<()> {
        statement("SELECT pg_advisory_xact_lock(hashtextextended(scope()::text, 42))")
            .execute(self.conn()?)
            .await?;
        self.lock_tree().await
    }

    /// Credentials that have grants or a gate of their own, or are named by folder and name.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn credentials_apart(
        &mut self,
        named: &[(Uuid, String)],
    ) -> Result<Vec<CredentialPlace>> {
        let (folders, names): (Vec<Uuid>, Vec<String>) = named.iter().cloned().unzip();
        let sql = "SELECT c.id, c.name, c.folder_id FROM credential c
             WHERE c.removed_at IS NULL AND c.id IN (
                SELECT g.credential_id FROM access_grant g WHERE g.credential_id IS NOT NULL
                UNION SELECT g.credential_id FROM gate g WHERE g.credential_id IS NOT NULL
                UNION SELECT n.id FROM credential n JOIN unnest($1, $2) AS t(folder, name) ON n.folder_id = t.folder AND n.name = t.name WHERE n.removed_at IS NULL)";
        let query = statement(sql)
            .bind::<sql_types::Array<sql_types::Uuid>, _>(folders)
            .bind::<sql_types::Array<sql_types::Text>, _>(names);
        Ok(query.load(self.conn()?).await?)
    }

    /// Who may approve, at all gates.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn all_approvers(&mut self) -> Result<Vec<ApproverRow>> {
        Ok(gate_approver::table
            .select(ApproverRow::as_select())
            .load(self.conn()?)
            .await?)
    }

    /// What folders demand of passwords, each of its own.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn all_password_rules(&mut self) -> Result<Vec<RuleRow>> {
        Ok(password_rule::table
            .select(RuleRow::as_select())
            .load(self.conn()?)
            .await?)
    }

    /// Adds grants.
    ///
    /// # Errors
    /// [`crate::StoreError::Conflict`] when one is there already.
    pub async fn add_grants(&mut self, rows: &[GrantRow]) -> Result<()> {
        for some in rows.chunks(2000) {
            diesel::insert_into(access_grant::table)
                .values(some)
                .execute(self.conn()?)
                .await?;
        }
        Ok(())
    }

    /// Adds a grant, in the place of one that the same subject has there.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn put_grant(&mut self, row: &GrantRow) -> Result<()> {
        let same = access_grant::table
            .filter(access_grant::folder_id.is_not_distinct_from(row.folder_id))
            .filter(access_grant::credential_id.is_not_distinct_from(row.credential_id))
            .filter(access_grant::person_id.is_not_distinct_from(row.person_id))
            .filter(access_grant::group_id.is_not_distinct_from(row.group_id))
            .filter(access_grant::only_kind.is_not_distinct_from(row.only_kind.clone()))
            .filter(access_grant::only_tag.is_not_distinct_from(row.only_tag.clone()));
        self.must_examine();
        diesel::delete(same).execute(self.conn()?).await?;
        self.add_grant(row).await
    }

    /// Gives grants that are there other terms: level, end, note, former values.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn alter_grants(&mut self, rows: &[GrantRow]) -> Result<()> {
        self.must_examine();
        for row in rows {
            diesel::update(access_grant::table.find(row.id))
                .set((
                    access_grant::held.eq(row.held),
                    access_grant::ends_at.eq(row.ends_at),
                    access_grant::note.eq(&row.note),
                    access_grant::history.eq(row.history),
                    access_grant::version.eq(access_grant::version + 1),
                ))
                .execute(self.conn()?)
                .await?;
        }
        Ok(())
    }

    /// Takes grants away. How many.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn remove_grants(&mut self, ids: &[Uuid]) -> Result<usize> {
        self.must_examine();
        Ok(
            diesel::delete(access_grant::table.filter(access_grant::id.eq_any(ids)))
                .execute(self.conn()?)
                .await?,
        )
    }

    /// Some grants as they are, held until the transaction ends.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn some_grants(&mut self, ids: &[Uuid]) -> Result<Vec<GrantRow>> {
        Ok(access_grant::table
            .filter(access_grant::id.eq_any(ids))
            .select(GrantRow::as_select())
            .for_update()
            .load(self.conn()?)
            .await?)
    }

    /// Puts people and groups into groups; being there already is no error.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn add_members(&mut self, rows: &[MemberRow]) -> Result<()> {
        for some in rows.chunks(5000) {
            diesel::insert_into(group_member::table)
                .values(some)
                .on_conflict_do_nothing()
                .execute(self.conn()?)
                .await?;
        }
        Ok(())
    }

    /// Takes people and groups out of groups: group, member.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn remove_members(&mut self, pairs: &[(Uuid, Uuid)]) -> Result<()> {
        self.must_examine();
        let (groups, members): (Vec<Uuid>, Vec<Uuid>) = pairs.iter().copied().unzip();
        let sql = "DELETE FROM group_member m USING unnest($1, $2) AS t(grp, mem) WHERE m.group_id = t.grp AND m.member = t.mem";
        let query = statement(sql)
            .bind::<sql_types::Array<sql_types::Uuid>, _>(groups)
            .bind::<sql_types::Array<sql_types::Uuid>, _>(members);
        query.execute(self.conn()?).await?;
        Ok(())
    }

    /// Of these folders, or of all, those that no active person is a steward of.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn without_steward(
        &mut self,
        among: Option<&[Uuid]>,
        now: DateTime<Utc>,
    ) -> Result<Vec<Uuid>> {
        let sql = "WITH RECURSIVE standing(id) AS (
                SELECT p.id FROM person p WHERE p.state = 'active'
                UNION SELECT m.group_id FROM standing JOIN group_member m ON m.member = standing.id
             ), stewarded AS MATERIALIZED (
                SELECT DISTINCT s.folder_id FROM access_grant g JOIN folder_source s ON s.source_id = g.folder_id
                WHERE g.held = 5 AND g.only_kind IS NULL AND g.only_tag IS NULL AND (g.ends_at IS NULL OR $1 < g.ends_at)
                  AND coalesce(g.person_id, g.group_id) IN (SELECT id FROM standing)
             ) SELECT f.id FROM folder f WHERE f.removed_at IS NULL AND ($2 OR f.id = ANY ($3)) AND f.id NOT IN (SELECT folder_id FROM stewarded)";
        let query = statement(sql)
            .bind::<sql_types::Timestamptz, _>(now)
            .bind::<sql_types::Bool, _>(among.is_none())
            .bind::<sql_types::Array<sql_types::Uuid>, _>(among.unwrap_or_default().to_vec());
        let rows: Vec<Id> = query.load(self.conn()?).await?;
        Ok(rows.into_iter().map(|row| row.id).collect())
    }

    /// The folders that no active person is a steward of, without those below them that would have one
    /// again together with them.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn orphans(&mut self, now: DateTime<Utc>) -> Result<Vec<Orphan>> {
        let all = self.without_steward(None, now).await?;
        // Below an open folder without a steward there is none either: grants flow in from above.
        let sql = "SELECT f.id, path_of(f.id) AS place FROM folder f WHERE f.id = ANY ($1) AND (f.closed OR f.parent_id IS NULL) ORDER BY lower(path_of(f.id)), f.id";
        Ok(statement(sql)
            .bind::<sql_types::Array<sql_types::Uuid>, _>(all)
            .load(self.conn()?)
            .await?)
    }

    /// The grants that are of no use: to whoever has left, ended ones, and those that give nothing
    /// which another one does not give as well.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn idle_grants(&mut self, now: DateTime<Utc>) -> Result<Vec<IdleGrant>> {
        // What covers a grant: one to the same subject or to a group that it is in, from the same place
        // or one above, not lower, not shorter, not narrower, not with less of the past.
        let sql = format!(
            "WITH RECURSIVE up(subject, above) AS (
                SELECT s.id, s.id FROM (SELECT DISTINCT coalesce(person_id, group_id) AS id FROM access_grant) AS s
                UNION SELECT up.subject, m.group_id FROM up JOIN group_member m ON m.member = up.above
             ), covered AS MATERIALIZED (
                SELECT DISTINCT g.id FROM access_grant g LEFT JOIN credential c ON c.id = g.credential_id
                JOIN up ON up.subject = coalesce(g.person_id, g.group_id)
                JOIN folder_source s ON s.folder_id = coalesce(g.folder_id, c.folder_id)
                JOIN access_grant h ON coalesce(h.person_id, h.group_id) = up.above AND h.id <> g.id
                     AND (h.folder_id = s.source_id OR h.credential_id = g.credential_id)
                WHERE h.held >= g.held AND (h.history OR NOT g.history OR g.held < 3)
                  AND (h.ends_at IS NULL OR ($1 < h.ends_at AND g.ends_at <= h.ends_at))
                  AND (h.only_kind IS NULL OR h.only_kind = g.only_kind OR h.only_kind = c.kind)
                  AND (h.only_tag IS NULL OR h.only_tag = g.only_tag OR h.only_tag = ANY (c.tags))
                  -- Of two that say the same by way of groups in a ring, one stays.
                  AND (h.id < g.id OR coalesce(h.person_id, h.group_id) = coalesce(g.person_id, g.group_id) OR NOT EXISTS (
                        SELECT FROM up u WHERE u.subject = coalesce(h.person_id, h.group_id) AND u.above = coalesce(g.person_id, g.group_id)))
             ), idle AS MATERIALIZED (
                SELECT g.id, CASE WHEN p.state = 'left' THEN 'left' WHEN g.ends_at <= $1 THEN 'ended' ELSE 'redundant' END AS why
                FROM access_grant g LEFT JOIN person p ON p.id = g.person_id
                WHERE p.state = 'left' OR g.ends_at <= $1 OR g.id IN (SELECT id FROM covered)
             )
             SELECT w.*, idle.why FROM ({VIEW}) AS w JOIN idle ON idle.id = w.id ORDER BY idle.why, lower(w.place), w.subject_name, w.id"
        );
        Ok(statement(sql)
            .bind::<sql_types::Timestamptz, _>(now)
            .load(self.conn()?)
            .await?)
    }

    /// The grants that name a person, held until the transaction ends.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn grants_naming(&mut self, person: Uuid) -> Result<Vec<GrantRow>> {
        let query = access_grant::table
            .filter(access_grant::person_id.eq(person))
            .order(access_grant::id)
            .select(GrantRow::as_select())
            .for_update();
        Ok(query.load(self.conn()?).await?)
    }

    /// The events on a folder and on all that lies in it and below it, as far as somebody is a steward
    /// there, newest first.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn events_below(
        &mut self,
        folder: Uuid,
        steward: Uuid,
        now: DateTime<Utc>,
        before: Option<i64>,
        most: i64,
    ) -> Result<Vec<EventRow>> {
        // Where a closed folder keeps the steward out, its history is kept from them as well.
        let sql = "SELECT s.id FROM (SELECT subtree_of($1) AS id) AS s WHERE level_on_folder($2, s.id, $3) = 5";
        let inside: Vec<Id> = statement(sql)
            .bind::<sql_types::Uuid, _>(folder)
            .bind::<sql_types::Uuid, _>(steward)
            .bind::<sql_types::Timestamptz, _>(now)
            .load(self.conn()?)
            .await?;
        let inside: Vec<Uuid> = inside.into_iter().map(|row| row.id).collect();
        let of = diesel::dsl::sql::<sql_types::Bool>("(audit_event.target = ANY (")
            .bind::<sql_types::Array<sql_types::Uuid>, _>(inside.clone())
            .sql(") OR audit_event.target IN (SELECT c.id FROM credential c WHERE c.folder_id = ANY (")
            .bind::<sql_types::Array<sql_types::Uuid>, _>(inside.clone())
            .sql(")) OR audit_event.target IN (SELECT d.id FROM device d WHERE d.folder_id = ANY (")
            .bind::<sql_types::Array<sql_types::Uuid>, _>(inside)
            .sql(")))");
        let mut query = audit_event::table
            .left_join(audit_leaf::table.on(audit_leaf::event_id.eq(audit_event::id)))
            .filter(of)
            .order(audit_event::seq.desc())
            .limit(most)
            .select((crate::audit::Raw::as_select(), audit_leaf::leaf.nullable()))
            .into_boxed();
        if let Some(before) = before {
            query = query.filter(audit_event::seq.lt(before));
        }
        let rows: Vec<(crate::audit::Raw, Option<i64>)> = query.load(self.conn()?).await?;
        Ok(rows.iter().map(|(raw, leaf)| raw.to_row(*leaf)).collect())
    }
}

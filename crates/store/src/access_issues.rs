//! Access as a whole: read for a file that says all of it, changed in bulk, and looked through for
//! access issues.

use std::collections::{BTreeMap, HashMap};

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use jexlin_core::access::{IssueType, Level};
use uuid::Uuid;

use crate::rows_of::rows_of;
use crate::schema::{
    access_grant, audit_event, audit_leaf, credential, credential_place_row, credentials_apart,
    device, folder, gate_approver, grant_view, group_member, idle_grant_row, idle_grants,
    level_on_folder, lower, password_rule, path_of, subtree_of, without_steward,
};
use crate::stored::Stored;
use crate::tx::Lock;
use crate::{ApproverRow, EventRow, GrantRow, GrantView, MemberRow, Result, RuleRow, Tx};

/// A credential and where it is.
#[derive(Clone, Debug, Queryable, Selectable)]
#[diesel(table_name = credential_place_row)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct CredentialPlace {
    pub id: Uuid,
    pub name: String,
    pub folder_id: Uuid,
}

/// A folder that no active person is a steward of.
#[derive(Clone, Debug)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct Orphan {
    pub id: Uuid,
    pub place: String,
}

/// A grant that is of no use, with the type of its issue.
#[derive(Clone, Debug)]
#[allow(missing_docs, reason = "the parts say it")]
pub struct IdleGrant {
    pub grant: GrantView,
    pub issue_type: Stored<IssueType>,
}

impl Tx {
    /// One such change after the other, in an organisation: waits for others.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn lock_access(&mut self) -> Result<()> {
        self.hold(Lock::Access).await?;
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
        let query = rows_of(
            credentials_apart(folders, names),
            credential_place_row::table,
            CredentialPlace::as_select(),
        );
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
        for chunk in rows.chunks(2000) {
            diesel::insert_into(access_grant::table)
                .values(chunk)
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
        self.must_revalidate();
        diesel::delete(same).execute(self.conn()?).await?;
        self.add_grant(row).await
    }

    /// Gives grants that are there other terms: level, end, note, former values.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn alter_grants(&mut self, rows: &[GrantRow]) -> Result<()> {
        self.must_revalidate();
        for row in rows {
            diesel::update(access_grant::table.find(row.id))
                .set((
                    access_grant::held.eq(row.held),
                    access_grant::ends_at.eq(row.ends_at),
                    access_grant::note.eq(&row.note),
                    access_grant::history.eq(row.history),
                    access_grant::revision.eq(access_grant::revision + 1),
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
        self.must_revalidate();
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
        for chunk in rows.chunks(5000) {
            diesel::insert_into(group_member::table)
                .values(chunk)
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
        self.must_revalidate();
        let mut by_group: BTreeMap<Uuid, Vec<Uuid>> = BTreeMap::new();
        for (group, member) in pairs {
            by_group.entry(*group).or_default().push(*member);
        }
        for (group, members) in by_group {
            let gone = group_member::table
                .filter(group_member::group_id.eq(group))
                .filter(group_member::member.eq_any(members));
            diesel::delete(gone).execute(self.conn()?).await?;
        }
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
        Ok(diesel::select(without_steward(among, now))
            .load(self.conn()?)
            .await?)
    }

    /// The folders that no active person is a steward of, without those below them that would have
    /// one again together with them.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn orphans(&mut self, now: DateTime<Utc>) -> Result<Vec<Orphan>> {
        let all = self.without_steward(None, now).await?;
        // Below an open folder without a steward there is none either: grants flow in from above.
        let place = path_of(folder::id).assume_not_null();
        let query = folder::table
            .filter(folder::id.eq_any(all))
            .filter(folder::closed.or(folder::parent_id.is_null()))
            .order((lower(place), folder::id))
            .select((folder::id, place));
        let rows: Vec<(Uuid, String)> = query.load(self.conn()?).await?;
        let orphan = |(id, place)| Orphan { id, place };
        Ok(rows.into_iter().map(orphan).collect())
    }

    /// The grants that are of no use: to whoever has left, ended ones, and those that give nothing
    /// which another one does not give as well.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn idle_grants(&mut self, now: DateTime<Utc>) -> Result<Vec<IdleGrant>> {
        let query = rows_of(
            idle_grants(now),
            idle_grant_row::table,
            idle_grant_row::all_columns,
        );
        let idle: Vec<(Uuid, Stored<IssueType>)> = query.load(self.conn()?).await?;
        let query = grant_view::table
            .filter(grant_view::id.eq_any(idle.iter().map(|(id, _)| *id)))
            .select(GrantView::as_select());
        let grants: Vec<GrantView> = query.load(self.conn()?).await?;
        let mut by_id: HashMap<Uuid, GrantView> =
            grants.into_iter().map(|grant| (grant.id, grant)).collect();
        let idle_grant = |(id, issue_type)| {
            let grant = by_id.remove(&id)?;
            Some(IdleGrant { grant, issue_type })
        };
        Ok(idle.into_iter().filter_map(idle_grant).collect())
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

    /// The events on a folder and on everything in and below it, as far as somebody is a
    /// steward there, newest first.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn events_below(
        &mut self,
        top: Uuid,
        steward: Uuid,
        now: DateTime<Utc>,
        before: Option<i64>,
        limit: i64,
    ) -> Result<Vec<EventRow>> {
        // Where a closed folder keeps the steward out, its history is kept from them as well.
        let inside: Vec<Uuid> = folder::table
            .filter(folder::id.eq_any(diesel::select(subtree_of(top))))
            .filter(level_on_folder(steward, folder::id, now).eq(Level::Steward.number()))
            .select(folder::id)
            .load(self.conn()?)
            .await?;
        let credentials = credential::table
            .filter(credential::folder_id.eq_any(inside.clone()))
            .select(credential::id.nullable());
        let devices = device::table
            .filter(device::folder_id.eq_any(inside.clone()))
            .select(device::id.nullable());
        let of = audit_event::target
            .eq_any(inside)
            .or(audit_event::target.eq_any(credentials))
            .or(audit_event::target.eq_any(devices));
        let mut query = audit_event::table
            .left_join(audit_leaf::table.on(audit_leaf::event_id.eq(audit_event::id)))
            .filter(of)
            .order(audit_event::seq.desc())
            .limit(limit)
            .select((crate::audit::Raw::as_select(), audit_leaf::leaf.nullable()))
            .into_boxed();
        if let Some(before) = before {
            query = query.filter(audit_event::seq.lt(before));
        }
        let rows: Vec<(crate::audit::Raw, Option<i64>)> = query.load(self.conn()?).await?;
        Ok(rows.iter().map(|(raw, leaf)| raw.to_row(*leaf)).collect())
    }
}

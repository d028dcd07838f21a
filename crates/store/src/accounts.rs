//! Accounts of devices, bindings, and where an operator may be used.

use std::collections::{HashMap, HashSet};

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel::sql_types;
use diesel_async::RunQueryDsl;
use jexlin_core::upkeep::JobState;
use jexlin_core::upkeep::account::Family;
use jexlin_core::upkeep::{Binding, Role, StoredBinding, way};
use jexlin_core::upkeep::{CheckOutcome, RotationOutcome};
use jexlin_core::words::Word as _;
use uuid::Uuid;

use crate::schema::{
    account, binding, credential, device, failed_logins, forgive_login, in_operator_scope,
    operator_scope, way_changed,
};
use crate::stored::Stored;
use crate::{Conflict, DeviceRow, Result, StoreError, Tx};

/// An account, with what upkeep knows of it.
#[derive(Clone, Debug, Queryable, Selectable)]
#[diesel(table_name = account)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct AccountRow {
    pub id: Uuid,
    pub device_id: Uuid,
    pub family: String,
    pub login: String,
    pub credential_id: Option<Uuid>,
    pub created_at: DateTime<Utc>,
    pub next_check_at: Option<DateTime<Utc>>,
    pub next_rotation_at: Option<DateTime<Utc>>,
    pub checked_at: Option<DateTime<Utc>>,
    pub check_outcome: Option<Stored<CheckOutcome>>,
    pub rotated_at: Option<DateTime<Utc>>,
    pub rotation_outcome: Option<Stored<RotationOutcome>>,
    pub rotation_owed_at: Option<DateTime<Utc>>,
    pub owed_tries: i32,
    pub owed_next_at: Option<DateTime<Utc>>,
}

/// A binding with its credential's name.
#[derive(Clone, Debug)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct BindingView {
    pub binding: Binding,
    pub login: String,
    pub fields: serde_json::Value,
    pub confirmed_at: DateTime<Utc>,
}

/// Where an operator may be used.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ScopeEntry {
    /// On this device.
    Device(Uuid),
    /// On the devices in and below this folder.
    Folder(Uuid),
}

impl Tx {
    /// The account of a login on a device, made when there is none.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn ensure_account(
        &mut self,
        on: &DeviceRow,
        family: Family,
        login: &str,
        now: DateTime<Utc>,
    ) -> Result<AccountRow> {
        let organisation = self.organisation();
        diesel::insert_into(account::table)
            .values((
                account::id.eq(Uuid::now_v7()),
                account::organisation.eq(organisation),
                account::device_id.eq(on.id),
                account::family.eq(family.word()),
                account::login.eq(login),
                account::login_key.eq(family.login_key(login)),
                account::created_at.eq(now),
            ))
            .on_conflict((account::device_id, account::family, account::login_key))
            .do_nothing()
            .execute(self.conn()?)
            .await?;
        let query = account::table
            .filter(
                account::device_id
                    .eq(on.id)
                    .and(account::family.eq(family.word()))
                    .and(account::login_key.eq(family.login_key(login))),
            )
            .select(AccountRow::as_select())
            .for_update();
        Ok(query.first(self.conn()?).await?)
    }

    /// The account whose password a credential is.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn account_of(&mut self, credential: Uuid) -> Result<Option<AccountRow>> {
        let query = account::table
            .filter(account::credential_id.eq(credential))
            .select(AccountRow::as_select());
        Ok(query.first(self.conn()?).await.optional()?)
    }

    /// The accounts of these credentials, by credential. Both are locked until the transaction ends:
    /// they cannot be removed, and the scheduler skips these accounts.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn accounts_of(&mut self, credentials: &[Uuid]) -> Result<HashMap<Uuid, AccountRow>> {
        let query = account::table
            .inner_join(credential::table.on(account::credential_id.eq(credential::id.nullable())))
            .filter(credential::id.eq_any(credentials))
            .filter(credential::removed_at.is_null())
            // All callers lock in one order, so there is no deadlock.
            .order(account::id)
            .select((credential::id, AccountRow::as_select()))
            .for_key_share();
        let rows: Vec<(Uuid, AccountRow)> = query.load(self.conn()?).await?;
        Ok(rows.into_iter().collect())
    }

    /// Those of these devices that have an operator.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn operated(&mut self, devices: &[Uuid]) -> Result<HashSet<Uuid>> {
        let query = binding::table
            .inner_join(credential::table.on(credential::id.eq(binding::credential_id)))
            .filter(binding::device_id.eq_any(devices))
            .filter(binding::role.eq(Role::Operator.word()))
            .filter(credential::removed_at.is_null())
            .select(binding::device_id);
        let rows: Vec<Uuid> = query.load(self.conn()?).await?;
        Ok(rows.into_iter().collect())
    }

    /// An account.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn account(&mut self, id: Uuid) -> Result<AccountRow> {
        Ok(account::table
            .find(id)
            .select(AccountRow::as_select())
            .first(self.conn()?)
            .await?)
    }

    /// Makes a credential the password of an account that has none, with the binding that lets jobs
    /// send it there.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] with [`Conflict::AccountTaken`] when another credential is its password.
    pub async fn enroll(
        &mut self,
        of: &AccountRow,
        on: &DeviceRow,
        credential: Uuid,
        by: Uuid,
        now: DateTime<Utc>,
    ) -> Result<()> {
        if of.credential_id.is_some_and(|other| other != credential) {
            return Err(StoreError::Conflict(Conflict::AccountTaken));
        }
        self.must_revalidate();
        diesel::update(account::table.find(of.id))
            .set((
                account::credential_id.eq(credential),
                account::stale.eq(true),
            ))
            .execute(self.conn()?)
            .await?;
        self.bind(credential, on, Role::Account, by, now).await
    }

    /// Takes a credential off its account. What upkeep knows of the account stays.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] with `job_under_way`, `rotation_owed` or `must_rotate` (a checkout
    /// that asks for a rotation when it ends is open).
    pub async fn withdraw_from_account(&mut self, credential: Uuid) -> Result<()> {
        use crate::schema::{checkout, job};
        let Some(row) = self.account_of(credential).await? else {
            return Ok(());
        };
        let jobs: i64 = job::table
            .filter(job::account_id.eq(row.id))
            .filter(job::state.eq_any([JobState::Queued, JobState::Running].map(Stored)))
            .count()
            .get_result(self.conn()?)
            .await?;
        let held: i64 = checkout::table
            .filter(
                checkout::credential_id
                    .eq(credential)
                    .and(checkout::ended_at.is_null())
                    .and(checkout::rotate_on_return.eq(true)),
            )
            .count()
            .get_result(self.conn()?)
            .await?;
        for (stands, conflict) in [
            (jobs > 0, Conflict::JobUnderWay),
            (row.rotation_owed_at.is_some(), Conflict::RotationOwed),
            (held > 0, Conflict::MustRotate),
        ] {
            if stands {
                return Err(StoreError::Conflict(conflict));
            }
        }
        let own = binding::table
            .filter(binding::credential_id.eq(credential))
            .filter(binding::role.eq(Role::Account.word()));
        diesel::delete(own).execute(self.conn()?).await?;
        self.must_revalidate();
        diesel::update(account::table.find(row.id))
            .set((
                account::credential_id.eq(None::<Uuid>),
                account::stale.eq(true),
            ))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// Lets jobs send a credential's password to a device as it is now, or to its jump host as that
    /// is now. Confirms a binding that exists.
    ///
    /// # Errors
    /// [`StoreError`]; [`StoreError::NotFound`] for the password at a jump host of a device that has
    /// none.
    pub async fn bind(
        &mut self,
        credential: Uuid,
        on: &DeviceRow,
        role: Role,
        by: Uuid,
        now: DateTime<Utc>,
    ) -> Result<()> {
        let organisation = self.organisation();
        let host = self.jump_host(on).await?;
        let through = host.as_ref().map(|host| {
            let port = u16::try_from(host.port).unwrap_or(0);
            way(&host.address, port, &host.identity)
        });
        let (at, through) = if role == Role::JumpHost {
            (host.as_ref().ok_or(StoreError::NotFound)?, String::new())
        } else {
            (on, through.unwrap_or_default())
        };
        let set = (
            binding::address.eq(&at.address),
            binding::port.eq(at.port),
            binding::identity.eq(&at.identity),
            binding::dialogue.eq(&at.dialogue_digest),
            binding::way.eq(&through),
            binding::confirmed_at.eq(now),
            binding::confirmed_by.eq(by),
        );
        let key = (
            binding::organisation.eq(organisation),
            binding::credential_id.eq(credential),
            binding::device_id.eq(on.id),
            binding::role.eq(role.word()),
        );
        diesel::insert_into(binding::table)
            .values((key, set))
            .on_conflict((binding::device_id, binding::credential_id, binding::role))
            .do_update()
            .set(set)
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// Takes a device's operator away, or whoever signs in to its jump host, if it has one.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn unbind(&mut self, on: Uuid, role: Role) -> Result<()> {
        diesel::delete(
            binding::table
                .filter(binding::device_id.eq(on))
                .filter(binding::role.eq(role.word())),
        )
        .execute(self.conn()?)
        .await?;
        Ok(())
    }

    /// The bindings of a device: the operator's, and those of its accounts.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn bindings_on(&mut self, on: Uuid) -> Result<Vec<BindingView>> {
        self.read_bindings(on, None, None).await
    }

    /// The operator of a device.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn operator_of(&mut self, on: Uuid) -> Result<Option<BindingView>> {
        Ok(self
            .read_bindings(on, None, Some(Role::Operator))
            .await?
            .into_iter()
            .next())
    }

    /// Whoever signs in to the jump host of a device.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn jump_account_of(&mut self, on: Uuid) -> Result<Option<BindingView>> {
        Ok(self
            .read_bindings(on, None, Some(Role::JumpHost))
            .await?
            .into_iter()
            .next())
    }

    /// The binding of an account's password to its device.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn binding_of_account(
        &mut self,
        on: Uuid,
        credential: Uuid,
    ) -> Result<Option<BindingView>> {
        Ok(self
            .read_bindings(on, Some(credential), Some(Role::Account))
            .await?
            .into_iter()
            .next())
    }

    async fn read_bindings(
        &mut self,
        on: Uuid,
        of: Option<Uuid>,
        role: Option<Role>,
    ) -> Result<Vec<BindingView>> {
        let mut query = binding::table
            .inner_join(credential::table.on(credential::id.eq(binding::credential_id)))
            .left_join(
                account::table.on(account::credential_id
                    .eq(binding::credential_id.nullable())
                    .and(
                        account::device_id
                            .eq(binding::device_id)
                            .or(binding::role.eq(Role::JumpHost.word())),
                    )),
            )
            .filter(binding::device_id.eq(on))
            .filter(credential::removed_at.is_null())
            .order((binding::role.desc(), binding::credential_id))
            .select((
                (
                    binding::organisation,
                    binding::credential_id,
                    binding::device_id,
                    binding::role,
                ),
                (
                    binding::address,
                    binding::port,
                    binding::identity,
                    binding::dialogue,
                    binding::way,
                    binding::confirmed_at,
                ),
                // An account's own password has no scope.
                binding::role
                    .ne(Role::Account.word())
                    .and(in_operator_scope(
                        binding::credential_id,
                        binding::device_id,
                    )),
                account::login.nullable(),
                credential::fields,
                credential::name,
            ))
            .into_boxed();
        if let Some(of) = of {
            query = query.filter(binding::credential_id.eq(of));
        }
        if let Some(role) = role {
            query = query.filter(binding::role.eq(role.word()));
        }
        type Found = (
            (Uuid, Uuid, Uuid, Stored<Role>),
            (String, i32, String, String, String, DateTime<Utc>),
            bool,
            Option<String>,
            serde_json::Value,
            String,
        );
        let rows: Vec<Found> = query.load(self.conn()?).await?;
        let read = |(
            (organisation, credential, device, role),
            (address, port, identity, dialogue, way, confirmed_at),
            in_scope,
            login,
            fields,
            name,
        ): Found| {
            let port = u16::try_from(port).unwrap_or(0);
            let stored = StoredBinding {
                organisation,
                credential,
                device,
                role: role.0,
                address,
                port,
                identity,
                dialogue,
                way,
                in_scope,
            };
            let login = login
                .or_else(|| {
                    fields
                        .get("user_name")
                        .and_then(serde_json::Value::as_str)
                        .map(str::to_owned)
                })
                // A certificate has no user name.
                .unwrap_or(name);
            #[allow(clippy::disallowed_methods, reason = "the store reads bindings")]
            BindingView {
                binding: Binding::from_store(stored),
                login,
                fields,
                confirmed_at,
            }
        };
        Ok(rows.into_iter().map(read).collect())
    }

    /// The devices in folders that somebody is a steward of and that have a binding which does not
    /// agree with the device as it is now, or that are paused.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn devices_to_confirm(
        &mut self,
        person: Uuid,
        now: DateTime<Utc>,
        trusts: bool,
    ) -> Result<Vec<DeviceRow>> {
        use crate::schema::level_on_folder;
        let changed = binding::table
            .filter(binding::device_id.eq(device::id))
            .filter(binding::role.ne(Role::JumpHost.word()))
            .filter(
                binding::address
                    .ne(device::address)
                    .or(binding::port.ne(device::port))
                    .or(binding::identity.ne(device::identity))
                    .or(binding::dialogue.ne(device::dialogue_digest))
                    .or(binding::identity
                        .eq("")
                        .and(trusts.into_sql::<sql_types::Bool>().eq(false))),
            );
        let query = device::table
            .filter(device::removed_at.is_null())
            .filter(
                diesel::dsl::exists(changed)
                    .or(way_changed(device::id))
                    .or(device::paused_at.is_not_null()),
            )
            .filter(
                level_on_folder(person, device::folder_id, now)
                    .eq(jexlin_core::access::Level::Steward.number()),
            )
            .order(device::name)
            .limit(100)
            .select(DeviceRow::as_select());
        Ok(query.load(self.conn()?).await?)
    }

    /// Where a credential may be used as an operator.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn operator_scope(&mut self, of: Uuid) -> Result<Vec<ScopeEntry>> {
        let query = operator_scope::table
            .filter(operator_scope::credential_id.eq(of))
            .select((operator_scope::device_id, operator_scope::folder_id));
        let rows: Vec<(Option<Uuid>, Option<Uuid>)> = query.load(self.conn()?).await?;
        Ok(rows
            .into_iter()
            .filter_map(|(on, below)| on.map(ScopeEntry::Device).or(below.map(ScopeEntry::Folder)))
            .collect())
    }

    /// Whether a credential may be used as the operator of a device.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn is_in_operator_scope(&mut self, of: Uuid, on: Uuid) -> Result<bool> {
        Ok(diesel::select(in_operator_scope(of, on))
            .get_result(self.conn()?)
            .await?)
    }

    /// Says where a credential may be used as an operator, in place of what was said before.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn set_operator_scope(&mut self, of: Uuid, entries: &[ScopeEntry]) -> Result<()> {
        diesel::delete(operator_scope::table.filter(operator_scope::credential_id.eq(of)))
            .execute(self.conn()?)
            .await?;
        for entry in entries {
            self.add_operator_scope(of, entry).await?;
        }
        Ok(())
    }

    /// Adds one place where a credential may be used as an operator.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn add_operator_scope(&mut self, of: Uuid, entry: &ScopeEntry) -> Result<()> {
        let (on, below) = match entry {
            ScopeEntry::Device(id) => (Some(*id), None),
            ScopeEntry::Folder(id) => (None, Some(*id)),
        };
        let organisation = self.organisation();
        diesel::insert_into(operator_scope::table)
            .values((
                operator_scope::organisation.eq(organisation),
                operator_scope::credential_id.eq(of),
                operator_scope::device_id.eq(on),
                operator_scope::folder_id.eq(below),
            ))
            .on_conflict_do_nothing()
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// When logins to an account failed lately, through whatever device of the vault.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn failed_logins(
        &mut self,
        of: Uuid,
        since: DateTime<Utc>,
    ) -> Result<Vec<DateTime<Utc>>> {
        Ok(diesel::select(failed_logins(of, since))
            .load(self.conn()?)
            .await?)
    }

    /// Notes a login that is about to be tried, as if it failed; so that logins tried at the same
    /// moment count. [`Tx::forgive_login`] takes it back.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn note_failed_login(&mut self, of: Uuid, now: DateTime<Utc>) -> Result<()> {
        use crate::schema::failed_login;
        let organisation = self.organisation();
        let values = (
            failed_login::organisation.eq(organisation),
            failed_login::account_id.eq(of),
            failed_login::at.eq(now),
        );
        diesel::insert_into(failed_login::table)
            .values(values)
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// Takes one noted login back, the last one.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn forgive_login(&mut self, of: Uuid) -> Result<()> {
        diesel::select(forgive_login(of))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// A rotation is owed for an account, from now on until one is done.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn owe_rotation(&mut self, of: Uuid, now: DateTime<Utc>) -> Result<()> {
        diesel::update(
            account::table
                .find(of)
                .filter(account::rotation_owed_at.is_null()),
        )
        .set((
            account::rotation_owed_at.eq(now),
            account::owed_tries.eq(0),
            account::owed_next_at.eq(now),
        ))
        .execute(self.conn()?)
        .await?;
        Ok(())
    }

    /// Accounts with a rotation that is owed and due to be tried, and without a job under way; held
    /// until the transaction ends.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn owed_rotations(
        &mut self,
        now: DateTime<Utc>,
        limit: i64,
    ) -> Result<Vec<AccountRow>> {
        use crate::schema::job;
        let busy = job::table
            .filter(job::account_id.eq(account::id))
            .filter(job::state.eq_any([JobState::Queued, JobState::Running].map(Stored)));
        let query = account::table
            .filter(account::rotation_owed_at.is_not_null())
            .filter(account::owed_next_at.le(now))
            .filter(account::credential_id.is_not_null())
            .filter(diesel::dsl::not(diesel::dsl::exists(busy)))
            .limit(limit)
            .for_update()
            .skip_locked()
            .select(AccountRow::as_select());
        Ok(query.load(self.conn()?).await?)
    }

    /// A rotation that is owed was tried; when it is tried next.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn owed_again(&mut self, of: Uuid, next: DateTime<Utc>) -> Result<()> {
        diesel::update(account::table.find(of))
            .set((
                account::owed_tries.eq(account::owed_tries + 1),
                account::owed_next_at.eq(next),
            ))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }
}

//! The pool, the transaction bound to one organisation, and the receipt of its commit.

use std::net::{SocketAddr, ToSocketAddrs as _};
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use chrono::{DateTime, Utc};
use deadpool::managed::{Manager, Metrics, Object, Pool, RecycleResult};
use diesel::prelude::{Queryable, Selectable, SelectableHelper as _};
use diesel_async::{
    AsyncConnection as _, AsyncPgConnection, RunQueryDsl as _, SimpleAsyncConnection as _,
};
use futures_util::future::join;
use jexlin_core::audit::Event;
use jexlin_core::vault::EventKey;
use uuid::Uuid;

use crate::access_index::IndexCache;
use crate::rows_of::rows_of;
use crate::schema::{
    open_organisation_row, open_organisations, organisation_lock, organisation_row, organisations,
    pg_advisory_xact_lock, pg_advisory_xact_lock_shared,
};
use crate::{PersonRow, Result, SessionRow, StoreError};

static NUMBER: AtomicU64 = AtomicU64::new(1);

/// Commits, unless a statement failed before or no audit event went in: the first is what
/// PostgreSQL itself says of any statement in such a transaction, the second is the word that the
/// trigger on the audit log leaves behind. A request's session must still count at that moment, and
/// the organisation's key must still be the one of this number.
fn commit_recorded_by(session: Option<Uuid>, number: i32) -> String {
    match session {
        Some(session) => format!("SELECT must_be_recorded('{session}', {number}); COMMIT"),
        None => format!("SELECT must_be_recorded(NULL, {number}); COMMIT"),
    }
}
const COMMIT: &str = "SELECT 1; COMMIT";

/// Makes the pool's connections.
struct ConnectionManager {
    url: String,
}

/// One connection.
struct PooledConnection {
    conn: AsyncPgConnection,
    /// Whether this connection has prepared the statement that records an event, so that its
    /// commit may be sent along without waiting for the answer.
    records: bool,
}

impl Manager for ConnectionManager {
    type Type = PooledConnection;
    type Error = diesel::ConnectionError;

    async fn create(&self) -> std::result::Result<PooledConnection, Self::Error> {
        let mut conn = AsyncPgConnection::establish(&self.url).await?;
        // Compiling a plan takes longer than any of ours runs. And nobody waits for ever for what
        // somebody else holds.
        conn.batch_execute("SET jit = off; SET lock_timeout = '15s'")
            .await
            .map_err(|error| diesel::ConnectionError::BadConnection(error.to_string()))?;
        Ok(PooledConnection {
            conn,
            records: false,
        })
    }

    async fn recycle(&self, _: &mut PooledConnection, _: &Metrics) -> RecycleResult<Self::Error> {
        // Whether it still works shows at its next BEGIN.
        Ok(())
    }
}

/// An organisation whose vault is not locked, and the state of its keys.
#[derive(Clone, Debug, Queryable, Selectable)]
#[diesel(table_name = open_organisation_row)]
pub struct OpenOrganisation {
    /// Which.
    pub id: Uuid,
    /// The number of its key.
    pub key_number: i32,
    /// Whether data keys may still be under the former key.
    pub changing: bool,
}

/// The records of all organisations; every look goes through [`Store::begin`].
#[derive(Clone)]
pub struct Store {
    pool: Pool<ConnectionManager>,
    index_cache: IndexCache,
}

impl std::fmt::Debug for Store {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Store")
    }
}

/// One transaction in one organisation. Dropped without a commit it is rolled back.
pub struct Tx {
    /// Empty once the transaction is over.
    connection: Option<Object<ConnectionManager>>,
    organisation: Uuid,
    number: u64,
    /// The number of the key that authenticates the event in it, once there is one.
    recorded: Option<i32>,
    /// The session that must still count when this is committed.
    session: Option<Uuid>,
    /// Whether requests and checkouts must be revalidated before the commit.
    revalidation_due: bool,
    index_cache: IndexCache,
}

impl std::fmt::Debug for Tx {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Tx({})", self.number)
    }
}

impl Drop for Tx {
    fn drop(&mut self) {
        let Some(mut connection) = self.connection.take() else {
            return;
        };
        match tokio::runtime::Handle::try_current() {
            Ok(runtime) => {
                runtime.spawn(async move {
                    if connection.conn.batch_execute("ROLLBACK").await.is_err() {
                        drop(Object::take(connection));
                    }
                });
            }
            // Nobody to wait for an answer: the connection is closed, and the server rolls back.
            Err(_) => drop(Object::take(connection)),
        }
    }
}

/// Proof that a transaction and the audit event in it are durable. [`Tx::commit_recorded`] alone
/// makes one.
#[derive(Debug)]
pub struct Receipt {
    number: u64,
}

/// Something read in a transaction that may not be looked at before its audit event is durable
/// (promise 1).
#[derive(Debug)]
pub struct Withheld<T> {
    value: T,
    number: u64,
}

impl<T> Withheld<T> {
    /// Hands it out against the receipt of the transaction that it was read in.
    ///
    /// # Errors
    /// [`StoreError::Broken`] for the receipt of another transaction.
    pub fn after(self, receipt: &Receipt) -> Result<T> {
        if receipt.number == self.number {
            Ok(self.value)
        } else {
            Err(StoreError::Broken(
                "a secret was asked for against another receipt".into(),
            ))
        }
    }
}

impl Store {
    /// Opens the records with the service's own role.
    ///
    /// # Errors
    /// [`StoreError::Broken`] when the address makes no sense. Nothing is connected yet.
    pub fn open(url: &str, connections: usize) -> Result<Self> {
        let pool = Pool::builder(ConnectionManager {
            url: url.to_owned(),
        })
        .max_size(connections)
        // The one that was used last has its plans and pages available.
        .queue_mode(deadpool::managed::QueueMode::Lifo)
        .runtime(deadpool::Runtime::Tokio1)
        .wait_timeout(Some(Duration::from_secs(5)))
        .create_timeout(Some(Duration::from_secs(5)))
        .build()
        .map_err(|error| StoreError::Broken(error.to_string()))?;
        Ok(Self {
            pool,
            index_cache: IndexCache::default(),
        })
    }

    async fn connection(&self) -> Result<Object<ConnectionManager>> {
        self.pool
            .get()
            .await
            .map_err(|error| StoreError::Unavailable(error.to_string()))
    }

    fn started(&self, connection: Object<ConnectionManager>, organisation: Uuid) -> Tx {
        Tx {
            connection: Some(connection),
            organisation,
            number: NUMBER.fetch_add(1, Ordering::Relaxed),
            recorded: None,
            session: None,
            revalidation_due: false,
            index_cache: self.index_cache.clone(),
        }
    }

    /// Begins a transaction in an organisation.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn begin(&self, organisation: Uuid) -> Result<Tx> {
        // After an outage the pool may hold connections that are dead; each is tried once.
        let tries = self.pool.status().size + 1;
        let mut last = StoreError::Unavailable("no connection".into());
        for _ in 0..tries {
            let mut connection = self.connection().await?;
            match connection.conn.batch_execute(&begin_in(organisation)).await {
                Ok(()) => return Ok(self.started(connection, organisation)),
                Err(error) => last = StoreError::Unavailable(error.to_string()),
            }
            // Taken out of the pool, so that it is closed and not handed out again.
            drop(Object::take(connection));
        }
        Err(last)
    }

    /// Begins a transaction in an organisation and looks for the session of a token and its
    /// person, both on one way to the database and back.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn begin_with_session(
        &self,
        organisation: Uuid,
        token_hash: &[u8],
    ) -> Result<(Tx, Option<(SessionRow, PersonRow)>)> {
        let connection = self.connection().await?;
        let begin = begin_in(organisation);
        let (mut first, mut second) = (&connection.conn, &connection.conn);
        let (begun, found) = join(
            first.batch_execute(&begin),
            crate::sessions::session_by_token(token_hash).first(&mut second),
        )
        .await;
        if begun.is_err() {
            drop(Object::take(connection));
            let mut tx = self.begin(organisation).await?;
            let found = tx.session_by_token(token_hash).await?;
            return Ok((tx, found));
        }
        // From here on the transaction rolls back if the look failed.
        let tx = self.started(connection, organisation);
        Ok((tx, diesel::OptionalExtension::optional(found)?))
    }

    /// The organisations that there are, by name.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn organisations(&self) -> Result<Vec<(Uuid, String)>> {
        let mut tx = self.begin(Uuid::nil()).await?;
        let query = rows_of(
            organisations(),
            organisation_row::table,
            organisation_row::all_columns,
        );
        let rows = query.load(tx.conn()?).await?;
        tx.commit().await?;
        Ok(rows)
    }

    /// The organisations whose vault is not locked.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn open_organisations(&self) -> Result<Vec<OpenOrganisation>> {
        let mut tx = self.begin(Uuid::nil()).await?;
        let query = rows_of(
            open_organisations(),
            open_organisation_row::table,
            OpenOrganisation::as_select(),
        );
        let rows = query.load(tx.conn()?).await?;
        tx.commit().await?;
        Ok(rows)
    }

    /// Whether the database answers.
    pub async fn answers(&self) -> bool {
        self.organisations().await.is_ok()
    }
}

/// The latest time that the database knows, for all purposes here: the year 3000.
pub(crate) fn end_of_time() -> DateTime<Utc> {
    DateTime::from_timestamp(32_503_680_000, 0).unwrap_or(DateTime::<Utc>::MAX_UTC)
}

/// What one transaction of an organisation holds at a time, until it ends.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Lock {
    /// The shape of the folder tree.
    Tree = 41,
    /// Access, changed as a whole.
    Access = 42,
    /// The room that attachments take.
    Attachments = 43,
}

impl Tx {
    /// Waits for whoever holds this lock, and holds it until the transaction ends.
    pub(crate) async fn hold(&mut self, lock: Lock) -> Result<()> {
        diesel::select(pg_advisory_xact_lock(organisation_lock(lock as i64)))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// Waits for whoever holds this lock alone, and holds it together with others until the
    /// transaction ends.
    pub(crate) async fn hold_shared(&mut self, lock: Lock) -> Result<()> {
        diesel::select(pg_advisory_xact_lock_shared(organisation_lock(lock as i64)))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// The organisation that this transaction is bound to.
    #[must_use]
    pub const fn organisation(&self) -> Uuid {
        self.organisation
    }

    /// From now on what is recorded counts only if this session still does when it is committed.
    pub const fn answer_to(&mut self, session: Option<Uuid>) {
        self.session = session;
    }

    /// Something changed on which requests and checkouts rest.
    pub(crate) const fn must_revalidate(&mut self) {
        self.revalidation_due = true;
    }

    /// Whether requests and checkouts must be revalidated before the commit; the database
    /// refuses it otherwise.
    #[must_use]
    pub const fn is_revalidation_due(&self) -> bool {
        self.revalidation_due
    }

    pub(crate) const fn revalidated(&mut self) {
        self.revalidation_due = false;
    }

    pub(crate) fn conn(&mut self) -> Result<&mut AsyncPgConnection> {
        self.connection
            .as_mut()
            .map(|connection| &mut connection.conn)
            .ok_or_else(over)
    }

    pub(crate) const fn index_cache(&self) -> &IndexCache {
        &self.index_cache
    }

    pub(crate) const fn mark_recorded(&mut self, number: i32) {
        self.recorded = Some(number);
    }

    pub(crate) const fn withhold<T>(&self, value: T) -> Withheld<T> {
        Withheld {
            value,
            number: self.number,
        }
    }

    /// Makes durable what was done, where nothing of worth was touched.
    ///
    /// # Errors
    /// [`StoreError`]; then nothing was done.
    pub async fn commit(mut self) -> Result<()> {
        self.conn()?.batch_execute(COMMIT).await?;
        self.connection = None;
        Ok(())
    }

    /// Makes durable what was done together with its audit event.
    ///
    /// # Errors
    /// [`StoreError::Broken`] when no event was recorded: then nothing is done at all.
    pub async fn commit_recorded(mut self) -> Result<Receipt> {
        let missing = || {
            StoreError::Broken("a transaction was to be committed without its audit event".into())
        };
        let commit = commit_recorded_by(self.session, self.recorded.ok_or_else(missing)?);
        self.conn()?.batch_execute(&commit).await?;
        self.connection = None;
        Ok(Receipt {
            number: self.number,
        })
    }

    /// [`Tx::record`] and [`Tx::commit_recorded`] on one way to the database and back.
    ///
    /// # Errors
    /// [`StoreError`]; then nothing was done.
    pub async fn commit_with(mut self, event: &Event, key: &EventKey) -> Result<Receipt> {
        if !self
            .connection
            .as_ref()
            .is_some_and(|connection| connection.records)
        {
            self.record(event, key).await?;
            if let Some(connection) = &mut self.connection {
                connection.records = true;
            }
            return self.commit_recorded().await;
        }
        let insert = crate::audit::insertion(event, key, self.organisation)?;
        let connection = self.connection.as_ref().ok_or_else(over)?;
        // Should the insertion ever be sent behind the commit, the commit would be refused: it
        // looks for the event itself.
        let (mut first, mut second) = (&connection.conn, &connection.conn);
        // Unconstrained: the runtime may otherwise have the insertion wait for its turn, and let
        // the commit overtake it.
        let insertion = tokio::task::unconstrained(insert.execute(&mut first));
        let commit = commit_recorded_by(self.session, key.number());
        let (inserted, committed) = join(insertion, second.batch_execute(&commit)).await;
        // The commit's own answer counts: it is refused when the insertion failed.
        if let Err(error) = committed {
            inserted?;
            return Err(error.into());
        }
        inserted?;
        self.connection = None;
        Ok(Receipt {
            number: self.number,
        })
    }
}

/// A uuid cannot carry anything but itself into the statement.
fn begin_in(organisation: Uuid) -> String {
    format!("BEGIN; SET LOCAL jexlin.organisation = '{organisation}'")
}

fn over() -> StoreError {
    StoreError::Broken("the transaction is over".into())
}

/// The addresses of a database, so that nothing else connects to them.
#[must_use]
pub fn addresses_of(url: &str) -> Vec<SocketAddr> {
    let Ok(config) = url.parse::<tokio_postgres::Config>() else {
        return vec![];
    };
    let ports = config.get_ports();
    let hosts = config.get_hosts().iter().enumerate().map(|(index, host)| {
        let name = match host {
            tokio_postgres::config::Host::Tcp(name) => name.clone(),
            // Whoever is reached through a socket is on this machine, and mostly listens there,
            // too.
            tokio_postgres::config::Host::Unix(_) => "127.0.0.1".to_owned(),
        };
        (
            name,
            ports.get(index).or(ports.first()).copied().unwrap_or(5432),
        )
    });
    hosts
        .filter_map(|(name, port)| (name.as_str(), port).to_socket_addrs().ok())
        .flatten()
        .collect()
}

//! The pool, the transaction bound to one organisation, and the receipt of its commit.

use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use diesel_async::pooled_connection::deadpool::{Object, Pool};
use diesel_async::pooled_connection::{AsyncDieselConnectionManager, ManagerConfig, RecyclingMethod};
use diesel_async::{AnsiTransactionManager, AsyncConnection as _, AsyncMigrationHarness, AsyncPgConnection, TransactionManager as _};
use diesel_migrations::{EmbeddedMigrations, MigrationHarness as _, embed_migrations};
use uuid::Uuid;

use crate::{Result, StoreError};

const MIGRATIONS: EmbeddedMigrations = embed_migrations!();
static NUMBER: AtomicU64 = AtomicU64::new(1);

/// The records of all organisations; every look goes through [`Store::begin`].
#[derive(Clone)]
pub struct Store {
    pool: Pool<AsyncPgConnection>,
}

impl std::fmt::Debug for Store {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Store")
    }
}

/// One transaction in one organisation. Dropped without a commit it leaves nothing behind: the pool
/// closes a connection whose transaction is open instead of reusing it, and the server rolls back.
pub struct Tx {
    conn: Object<AsyncPgConnection>,
    organisation: Uuid,
    number: u64,
    recorded: bool,
}

impl std::fmt::Debug for Tx {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Tx({})", self.number)
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
        if receipt.number == self.number { Ok(self.value) } else { Err(StoreError::Broken("a secret was asked for against another receipt".into())) }
    }
}

impl Store {
    /// Opens the records with the service's own role.
    ///
    /// # Errors
    /// [`StoreError::Broken`] when the address makes no sense. Nothing is connected yet.
    pub fn open(url: &str, connections: usize) -> Result<Self> {
        let mut config = ManagerConfig::default();
        config.recycling_method = RecyclingMethod::Fast;
        let manager = AsyncDieselConnectionManager::<AsyncPgConnection>::new_with_config(url, config);
        let pool = Pool::builder(manager)
            .max_size(connections)
            .runtime(deadpool::Runtime::Tokio1)
            .wait_timeout(Some(Duration::from_secs(5)))
            .create_timeout(Some(Duration::from_secs(5)))
            .build()
            .map_err(|error| StoreError::Broken(error.to_string()))?;
        Ok(Self { pool })
    }

    async fn connection(&self) -> Result<Object<AsyncPgConnection>> {
        self.pool.get().await.map_err(|error| StoreError::Unavailable(error.to_string()))
    }

    /// Begins a transaction in an organisation.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn begin(&self, organisation: Uuid) -> Result<Tx> {
        // One round trip; a uuid cannot carry anything but itself into the statement.
        let sql = format!("BEGIN; SET LOCAL jexlin.organisation = '{organisation}'");
        // After an outage the pool may hold connections that are dead; each is tried once.
        let tries = self.pool.status().size + 1;
        let mut last = StoreError::Unavailable("no connection".into());
        for _ in 0..tries {
            let mut conn = self.connection().await?;
            match AnsiTransactionManager::begin_transaction_sql(&mut *conn, &sql).await {
                Ok(()) => return Ok(Tx { conn, organisation, number: NUMBER.fetch_add(1, Ordering::Relaxed), recorded: false }),
                Err(error) => last = StoreError::Unavailable(error.to_string()),
            }
            // Taken out of the pool, so that it is closed and not handed out again.
            drop(Object::take(conn));
        }
        Err(last)
    }

    /// The organisations that there are, by name.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn organisations(&self) -> Result<Vec<(Uuid, String)>> {
        use diesel::QueryableByName;
        use diesel_async::RunQueryDsl;
        #[derive(QueryableByName)]
        struct Row {
            #[diesel(sql_type = diesel::sql_types::Uuid)]
            id: Uuid,
            #[diesel(sql_type = diesel::sql_types::Text)]
            name: String,
        }
        let mut tx = self.begin(Uuid::nil()).await?;
        let rows: Vec<Row> = diesel::sql_query("SELECT id, name FROM organisations()").load(tx.conn()).await?;
        tx.commit().await?;
        Ok(rows.into_iter().map(|row| (row.id, row.name)).collect())
    }

    /// Whether the database answers.
    pub async fn answers(&self) -> bool {
        self.organisations().await.is_ok()
    }
}

impl Tx {
    /// The organisation that this transaction is bound to.
    #[must_use]
    pub const fn organisation(&self) -> Uuid {
        self.organisation
    }

    pub(crate) fn conn(&mut self) -> &mut AsyncPgConnection {
        &mut self.conn
    }

    pub(crate) const fn mark_recorded(&mut self) {
        self.recorded = true;
    }

    pub(crate) const fn withhold<T>(&self, value: T) -> Withheld<T> {
        Withheld { value, number: self.number }
    }

    /// Makes durable what was done, where nothing of worth was touched.
    ///
    /// # Errors
    /// [`StoreError`]; then nothing was done.
    pub async fn commit(mut self) -> Result<()> {
        AnsiTransactionManager::commit_transaction(&mut *self.conn).await?;
        Ok(())
    }

    /// Makes durable what was done together with its audit event.
    ///
    /// # Errors
    /// [`StoreError::Broken`] when no event was recorded: then nothing is done at all.
    pub async fn commit_recorded(mut self) -> Result<Receipt> {
        if !self.recorded {
            return Err(StoreError::Broken("a transaction was to be committed without its audit event".into()));
        }
        AnsiTransactionManager::commit_transaction(&mut *self.conn).await?;
        Ok(Receipt { number: self.number })
    }
}

/// Applies the migrations with the owner's role.
///
/// # Errors
/// [`StoreError`] with the database's own words.
pub async fn migrate(owner_url: &str) -> Result<Vec<String>> {
    let conn = AsyncPgConnection::establish(owner_url).await.map_err(|error| StoreError::Unavailable(error.to_string()))?;
    let mut harness = AsyncMigrationHarness::new(conn);
    let done = harness.run_pending_migrations(MIGRATIONS).map_err(|error| StoreError::Broken(error.to_string()))?;
    Ok(done.iter().map(ToString::to_string).collect())
}

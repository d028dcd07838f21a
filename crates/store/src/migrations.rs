//! The schema: tables in `migrations/`, functions, triggers and views in `sql/`, one a file.
//!
//! The functions are applied by steps among the migrations. A migration that changes one edits its
//! file and adds a step to [`STEPS`], so that databases that exist get it, too: every file can be
//! applied again.

use diesel::connection::BoxableConnection;
use diesel::migration::{
    self, Migration, MigrationMetadata, MigrationName, MigrationSource, MigrationVersion,
};
use diesel::pg::Pg;
use diesel_async::{AsyncConnection as _, AsyncMigrationHarness, AsyncPgConnection};
use diesel_migrations::{EmbeddedMigrations, MigrationHarness as _, embed_migrations};

use crate::Result;
use crate::error::StoreError;

const TABLES: EmbeddedMigrations = embed_migrations!();

/// The files of `sql/`, by name.
const FILES: &[(&str, &str)] = &include!(concat!(env!("OUT_DIR"), "/sql_files.rs"));

/// What tables need before they are made: policies ask for the scope, and a column is computed.
const BEFORE_TABLES: [&str; 2] = ["scope", "searchable"];

/// When functions are applied, among the migrations: by version; all of them, or those that tables
/// need.
const STEPS: [Step; 12] = [
    Step {
        version: "20261128000001",
        all: false,
    },
    Step {
        version: "20261128000040",
        all: true,
    },
    Step {
        version: "20261129000060",
        all: true,
    },
    Step {
        version: "20261129000070",
        all: true,
    },
    Step {
        version: "20261129000081",
        all: true,
    },
    Step {
        version: "20261129000090",
        all: true,
    },
    Step {
        version: "20261129000100",
        all: true,
    },
    Step {
        version: "20261130000010",
        all: true,
    },
    Step {
        version: "20261130000016",
        all: true,
    },
    Step {
        version: "20261130000019",
        all: true,
    },
    Step {
        version: "20261130000021",
        all: true,
    },
    Step {
        version: "20261130000022",
        all: true,
    },
];

/// One application of the functions.
#[derive(Clone, Copy, Debug)]
struct Step {
    version: &'static str,
    all: bool,
}

impl std::fmt::Display for Step {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} functions", self.version)
    }
}

impl MigrationName for Step {
    fn version(&self) -> MigrationVersion<'_> {
        self.version.into()
    }
}

impl MigrationMetadata for Step {}

impl Migration<Pg> for Step {
    fn run(&self, conn: &mut dyn BoxableConnection<Pg>) -> migration::Result<()> {
        // A function may call one of a later file; a view may not, so views come last.
        conn.batch_execute("SET LOCAL check_function_bodies = off")?;
        let wanted = |(name, _): &&(&str, &str)| self.all || BEFORE_TABLES.contains(name);
        let (views, functions): (Vec<_>, Vec<_>) = FILES
            .iter()
            .filter(wanted)
            .partition(|(_, text)| text.contains("CREATE OR REPLACE VIEW"));
        for (name, text) in functions.into_iter().chain(views) {
            conn.batch_execute(text)
                .map_err(|error| format!("sql/{name}.sql: {error}"))?;
        }
        Ok(())
    }

    fn revert(&self, _: &mut dyn BoxableConnection<Pg>) -> migration::Result<()> {
        Err("functions are changed by a later step, not taken back".into())
    }

    fn metadata(&self) -> &dyn MigrationMetadata {
        self
    }

    fn name(&self) -> &dyn MigrationName {
        self
    }
}

/// Tables and functions together, in the order of their versions.
struct Schema;

impl MigrationSource<Pg> for Schema {
    fn migrations(&self) -> migration::Result<Vec<Box<dyn Migration<Pg>>>> {
        let mut all = MigrationSource::<Pg>::migrations(&TABLES)?;
        all.extend(STEPS.map(|step| Box::new(step) as Box<dyn Migration<Pg>>));
        Ok(all)
    }
}

/// Applies the migrations with the owner's role.
///
/// # Errors
/// [`StoreError`] with the database's own words, or [`StoreError::UnknownMigration`] when the database has a
/// migration that this program does not know: it belongs to another version of the program, which
/// nothing here can serve.
pub async fn migrate(owner_url: &str) -> Result<Vec<String>> {
    let conn = AsyncPgConnection::establish(owner_url)
        .await
        .map_err(|error| StoreError::Unavailable(error.to_string()))?;
    let mut harness = AsyncMigrationHarness::new(conn);
    let broken =
        |error: Box<dyn std::error::Error + Send + Sync>| StoreError::Broken(error.to_string());
    let known: Vec<String> = MigrationSource::<Pg>::migrations(&Schema)
        .map_err(broken)?
        .iter()
        .map(|migration| migration.name().version().to_string())
        .collect();
    let applied = harness.applied_migrations().map_err(broken)?;
    if let Some(unknown) = applied
        .iter()
        .find(|version| !known.contains(&version.to_string()))
    {
        return Err(StoreError::UnknownMigration(unknown.to_string()));
    }
    let done = harness
        .run_pending_migrations(Schema)
        .map_err(|error| StoreError::Broken(error.to_string()))?;
    Ok(done.iter().map(ToString::to_string).collect())
}

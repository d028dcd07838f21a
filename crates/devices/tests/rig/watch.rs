//! Searches everything that a connector and the libraries below it write for every secret that a test
//! uses: outcomes, transcripts, and the log at its most detailed level.

use std::collections::BTreeMap;
use std::io;
use std::sync::{Arc, Mutex, MutexGuard, Once, PoisonError};

use async_trait::async_trait;
use jexlin_core::upkeep::identity::PresentedIdentity;
use jexlin_core::upkeep::{Account, BoundLogin, ConnectorKind, Endpoint, Operator, RoleMark};
use jexlin_devices::{
    Capabilities, Change, Connector, KeptOperators, Listing, MaySend, Met, Probe,
};
use jexlin_standins::secret_search::{Searched, Wanted};
use tracing_subscriber::fmt::MakeWriter;

/// The secrets so far, where one was found, and the number of log lines.
#[derive(Default)]
struct Known {
    wanted: BTreeMap<String, Arc<Wanted>>,
    found: Vec<String>,
    logged: usize,
}

static KNOWN: Mutex<Option<Known>> = Mutex::new(None);

fn known() -> MutexGuard<'static, Option<Known>> {
    KNOWN.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A secret is used from now on.
pub fn remember(secret: &str) {
    let mut known = known();
    let wanted = &mut known.get_or_insert_default().wanted;
    // A private key is looked for line by line, without the first and the last.
    let is_key = secret.starts_with("-----BEGIN");
    let lines = secret.lines().filter(|line| !line.starts_with("-----"));
    let parts: Vec<&str> = if is_key {
        lines.collect()
    } else {
        vec![secret]
    };
    for part in parts {
        if !wanted.contains_key(part)
            && let Some(new) = Wanted::new(part)
        {
            wanted.insert(part.to_owned(), Arc::new(new));
        }
    }
}

/// Where secrets were found, and the number of log lines.
pub fn result() -> (Vec<String>, usize) {
    let mut known = known();
    let known = known.get_or_insert_default();
    (known.found.clone(), known.logged)
}

/// Looks for the secrets in what was written.
fn search(place: &str, text: &[u8]) {
    let all: Vec<Arc<Wanted>> = known()
        .as_ref()
        .map(|known| known.wanted.values().cloned().collect())
        .unwrap_or_default();
    let text = Searched::new(text);
    for wanted in all {
        if let Some(disguise) = wanted.found_in(&text) {
            let found = format!("{place} has “{}” as {disguise}", wanted.secret());
            known().get_or_insert_default().found.push(found);
        }
    }
}

/// The log, which is looked at and not kept.
#[derive(Clone, Copy)]
struct Log;

impl io::Write for Log {
    fn write(&mut self, text: &[u8]) -> io::Result<usize> {
        known().get_or_insert_default().logged += 1;
        search("the log", text);
        Ok(text.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl MakeWriter<'_> for Log {
    type Writer = Self;

    fn make_writer(&self) -> Self {
        Self
    }
}

/// A connector that is watched.
#[derive(Debug)]
pub struct Watched(Arc<dyn Connector>);

/// Watches a connector from now on.
pub fn watched(connector: impl Connector + 'static) -> Watched {
    watched_too(Arc::new(connector))
}

/// The same for one that is shared.
pub fn watched_too(connector: Arc<dyn Connector>) -> Watched {
    static LOGS: Once = Once::new();
    LOGS.call_once(|| {
        tracing_subscriber::fmt()
            .with_max_level(tracing_subscriber::filter::LevelFilter::TRACE)
            .with_ansi(false)
            .with_writer(Log)
            .init();
    });
    Watched(connector)
}

fn note<R: RoleMark>(login: &BoundLogin<R>) {
    for secret in [Some(login.password()), login.enable_password()] {
        if let Some(Ok(text)) = secret.map(|it| it.expose_secret_text()) {
            remember(text);
        }
    }
}

fn clean<T: std::fmt::Debug>(met: Met<T>) -> Met<T> {
    let written = format!(
        "{:?} {:?} {}",
        met.result,
        met.presented,
        jexlin_core::dialogue::written(&met.transcript)
    );
    search("the outcome", written.as_bytes());
    let found = known().get_or_insert_default().found.clone();
    assert!(found.is_empty(), "{found:#?}");
    met
}

#[async_trait]
impl Connector for Watched {
    fn kind(&self) -> ConnectorKind {
        self.0.kind()
    }

    fn capabilities(&self) -> Capabilities {
        self.0.capabilities()
    }

    fn needed_rights(&self) -> &'static str {
        self.0.needed_rights()
    }

    async fn identify(&self, endpoint: &Endpoint) -> Result<Vec<PresentedIdentity>, String> {
        self.0.identify(endpoint).await
    }

    async fn check(&self, account: &BoundLogin<Account>) -> Met<Probe> {
        note(account);
        clean(self.0.check(account).await)
    }

    async fn change_as_operator(
        &self,
        operator: &BoundLogin<Operator>,
        candidate: &BoundLogin<Account>,
        may_send: MaySend<'_>,
    ) -> Met<Change> {
        note(operator);
        note(candidate);
        clean(
            self.0
                .change_as_operator(operator, candidate, may_send)
                .await,
        )
    }

    async fn change_as_itself(
        &self,
        account: &BoundLogin<Account>,
        candidate: &BoundLogin<Account>,
        may_send: MaySend<'_>,
    ) -> Met<Change> {
        note(account);
        note(candidate);
        clean(self.0.change_as_itself(account, candidate, may_send).await)
    }

    async fn list_accounts(&self, operator: &BoundLogin<Operator>) -> Met<Listing> {
        note(operator);
        clean(self.0.list_accounts(operator).await)
    }

    fn kept(&self) -> Option<&dyn KeptOperators> {
        self.0.kept()
    }
}

//! The commands without HTTP: an application on a real database, and people who act through units of
//! work.

#![allow(
    clippy::expect_used,
    clippy::panic,
    clippy::unwrap_used,
    reason = "what cannot be set up ends the test"
)]

use std::sync::OnceLock;

use jexlin_api::words::{Channel, Level, PersonState};
use jexlin_api::{NewFolder, NewGrant, NewPerson, SecretText, Setup, SignIn};
use jexlin_app::App;
use jexlin_app::clock::Clock;
use jexlin_app::commands::second_person::MaybePending;
use jexlin_app::commands::{audit, auth, folders, grants, people, setup};
use jexlin_app::config::Config;
use jexlin_app::error::{AppError, ErrorKind};
use jexlin_app::paging::Paging;
use jexlin_app::unit_of_work::{PendingAudit, Stranger, UnitOfWork};
use jexlin_standins::cluster::{Care, Cluster, random_hex};
use uuid::Uuid;

const PASSWORD: &str = "osmere-water-tests";

fn cluster() -> &'static Cluster {
    static CLUSTER: OnceLock<Cluster> = OnceLock::new();
    CLUSTER.get_or_init(|| Cluster::temporary(Care::Fast).expect("a cluster"))
}

/// An application that is set up, with ines as its administrator.
struct Osmere {
    app: App,
    folder: std::path::PathBuf,
}

impl Drop for Osmere {
    fn drop(&mut self) {
        let _ = std::fs::remove_dir_all(&self.folder);
    }
}

fn stranger() -> Stranger {
    Stranger {
        audit: PendingAudit::default(),
        origin: "the test".into(),
    }
}

impl Osmere {
    async fn begin() -> Self {
        let name = format!("app_{}", random_hex().expect("a name"));
        let folder = std::env::temp_dir().join(&name);
        std::fs::create_dir_all(&folder).expect("a folder");
        let database = cluster().database(&name).expect("a database");
        jexlin_store::migrate(&database.owner)
            .await
            .expect("migrations");
        let config = Config {
            database: database.service.clone(),
            connections: 4,
            folder: folder.clone(),
            console: None,
            address: "127.0.0.1".into(),
            port: 0,
            secure_cookies: false,
            idle_minutes: 30,
            session_hours: 12,
            runners: 1,
            per_device: 1,
            connect_seconds: 5,
            change_seconds: 5,
            trusted_proxies: vec![],
            leaked: None,
            credentials: None,
        };
        let app = App::new(config, Clock::Machine).expect("an application");
        let code = app.offer_setup().await.expect("a set-up code");
        let code = std::fs::read_to_string(code.expect("a file")).expect("the code");
        let body = Setup {
            code: SecretText::new(code.trim().to_owned()),
            organisation: "Osmere Water".into(),
            sign_in_name: "ines".into(),
            display_name: "Ines Calder".into(),
            password: SecretText::new(PASSWORD.into()),
            passphrase: Some(SecretText::new("nine pumps and a weir".into())),
        };
        setup::setup(&app, body, &stranger())
            .await
            .expect("a set-up");
        Self { app, folder }
    }

    async fn token(&self, name: &str, password: &str) -> Result<String, AppError> {
        let body = SignIn {
            organisation: None,
            sign_in_name: name.into(),
            password: SecretText::new(password.into()),
            channel: Channel::Client,
        };
        let signed_in = auth::sign_in(&self.app, body, &stranger()).await?;
        Ok(signed_in.token.expect("a token").expose_secret().to_owned())
    }

    /// A unit of work of somebody, and what it means to do.
    async fn unit(&self, token: &str) -> (UnitOfWork, PendingAudit) {
        let audit = PendingAudit::default();
        let unit = UnitOfWork::of_token(&self.app, token, "the test", audit.clone());
        (unit.await.expect("a unit of work"), audit)
    }

    async fn person(&self, token: &str, name: &str) -> Uuid {
        let (mut unit, _) = self.unit(token).await;
        let body = NewPerson {
            sign_in_name: name.into(),
            display_name: name.into(),
            password: Some(SecretText::new(PASSWORD.into())),
            duties: vec![],
        };
        match people::add(&mut unit, body).await.expect("a person") {
            MaybePending::Done(_, person) => {
                assert_eq!(person.state, PersonState::Active);
                person.id
            }
            MaybePending::Pending(act) => panic!("it waits: {act:?}"),
        }
    }

    async fn folder(&self, token: &str, name: &str) -> Result<Uuid, AppError> {
        let (mut unit, audit) = self.unit(token).await;
        let body = NewFolder {
            parent: None,
            name: name.into(),
            closed: false,
        };
        let added = folders::add(&mut unit, body).await;
        drop(unit);
        if let Err(error) = &added {
            audit.record_refusal(&self.app, error).await?;
        }
        added.map(|folder| folder.1.id)
    }

    /// Actions and outcomes of the log, newest first, as ines sees them.
    async fn events(&self, token: &str) -> Vec<(String, String, String)> {
        let (mut unit, _) = self.unit(token).await;
        let page = Paging {
            after: None,
            most: 50,
        };
        let found = audit::list(&mut unit, None, None, None, None, None, None, None, page)
            .await
            .expect("the log");
        let event = |event: jexlin_api::AuditEvent| {
            (event.action, event.outcome.to_string(), event.target_name)
        };
        found.items.into_iter().map(event).collect()
    }
}

fn grant(folder: Uuid, person: Uuid, level: Level) -> NewGrant {
    NewGrant {
        folder: Some(folder),
        credential: None,
        person: Some(person),
        group: None,
        level,
        ends_at: None,
        note: String::new(),
        only_kind: None,
        only_tag: None,
        without_history: false,
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_grant_and_its_event_are_committed_together() {
    let osmere = Osmere::begin().await;
    let ines = osmere.token("ines", PASSWORD).await.expect("a session");
    let marek = osmere.person(&ines, "marek").await;
    let folder = osmere.folder(&ines, "Pumping").await.expect("a folder");
    let (mut unit, _) = osmere.unit(&ines).await;
    let added = grants::add(&mut unit, grant(folder, marek, Level::Reveal))
        .await
        .expect("a grant");
    assert_eq!((added.1.level, added.1.subject), (Level::Reveal, marek));
    let events = osmere.events(&ines).await;
    let wanted = ("grant.add".into(), "done".into(), "/Pumping".into());
    assert!(events.contains(&wanted), "{events:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_undone_leaves_neither_a_change_nor_an_event() {
    let osmere = Osmere::begin().await;
    let ines = osmere.token("ines", PASSWORD).await.expect("a session");
    let marek = osmere.person(&ines, "marek").await;
    let folder = osmere.folder(&ines, "Pumping").await.expect("a folder");
    let (mut unit, _) = osmere.unit(&ines).await;
    grants::give(&mut unit, grant(folder, marek, Level::Edit))
        .await
        .expect("a grant");
    unit.undo();
    drop(unit);
    let (mut unit, _) = osmere.unit(&ines).await;
    let there = grants::list(&mut unit, Some(folder), None)
        .await
        .expect("a list");
    assert!(there.items.iter().all(|grant| grant.subject != marek));
    let events = osmere.events(&ines).await;
    assert!(
        events.iter().all(|event| event.0 != "grant.add"),
        "{events:?}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_refusal_changes_nothing_and_is_in_the_log() {
    let osmere = Osmere::begin().await;
    let ines = osmere.token("ines", PASSWORD).await.expect("a session");
    osmere.person(&ines, "marek").await;
    let marek = osmere.token("marek", PASSWORD).await.expect("a session");
    let refused = osmere.folder(&marek, "Mine alone").await;
    assert_eq!(
        refused.map_err(|error| error.kind),
        Err(ErrorKind::Forbidden)
    );
    let events = osmere.events(&ines).await;
    let wanted = ("folder.add".into(), "refused".into(), "Mine alone".into());
    assert!(events.contains(&wanted), "{events:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_duty_of_an_action_is_demanded_before_anything_is_looked_at() {
    let osmere = Osmere::begin().await;
    let ines = osmere.token("ines", PASSWORD).await.expect("a session");
    osmere.person(&ines, "marek").await;
    let marek = osmere.token("marek", PASSWORD).await.expect("a session");
    // There is no such group; whoever lacks the duty does not learn that.
    let (mut unit, _) = osmere.unit(&marek).await;
    let refused = people::remove_group(&mut unit, Uuid::now_v7(), 1).await;
    assert_eq!(
        refused.map_err(|error| error.kind),
        Err(ErrorKind::Forbidden)
    );
    let (mut unit, _) = osmere.unit(&ines).await;
    let unknown = people::remove_group(&mut unit, Uuid::now_v7(), 1).await;
    assert_eq!(unknown.map_err(|error| error.kind), Err(ErrorKind::Unknown));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_session_that_has_ended_begins_no_unit_of_work() {
    let osmere = Osmere::begin().await;
    let ines = osmere.token("ines", PASSWORD).await.expect("a session");
    let (mut unit, _) = osmere.unit(&ines).await;
    auth::sign_out(&mut unit).await.expect("a sign-out");
    let again = UnitOfWork::of_token(&osmere.app, &ines, "the test", PendingAudit::default());
    assert_eq!(
        again.await.map(|_| ()).map_err(|error| error.kind),
        Err(ErrorKind::SignedOut)
    );
    assert_eq!(
        osmere
            .token("ines", "another password")
            .await
            .map_err(|error| error.kind),
        Err(ErrorKind::SignedOut)
    );
}

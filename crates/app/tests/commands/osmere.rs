//! An organisation to act in.

use std::sync::OnceLock;

use jexlin_api::words::{Channel, Level, PersonState};
use jexlin_api::{
    NewCredential, NewFolder, NewGrant, NewPerson, Reveal, SecretText, Setup, SignIn,
};
use jexlin_app::App;
use jexlin_app::clock::Clock;
use jexlin_app::commands::second_person::MaybePending;
use jexlin_app::commands::{audit, auth, credentials, folders, people, secrets, setup};
use jexlin_app::config::Config;
use jexlin_app::error::{AppError, ErrorKind};
use jexlin_app::paging::Paging;
use jexlin_app::unit_of_work::{PendingAudit, Stranger, UnitOfWork};
use jexlin_standins::cluster::{Care, Cluster, random_hex};
use uuid::Uuid;

pub const PASSWORD: &str = "osmere-water-tests";

pub fn cluster() -> &'static Cluster {
    static CLUSTER: OnceLock<Cluster> = OnceLock::new();
    CLUSTER.get_or_init(|| Cluster::temporary(Care::Fast).expect("a cluster"))
}

/// An application that is set up, with ines as its administrator.
pub struct Osmere {
    pub app: App,
    pub folder: std::path::PathBuf,
}

impl Drop for Osmere {
    fn drop(&mut self) {
        let _ = std::fs::remove_dir_all(&self.folder);
    }
}

pub fn stranger() -> Stranger {
    Stranger {
        audit: PendingAudit::default(),
        origin: "the test".into(),
    }
}

impl Osmere {
    pub async fn begin() -> Self {
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
            tls: None,
            redirect_port: None,
            metrics: None,
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

    pub async fn token(&self, name: &str, password: &str) -> Result<String, AppError> {
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
    pub async fn unit(&self, token: &str) -> (UnitOfWork, PendingAudit) {
        let audit = PendingAudit::default();
        let unit = UnitOfWork::of_token(&self.app, token, "the test", audit.clone());
        (unit.await.expect("a unit of work"), audit)
    }

    pub async fn person(&self, token: &str, name: &str) -> Uuid {
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

    pub async fn folder(&self, token: &str, name: &str) -> Result<Uuid, AppError> {
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
    pub async fn events(&self, token: &str) -> Vec<(String, String, String)> {
        let (mut unit, _) = self.unit(token).await;
        let page = Paging {
            after: None,
            limit: 50,
        };
        let found = audit::list(&mut unit, audit::Asked::default(), page)
            .await
            .expect("the log");
        let event = |event: jexlin_api::AuditEvent| {
            (event.action, event.outcome.to_string(), event.target_name)
        };
        found.items.into_iter().map(event).collect()
    }
}

pub fn grant(folder: Uuid, person: Uuid, level: Level) -> NewGrant {
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

/// A credential in a folder, with a password.
pub async fn credential(osmere: &Osmere, token: &str, folder: Uuid, password: &str) -> Uuid {
    let (mut unit, _) = osmere.unit(token).await;
    let body = serde_json::json!({
        "folder": folder, "kind": "login", "name": "duty", "fields": {}, "password": password,
    });
    let body: NewCredential = serde_json::from_value(body).expect("a body");
    let added = credentials::add(&mut unit, body).await;
    added.expect("a credential").1.id
}

pub async fn revealed(
    osmere: &Osmere,
    token: &str,
    credential: Uuid,
    version: Option<i32>,
) -> Result<String, ErrorKind> {
    let (mut unit, _) = osmere.unit(token).await;
    let body = Reveal {
        field: None,
        version,
    };
    let revealed = secrets::reveal(&mut unit, credential, body).await;
    revealed
        .map(|revealed| revealed.value.expose_secret().to_owned())
        .map_err(|error| error.kind)
}

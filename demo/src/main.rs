//! Makes the demo's world by running the product's own code with a stepped clock: every call goes
//! through the network interface, in process; every rotation changes a real host. So the history,
//! the ages and the audit log are real entries of a real log.
//!
//! `jexlin-demo PASSWORD-FILE PASSPHRASE-FILE`; the service's environment is read as `jexlind`
//! does.

mod story;
mod world;

use std::collections::HashMap;
use std::error::Error;
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};

use chrono::{DateTime, TimeDelta, Utc};
use jexlin_app::App;
use jexlin_app::clock::Clock;
use jexlin_app::config::Config;
use jexlin_standins::demo_hosts::network;
use jexlind::workers::{Seals, assess_once, run_one, schedule_once};
use rocket::http::{ContentType, Header, Method, Status};
use rocket::local::asynchronous::Client;
use serde_json::{Value, json};

/// What anything here may end with.
pub type Outcome<T> = Result<T, Box<dyn Error>>;

/// The world while it is made.
pub struct Demo {
    client: Client,
    app: App,
    clock: Arc<AtomicI64>,
    seals: Seals,
    stamps: HashMap<uuid::Uuid, String>,
    password: String,
    tokens: HashMap<String, String>,
    /// Identifiers by path or name.
    pub ids: HashMap<String, String>,
}

impl Demo {
    /// The time in the story.
    #[must_use]
    pub fn now(&self) -> DateTime<Utc> {
        DateTime::from_timestamp_micros(self.clock.load(Ordering::SeqCst)).unwrap_or_default()
    }

    /// Lets time pass, does the work that falls due, and seals the log. Sessions end meanwhile.
    ///
    /// # Errors
    /// What the work failed with.
    pub async fn pass(&mut self, time: TimeDelta) -> Outcome<()> {
        self.clock
            .fetch_add(time.num_microseconds().unwrap_or(0), Ordering::SeqCst);
        if time > TimeDelta::minutes(20) {
            self.tokens.clear();
        }
        self.work().await
    }

    /// Performs all jobs that may run now.
    ///
    /// # Errors
    /// What the work failed with.
    pub async fn work(&mut self) -> Outcome<()> {
        loop {
            schedule_once(&self.app)
                .await
                .map_err(|fault| fault.detail().to_owned())?;
            self.clock.fetch_add(1_500_000, Ordering::SeqCst);
            if !run_one(&self.app).await {
                break;
            }
        }
        assess_once(&self.app, &mut self.stamps)
            .await
            .map_err(|fault| fault.detail().to_owned())?;
        self.seals
            .once(&self.app)
            .await
            .map_err(|fault| fault.detail().to_owned())?;
        Ok(())
    }

    async fn token(&mut self, name: &str) -> Outcome<String> {
        if let Some(token) = self.tokens.get(name) {
            return Ok(token.clone());
        }
        let body = json!({"sign_in_name": name, "password": self.password, "channel": "client"});
        let (status, answer) = self
            .send(Method::Post, "/api/v1/sign-in", Some(&body), None, None)
            .await?;
        let token = answer
            .get("token")
            .and_then(Value::as_str)
            .ok_or_else(|| format!("{name} cannot sign in: {status} {answer}"))?
            .to_owned();
        self.tokens.insert(name.to_owned(), token.clone());
        Ok(token)
    }

    async fn send(
        &self,
        method: Method,
        path: &str,
        body: Option<&Value>,
        token: Option<&str>,
        revision: Option<i64>,
    ) -> Outcome<(Status, Value)> {
        self.clock.fetch_add(2_000_000, Ordering::SeqCst);
        let mut request = self
            .client
            .req(method, path)
            .header(ContentType::JSON)
            .remote("127.0.0.1:40000".parse()?);
        if let Some(token) = token {
            request = request.header(Header::new("Authorization", format!("Bearer {token}")));
        }
        if let Some(revision) = revision {
            request = request.header(Header::new("If-Match", format!("\"{revision}\"")));
        }
        if let Some(body) = body {
            request = request.body(body.to_string());
        }
        let response = request.dispatch().await;
        let status = response.status();
        let text = response.into_string().await.unwrap_or_default();
        Ok((status, serde_json::from_str(&text).unwrap_or(Value::Null)))
    }

    /// A call that may be refused: what came back.
    ///
    /// # Errors
    /// When it could not be made at all.
    pub async fn try_as(
        &mut self,
        name: &str,
        method: Method,
        path: &str,
        body: Value,
    ) -> Outcome<(Status, Value)> {
        let token = self.token(name).await?;
        self.send(method, path, Some(&body), Some(&token), None)
            .await
    }

    /// A call that must succeed.
    ///
    /// # Errors
    /// When it is refused.
    pub async fn post(&mut self, name: &str, path: &str, body: Value) -> Outcome<Value> {
        good(
            name,
            path,
            self.try_as(name, Method::Post, path, body).await?,
        )
    }

    /// A change of something with a revision that must succeed.
    ///
    /// # Errors
    /// When it is refused.
    pub async fn patch(
        &mut self,
        name: &str,
        path: &str,
        revision: i64,
        body: Value,
    ) -> Outcome<Value> {
        let token = self.token(name).await?;
        good(
            name,
            path,
            self.send(
                Method::Patch,
                path,
                Some(&body),
                Some(&token),
                Some(revision),
            )
            .await?,
        )
    }

    /// The same, of what is given as a whole.
    ///
    /// # Errors
    /// When it is refused.
    pub async fn change(
        &mut self,
        name: &str,
        path: &str,
        revision: i64,
        body: Value,
    ) -> Outcome<Value> {
        let token = self.token(name).await?;
        good(
            name,
            path,
            self.send(Method::Put, path, Some(&body), Some(&token), Some(revision))
                .await?,
        )
    }

    /// Removes something that must be there.
    ///
    /// # Errors
    /// When it is refused.
    pub async fn remove(&mut self, name: &str, path: &str, revision: i64) -> Outcome<Value> {
        let token = self.token(name).await?;
        good(
            name,
            path,
            self.send(Method::Delete, path, None, Some(&token), Some(revision))
                .await?,
        )
    }

    /// Sends a file.
    ///
    /// # Errors
    /// When it is refused.
    pub async fn upload(&mut self, name: &str, path: &str, bytes: &[u8]) -> Outcome<()> {
        let token = self.token(name).await?;
        self.clock.fetch_add(2_000_000, Ordering::SeqCst);
        let request = self
            .client
            .post(path.to_owned())
            .header(ContentType::Binary)
            .remote("127.0.0.1:40000".parse()?);
        let response = request
            .header(Header::new("Authorization", format!("Bearer {token}")))
            .body(bytes)
            .dispatch()
            .await;
        if response.status().code < 400 {
            Ok(())
        } else {
            Err(format!("{name}: {path}: {}", response.status()).into())
        }
    }

    /// Puts something there that must fit.
    ///
    /// # Errors
    /// When it is refused.
    pub async fn put(&mut self, name: &str, path: &str) -> Outcome<Value> {
        good(
            name,
            path,
            self.try_as(name, Method::Put, path, Value::Null).await?,
        )
    }

    /// Reads.
    ///
    /// # Errors
    /// When it is refused.
    pub async fn get(&mut self, name: &str, path: &str) -> Outcome<Value> {
        good(
            name,
            path,
            self.try_as(name, Method::Get, path, Value::Null).await?,
        )
    }

    /// A sign-in with a wrong password, as everybody mistypes now and then.
    ///
    /// # Errors
    /// When it could not be made at all.
    pub async fn mistype(&mut self, name: &str) -> Outcome<()> {
        let body = json!({"sign_in_name": name, "password": "not the right one at all", "channel": "console"});
        self.send(Method::Post, "/api/v1/sign-in", Some(&body), None, None)
            .await
            .map(|_| ())
    }

    /// The identifier of a path or name.
    ///
    /// # Errors
    /// When the story has not made it yet.
    pub fn id(&self, name: &str) -> Outcome<String> {
        self.ids
            .get(name)
            .cloned()
            .ok_or_else(|| format!("the story has no {name}").into())
    }
}

/// The body of an answer that must be good.
fn good(name: &str, path: &str, (status, answer): (Status, Value)) -> Outcome<Value> {
    if status.code < 400 {
        Ok(answer)
    } else {
        Err(format!("{name}: {path}: {status}: {answer}").into())
    }
}

fn main() -> Outcome<()> {
    if let Some(code) = jexlin_app::file_reader::run_if_called() {
        std::process::exit(if code == std::process::ExitCode::SUCCESS {
            0
        } else {
            1
        });
    }
    tokio::runtime::Builder::new_multi_thread()
        .enable_all()
        .build()?
        .block_on(make())
}

async fn make() -> Outcome<()> {
    let mut arguments = std::env::args().skip(1);
    let (Some(password), Some(passphrase)) = (arguments.next(), arguments.next()) else {
        return Err("usage: jexlin-demo PASSWORD-FILE PASSPHRASE-FILE".into());
    };
    let password = std::fs::read_to_string(password)?.trim().to_owned();
    let passphrase = std::fs::read_to_string(passphrase)?.trim().to_owned();
    let world: world::World = serde_json::from_str(
        &include_str!("../world.json").replace("127.0.10.", &format!("{}.", network())),
    )?;
    let begin = Utc::now() - TimeDelta::days(160);
    let clock = Arc::new(AtomicI64::new(begin.timestamp_micros()));
    let app = App::new(
        Config::from_environment()?,
        Clock::Stepped(Arc::clone(&clock)),
    )?;
    let Some(code) = app.offer_setup().await? else {
        return Err("there is an organisation already; begin anew with ./start --fresh".into());
    };
    let code = std::fs::read_to_string(code)?;
    let client = Client::untracked(jexlind::rocket(
        app.clone(),
        rocket::figment::Figment::from(rocket::Config {
            log_level: rocket::config::LogLevel::Off,
            ..rocket::Config::release_default()
        }),
    ))
    .await?;
    let mut demo = Demo {
        client,
        app,
        clock,
        seals: Seals::default(),
        stamps: HashMap::new(),
        password,
        tokens: HashMap::new(),
        ids: HashMap::new(),
    };
    let body = json!({"code": code, "organisation": world.organisation, "sign_in_name": world.administrator.name, "display_name": world.administrator.display_name,
        "password": demo.password, "passphrase": passphrase});
    let (status, answer) = demo
        .send(Method::Post, "/api/v1/setup", Some(&body), None, None)
        .await?;
    if status.code >= 400 {
        return Err(format!("set-up: {status}: {answer}").into());
    }
    story::tell(&mut demo, &world).await?;
    demo.work().await?;
    eprintln!(
        "    the story reaches {}",
        demo.now().format("%Y-%m-%d %H:%M")
    );
    Ok(())
}

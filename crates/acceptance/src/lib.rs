//! The rig of the whole-product tests: a real service on a real database, driven by the real
//! client and through the network interface.
//!
//! Panics here end the test that set something up and could not; that is what they are for.

#![allow(
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing,
    reason = "what cannot be set up ends the test"
)]

pub mod browser;

use std::fs;
use std::io::{BufRead as _, BufReader, Write as _};
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::sync::OnceLock;
use std::time::{Duration, Instant};

use jexlin_standins::cluster::{Care, Cluster, Database, random_hex};
use jexlin_standins::demo_hosts;
use serde_json::{Value, json};

/// Everybody's password.
pub const PASSWORD: &str = "osmere-water-tests";
/// The root key's passphrase.
pub const PASSPHRASE: &str = "nine pumps and a weir";

/// The network of the demo's hosts in a test, beside that of a demo that somebody started.
const DEMO_NETWORK: &str = "127.0.11";

/// The cluster that a test program's tests share.
///
/// # Panics
/// When it does not start.
pub fn cluster() -> &'static Cluster {
    static CLUSTER: OnceLock<Cluster> = OnceLock::new();
    CLUSTER.get_or_init(|| Cluster::temporary(Care::Fast).expect("a cluster"))
}

/// A program of the workspace, as it was built before the tests.
#[must_use]
pub fn program(name: &str) -> PathBuf {
    let own = std::env::current_exe().expect("this program");
    // Tests lie in `deps` beside the programs, the bench right beside them.
    let path = own
        .ancestors()
        .skip(1)
        .take(2)
        .map(|folder| folder.join(name))
        .find(|path| path.exists())
        .unwrap_or_default();
    assert!(path.exists(), "{name} is not built; run ./test");
    path
}

/// Waits until something is so, at most half a minute; fails the test otherwise.
///
/// # Panics
/// When it never is.
pub fn until<T>(what: &str, mut look: impl FnMut() -> Option<T>) -> T {
    let begin = Instant::now();
    while begin.elapsed() < Duration::from_secs(60) {
        if let Some(found) = look() {
            return found;
        }
        std::thread::sleep(Duration::from_millis(50));
    }
    panic!("still not so after a minute: {what}");
}

/// A running service with its own database and folder.
pub struct Service {
    /// The three ways into its database.
    pub database: Database,
    /// Its folder.
    pub folder: PathBuf,
    /// Where it listens.
    pub url: String,
    child: Option<Child>,
    extra: Vec<(String, String)>,
}

/// The answer to a call.
#[derive(Debug)]
pub struct Answer {
    /// The HTTP status.
    pub status: u16,
    /// The body.
    pub body: Value,
    /// The headers.
    pub headers: Vec<(String, String)>,
}

impl Answer {
    /// A text of the body.
    #[must_use]
    pub fn text(&self, field: &str) -> String {
        self.body
            .get(field)
            .and_then(Value::as_str)
            .unwrap_or_default()
            .to_owned()
    }

    /// The problem's code.
    #[must_use]
    pub fn code(&self) -> String {
        self.text("type").replace("urn:jexlin:problem:", "")
    }

    /// The body of an answer that must be good.
    ///
    /// # Panics
    /// When it is not.
    #[must_use]
    pub fn good(self) -> Value {
        assert!(self.status < 400, "{} {}", self.status, self.body);
        self.body
    }

    /// Asserts that this is the refusal that is meant.
    ///
    /// # Panics
    /// When it is not.
    pub fn refused(&self, status: u16, code: &str) {
        assert_eq!(
            (self.status, self.code().as_str()),
            (status, code),
            "{}",
            self.body
        );
        assert!(
            !self.text("detail").is_empty() && !self.text("advice").is_empty(),
            "{}",
            self.body
        );
    }
}

fn migrate(database: &Database) {
    let done = Command::new(program("jexlind"))
        .arg("migrate")
        .env("JEXLIN_OWNER_DATABASE", &database.owner)
        .output()
        .expect("migrations");
    assert!(
        done.status.success(),
        "{}",
        String::from_utf8_lossy(&done.stderr)
    );
}

impl Service {
    /// A service on a new database of the shared cluster, not set up yet.
    ///
    /// # Panics
    /// When it does not start.
    #[must_use]
    pub fn bare() -> Self {
        Self::on(cluster(), &[])
    }

    /// A service on a new database of a cluster, with more of its environment.
    ///
    /// # Panics
    /// When it does not start.
    #[must_use]
    pub fn on(cluster: &Cluster, extra: &[(&str, &str)]) -> Self {
        let name = format!("t{}", &random_hex().expect("randomness")[..12]);
        let database = cluster.database(&name).expect("a database");
        migrate(&database);
        let folder =
            std::env::temp_dir().join(format!("jexlin-service-{}-{name}", std::process::id()));
        fs::create_dir_all(&folder).expect("a folder");
        let extra = extra
            .iter()
            .map(|(name, value)| ((*name).to_owned(), (*value).to_owned()))
            .collect();
        let mut service = Self {
            database,
            folder,
            url: String::new(),
            child: None,
            extra,
        };
        service.start(&[]);
        service
    }

    /// A service with the demo's data, and the demo's hosts in a network of their own.
    ///
    /// # Panics
    /// When it does not start.
    #[must_use]
    pub fn demo() -> (Self, demo_hosts::Running) {
        let name = format!("demo{}", &random_hex().expect("randomness")[..12]);
        let database = cluster().database(&name).expect("a database");
        migrate(&database);
        let folder = std::env::temp_dir().join(format!("jexlin-{}-{name}", std::process::id()));
        fs::create_dir_all(&folder).expect("a folder");
        let hosts = demo_hosts::start(&folder.join("hosts"), DEMO_NETWORK).expect("the hosts");
        for (file, text) in [("password", PASSWORD), ("passphrase", PASSPHRASE)] {
            fs::write(folder.join(file), text).expect("a file");
        }
        let leaked = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/leaked.txt");
        let output = Command::new(program("jexlin-demo"))
            .args([folder.join("password"), folder.join("passphrase")])
            .env("JEXLIN_DATABASE", &database.service)
            .env("JEXLIN_FOLDER", &folder)
            .env("JEXLIN_LEAKED", leaked)
            .env("JEXLIN_DEMO_NETWORK", DEMO_NETWORK)
            .output()
            .expect("the demo");
        assert!(
            output.status.success(),
            "{}",
            String::from_utf8_lossy(&output.stderr)
        );
        let mut service = Self {
            database,
            folder,
            url: String::new(),
            child: None,
            extra: vec![],
        };
        service.start(&[]);
        service.unlock();
        (service, hosts)
    }

    /// A service on a database that is there already, with a copy of a root key file; its vault is
    /// locked.
    ///
    /// # Panics
    /// When it does not start.
    #[must_use]
    pub fn on_existing(database: Database, root_key: &Path) -> Self {
        let name = &random_hex().expect("randomness")[..12];
        let folder = std::env::temp_dir().join(format!("jexlin-{}-{name}", std::process::id()));
        fs::create_dir_all(&folder).expect("a folder");
        fs::copy(root_key, folder.join("root-key.json")).expect("the key file");
        let mut service = Self {
            database,
            folder,
            url: String::new(),
            child: None,
            extra: vec![],
        };
        service.start(&[]);
        service
    }

    /// A second service on the same database and key file.
    ///
    /// # Panics
    /// When it does not start.
    #[must_use]
    pub fn beside(&self) -> Self {
        self.beside_with(&[])
    }

    /// The same, with more of its environment.
    ///
    /// # Panics
    /// When it does not start.
    #[must_use]
    pub fn beside_with(&self, extra: &[(&str, &str)]) -> Self {
        let folder = self.folder.join("beside");
        fs::create_dir_all(&folder).expect("a folder");
        fs::copy(
            self.folder.join("root-key.json"),
            folder.join("root-key.json"),
        )
        .expect("the key file");
        let mut service = Self {
            database: self.database.clone(),
            folder,
            url: String::new(),
            child: None,
            extra: self.extra.clone(),
        };
        service.start(extra);
        service.unlock();
        service
    }

    /// Starts it, with more of its environment for this time.
    ///
    /// # Panics
    /// When it does not come up.
    pub fn start(&mut self, extra: &[(&str, &str)]) {
        let log = fs::OpenOptions::new()
            .create(true)
            .append(true)
            .open(self.folder.join("log"))
            .expect("a log");
        let console = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../console/dist");
        let mut command = Command::new(program("jexlind"));
        command
            .env("JEXLIN_DATABASE", &self.database.service)
            .env("JEXLIN_FOLDER", &self.folder)
            .env("JEXLIN_PORT", "0")
            .env("JEXLIN_CONSOLE", console);
        command
            .env("JEXLIN_CONNECTIONS", "12")
            .env("JEXLIN_RUNNERS", "3")
            .envs(self.extra.iter().cloned())
            .envs(extra.iter().map(|(name, value)| (*name, *value)));
        let mut child = command
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(log)
            .spawn()
            .expect("the service");
        let (sender, receiver) = std::sync::mpsc::channel();
        let output = child.stdout.take().expect("its output");
        std::thread::spawn(move || {
            let mut line = String::new();
            let _ = BufReader::new(output).read_line(&mut line);
            let _ = sender.send(line);
        });
        let line = receiver
            .recv_timeout(Duration::from_secs(60))
            .unwrap_or_default();
        self.url = line.trim().trim_start_matches("listening on ").to_owned();
        assert!(
            self.url.starts_with("http"),
            "the service did not come up: {}",
            self.log()
        );
        self.child = Some(child);
    }

    /// Kills it with SIGKILL.
    ///
    /// # Panics
    /// When it cannot be killed.
    pub fn kill(&mut self) {
        if let Some(mut child) = self.child.take() {
            child.kill().expect("a kill");
            child.wait().expect("an end");
        }
    }

    /// The process.
    #[must_use]
    pub fn process(&self) -> u32 {
        self.child.as_ref().map_or(0, Child::id)
    }

    /// What it logged.
    #[must_use]
    pub fn log(&self) -> String {
        fs::read_to_string(self.folder.join("log")).unwrap_or_default()
    }

    /// A service that is set up, with `ines` as its administrator.
    ///
    /// # Panics
    /// When it cannot be.
    #[must_use]
    pub fn ready() -> Self {
        let service = Self::bare();
        service.set_up();
        service
    }

    /// Sets it up.
    ///
    /// # Panics
    /// When it cannot be.
    pub fn set_up(&self) {
        let code = fs::read_to_string(self.folder.join("setup-code")).expect("a set-up code");
        let body = json!({"code": code, "organisation": "Osmere Water", "sign_in_name": "ines", "display_name": "Ines Calder", "password": PASSWORD, "passphrase": PASSPHRASE});
        let _ = self
            .call("POST", "/api/v1/setup", None, Some(&body), None)
            .good();
        // The devices of the tests are on this machine; what takes two people has tests of its own.
        let mut settings = json!({"connect_to": ["127.0.0.0/8"], "trust_first_contact": true, "independent_approvers": false});
        for what in [
            "gates",
            "duties",
            "passwords",
            "clients",
            "groups",
            "settings",
        ] {
            settings[format!("two_people_{what}")] = json!(false);
        }
        self.settings(&settings);
    }

    /// Sets settings as if they had always been so, past the interface; what is left out has its
    /// default.
    ///
    /// # Panics
    /// When the database refuses.
    pub fn settings(&self, body: &Value) {
        let sql = format!(
            "INSERT INTO settings (organisation, body) SELECT id, '{body}' FROM organisation ON CONFLICT (organisation) DO UPDATE SET body = excluded.body"
        );
        let _ = self.sql(&sql);
    }

    /// Opens its vault.
    ///
    /// # Panics
    /// When it stays closed.
    pub fn unlock(&self) {
        let _ = self
            .call(
                "POST",
                "/api/v1/unlock",
                None,
                Some(&json!({"passphrase": PASSPHRASE})),
                None,
            )
            .good();
    }

    /// Any call.
    ///
    /// # Panics
    /// When the service cannot be reached.
    pub fn call(
        &self,
        method: &str,
        path: &str,
        token: Option<&str>,
        body: Option<&Value>,
        revision: Option<i64>,
    ) -> Answer {
        self.raw(
            method,
            path,
            token,
            body.map(Value::to_string).map(String::into_bytes),
            revision,
        )
        .expect("the service")
    }

    /// Any call with any bytes; an error when the connection broke.
    ///
    /// # Errors
    /// The connection's words.
    pub fn raw(
        &self,
        method: &str,
        path: &str,
        token: Option<&str>,
        body: Option<Vec<u8>>,
        revision: Option<i64>,
    ) -> Result<Answer, String> {
        let agent = ureq::Agent::config_builder()
            .http_status_as_error(false)
            .timeout_global(Some(Duration::from_secs(60)))
            .build()
            .new_agent();
        let mut request = ureq::http::Request::builder()
            .method(method)
            .uri(format!("{}{path}", self.url));
        if let Some(token) = token {
            request = request.header("Authorization", format!("Bearer {token}"));
        }
        if let Some(revision) = revision {
            request = request.header("If-Match", format!("\"{revision}\""));
        }
        let response = match body {
            Some(body) => agent.run(
                request
                    .header("Content-Type", "application/json")
                    .body(body)
                    .map_err(|error| error.to_string())?,
            ),
            None => agent.run(request.body(()).map_err(|error| error.to_string())?),
        };
        let mut response = response.map_err(|error| error.to_string())?;
        let headers = response
            .headers()
            .iter()
            .map(|(name, value)| {
                (
                    name.to_string(),
                    value.to_str().unwrap_or_default().to_owned(),
                )
            })
            .collect();
        let status = response.status().as_u16();
        let text = response
            .body_mut()
            .read_to_string()
            .map_err(|error| error.to_string())?;
        let body = serde_json::from_str(&text).unwrap_or(Value::String(text));
        Ok(Answer {
            status,
            body,
            headers,
        })
    }

    /// Signs somebody in.
    ///
    /// # Panics
    /// When they are refused.
    #[must_use]
    pub fn sign_in(&self, name: &str) -> Session<'_> {
        let body = json!({"sign_in_name": name, "password": PASSWORD, "channel": "client"});
        let answer = self.call("POST", "/api/v1/sign-in", None, Some(&body), None);
        let token = answer.text("token");
        let _ = answer.good();
        Session {
            service: self,
            token,
        }
    }

    /// The client with a session file of its own, for one person.
    ///
    /// # Panics
    /// When they cannot sign in.
    #[must_use]
    pub fn client(&self, name: &str) -> Client {
        let folder = self.folder.join(format!(
            "client-{name}-{}",
            &random_hex().expect("randomness")[..6]
        ));
        fs::create_dir_all(&folder).expect("a folder");
        let client = Client {
            folder,
            url: self.url.clone(),
        };
        client.good_with(&["sign-in", name, "--password-file", "-"], PASSWORD);
        client
    }

    /// Runs SQL as the superuser, past everything, in the first organisation.
    ///
    /// # Panics
    /// When the database refuses.
    pub fn sql(&self, sql: &str) -> String {
        // The owner's own functions are bound to one organisation, whoever sets them off.
        let scope = "DO $$ BEGIN PERFORM set_config('jexlin.organisation', (SELECT o.id::text FROM organisation o ORDER BY o.id LIMIT 1), false); END $$;\n";
        let sql = &format!("{scope}{sql}");
        self.database.psql(sql).expect("the database")
    }

    /// The same for what the database may refuse.
    ///
    /// # Errors
    /// What it says.
    pub fn try_sql(&self, sql: &str) -> std::io::Result<String> {
        self.database.psql(sql)
    }
}

impl Drop for Service {
    fn drop(&mut self) {
        self.kill();
        if std::thread::panicking() {
            // What the service had to say is gone with its folder otherwise.
            let log = self.log();
            let last: Vec<&str> = log.lines().rev().take(20).collect();
            eprintln!(
                "the service's last words:\n{}",
                last.into_iter().rev().collect::<Vec<_>>().join("\n")
            );
        }
        let _ = fs::remove_dir_all(&self.folder);
    }
}

/// Somebody signed in.
pub struct Session<'a> {
    service: &'a Service,
    /// Their token.
    pub token: String,
}

impl Session<'_> {
    /// Reads.
    #[must_use]
    pub fn get(&self, path: &str) -> Answer {
        self.service
            .call("GET", path, Some(&self.token), None, None)
    }

    /// Sends.
    #[must_use]
    pub fn post(&self, path: &str, body: &Value) -> Answer {
        self.service
            .call("POST", path, Some(&self.token), Some(body), None)
    }

    /// Changes.
    #[must_use]
    pub fn patch(&self, path: &str, revision: i64, body: &Value) -> Answer {
        self.service
            .call("PATCH", path, Some(&self.token), Some(body), Some(revision))
    }

    /// Puts.
    #[must_use]
    pub fn put(&self, path: &str) -> Answer {
        self.service
            .call("PUT", path, Some(&self.token), None, None)
    }

    /// Removes.
    #[must_use]
    pub fn delete(&self, path: &str, revision: Option<i64>) -> Answer {
        self.service
            .call("DELETE", path, Some(&self.token), None, revision)
    }

    /// Any call.
    #[must_use]
    pub fn call(
        &self,
        method: &str,
        path: &str,
        body: Option<&Value>,
        revision: Option<i64>,
    ) -> Answer {
        self.service
            .call(method, path, Some(&self.token), body, revision)
    }

    /// Sends what must be good; returns its identifier.
    ///
    /// # Panics
    /// When it is refused.
    #[must_use]
    pub fn make(&self, path: &str, body: &Value) -> String {
        self.post(path, body)
            .good()
            .get("id")
            .and_then(Value::as_str)
            .expect("an identifier")
            .to_owned()
    }

    /// A folder at the top.
    #[must_use]
    pub fn folder(&self, name: &str) -> String {
        self.make("/api/v1/folders", &json!({"name": name}))
    }

    /// A login with a typed password.
    #[must_use]
    pub fn login(&self, folder: &str, name: &str, password: &str) -> String {
        self.make(
            "/api/v1/credentials",
            &json!({"folder": folder, "kind": "login", "name": name, "password": password}),
        )
    }

    /// A person who can sign in.
    #[must_use]
    pub fn person(&self, name: &str, duties: &[&str]) -> String {
        self.make("/api/v1/people", &json!({"sign_in_name": name, "display_name": format!("{name} of Osmere"), "password": PASSWORD, "duties": duties}))
    }

    /// Reveals a credential's password.
    #[must_use]
    pub fn reveal(&self, credential: &str) -> Answer {
        self.post(
            &format!("/api/v1/credentials/{credential}/reveal"),
            &json!({}),
        )
    }

    /// The events of an action, newest first.
    ///
    /// # Panics
    /// When the log cannot be read.
    #[must_use]
    pub fn events(&self, action: &str) -> Vec<Value> {
        self.get(&format!("/api/v1/audit?action={action}&limit=200"))
            .good()
            .get("items")
            .and_then(Value::as_array)
            .expect("events")
            .clone()
    }

    /// Waits until a job has settled: done, failed, or put back to be tried again.
    ///
    /// # Panics
    /// When it never does.
    #[must_use]
    pub fn settled(&self, job: &str) -> Value {
        until("a job that settles", || {
            let job = self.get(&format!("/api/v1/jobs/{job}")).good();
            let state = job
                .get("state")
                .and_then(Value::as_str)
                .unwrap_or_default()
                .to_owned();
            let restore = state == "queued" && job.get("outcome").is_some_and(Value::is_string);
            (state == "done" || state == "failed" || restore).then_some(job)
        })
    }
}

/// The real client of one person.
pub struct Client {
    /// Where it keeps its session.
    pub folder: PathBuf,
    /// Where the service is.
    pub url: String,
}

impl Client {
    /// A program that finds this person's session, if it is the client or starts it.
    #[must_use]
    pub fn command(&self, program: &Path) -> Command {
        let mut command = Command::new(program);
        command
            .env("JEXLIN_SESSION", self.folder.join("session.json"))
            .env("JEXLIN_SERVICE", &self.url)
            .env("COLUMNS", "160")
            .current_dir(&self.folder);
        command
    }

    /// Runs it as somebody who means what they ask for: no question stops it.
    ///
    /// # Panics
    /// When it cannot be run.
    #[must_use]
    pub fn run(&self, arguments: &[&str], input: &str) -> Output {
        self.run_and_be_asked(&[&["--yes"], arguments].concat(), input)
    }

    /// Runs it as a script does that has not said `--yes`.
    ///
    /// # Panics
    /// When it cannot be run.
    #[must_use]
    pub fn run_and_be_asked(&self, arguments: &[&str], input: &str) -> Output {
        let mut command = self.command(&program("jexlin"));
        let mut child = command
            .args(arguments)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .expect("the client");
        // A client that needs no input may have ended already.
        let _ = child
            .stdin
            .take()
            .expect("its input")
            .write_all(input.as_bytes());
        child.wait_with_output().expect("its end")
    }

    /// Runs what must succeed; returns what it printed.
    ///
    /// # Panics
    /// When it fails.
    #[must_use]
    pub fn good(&self, arguments: &[&str]) -> String {
        self.good_with(arguments, "")
    }

    /// The same with standard input.
    ///
    /// # Panics
    /// When it fails.
    pub fn good_with(&self, arguments: &[&str], input: &str) -> String {
        let output = self.run(arguments, input);
        assert!(
            output.status.success(),
            "jexlin {}: {}",
            arguments.join(" "),
            String::from_utf8_lossy(&output.stderr)
        );
        String::from_utf8_lossy(&output.stdout)
            .trim_end()
            .to_owned()
    }

    /// Runs what must fail; returns the exit code and both lines of the error.
    ///
    /// # Panics
    /// When it succeeds.
    #[must_use]
    pub fn bad(&self, arguments: &[&str]) -> (i32, String) {
        let output = self.run(arguments, "");
        assert!(
            !output.status.success(),
            "jexlin {} succeeded",
            arguments.join(" ")
        );
        (
            output.status.code().unwrap_or(-1),
            String::from_utf8_lossy(&output.stderr).into_owned(),
        )
    }

    /// The permissions of the kept session.
    ///
    /// # Panics
    /// When there is none.
    #[must_use]
    pub fn session_mode(&self) -> u32 {
        fs::metadata(self.folder.join("session.json"))
            .expect("a session")
            .permissions()
            .mode()
            & 0o777
    }
}

//! A PostgreSQL cluster of one's own on loopback, in a folder of one's own.

use std::fs;
use std::io::{self, Write as _};
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};

use crate::{is_root, spawn_tied, wait_for_port};

/// The owner of the tables; runs migrations.
pub const OWNER: &str = "jexlin_owner";
/// The service's role; owns nothing.
pub const SERVICE: &str = "jexlin_service";

/// A running cluster. It stops when dropped, and with this process at the latest.
#[derive(Debug)]
pub struct Cluster {
    folder: PathBuf,
    address: String,
    port: u16,
    password: String,
    child: Option<Child>,
    remove: bool,
}

/// The three ways into one database.
#[derive(Clone, Debug)]
pub struct Database {
    /// As the superuser: tests that tamper use it.
    pub superuser: String,
    /// As the owner of the tables.
    pub owner: String,
    /// As the service.
    pub service: String,
    /// Its name.
    pub name: String,
}

/// How careful the cluster is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Care {
    /// Every commit is on disk before it is answered.
    Durable,
    /// For tests: no waiting for the disk.
    Fast,
}

/// The folder of PostgreSQL's programs, newest version first.
///
/// # Errors
/// When PostgreSQL is not installed.
pub fn programs() -> io::Result<PathBuf> {
    let mut found: Vec<_> = fs::read_dir("/usr/lib/postgresql")?
        .flatten()
        .map(|entry| entry.path().join("bin"))
        .filter(|path| path.join("initdb").exists())
        .collect();
    found.sort();
    found
        .pop()
        .ok_or_else(|| io::Error::other("PostgreSQL is not installed"))
}

fn checked(what: &str, output: Output) -> io::Result<Output> {
    if output.status.success() {
        Ok(output)
    } else {
        Err(io::Error::other(format!(
            "{what} failed: {}",
            String::from_utf8_lossy(&output.stderr).trim()
        )))
    }
}

/// As root the command runs as the unprivileged user that Debian's package makes.
fn unprivileged(program: &Path) -> Command {
    if is_root() {
        let mut command = Command::new("runuser");
        command.args(["-u", "postgres", "--"]).arg(program);
        command
    } else {
        Command::new(program)
    }
}

impl Cluster {
    /// Starts the cluster of a folder, made first if it is not there yet.
    ///
    /// # Errors
    /// PostgreSQL's own words.
    pub fn start(folder: &Path, port: u16, care: Care) -> io::Result<Self> {
        Self::start_at(folder, "127.0.0.1", port, care)
    }

    /// The same, at another address of loopback.
    ///
    /// # Errors
    /// PostgreSQL's own words.
    pub fn start_at(folder: &Path, address: &str, port: u16, care: Care) -> io::Result<Self> {
        let data = folder.join("data");
        let secret = folder.join("superuser");
        if !data.join("PG_VERSION").exists() {
            fs::create_dir_all(folder)?;
            fs::set_permissions(folder, fs::Permissions::from_mode(0o755))?;
            let password: String = random_hex()?;
            let mut file = fs::OpenOptions::new()
                .write(true)
                .create(true)
                .truncate(true)
                .open(&secret)?;
            file.write_all(password.as_bytes())?;
            fs::set_permissions(&secret, fs::Permissions::from_mode(0o600))?;
            if is_root() {
                checked(
                    "chown",
                    Command::new("chown")
                        .args(["-R", "postgres:"])
                        .arg(folder)
                        .output()?,
                )?;
            }
            let mut initdb = unprivileged(&programs()?.join("initdb"));
            initdb
                .args([
                    "-U",
                    "postgres",
                    "-A",
                    "scram-sha-256",
                    "--locale=C.UTF-8",
                    "-E",
                    "UTF8",
                    "--pwfile",
                ])
                .arg(&secret)
                .arg("-D")
                .arg(&data);
            checked("initdb", initdb.current_dir(folder).output()?)?;
        }
        let password = fs::read_to_string(&secret)?.trim().to_owned();
        let mut cluster = Self {
            folder: folder.to_owned(),
            address: address.to_owned(),
            port,
            password,
            child: None,
            remove: false,
        };
        cluster.run(care)?;
        Ok(cluster)
    }

    /// A cluster for tests in a temporary folder that goes with it.
    ///
    /// # Errors
    /// PostgreSQL's own words.
    pub fn temporary(care: Care) -> io::Result<Self> {
        let folder = std::env::temp_dir().join(format!(
            "jexlin-pg-{}-{}",
            std::process::id(),
            random_hex()?.get(..8).unwrap_or_default()
        ));
        let mut cluster = Self::start(&folder, crate::free_port()?, care)?;
        cluster.remove = true;
        Ok(cluster)
    }

    fn run(&mut self, care: Care) -> io::Result<()> {
        let stale = self.folder.join("data/postmaster.pid");
        if stale.exists()
            && std::net::TcpStream::connect((self.address.as_str(), self.port)).is_ok()
        {
            return Err(io::Error::other(format!(
                "port {} is taken, and this cluster seems to run already",
                self.port
            )));
        }
        let program = programs()?.join("postgres");
        let (data, sockets, port) = (self.folder.join("data"), self.folder.clone(), self.port);
        let listen = format!("listen_addresses={}", self.address);
        let log = fs::File::create(self.folder.join("log"))?;
        let child = spawn_tied("/usr/bin/env", "QUIT", move |command| {
            if is_root() {
                // setpriv itself, so that the tie survives the change of user.
                *command = Command::new("setpriv");
                command.args([
                    "--reuid",
                    "postgres",
                    "--regid",
                    "postgres",
                    "--init-groups",
                    "--pdeathsig",
                    "QUIT",
                    "--",
                ]);
            }
            command.arg(&program).arg("-D").arg(&data).args([
                "-p",
                &port.to_string(),
                "-c",
                &listen,
                "-c",
                "max_connections=120",
            ]);
            command
                .arg("-c")
                .arg(format!("unix_socket_directories={}", sockets.display()));
            if care == Care::Fast {
                command.args(["-c", "fsync=off", "-c", "full_page_writes=off"]);
            }
            command
                .current_dir("/")
                .stdin(Stdio::null())
                .stderr(log)
                .stdout(Stdio::null());
        })?;
        self.child = Some(child);
        wait_for_port(&self.address, self.port)?;
        for _ in 0..200 {
            if self.psql("postgres", "SELECT 1").is_ok() {
                return Ok(());
            }
            std::thread::sleep(std::time::Duration::from_millis(50));
        }
        Err(io::Error::other("the cluster listens but does not answer"))
    }

    /// All that it has logged since it started.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn log(&self) -> io::Result<String> {
        fs::read_to_string(self.folder.join("log"))
    }

    /// Its port on loopback.
    #[must_use]
    pub const fn port(&self) -> u16 {
        self.port
    }

    /// Where its own programs and the service reach it: through its socket in the folder, which no
    /// TCP stack slows down, unless the folder's path is too long for one.
    fn host(&self) -> String {
        // The kernel's limit for a socket's path is 108 bytes, the socket's own name included.
        let folder = self
            .folder
            .canonicalize()
            .unwrap_or_else(|_| self.folder.clone())
            .display()
            .to_string();
        if folder.len() <= 80 {
            folder
        } else {
            self.address.clone()
        }
    }

    /// The process of its head.
    #[must_use]
    pub fn process(&self) -> Option<u32> {
        self.child.as_ref().map(Child::id)
    }

    /// Stops it, at once or after what is under way.
    ///
    /// # Errors
    /// When it cannot be told to.
    pub fn stop(&mut self, at_once: bool) -> io::Result<()> {
        if let Some(mut child) = self.child.take() {
            let signal = if at_once { "-QUIT" } else { "-INT" };
            Command::new("kill")
                .args([signal, &child.id().to_string()])
                .status()?;
            child.wait()?;
        }
        Ok(())
    }

    /// Starts it again after [`Cluster::stop`].
    ///
    /// # Errors
    /// PostgreSQL's own words.
    pub fn start_again(&mut self, care: Care) -> io::Result<()> {
        self.run(care)
    }

    /// Runs SQL as the superuser and returns what it prints, unaligned.
    ///
    /// # Errors
    /// PostgreSQL's own words.
    pub fn psql(&self, database: &str, sql: &str) -> io::Result<String> {
        run_sql(&self.url("postgres", &self.password, database), sql)
    }

    /// The address of a database, as the administrator of the cluster.
    #[must_use]
    pub fn administrator(&self, database: &str) -> String {
        self.url("postgres", &self.password, database)
    }

    fn url(&self, role: &str, password: &str, database: &str) -> String {
        format!(
            "postgres://{role}:{password}@{}:{}/{database}",
            self.host().replace('/', "%2F"),
            self.port
        )
    }

    /// A database with the two roles, made if it is not there yet. The roles' passwords are kept
    /// beside the cluster, readable to its owner alone.
    ///
    /// # Errors
    /// PostgreSQL's own words.
    pub fn database(&self, name: &str) -> io::Result<Database> {
        // One at a time: two that make the roles at once would each think of another password.
        static MAKING: std::sync::Mutex<()> = std::sync::Mutex::new(());
        let _making = MAKING
            .lock()
            .unwrap_or_else(std::sync::PoisonError::into_inner);
        let mut passwords = vec![];
        for role in [OWNER, SERVICE] {
            let file = self.folder.join(role);
            if !file.exists() {
                let password = random_hex()?;
                let there = self.psql(
                    "postgres",
                    &format!("SELECT 1 FROM pg_roles WHERE rolname = '{role}'"),
                )? == "1";
                let verb = if there { "ALTER" } else { "CREATE" };
                self.psql(
                    "postgres",
                    &format!(
                        "{verb} ROLE {role} LOGIN NOSUPERUSER NOBYPASSRLS PASSWORD '{password}'"
                    ),
                )?;
                self.psql(
                    "postgres",
                    &format!("ALTER ROLE {role} SET idle_in_transaction_session_timeout = '60s'; ALTER ROLE {role} SET statement_timeout = '60s'"),
                )?;
                fs::write(&file, &password)?;
                fs::set_permissions(&file, fs::Permissions::from_mode(0o600))?;
            }
            passwords.push(fs::read_to_string(&file)?);
        }
        if self.psql(
            "postgres",
            &format!("SELECT 1 FROM pg_database WHERE datname = '{name}'"),
        )? != "1"
        {
            self.psql("postgres", &format!("CREATE DATABASE {name} OWNER {OWNER}"))?;
        }
        let url = |role: &str, password: &str| self.url(role, password, name);
        let mut passwords = passwords.iter();
        let mut next = || passwords.next().map(String::as_str).unwrap_or_default();
        Ok(Database {
            superuser: url("postgres", &self.password),
            owner: url(OWNER, next()),
            service: url(SERVICE, next()),
            name: name.to_owned(),
        })
    }
}

/// Runs SQL and returns what it prints, unaligned.
fn run_sql(url: &str, sql: &str) -> io::Result<String> {
    let mut command = Command::new("psql");
    // The address holds a password; the command line is for everybody to see.
    let (head, database) = url.rsplit_once('/').unwrap_or((url, "postgres"));
    let (login, place) = head
        .trim_start_matches("postgres://")
        .rsplit_once('@')
        .unwrap_or_default();
    let ((role, password), (host, port)) = (
        login.split_once(':').unwrap_or_default(),
        place.rsplit_once(':').unwrap_or_default(),
    );
    command
        .env("PGPASSWORD", password)
        .env("PGCONNECT_TIMEOUT", "60")
        .env("PGHOST", host.replace("%2F", "/"));
    command
        .env("PGPORT", port)
        .env("PGUSER", role)
        .env("PGDATABASE", database);
    command.args(["-X", "-q", "-A", "-t", "-v", "ON_ERROR_STOP=1", "-f", "-"]);
    let mut child = command
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()?;
    if let Some(mut input) = child.stdin.take() {
        input.write_all(sql.as_bytes())?;
    }
    let output = checked("psql", child.wait_with_output()?)?;
    Ok(String::from_utf8_lossy(&output.stdout).trim().to_owned())
}

impl Database {
    /// Runs SQL as the superuser and returns what it prints, unaligned.
    ///
    /// # Errors
    /// PostgreSQL's own words.
    pub fn psql(&self, sql: &str) -> io::Result<String> {
        run_sql(&self.superuser, sql)
    }
}

impl Drop for Cluster {
    fn drop(&mut self) {
        let _ = self.stop(self.remove);
        if self.remove {
            let _ = fs::remove_dir_all(&self.folder);
        }
    }
}

/// 32 hexadecimal digits from the kernel.
///
/// # Errors
/// When the kernel gives none.
pub fn random_hex() -> io::Result<String> {
    use std::io::Read as _;
    let mut bytes = [0_u8; 16];
    fs::File::open("/dev/urandom")?.read_exact(&mut bytes)?;
    Ok(bytes.iter().map(|byte| format!("{byte:02x}")).collect())
}

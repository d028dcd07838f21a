//! Servers with an HTTP API as devices, over TLS: etcd, InfluxDB and RabbitMQ.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};

use crate::database_server::certificates;
use crate::{free_port, spawn_tied, wait_for_port};

/// A running server. It stops when dropped, and with this process at the latest.
#[derive(Debug)]
pub struct ApiServer {
    folder: PathBuf,
    port: u16,
    child: Child,
    /// What it needs beside it.
    beside: Option<Child>,
}

impl Drop for ApiServer {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
        if let Some(beside) = &mut self.beside {
            let _ = beside.kill();
            let _ = beside.wait();
        }
        let _ = fs::remove_dir_all(&self.folder);
    }
}

/// A password as RabbitMQ keeps it: four bytes of salt, and the SHA-256 of salt and password.
fn hashed(password: &str) -> String {
    use base64::Engine as _;
    use sha2::Digest as _;
    let salt: [u8; 4] = rand::random();
    let digest = sha2::Sha256::new()
        .chain_update(salt)
        .chain_update(password)
        .finalize();
    base64::engine::general_purpose::STANDARD.encode([&salt[..], &digest[..]].concat())
}

/// A temporary folder with certificates, and a port.
fn prepare(name: &str) -> io::Result<(PathBuf, u16)> {
    let port = free_port()?;
    let folder = std::env::temp_dir().join(format!("jexlin-{name}-{}-{port}", std::process::id()));
    fs::create_dir_all(&folder)?;
    certificates(&folder, "127.0.0.1")?;
    Ok((folder, port))
}

/// Runs a client of a server, and fails with its own words.
fn client(program: &str, arguments: &[&str]) -> io::Result<()> {
    let output = Command::new(program).args(arguments).output()?;
    if output.status.success() {
        return Ok(());
    }
    Err(io::Error::other(format!(
        "{program} {arguments:?}: {}{}",
        String::from_utf8_lossy(&output.stdout),
        String::from_utf8_lossy(&output.stderr)
    )))
}

impl ApiServer {
    /// An etcd with these users and their passwords; the first has the role `root` and must be
    /// `root`.
    ///
    /// # Errors
    /// etcd's own words.
    pub fn etcd(users: &[(&str, &str)]) -> io::Result<Self> {
        let (folder, port) = prepare("etcd")?;
        let peer = free_port()?;
        let at = |folder: &Path, name: &str| folder.join(name).display().to_string();
        let url = format!("https://127.0.0.1:{port}");
        let arguments = [
            ("--data-dir", at(&folder, "data")),
            ("--listen-client-urls", url.clone()),
            ("--advertise-client-urls", url.clone()),
            ("--listen-peer-urls", format!("http://127.0.0.1:{peer}")),
            (
                "--initial-advertise-peer-urls",
                format!("http://127.0.0.1:{peer}"),
            ),
            (
                "--initial-cluster",
                format!("default=http://127.0.0.1:{peer}"),
            ),
            ("--cert-file", at(&folder, "tls.pem")),
            ("--key-file", at(&folder, "tls.key")),
            ("--log-outputs", at(&folder, "log")),
            ("--log-level", "debug".to_owned()),
            ("--logger", "zap".to_owned()),
        ];
        let child = spawn_tied("/usr/bin/etcd", "KILL", move |command| {
            command.args(arguments.iter().flat_map(|(name, value)| [*name, value]));
            if std::env::consts::ARCH != "x86_64" {
                command.env("ETCD_UNSUPPORTED_ARCH", "arm64");
            }
        })?;
        let server = Self {
            folder,
            port,
            child,
            beside: None,
        };
        wait_for_port("127.0.0.1", port)?;
        let authority = at(&server.folder, "ca.pem");
        let say = |words: &[&str]| {
            let mut all = vec!["--endpoints", &url, "--cacert", &authority];
            all.extend(words);
            client("etcdctl", &all)
        };
        for (name, password) in users {
            say(&["user", "add", &format!("{name}:{password}")])?;
        }
        say(&["role", "add", "root"])?;
        say(&["user", "grant-role", "root", "root"])?;
        say(&["auth", "enable"])?;
        Ok(server)
    }

    /// An InfluxDB with these users and their passwords; the first is an administrator.
    ///
    /// # Errors
    /// InfluxDB's own words.
    pub fn influxdb(users: &[(&str, &str)]) -> io::Result<Self> {
        let (folder, port) = prepare("influxdb")?;
        let inside = free_port()?;
        let config = format!(
            r#"reporting-disabled = true
bind-address = "127.0.0.1:{inside}"
[meta]
dir = "{0}/meta"
[data]
dir = "{0}/data"
wal-dir = "{0}/wal"
[http]
bind-address = "127.0.0.1:{port}"
auth-enabled = true
https-enabled = true
https-certificate = "{0}/tls.pem"
https-private-key = "{0}/tls.key"
access-log-path = "{0}/access"
[logging]
level = "debug"
"#,
            folder.display()
        );
        let file = folder.join("influxdb.conf");
        fs::write(&file, config)?;
        let log = fs::File::create(folder.join("log"))?;
        let child = spawn_tied("/usr/bin/influxd", "KILL", move |command| {
            command.arg("-config").arg(&file).stderr(log);
        })?;
        let server = Self {
            folder,
            port,
            child,
            beside: None,
        };
        wait_for_port("127.0.0.1", port)?;
        let number = port.to_string();
        for (at, (name, password)) in users.iter().enumerate() {
            let mut words = vec!["-ssl", "-unsafeSsl", "-host", "127.0.0.1", "-port", &number];
            if at > 0
                && let Some((first, secret)) = users.first()
            {
                words.extend(["-username", first, "-password", secret]);
            }
            let rights = if at == 0 { " WITH ALL PRIVILEGES" } else { "" };
            let say = format!("CREATE USER \"{name}\" WITH PASSWORD '{password}'{rights}");
            words.extend(["-execute", &say]);
            client("influx", &words)?;
        }
        Ok(server)
    }

    /// A RabbitMQ with its management, with these users and their passwords; the first is an
    /// administrator, the others have the tag `monitoring`.
    ///
    /// # Errors
    /// When it does not come up.
    pub fn rabbitmq(users: &[(&str, &str)]) -> io::Result<Self> {
        let (folder, port) = prepare("rabbitmq")?;
        let (queue, between, names) = (free_port()?, free_port()?, free_port()?);
        let users: Vec<_> = users
            .iter()
            .enumerate()
            .map(|(at, (name, password))| {
                serde_json::json!({
                    "name": name,
                    "password_hash": hashed(password),
                    "hashing_algorithm": "rabbit_password_hashing_sha256",
                    "tags": if at == 0 { "administrator" } else { "monitoring" },
                })
            })
            .collect();
        let definitions = serde_json::json!({"users": users, "vhosts": [{"name": "/"}]});
        let at = |name: &str| folder.join(name).display().to_string();
        fs::write(folder.join("definitions.json"), definitions.to_string())?;
        fs::write(folder.join("plugins"), "[rabbitmq_management].\n")?;
        fs::write(
            folder.join("rabbitmq.conf"),
            format!(
                "listeners.tcp.1 = 127.0.0.1:{queue}\nload_definitions = {}\nmanagement.ssl.ip = 127.0.0.1\nmanagement.ssl.port = {port}\nmanagement.ssl.certfile = {}\nmanagement.ssl.keyfile = {}\nlog.file.level = debug\n",
                at("definitions.json"),
                at("tls.pem"),
                at("tls.key"),
            ),
        )?;
        // Its daemon for names would outlive it; one that is there already is used.
        let beside = spawn_tied("/usr/bin/epmd", "KILL", move |command| {
            command.args(["-address", "127.0.0.1", "-port", &names.to_string()]);
        })?;
        wait_for_port("127.0.0.1", names)?;
        let variables = [
            ("HOME", folder.display().to_string()),
            ("RABBITMQ_NODENAME", format!("jexlin{port}@localhost")),
            ("RABBITMQ_CONFIG_FILE", at("rabbitmq")),
            ("RABBITMQ_MNESIA_BASE", at("data")),
            ("RABBITMQ_LOG_BASE", at("logs")),
            ("RABBITMQ_ENABLED_PLUGINS_FILE", at("plugins")),
            ("RABBITMQ_CONF_ENV_FILE", "/dev/null".to_owned()),
            ("RABBITMQ_DIST_PORT", between.to_string()),
            // It becomes this process, instead of a child that would outlive it.
            ("RABBITMQ_ALLOW_INPUT", "1".to_owned()),
            ("RABBITMQ_SERVER_ADDITIONAL_ERL_ARGS", "-noinput".to_owned()),
            ("ERL_EPMD_PORT", names.to_string()),
            ("ERL_EPMD_ADDRESS", "127.0.0.1".to_owned()),
        ];
        let program = fs::read_dir("/usr/lib/rabbitmq/lib")?
            .filter_map(|entry| Some(entry.ok()?.path().join("sbin/rabbitmq-server")))
            .find(|program| program.exists())
            .ok_or_else(|| io::Error::other("RabbitMQ is not installed"))?
            .display()
            .to_string();
        let child = spawn_tied(&program, "KILL", move |command| {
            command
                .envs(variables)
                .stdout(Stdio::null())
                .stderr(Stdio::null());
        })?;
        let server = Self {
            folder,
            port,
            child,
            beside: Some(beside),
        };
        // It takes long on a machine that has much to do.
        let wait = || wait_for_port("127.0.0.1", port);
        wait().or_else(|_| wait()).or_else(|_| wait())?;
        Ok(server)
    }

    /// Its port.
    #[must_use]
    pub const fn port(&self) -> u16 {
        self.port
    }

    /// The certificate of its authority, in PEM.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn authority(&self) -> io::Result<String> {
        fs::read_to_string(self.folder.join("ca.pem"))
    }

    /// All that it has logged.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn written(&self) -> io::Result<String> {
        let mut all = String::new();
        let logs = fs::read_dir(self.folder.join("logs"))
            .into_iter()
            .flatten()
            .filter_map(|entry| Some(entry.ok()?.path()));
        let here = ["log", "access"].map(|name| self.folder.join(name));
        for file in here.into_iter().chain(logs) {
            if file.is_file() {
                all.push_str(&String::from_utf8_lossy(&fs::read(file)?));
            }
        }
        Ok(all)
    }
}

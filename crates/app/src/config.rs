//! The configuration, from the environment; `docs/operations.md` lists it.

use std::env;
use std::path::PathBuf;

use ipnet::IpNet;

/// The configuration.
#[derive(Clone, Debug)]
pub struct Config {
    /// `JEXLIN_DATABASE`: the database, as the role that owns nothing.
    pub database: String,
    /// `JEXLIN_CONNECTIONS`: how many connections to it.
    pub connections: usize,
    /// `JEXLIN_FOLDER`: where the root key file and the set-up code are.
    pub folder: PathBuf,
    /// `JEXLIN_CONSOLE`: where the built console is.
    pub console: Option<PathBuf>,
    /// `JEXLIN_ADDRESS`.
    pub address: String,
    /// `JEXLIN_PORT`; 0 takes a free one.
    pub port: u16,
    /// `JEXLIN_TLS_CERTIFICATE`, `JEXLIN_TLS_KEY`: the service's own TLS, in PEM.
    pub tls: Option<(PathBuf, PathBuf)>,
    /// `JEXLIN_REDIRECT_PORT`: where `http://` is sent to `https://`.
    pub redirect_port: Option<u16>,
    /// `JEXLIN_METRICS_PORT`, `JEXLIN_METRICS_ADDRESS`: where monitoring asks for numbers.
    pub metrics: Option<(String, u16)>,
    /// `JEXLIN_SECURE_COOKIES`: `yes` behind a proxy with TLS; always with the service's own.
    pub secure_cookies: bool,
    /// `JEXLIN_IDLE_MINUTES`: a session ends after so long without use.
    pub idle_minutes: i64,
    /// `JEXLIN_SESSION_HOURS`: a session ends after so long at the latest.
    pub session_hours: i64,
    /// `JEXLIN_RUNNERS`: how many jobs run at a time.
    pub runners: usize,
    /// `JEXLIN_PER_DEVICE`: how many jobs run at a time on one device.
    pub per_device: i64,
    /// `JEXLIN_CONNECT_SECONDS`: how long to wait for a device to connect and sign in, 1 to 25.
    pub connect_seconds: u64,
    /// `JEXLIN_CHANGE_SECONDS`: how long to wait for a device to change a password, 1 to 25.
    pub change_seconds: u64,
    /// `JEXLIN_TRUSTED_PROXIES`: addresses or networks, separated by commas, whose `Forwarded` and
    /// `X-Forwarded-For` headers tell from where a request comes.
    pub trusted_proxies: Vec<IpNet>,
    /// `JEXLIN_LEAKED`: a file of leaked passwords, or a folder of its ranges.
    pub leaked: Option<PathBuf>,
    /// `CREDENTIALS_DIRECTORY`: where the service manager puts `jexlin-root-key`.
    pub credentials: Option<PathBuf>,
}

fn number<T: std::str::FromStr>(name: &str, default: T) -> Result<T, String> {
    match env::var(name) {
        Err(_) => Ok(default),
        Ok(text) => text
            .parse()
            .map_err(|_| format!("{name} is not a valid number: {text}")),
    }
}

/// A time that a device gets. A lease is longer than two of them together.
fn seconds(name: &str, default: u64) -> Result<u64, String> {
    let seconds = number(name, default)?;
    if (1..=25).contains(&seconds) {
        Ok(seconds)
    } else {
        Err(format!("{name} must be between 1 and 25, not {seconds}"))
    }
}

fn networks(text: &str) -> Result<Vec<IpNet>, String> {
    let read = |word: &str| {
        let single = || word.parse::<std::net::IpAddr>().map(IpNet::from);
        word.parse::<IpNet>().or_else(|_| single()).map_err(|_| {
            format!(
                "JEXLIN_TRUSTED_PROXIES has an entry that is not an address or a network: {word}"
            )
        })
    };
    text.split(',')
        .map(str::trim)
        .filter(|word| !word.is_empty())
        .map(read)
        .collect()
}

impl Config {
    /// Reads the environment.
    ///
    /// # Errors
    /// A sentence that names the variable.
    pub fn from_environment() -> Result<Self, String> {
        let path = |name: &str| env::var(name).ok().map(PathBuf::from);
        let tls = match (path("JEXLIN_TLS_CERTIFICATE"), path("JEXLIN_TLS_KEY")) {
            (Some(certificate), Some(key)) => Some((certificate, key)),
            (None, None) => None,
            _ => {
                return Err(
                    "JEXLIN_TLS_CERTIFICATE and JEXLIN_TLS_KEY must be set together".to_owned(),
                );
            }
        };
        let redirect_port = match env::var("JEXLIN_REDIRECT_PORT") {
            Ok(_) if tls.is_none() => {
                return Err("JEXLIN_REDIRECT_PORT needs JEXLIN_TLS_CERTIFICATE".to_owned());
            }
            Ok(_) => Some(number("JEXLIN_REDIRECT_PORT", 0)?),
            Err(_) => None,
        };
        let metrics = match env::var("JEXLIN_METRICS_PORT") {
            Err(_) => None,
            Ok(_) => Some((
                env::var("JEXLIN_METRICS_ADDRESS").unwrap_or_else(|_| "127.0.0.1".into()),
                number("JEXLIN_METRICS_PORT", 0)?,
            )),
        };
        Ok(Self {
            database: env::var("JEXLIN_DATABASE")
                .map_err(|_| "JEXLIN_DATABASE is not set: it names the database".to_owned())?,
            connections: number("JEXLIN_CONNECTIONS", 24)?,
            folder: env::var("JEXLIN_FOLDER")
                .map_err(|_| {
                    "JEXLIN_FOLDER is not set: it names the folder of the root key file".to_owned()
                })?
                .into(),
            console: env::var("JEXLIN_CONSOLE").ok().map(PathBuf::from),
            address: env::var("JEXLIN_ADDRESS").unwrap_or_else(|_| "127.0.0.1".into()),
            port: number("JEXLIN_PORT", 8470)?,
            secure_cookies: tls.is_some()
                || env::var("JEXLIN_SECURE_COOKIES").is_ok_and(|text| text == "yes"),
            tls,
            redirect_port,
            metrics,
            idle_minutes: number("JEXLIN_IDLE_MINUTES", 30)?,
            session_hours: number("JEXLIN_SESSION_HOURS", 12)?,
            runners: number("JEXLIN_RUNNERS", 32)?,
            per_device: number("JEXLIN_PER_DEVICE", 4)?,
            connect_seconds: seconds("JEXLIN_CONNECT_SECONDS", 15)?,
            change_seconds: seconds("JEXLIN_CHANGE_SECONDS", 20)?,
            trusted_proxies: networks(&env::var("JEXLIN_TRUSTED_PROXIES").unwrap_or_default())?,
            leaked: env::var("JEXLIN_LEAKED").ok().map(PathBuf::from),
            credentials: env::var("CREDENTIALS_DIRECTORY").ok().map(PathBuf::from),
        })
    }
}

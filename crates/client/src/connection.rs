//! The link to the service: where it is, the kept token, calls and their problems.

use std::fs;
use std::io::{BufRead as _, BufReader, Write as _};
use std::os::unix::fs::{OpenOptionsExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};
use std::time::Duration;

use jexlin_api::{ErrorCode, Page, Problem, SecretText};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use ureq::tls::{Certificate, PemItem, RootCerts, TlsConfig, parse_pem};
use ureq::unversioned::resolver::DefaultResolver;

use crate::error::ClientError;
use crate::files::cannot;
use crate::pin::{self, Pin};

/// The session that is kept between calls.
#[derive(Serialize, Deserialize)]
struct Kept {
    service: String,
    token: SecretText,
    /// The certificates that the service's own is verified with, if not those of this computer.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    ca_file: Option<PathBuf>,
    /// The key that its certificate must have, if one was given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pinned_key: Option<Pin>,
}

/// Where the service is, and how it is known. What is left out is taken from the kept session.
#[derive(Debug, Default)]
pub struct Target {
    /// Its address.
    pub service: Option<String>,
    /// A file of certificates that its own is verified with.
    pub ca_file: Option<PathBuf>,
    /// The key that its certificate must have.
    pub pinned_key: Option<Pin>,
}

/// A link to the service.
pub struct Connection {
    service: String,
    token: Option<SecretText>,
    ca_file: Option<PathBuf>,
    pinned_key: Option<Pin>,
    agent: ureq::Agent,
}

/// The certificates in a file. A self-signed one among them is trusted for itself.
fn certificates(file: &Path) -> Result<Vec<Certificate<'static>>, ClientError> {
    let pem = fs::read(file).map_err(cannot("read", file))?;
    let mut trusted = vec![];
    for item in parse_pem(&pem) {
        match item {
            Ok(PemItem::Certificate(certificate)) => trusted.push(certificate),
            Ok(_) => {}
            Err(_) => trusted.clear(),
        }
    }
    if trusted.is_empty() {
        return Err(ClientError::input(
            format!("{} holds no certificate.", file.display()),
            "Give a file of certificates in PEM.",
        ));
    }
    Ok(trusted)
}

/// Why a call did not arrive.
fn unreachable(error: &ureq::Error) -> ClientError {
    match pin::other_key(error) {
        Some(other) => ClientError::Here {
            what: format!("Whoever answers is not known: {other}."),
            advice: "Ask an administrator for the key that jexlind check shows on the service's \
                     machine. If it is another one now, sign in with it as --pinned-key."
                .into(),
            code: 8,
        },
        None => ClientError::Unreachable(error.to_string()),
    }
}

/// Where the session is kept: `$JEXLIN_SESSION`, else in the user's state folder.
fn session_path() -> Result<PathBuf, ClientError> {
    if let Some(path) = std::env::var_os("JEXLIN_SESSION") {
        return Ok(path.into());
    }
    let state = std::env::var_os("XDG_STATE_HOME")
        .map(PathBuf::from)
        .or_else(|| std::env::var_os("HOME").map(|home| PathBuf::from(home).join(".local/state")));
    state
        .map(|state| state.join("jexlin/session.json"))
        .ok_or_else(|| {
            ClientError::local(
                "There is no home folder to keep the session in; set JEXLIN_SESSION.",
            )
        })
}

impl Connection {
    /// Opens the link; the kept session is used when it is for the same service.
    pub fn open(target: Target) -> Result<Self, ClientError> {
        Self::open_with(target, None)
    }

    /// The same, for answers that come within a time or not at all.
    pub fn open_with(target: Target, patience: Option<Duration>) -> Result<Self, ClientError> {
        let path = session_path()?;
        let mut kept: Option<Kept> = None;
        if let Ok(meta) = fs::metadata(&path) {
            if meta.permissions().mode() & 0o077 != 0 {
                return Err(ClientError::local(format!(
                    "{} can be read by others; run: chmod 600 {}",
                    path.display(),
                    path.display()
                )));
            }
            kept = fs::read_to_string(&path)
                .ok()
                .and_then(|text| serde_json::from_str(&text).ok());
        }
        let service = target
            .service
            .or_else(|| kept.as_ref().map(|kept| kept.service.clone()))
            .unwrap_or_else(|| "http://127.0.0.1:8470".into());
        let service = service.trim_end_matches('/').to_owned();
        let kept = kept.filter(|kept| kept.service == service);
        let ca_file = target
            .ca_file
            .or_else(|| kept.as_ref().and_then(|kept| kept.ca_file.clone()));
        let pinned_key = target
            .pinned_key
            .or_else(|| kept.as_ref().and_then(|kept| kept.pinned_key));
        let token = kept.map(|kept| kept.token);
        let mut config = ureq::Agent::config_builder()
            .http_status_as_error(false)
            .timeout_global(patience)
            .user_agent("jexlin");
        let trusted = match &ca_file {
            Some(file) => certificates(file)?,
            None => vec![],
        };
        let agent = if let Some(pin) = pinned_key {
            if !service.starts_with("https://") {
                return Err(ClientError::input(
                    format!("{service} does not speak TLS, so it shows no key to compare."),
                    "Give an https:// address with --service.",
                ));
            }
            let trusted: Vec<_> = trusted
                .iter()
                .map(|certificate| certificate.der().to_vec().into())
                .collect();
            let connector = pin::connector(pin, &trusted)
                .map_err(|error| ClientError::local(error.to_string()))?;
            ureq::Agent::with_parts(config.build(), connector, DefaultResolver::default())
        } else {
            if !trusted.is_empty() {
                let roots = RootCerts::new_with_certs(&trusted);
                config = config.tls_config(TlsConfig::builder().root_certs(roots).build());
            }
            config.build().new_agent()
        };
        Ok(Self {
            service,
            token,
            ca_file,
            pinned_key,
            agent,
        })
    }

    /// Keeps a session for later calls, readable to its owner alone.
    pub fn keep(&self, token: SecretText) -> Result<PathBuf, ClientError> {
        let path = session_path()?;
        let broken = |error: std::io::Error| {
            ClientError::local(format!("{} cannot be written: {error}.", path.display()))
        };
        if let Some(folder) = path.parent() {
            fs::create_dir_all(folder).map_err(broken)?;
        }
        let text = serde_json::to_string(&Kept {
            service: self.service.clone(),
            token,
            // Wherever the next call is made from.
            ca_file: self
                .ca_file
                .as_ref()
                .map(|file| file.canonicalize().unwrap_or_else(|_| file.clone())),
            pinned_key: self.pinned_key,
        })
        .map_err(|error| ClientError::local(error.to_string()))?;
        let beside = path.with_extension("new");
        let _ = fs::remove_file(&beside);
        let mut file = fs::OpenOptions::new()
            .write(true)
            .create_new(true)
            .mode(0o600)
            .open(&beside)
            .map_err(broken)?;
        file.write_all(text.as_bytes()).map_err(broken)?;
        fs::rename(&beside, &path).map_err(broken)?;
        Ok(path)
    }

    /// Forgets the kept session.
    pub fn forget(&self) -> Result<(), ClientError> {
        match fs::remove_file(session_path()?) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
                Err(ClientError::local(error.to_string()))
            }
            _ => Ok(()),
        }
    }

    fn request(
        &self,
        method: &str,
        path: &str,
        body: Option<&Value>,
        revision: Option<i32>,
    ) -> Result<ureq::http::Response<ureq::Body>, ClientError> {
        let mut request = ureq::http::Request::builder()
            .method(method)
            .uri(format!("{}{path}", self.service));
        if let Some(token) = &self.token {
            request = request.header("Authorization", format!("Bearer {}", token.expose_secret()));
        }
        if let Some(revision) = revision {
            request = request.header("If-Match", format!("\"{revision}\""));
        }
        let text = body.map(Value::to_string);
        if text.is_some() {
            request = request.header("Content-Type", "application/json");
        }
        let broken = |error: ureq::http::Error| {
            ClientError::input(
                format!("The address cannot be used: {error}."),
                "Check --service.",
            )
        };
        let response = match text {
            Some(text) => self
                .agent
                .run(request.body(text).map_err(broken)?)
                .map_err(|error| unreachable(&error))?,
            None => self
                .agent
                .run(request.body(()).map_err(broken)?)
                .map_err(|error| unreachable(&error))?,
        };
        good(response)
    }

    fn call<T: DeserializeOwned>(
        &self,
        method: &str,
        path: &str,
        body: Option<&Value>,
        revision: Option<i32>,
    ) -> Result<T, ClientError> {
        let response = self.request(method, path, body, revision)?;
        let waits = response.status() == 202;
        let text = response
            .into_body()
            .with_config()
            .limit(256 * 1024 * 1024)
            .read_to_string()
            .map_err(|error| unreachable(&error))?;
        let text = if text.is_empty() { "null" } else { &text };
        if waits && let Ok(act) = serde_json::from_str(text) {
            return Err(ClientError::Pending(Box::new(act)));
        }
        serde_json::from_str(text).map_err(|error| {
            ClientError::local(format!("The service's answer cannot be read: {error}."))
        })
    }

    /// Sends bytes as they are.
    pub fn send<T: DeserializeOwned>(
        &self,
        path: &str,
        bytes: impl std::io::Read + Send + 'static,
        length: Option<u64>,
    ) -> Result<T, ClientError> {
        let mut request = ureq::http::Request::builder()
            .method("POST")
            .uri(format!("{}{path}", self.service))
            .header("Content-Type", "application/octet-stream");
        if let Some(length) = length {
            request = request.header("Content-Length", length.to_string());
        }
        if let Some(token) = &self.token {
            request = request.header("Authorization", format!("Bearer {}", token.expose_secret()));
        }
        let broken = |error: ureq::http::Error| {
            ClientError::input(
                format!("The address cannot be used: {error}."),
                "Check --service.",
            )
        };
        let request = request
            .body(ureq::SendBody::from_owned_reader(bytes))
            .map_err(broken)?;
        let response = self
            .agent
            .run(request)
            .map_err(|error| unreachable(&error))?;
        let text = good(response)?
            .into_body()
            .read_to_string()
            .map_err(|error| unreachable(&error))?;
        serde_json::from_str(&text).map_err(|error| {
            ClientError::local(format!("The service's answer cannot be read: {error}."))
        })
    }

    /// Reads.
    pub fn get<T: DeserializeOwned>(&self, path: &str) -> Result<T, ClientError> {
        self.call("GET", path, None, None)
    }

    /// Sends.
    pub fn post<T: DeserializeOwned>(
        &self,
        path: &str,
        body: &impl Serialize,
    ) -> Result<T, ClientError> {
        self.call("POST", path, Some(&value(body)?), None)
    }

    /// Changes what has a revision.
    pub fn change<T: DeserializeOwned>(
        &self,
        method: &str,
        path: &str,
        body: &impl Serialize,
        revision: i32,
    ) -> Result<T, ClientError> {
        self.call(method, path, Some(&value(body)?), Some(revision))
    }

    /// Puts something there that has no revision.
    pub fn put<T: DeserializeOwned>(&self, path: &str) -> Result<T, ClientError> {
        self.call("PUT", path, None, None)
    }

    /// Sets what there is one of.
    pub fn set<T: DeserializeOwned>(
        &self,
        path: &str,
        body: &impl Serialize,
    ) -> Result<T, ClientError> {
        self.call("PUT", path, Some(&value(body)?), None)
    }

    /// Deletes what an address names, and reads what comes of it.
    pub fn delete_for<T: DeserializeOwned>(&self, path: &str) -> Result<T, ClientError> {
        self.call("DELETE", path, None, None)
    }

    /// Removes.
    pub fn delete(&self, path: &str, revision: Option<i32>) -> Result<(), ClientError> {
        self.call::<Value>("DELETE", path, None, revision)
            .map(|_| ())
    }

    /// Reads all pages of a list, or as many items as are wanted.
    pub fn list<T: DeserializeOwned>(
        &self,
        path: &str,
        limit: Option<usize>,
    ) -> Result<Vec<T>, ClientError> {
        let mut items: Vec<T> = vec![];
        let mut cursor = String::new();
        let limit = crate::view::items_to_read(limit);
        loop {
            let separator = if path.contains('?') { '&' } else { '?' };
            let page: Page<T> = self.get(&format!("{path}{separator}limit=500&cursor={cursor}"))?;
            items.extend(page.items);
            match (page.next, limit) {
                (_, Some(limit)) if items.len() >= limit => {
                    items.truncate(limit);
                    return Ok(items);
                }
                (Some(next), _) => cursor = next,
                (None, _) => return Ok(items),
            }
        }
    }

    /// Copies an answer of any length to a writer.
    pub fn copy_to(&self, path: &str, to: &mut impl std::io::Write) -> Result<(), ClientError> {
        let mut reader = self
            .request("GET", path, None, None)?
            .into_body()
            .into_reader();
        std::io::copy(&mut reader, to)
            .map(|_| ())
            .map_err(|error| ClientError::local(error.to_string()))
    }

    /// Asks for a file that is taken out: its bytes, and how many are in it and left out of it.
    pub fn export_file(
        &self,
        path: &str,
        body: &impl Serialize,
    ) -> Result<(Vec<u8>, String, String), ClientError> {
        let body =
            serde_json::to_value(body).map_err(|error| ClientError::local(error.to_string()))?;
        let response = self.request("POST", path, Some(&body), None)?;
        let header = |name: &str| {
            response
                .headers()
                .get(name)
                .and_then(|value| value.to_str().ok())
                .unwrap_or("0")
                .to_owned()
        };
        let (taken, left_out) = (header("Jexlin-Taken"), header("Jexlin-Left-Out"));
        let bytes = response
            .into_body()
            .with_config()
            .limit(1 << 30)
            .read_to_vec()
            .map_err(|error| unreachable(&error))?;
        Ok((bytes, taken, left_out))
    }

    /// Listens to live news: calls back with each event's name and data until told to stop.
    pub fn listen(
        &self,
        mut heard: impl FnMut(&str, &str) -> Result<bool, ClientError>,
    ) -> Result<(), ClientError> {
        let reader = BufReader::new(
            self.request("GET", "/api/v1/events", None, None)?
                .into_body()
                .into_reader(),
        );
        let (mut event, mut data) = (String::new(), String::new());
        for line in reader.lines() {
            let line = line.map_err(|error| unreachable(&error.into()))?;
            if let Some(name) = line.strip_prefix("event:") {
                name.trim().clone_into(&mut event);
            } else if let Some(text) = line.strip_prefix("data:") {
                text.trim().clone_into(&mut data);
            } else if line.is_empty() && !event.is_empty() {
                if !heard(&event, &data)? {
                    return Ok(());
                }
                event.clear();
            }
        }
        Ok(())
    }
}

/// The answer, or the problem that it tells.
fn good(
    response: ureq::http::Response<ureq::Body>,
) -> Result<ureq::http::Response<ureq::Body>, ClientError> {
    if response.status().as_u16() < 400 {
        return Ok(response);
    }
    let status = response.status().as_u16();
    let text = response.into_body().read_to_string().unwrap_or_default();
    let problem = serde_json::from_str(&text).unwrap_or_else(|_| Problem {
        code: ErrorCode::Other,
        kind: String::new(),
        title: String::new(),
        status,
        detail: format!("The service answered with status {status} without an explanation."),
        advice: "Check that the address is that of a Jexlin service.".into(),
        instance: String::new(),
        fields: std::collections::BTreeMap::new(),
    });
    Err(ClientError::Service(Box::new(problem)))
}

fn value(body: &impl Serialize) -> Result<Value, ClientError> {
    serde_json::to_value(body).map_err(|error| ClientError::local(error.to_string()))
}

/// Text made safe for a query.
pub fn query(text: &str) -> String {
    text.bytes()
        .map(|byte| {
            if byte.is_ascii_alphanumeric() || b"-_.~".contains(&byte) {
                char::from(byte).to_string()
            } else {
                format!("%{byte:02X}")
            }
        })
        .collect()
}

//! A cloud console of the made-up family Harbour: an HTTP API with sessions, a cookie and a token
//! against forged requests, as `demo/recipes/harbour-console.toml` talks to it.

use std::collections::BTreeMap;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use http_body_util::{BodyExt as _, Full, Limited};
use hyper::body::{Bytes, Incoming};
use hyper::service::service_fn;
use hyper::{Method, Request, Response, StatusCode};
use hyper_util::rt::TokioIo;
use rustls::pki_types::pem::PemObject as _;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::server::WebPkiClientVerifier;
use tokio_rustls::TlsAcceptor;

use crate::database_server::{certificates, client_certificate};

/// The account that may change the passwords of others.
pub const KEEPER: &str = "harbour-master";
/// So many wrong passwords lock an account.
const MOST_WRONG: u32 = 5;
/// The largest body, in bytes.
const MOST_BODY: usize = 64 * 1024;

#[derive(Debug, Default)]
struct Inner {
    accounts: BTreeMap<String, String>,
    wrong: BTreeMap<String, u32>,
    /// The account and the token of each session, by its cookie.
    sessions: BTreeMap<String, (String, String)>,
    file: Option<PathBuf>,
}

impl Inner {
    fn save(&self) {
        if let Some(file) = &self.file {
            let _ = fs::write(file, serde_json::json!(self.accounts).to_string());
        }
    }
}

type Shared = Arc<Mutex<Inner>>;

fn lock(inner: &Shared) -> MutexGuard<'_, Inner> {
    inner.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A running console. It runs until the process ends.
#[derive(Clone, Debug)]
pub struct CloudConsole {
    inner: Shared,
    folder: PathBuf,
    port: u16,
}

impl CloudConsole {
    /// Starts one for a test on a free port of 127.0.0.1.
    ///
    /// # Errors
    /// When it does not come up.
    pub fn temporary(accounts: &[(&str, &str)]) -> io::Result<Self> {
        let port = crate::free_port()?;
        let folder =
            std::env::temp_dir().join(format!("jexlin-console-{}-{port}", std::process::id()));
        Self::start(&folder, "127.0.0.1", port, accounts)
    }

    /// Starts one whose certificates and accounts are kept in a folder; `accounts` are those of the
    /// first time.
    ///
    /// # Errors
    /// When it does not come up, or the folder cannot be used.
    pub fn start(
        folder: &Path,
        address: &str,
        port: u16,
        accounts: &[(&str, &str)],
    ) -> io::Result<Self> {
        fs::create_dir_all(folder)?;
        if !folder.join("tls.pem").exists() {
            certificates(folder, address)?;
            client_certificate(folder, KEEPER)?;
        }
        let file = folder.join("accounts.json");
        let kept = fs::read(&file)
            .ok()
            .and_then(|text| serde_json::from_slice(&text).ok());
        let accounts = kept.unwrap_or_else(|| {
            let owned = |(name, password): &(&str, &str)| ((*name).into(), (*password).into());
            accounts.iter().map(owned).collect()
        });
        let inner = Arc::new(Mutex::new(Inner {
            accounts,
            file: Some(file),
            ..Inner::default()
        }));
        let chain =
            CertificateDer::from_pem_file(folder.join("tls.pem")).map_err(io::Error::other)?;
        let key = PrivateKeyDer::from_pem_file(folder.join("tls.key")).map_err(io::Error::other)?;
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let read =
            |name: &str| CertificateDer::from_pem_file(folder.join(name)).map_err(io::Error::other);
        let mut roots = rustls::RootCertStore::empty();
        roots.add(read("ca.pem")?).map_err(io::Error::other)?;
        let verifier =
            WebPkiClientVerifier::builder_with_provider(Arc::new(roots), Arc::clone(&provider))
                .allow_unauthenticated()
                .build()
                .map_err(io::Error::other)?;
        let keeper = read("client.pem")?;
        let config = rustls::ServerConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .map_err(io::Error::other)?
            .with_client_cert_verifier(verifier)
            .with_single_cert(vec![chain], key)
            .map_err(io::Error::other)?;
        let acceptor = TlsAcceptor::from(Arc::new(config));
        let socket = std::net::TcpListener::bind((address, port))?;
        socket.set_nonblocking(true)?;
        let shared = Arc::clone(&inner);
        std::thread::spawn(move || {
            let runtime = tokio::runtime::Builder::new_multi_thread()
                .worker_threads(1)
                .enable_all()
                .build();
            if let Ok(runtime) = runtime {
                runtime.block_on(serve(socket, acceptor, keeper, shared));
            }
        });
        Ok(Self {
            inner,
            folder: folder.to_owned(),
            port,
        })
    }

    /// Its port.
    #[must_use]
    pub const fn port(&self) -> u16 {
        self.port
    }

    /// The password of an account.
    #[must_use]
    pub fn password(&self, name: &str) -> String {
        lock(&self.inner)
            .accounts
            .get(name)
            .cloned()
            .unwrap_or_default()
    }

    /// The certificate of the keeper, and its key, in PEM.
    ///
    /// # Errors
    /// When they cannot be read.
    pub fn client_certificate(&self) -> io::Result<(String, String)> {
        let read = |name: &str| fs::read_to_string(self.folder.join(name));
        Ok((read("client.pem")?, read("client.key")?))
    }

    /// The certificate of its authority, in PEM.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn authority(&self) -> io::Result<String> {
        fs::read_to_string(self.folder.join("ca.pem"))
    }
}

async fn serve(
    socket: std::net::TcpListener,
    acceptor: TlsAcceptor,
    keeper: CertificateDer<'static>,
    inner: Shared,
) {
    let Ok(socket) = tokio::net::TcpListener::from_std(socket) else {
        return;
    };
    while let Ok((stream, _)) = socket.accept().await {
        let (acceptor, inner, keeper) = (acceptor.clone(), Arc::clone(&inner), keeper.clone());
        tokio::spawn(async move {
            let Ok(stream) = acceptor.accept(stream).await else {
                return;
            };
            let shown = stream.get_ref().1.peer_certificates();
            let is_keeper = shown.is_some_and(|shown| shown.first() == Some(&keeper));
            let answer = service_fn(move |request| {
                let inner = Arc::clone(&inner);
                async move { answer(request, is_keeper, &inner).await }
            });
            let _ = hyper::server::conn::http1::Builder::new()
                .serve_connection(TokioIo::new(stream), answer)
                .await;
        });
    }
}

type Answered = Result<Response<Full<Bytes>>, hyper::http::Error>;

fn problem(status: StatusCode, words: &str) -> Answered {
    let body = serde_json::json!({ "problem": words }).to_string();
    Response::builder()
        .status(status)
        .header("content-type", "application/json")
        .body(Full::new(body.into()))
}

async fn answer(request: Request<Incoming>, is_keeper: bool, inner: &Shared) -> Answered {
    let (head, body) = request.into_parts();
    let Ok(body) = Limited::new(body, MOST_BODY).collect().await else {
        return problem(StatusCode::PAYLOAD_TOO_LARGE, "The body is too large.");
    };
    let body = body.to_bytes();
    let path: Vec<&str> = head.uri.path().split('/').skip(1).collect();
    let header = |name: &str| head.headers.get(name)?.to_str().ok();
    let cookie = header("cookie").and_then(|all| {
        all.split("; ")
            .find_map(|pair| pair.strip_prefix("harbour="))
    });
    match (&head.method, path.as_slice()) {
        (&Method::POST, ["session"]) => sign_in(&body, &mut lock(inner)),
        (&Method::POST, ["session", "certificate"]) if is_keeper => {
            begin(KEEPER.to_owned(), &mut lock(inner))
        }
        (&Method::POST, ["session", "certificate"]) => problem(
            StatusCode::UNAUTHORIZED,
            "No certificate that is known was shown.",
        ),
        (&Method::GET, ["accounts"]) => list(&lock(inner), cookie),
        (&Method::PUT, ["accounts", name, "password"]) => {
            let name = percent_decoded(name);
            change(
                &mut lock(inner),
                cookie,
                header("x-harbour-token"),
                &name,
                &body,
            )
        }
        _ => problem(StatusCode::NOT_FOUND, "There is nothing here."),
    }
}

/// The accounts, for whoever keeps the console.
fn list(inner: &Inner, cookie: Option<&str>) -> Answered {
    let session = cookie.and_then(|cookie| inner.sessions.get(cookie));
    match session {
        None => return problem(StatusCode::UNAUTHORIZED, "Sign in first."),
        Some((who, _)) if who != KEEPER => {
            return problem(
                StatusCode::FORBIDDEN,
                "Only harbour-master sees the accounts.",
            );
        }
        Some(_) => {}
    }
    let locked = |name: &String| {
        inner
            .wrong
            .get(name)
            .is_some_and(|wrong| *wrong >= MOST_WRONG)
    };
    let accounts: Vec<serde_json::Value> = inner
        .accounts
        .keys()
        .map(|name| {
            let role = if name == KEEPER { "owner" } else { "member" };
            serde_json::json!({ "name": name, "roles": [role], "locked": locked(name) })
        })
        .collect();
    let body = serde_json::json!({ "accounts": accounts }).to_string();
    Response::builder()
        .header("content-type", "application/json")
        .body(Full::new(body.into()))
}

fn percent_decoded(text: &str) -> String {
    url::form_urlencoded::parse(format!("x={text}").as_bytes())
        .next()
        .map(|(_, value)| value.into_owned())
        .unwrap_or_default()
}

fn sign_in(body: &[u8], inner: &mut Inner) -> Answered {
    let fields: BTreeMap<String, String> = url::form_urlencoded::parse(body).into_owned().collect();
    let field = |name: &str| fields.get(name).cloned().unwrap_or_default();
    let (name, password) = (field("name"), field("password"));
    if inner
        .wrong
        .get(&name)
        .is_some_and(|wrong| *wrong >= MOST_WRONG)
    {
        return problem(
            StatusCode::LOCKED,
            "The account is locked after too many wrong passwords.",
        );
    }
    if inner.accounts.get(&name) != Some(&password) {
        *inner.wrong.entry(name).or_default() += 1;
        return problem(StatusCode::UNAUTHORIZED, "Name or password is wrong.");
    }
    inner.wrong.remove(&name);
    begin(name, inner)
}

/// Begins a session.
fn begin(name: String, inner: &mut Inner) -> Answered {
    let [cookie, token] = [(); 2].map(|()| {
        rand::random::<[u8; 16]>()
            .iter()
            .map(|byte| format!("{byte:02x}"))
            .collect::<String>()
    });
    inner.sessions.insert(cookie.clone(), (name, token.clone()));
    Response::builder()
        .status(StatusCode::SEE_OTHER)
        .header("location", "/")
        .header(
            "set-cookie",
            format!("harbour={cookie}; Path=/; Secure; HttpOnly"),
        )
        .header("x-harbour-token", token)
        .body(Full::default())
}

fn change(
    inner: &mut Inner,
    cookie: Option<&str>,
    token: Option<&str>,
    name: &str,
    body: &[u8],
) -> Answered {
    let session = cookie.and_then(|cookie| inner.sessions.get(cookie).cloned());
    let Some((who, expected)) = session else {
        return problem(StatusCode::UNAUTHORIZED, "Sign in first.");
    };
    if token != Some(expected.as_str()) {
        return problem(StatusCode::FORBIDDEN, "The token is missing.");
    }
    if who != KEEPER && who != name {
        return problem(
            StatusCode::FORBIDDEN,
            "Only harbour-master changes the passwords of others.",
        );
    }
    let wanted: Option<String> = serde_json::from_slice::<serde_json::Value>(body)
        .ok()
        .and_then(|body| Some(body.get("password")?.as_str()?.to_owned()));
    let Some(wanted) = wanted else {
        return problem(StatusCode::BAD_REQUEST, "There is no password.");
    };
    if wanted.chars().count() < 10 {
        return problem(
            StatusCode::UNPROCESSABLE_ENTITY,
            "A password has at least 10 characters.",
        );
    }
    match inner.accounts.get_mut(name) {
        Some(password) => *password = wanted,
        None => return problem(StatusCode::NOT_FOUND, "There is no such account."),
    }
    inner.sessions.retain(|_, (who, _)| who != name);
    inner.save();
    Response::builder()
        .status(StatusCode::NO_CONTENT)
        .body(Full::default())
}

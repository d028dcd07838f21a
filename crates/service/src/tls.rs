//! TLS: a listener of the service's own, in front of the one for plain HTTP on loopback.
//!
//! ```text
//! somebody ─ TLS 1.2, 1.3 ─► listener ─ loopback ─► Rocket        and http:// ─► redirect to https://
//! ```
//!
//! What arrives is decrypted and handed on byte by byte; nothing in it is parsed here. From where
//! it came is known by the port of the inner connection ([`Peers`]), not by a header that somebody
//! could write. The certificate is read again when its files change, without a restart.

use std::collections::HashMap;
use std::io;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, RwLock};
use std::time::{Duration, SystemTime};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD_NO_PAD;
use listenfd::ListenFd;
use rocket::http::Status;
use rocket::http::uri::Origin;
use rocket::response::Redirect;
use rocket::{Request, catch, catchers};
use rustls::crypto::CryptoProvider;
use rustls::pki_types::pem::PemObject as _;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::server::{ClientHello, ParsedCertificate, ResolvesServerCert};
use rustls::sign::CertifiedKey;
use sha2::{Digest as _, Sha256};
use tokio::net::{TcpListener, TcpSocket, TcpStream};
use tokio_rustls::TlsAcceptor;

/// A handshake takes no longer.
const HANDSHAKE: Duration = Duration::from_secs(10);
/// The files are looked at so often.
const LOOK: Duration = Duration::from_secs(5);

/// Where the certificate, with those above it, and its key are, in PEM.
#[derive(Clone, Debug)]
pub struct TlsFiles {
    /// The certificates.
    pub certificate: PathBuf,
    /// The private key.
    pub key: PathBuf,
}

impl TlsFiles {
    /// Reads them, and checks that they belong together.
    ///
    /// # Errors
    /// A sentence that names the file.
    pub fn read(&self) -> Result<CertifiedKey, String> {
        let broken = |path: &Path, why: String| format!("{}: {why}", path.display());
        let chain = CertificateDer::pem_file_iter(&self.certificate)
            .and_then(Iterator::collect::<Result<Vec<_>, _>>)
            .map_err(|error| broken(&self.certificate, error.to_string()))?;
        if chain.is_empty() {
            return Err(broken(
                &self.certificate,
                "there is no certificate in it".into(),
            ));
        }
        let key = PrivateKeyDer::from_pem_file(&self.key)
            .map_err(|error| broken(&self.key, error.to_string()))?;
        CertifiedKey::from_der(chain, key, &provider())
            .map_err(|error| broken(&self.key, error.to_string()))
    }

    /// The pin of the certificate's public key: `SHA256:` and the base64 of the SHA-256 over its
    /// SubjectPublicKeyInfo, as in RFC 7469. Clients compare it.
    ///
    /// # Errors
    /// A sentence that names the file.
    pub fn pin(&self) -> Result<String, String> {
        let read = self.read()?;
        let certificate = read.end_entity_cert().map_err(|error| error.to_string())?;
        let parsed = ParsedCertificate::try_from(certificate).map_err(|error| error.to_string())?;
        let digest = Sha256::digest(parsed.subject_public_key_info());
        Ok(format!("SHA256:{}", STANDARD_NO_PAD.encode(digest)))
    }

    /// When either was changed last.
    fn changed(&self) -> Option<SystemTime> {
        let at = |path: &Path| path.metadata().and_then(|meta| meta.modified()).ok();
        at(&self.certificate).max(at(&self.key))
    }
}

fn provider() -> CryptoProvider {
    rustls::crypto::ring::default_provider()
}

/// The certificate that is shown, which may change while connections last.
#[derive(Debug)]
struct Shown(RwLock<Arc<CertifiedKey>>);

impl ResolvesServerCert for Shown {
    fn resolve(&self, _: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        self.0.read().ok().map(|shown| Arc::clone(&shown))
    }
}

/// From where inner connections come, by their ports.
#[derive(Clone, Debug, Default)]
pub struct Peers(Arc<Mutex<HashMap<u16, IpAddr>>>);

impl Peers {
    /// Who is at the other end of a connection to the plain listener: whoever it is handed on for.
    #[must_use]
    pub fn of(&self, remote: SocketAddr) -> IpAddr {
        let known = remote
            .ip()
            .is_loopback()
            .then(|| self.0.lock().ok()?.get(&remote.port()).copied())
            .flatten();
        known.unwrap_or(remote.ip()).to_canonical()
    }

    fn set(&self, port: u16, peer: Option<IpAddr>) {
        if let Ok(mut all) = self.0.lock() {
            match peer {
                Some(peer) => all.insert(port, peer),
                None => all.remove(&port),
            };
        }
    }
}

/// Takes TLS connections, and hands what is in them to the plain listener.
#[derive(Debug)]
pub struct TlsListener {
    listener: TcpListener,
    shown: Arc<Shown>,
    acceptor: Arc<rustls::ServerConfig>,
    files: TlsFiles,
    peers: Peers,
}

impl TlsListener {
    /// Listens: on the socket of the service manager if it holds one, or where it is told. TLS 1.3 and 1.2 alone, with the suites that rustls has, all of which are
    /// authenticated encryption with forward secrecy.
    ///
    /// # Errors
    /// A sentence: the files cannot be used, or the address is taken.
    pub async fn bind(
        address: &str,
        port: u16,
        files: TlsFiles,
        peers: Peers,
    ) -> Result<Self, String> {
        let shown = Arc::new(Shown(RwLock::new(Arc::new(files.read()?))));
        let resolver: Arc<dyn ResolvesServerCert> = Arc::clone(&shown) as _;
        let mut config = rustls::ServerConfig::builder_with_provider(Arc::new(provider()))
            .with_protocol_versions(&[&rustls::version::TLS13, &rustls::version::TLS12])
            .map_err(|error| error.to_string())?
            .with_no_client_auth()
            .with_cert_resolver(resolver);
        config.alpn_protocols = vec![b"http/1.1".to_vec()];
        let listener = match inherited()? {
            Some(listener) => listener,
            None => TcpListener::bind((address, port))
                .await
                .map_err(|error| format!("{address}:{port}: {error}"))?,
        };
        Ok(Self {
            listener,
            shown,
            acceptor: Arc::new(config),
            files,
            peers,
        })
    }

    /// The port that it listens on.
    ///
    /// # Errors
    /// What the system says.
    pub fn port(&self) -> io::Result<u16> {
        self.listener.local_addr().map(|address| address.port())
    }

    /// Serves, until the process ends.
    pub async fn serve(self, inner: u16) {
        tokio::spawn(follow(self.files.clone(), Arc::clone(&self.shown)));
        let acceptor = TlsAcceptor::from(Arc::clone(&self.acceptor));
        loop {
            let Ok((stream, peer)) = self.listener.accept().await else {
                // No more files for connections: those that there are end by themselves.
                tokio::time::sleep(Duration::from_millis(100)).await;
                continue;
            };
            let (acceptor, peers) = (acceptor.clone(), self.peers.clone());
            tokio::spawn(async move {
                let _ = hand_on(&acceptor, &peers, stream, peer, inner).await;
            });
        }
    }
}

/// Reads the certificate again whenever its files have changed. What cannot be used is logged, and
/// the former one stays.
async fn follow(files: TlsFiles, shown: Arc<Shown>) {
    let mut seen = files.changed();
    loop {
        tokio::time::sleep(LOOK).await;
        let now = files.changed();
        if now == seen {
            continue;
        }
        seen = now;
        match files.read() {
            Ok(key) => {
                if let Ok(mut shown) = shown.0.write() {
                    *shown = Arc::new(key);
                }
                tracing::info!("a new certificate is used: {}", files.certificate.display());
            }
            Err(why) => tracing::error!("the former certificate stays: {why}"),
        }
    }
}

async fn hand_on(
    acceptor: &TlsAcceptor,
    peers: &Peers,
    stream: TcpStream,
    peer: SocketAddr,
    inner: u16,
) -> io::Result<()> {
    let _ = stream.set_nodelay(true);
    let mut outer = tokio::time::timeout(HANDSHAKE, acceptor.accept(stream)).await??;
    let socket = TcpSocket::new_v4()?;
    socket.bind((Ipv4Addr::LOCALHOST, 0).into())?;
    // Known before the first byte arrives there.
    let port = socket.local_addr()?.port();
    peers.set(port, Some(peer.ip()));
    let done = async {
        let mut plain = socket.connect((Ipv4Addr::LOCALHOST, inner).into()).await?;
        plain.set_nodelay(true)?;
        tokio::io::copy_bidirectional(&mut outer, &mut plain).await
    };
    let done = done.await;
    peers.set(port, None);
    done.map(|_| ())
}

/// The socket that the service manager holds for the service (socket activation): it stays open
/// while the service starts again, and takes a port below 1024 without any capability.
fn inherited() -> Result<Option<TcpListener>, String> {
    let words = |error: io::Error| format!("the socket of the service manager: {error}");
    let held = ListenFd::from_env().take_tcp_listener(0).map_err(words)?;
    let Some(listener) = held else {
        return Ok(None);
    };
    listener.set_nonblocking(true).map_err(words)?;
    TcpListener::from_std(listener).map(Some).map_err(words)
}

/// Sends whoever asks for `http://` to `https://`.
///
/// # Errors
/// What keeps it from listening.
pub async fn redirect(address: &str, port: u16, tls_port: u16) -> Result<(), String> {
    crate::listener("http:// is sent to https://", address, port)
        .manage(TlsPort(tls_port))
        .register("/", catchers![to_https])
        .launch()
        .await
        .map(|_| ())
        .map_err(|error| format!("the redirect cannot listen on port {port}: {error}"))
}

struct TlsPort(u16);

#[catch(default)]
fn to_https(_: Status, request: &Request<'_>) -> Result<Redirect, Status> {
    let port = request
        .rocket()
        .state::<TlsPort>()
        .map_or(443, |port| port.0);
    let host = request.host().map(|host| host.domain().as_str().to_owned());
    let host = host.ok_or(Status::BadRequest)?;
    let path: &Origin<'_> = request.uri();
    let port = if port == 443 {
        String::new()
    } else {
        format!(":{port}")
    };
    Ok(Redirect::permanent(format!("https://{host}{port}{path}")))
}

//! TLS to devices (RFC 8446, RFC 5246): the identity that a certificate proves, as OpenSSH hosts prove
//! theirs, before anything secret is sent.

use std::sync::{Arc, Mutex as StdMutex};

use jexlin_core::upkeep::identity::{
    Identity, PresentedIdentity, proves, tls_authority, tls_key_line,
};
use jexlin_core::upkeep::{BoundLogin, Endpoint, RoleMark};
use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::pem::PemObject as _;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName, UnixTime};
use rustls::server::ParsedCertificate;
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;

use crate::network::no_connection;
use crate::reach::{self, Connection};
use rustls::{
    CertificateError, ClientConfig, DigitallySignedStruct, RootCertStore, SignatureScheme,
};

/// Why nothing was sent to a device whose certificate is none of its identities.
pub(crate) const NOT_PROVED: &str = "the device did not prove its identity: it shows another certificate. Nothing was sent. If it was renewed with another key, have a steward confirm its new identity";

/// What a device showed, once it has shown it.
pub(crate) type Shown = Arc<StdMutex<Option<PresentedIdentity>>>;

/// Notes the identity that a certificate shows, and lets the handshake end only when it is accepted.
#[derive(Debug)]
struct IdentityWatch {
    accepted: Vec<Identity>,
    /// Accept whatever is shown: the organisation trusts the first contact, or only looks.
    trust: bool,
    shown: Shown,
    provider: Arc<CryptoProvider>,
}

impl IdentityWatch {
    /// The line of the accepted authority that signed a certificate for this name and now.
    fn authority(
        &self,
        certificate: &CertificateDer<'_>,
        above: &[CertificateDer<'_>],
        name: &ServerName<'_>,
        now: UnixTime,
    ) -> Option<String> {
        let signed_by = |line: &str| -> Option<()> {
            let mut roots = RootCertStore::empty();
            roots.add(CertificateDer::from(tls_authority(line)?)).ok()?;
            let verifier = WebPkiServerVerifier::builder_with_provider(
                Arc::new(roots),
                Arc::clone(&self.provider),
            )
            .build()
            .ok()?;
            verifier
                .verify_server_cert(certificate, above, name, &[], now)
                .ok()
                .map(|_| ())
        };
        self.accepted.iter().find_map(|identity| match identity {
            Identity::HostAuthority(line) => signed_by(line).map(|()| line.clone()),
            Identity::HostKey(_) | Identity::Fingerprint(_) | Identity::Unproven => None,
        })
    }
}

impl ServerCertVerifier for IdentityWatch {
    fn verify_server_cert(
        &self,
        certificate: &CertificateDer<'_>,
        above: &[CertificateDer<'_>],
        name: &ServerName<'_>,
        _ocsp: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        let parsed = ParsedCertificate::try_from(certificate)?;
        let presented = PresentedIdentity {
            key: tls_key_line(&parsed.subject_public_key_info()),
            authority: self.authority(certificate, above, name, now),
        };
        let accepted = self.trust || proves(&self.accepted, &presented);
        if let Ok(mut slot) = self.shown.lock() {
            *slot = Some(presented);
        }
        if accepted {
            Ok(ServerCertVerified::assertion())
        } else {
            Err(CertificateError::UnknownIssuer.into())
        }
    }

    // The handshake is signed with the key of the certificate, so whoever only copied it fails.
    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        let algorithms = &self.provider.signature_verification_algorithms;
        verify_tls12_signature(message, certificate, signature, algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        let algorithms = &self.provider.signature_verification_algorithms;
        verify_tls13_signature(message, certificate, signature, algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider
            .signature_verification_algorithms
            .supported_schemes()
    }
}

/// A client certificate and its key.
struct OwnCertificate {
    chain: Vec<CertificateDer<'static>>,
    key: PrivateKeyDer<'static>,
}

impl OwnCertificate {
    /// None for a login with a password.
    fn of<R: RoleMark>(login: &BoundLogin<R>) -> Result<Option<Self>, String> {
        if !login.is_key() {
            return Ok(None);
        }
        let text = login.fields().get("certificate").map(String::as_bytes);
        let chain: Result<Vec<_>, _> =
            CertificateDer::pem_slice_iter(text.unwrap_or_default()).collect();
        let chain = chain.unwrap_or_default();
        if chain.is_empty() {
            return Err("the credential that signs in has no certificate".into());
        }
        // The parser's message is dropped: it could repeat a part of the key.
        let key = PrivateKeyDer::from_pem_slice(login.password().expose_secret()).map_err(
            |_| "the private key of the certificate cannot be read: it must have no passphrase",
        )?;
        Ok(Some(Self { chain, key }))
    }
}

/// The settings of one connection, and where the identity that it meets is noted.
pub(crate) struct Watched {
    pub(crate) config: Arc<ClientConfig>,
    pub(crate) shown: Shown,
}

impl Watched {
    fn new(
        accepted: Vec<Identity>,
        trust: bool,
        own: Option<OwnCertificate>,
    ) -> Result<Self, String> {
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let shown = Shown::default();
        let watch = IdentityWatch {
            accepted,
            trust,
            shown: Arc::clone(&shown),
            provider: Arc::clone(&provider),
        };
        let config = ClientConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .map_err(|error| error.to_string())?
            .dangerous()
            .with_custom_certificate_verifier(Arc::new(watch));
        let config = match own {
            None => config.with_no_client_auth(),
            Some(own) => config
                .with_client_auth_cert(own.chain, own.key)
                .map_err(|error| format!("the operator's certificate cannot be shown: {error}"))?,
        };
        Ok(Self {
            config: Arc::new(config),
            shown,
        })
    }

    /// To look at what a device shows. No password can follow: an endpoint that is looked at has none.
    pub(crate) fn to_look_at() -> Result<Self, String> {
        Self::new(vec![], true, None)
    }

    /// To sign in where the identity is proved.
    pub(crate) fn to_sign_in<R: RoleMark>(login: &BoundLogin<R>) -> Result<Self, String> {
        Self::new(
            login.endpoint().identity().to_vec(),
            login.trusts_first_contact(),
            OwnCertificate::of(login)?,
        )
    }

    /// What was shown.
    pub(crate) fn presented(&self) -> Option<PresentedIdentity> {
        self.shown.lock().ok().and_then(|mut slot| slot.take())
    }
}

/// The name that a certificate must be for.
pub(crate) fn server_name(endpoint: &Endpoint) -> Result<ServerName<'static>, String> {
    ServerName::try_from(endpoint.address().to_owned())
        .map_err(|_| "the address is no name that a certificate can hold".to_owned())
}

/// A connection to a device that has proved its identity.
pub(crate) type DeviceStream = TlsStream<Connection>;

/// Connects, and proves the identity before anything is sent. With what the device showed, if it did.
pub(crate) async fn open<R: RoleMark>(
    login: &BoundLogin<R>,
) -> (Result<DeviceStream, String>, Option<PresentedIdentity>) {
    match reach::connect(login.endpoint()).await {
        Ok(stream) => open_over(stream, login).await,
        Err(why) => (Err(why), None),
    }
}

/// Begins TLS on a connection, and proves the identity before anything more is sent.
pub(crate) async fn open_over<R: RoleMark>(
    stream: Connection,
    login: &BoundLogin<R>,
) -> (Result<DeviceStream, String>, Option<PresentedIdentity>) {
    let endpoint = login.endpoint();
    let (watched, name) = match (Watched::to_sign_in(login), server_name(endpoint)) {
        (Ok(watched), Ok(name)) => (watched, name),
        (Err(why), _) | (_, Err(why)) => return (Err(why), None),
    };
    let stream = TlsConnector::from(Arc::clone(&watched.config))
        .connect(name, stream)
        .await;
    let presented = watched.presented();
    if !login.trusts_first_contact()
        && presented
            .as_ref()
            .is_some_and(|shown| !proves(endpoint.identity(), shown))
    {
        return (Err(NOT_PROVED.into()), None);
    }
    let stream = stream.map_err(|error| no_connection(&error.to_string()));
    (stream, presented)
}

/// Reads the identity that a device shows.
pub(crate) async fn look(endpoint: &Endpoint) -> Result<Vec<PresentedIdentity>, String> {
    look_over(reach::connect(endpoint).await?, endpoint).await
}

/// Reads the identity that a device shows when TLS begins on a connection.
pub(crate) async fn look_over(
    stream: Connection,
    endpoint: &Endpoint,
) -> Result<Vec<PresentedIdentity>, String> {
    let watched = Watched::to_look_at()?;
    let name = server_name(endpoint)?;
    let session = TlsConnector::from(Arc::clone(&watched.config))
        .connect(name, stream)
        .await;
    match (watched.presented(), session) {
        (Some(presented), _) => Ok(vec![presented]),
        (None, Err(error)) => Err(no_connection(&error.to_string())),
        (None, Ok(_)) => Err("no certificate was shown".into()),
    }
}

//! A pinned key: the service is known by the public key in its certificate.
//!
//! A pin is `SHA256:` and the base64 of the SHA-256 over the key's SubjectPublicKeyInfo, as in RFC
//! 7469. It stays the same when a certificate is renewed with the same key. `jexlind check` shows
//! that of the service's own certificate.

use std::fmt;
use std::str::FromStr;
use std::sync::Arc;

use base64::Engine as _;
use base64::engine::general_purpose::{STANDARD, STANDARD_NO_PAD};
use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::server::ParsedCertificate;
use rustls::{
    CertificateError, ClientConfig, ClientConnection, DigitallySignedStruct, OtherError,
    RootCertStore, SignatureScheme, StreamOwned,
};
use serde::{Deserialize, Serialize};
use sha2::{Digest as _, Sha256};
use ureq::unversioned::transport::{
    Buffers, ConnectProxyConnector, ConnectionDetails, Connector, Either, LazyBuffers, NextTimeout,
    TcpConnector, Transport, TransportAdapter,
};

/// The SHA-256 of a public key (SubjectPublicKeyInfo).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Pin([u8; 32]);

impl Pin {
    fn of(certificate: &CertificateDer<'_>) -> Result<Self, rustls::Error> {
        let parsed = ParsedCertificate::try_from(certificate)?;
        Ok(Self(
            Sha256::digest(parsed.subject_public_key_info()).into(),
        ))
    }
}

impl fmt::Display for Pin {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "SHA256:{}", STANDARD_NO_PAD.encode(self.0))
    }
}

impl From<Pin> for String {
    fn from(pin: Pin) -> Self {
        pin.to_string()
    }
}

impl FromStr for Pin {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let wrong =
            || "a pinned key is SHA256: and 43 characters; jexlind check shows it".to_owned();
        let (name, value) = text.split_once(':').ok_or_else(wrong)?;
        if !name.eq_ignore_ascii_case("sha256") {
            return Err(wrong());
        }
        STANDARD_NO_PAD
            .decode(value)
            .or_else(|_| STANDARD.decode(value))
            .ok()
            .and_then(|bytes| bytes.try_into().ok())
            .map(Self)
            .ok_or_else(wrong)
    }
}

impl TryFrom<String> for Pin {
    type Error = String;

    fn try_from(text: String) -> Result<Self, String> {
        text.parse()
    }
}

/// Whether a call failed because another key was shown, in words.
pub fn other_key(error: &ureq::Error) -> Option<String> {
    let found = match error {
        ureq::Error::Io(error) => error.get_ref()?.downcast_ref::<rustls::Error>()?,
        ureq::Error::Rustls(error) => error,
        _ => return None,
    };
    match found {
        rustls::Error::InvalidCertificate(CertificateError::Other(other)) => {
            other.0.downcast_ref::<OtherKey>().map(OtherKey::to_string)
        }
        _ => None,
    }
}

/// The service showed another key than the pinned one.
#[derive(Debug)]
struct OtherKey(Pin);

impl fmt::Display for OtherKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(
            f,
            "its certificate has the key {}, which is not the pinned one",
            self.0
        )
    }
}

impl std::error::Error for OtherKey {}

/// Takes a certificate with the pinned key, and no other. Where there are authorities too, one of
/// them must have signed it for the service's name.
#[derive(Debug)]
struct PinVerifier {
    pin: Pin,
    authorities: Option<Arc<WebPkiServerVerifier>>,
    provider: Arc<CryptoProvider>,
}

impl ServerCertVerifier for PinVerifier {
    fn verify_server_cert(
        &self,
        end_entity: &CertificateDer<'_>,
        intermediates: &[CertificateDer<'_>],
        server_name: &ServerName<'_>,
        ocsp_response: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        let shown = Pin::of(end_entity)?;
        if shown != self.pin {
            let other = OtherError(Arc::new(OtherKey(shown)));
            return Err(CertificateError::Other(other).into());
        }
        match &self.authorities {
            Some(authorities) => authorities.verify_server_cert(
                end_entity,
                intermediates,
                server_name,
                ocsp_response,
                now,
            ),
            None => Ok(ServerCertVerified::assertion()),
        }
    }

    // The handshake is signed with the pinned key, so whoever only copied the certificate fails.
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

/// Opens TLS to whoever has the pinned key.
#[derive(Debug)]
struct PinnedTls(Arc<ClientConfig>);

impl<In: Transport> Connector<In> for PinnedTls {
    type Out = Either<In, PinnedTransport>;

    fn connect(
        &self,
        details: &ConnectionDetails,
        chained: Option<In>,
    ) -> Result<Option<Self::Out>, ureq::Error> {
        let Some(transport) = chained else {
            return Ok(None);
        };
        if !details.needs_tls() {
            return Err(ureq::Error::Tls("a pinned key needs an https:// address"));
        }
        let host = details.uri.host().unwrap_or_default();
        let host = host.trim_start_matches('[').trim_end_matches(']');
        let name = ServerName::try_from(host.to_owned())
            .map_err(|_| ureq::Error::Tls("the address has no name that a certificate can hold"))?;
        let mut connection = ClientConnection::new(Arc::clone(&self.0), name)?;
        let mut socket = TransportAdapter::new(transport.boxed(), details.current_time.clone());
        socket.set_timeout(details.timeout);
        connection.complete_io(&mut socket)?;
        let buffers = LazyBuffers::new(
            details.config.input_buffer_size(),
            details.config.output_buffer_size(),
        );
        Ok(Some(Either::B(PinnedTransport {
            buffers,
            stream: StreamOwned {
                conn: connection,
                sock: socket,
            },
        })))
    }
}

/// A connection in TLS.
struct PinnedTransport {
    buffers: LazyBuffers,
    stream: StreamOwned<ClientConnection, TransportAdapter>,
}

impl fmt::Debug for PinnedTransport {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("PinnedTransport")
    }
}

impl Transport for PinnedTransport {
    fn buffers(&mut self) -> &mut dyn Buffers {
        &mut self.buffers
    }

    fn transmit_output(&mut self, amount: usize, timeout: NextTimeout) -> Result<(), ureq::Error> {
        use std::io::Write as _;
        self.stream.get_mut().set_timeout(timeout);
        let output = self.buffers.output().get(..amount).unwrap_or_default();
        Ok(self.stream.write_all(output)?)
    }

    fn await_input(&mut self, timeout: NextTimeout) -> Result<bool, ureq::Error> {
        use std::io::Read as _;
        self.stream.get_mut().set_timeout(timeout);
        let amount = self.stream.read(self.buffers.input_append_buf())?;
        self.buffers.input_appended(amount);
        Ok(amount > 0)
    }

    fn is_open(&mut self) -> bool {
        self.stream.get_mut().get_mut().is_open()
    }

    fn is_tls(&self) -> bool {
        true
    }
}

/// Connections to whoever has the pinned key, and, if there are `authorities`, a certificate of
/// one of them for its name.
///
/// # Errors
/// When the authorities' certificates cannot be used.
pub fn connector(
    pin: Pin,
    authorities: &[CertificateDer<'static>],
) -> Result<impl Connector, rustls::Error> {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let authorities = if authorities.is_empty() {
        None
    } else {
        let mut roots = RootCertStore::empty();
        roots.add_parsable_certificates(authorities.iter().cloned());
        let verifier =
            WebPkiServerVerifier::builder_with_provider(Arc::new(roots), Arc::clone(&provider))
                .build()
                .map_err(|error| rustls::Error::General(error.to_string()))?;
        Some(verifier)
    };
    let verifier = PinVerifier {
        pin,
        authorities,
        provider: Arc::clone(&provider),
    };
    let config = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()?
        .dangerous()
        .with_custom_certificate_verifier(Arc::new(verifier))
        .with_no_client_auth();
    Ok(
        ().chain(ConnectProxyConnector::default())
            .chain(TcpConnector::default())
            .chain(PinnedTls(Arc::new(config))),
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_pin_is_read_as_it_is_written_and_nothing_else_is_one() {
        let pin = Pin([7; 32]);
        let text = pin.to_string();
        assert_eq!(text.len(), "SHA256:".len() + 43);
        assert_eq!(text.parse(), Ok(pin));
        assert_eq!(format!("{text}=").parse(), Ok(pin));
        assert_eq!(text.replace("SHA256", "sha256").parse(), Ok(pin));
        for wrong in [
            "",
            "SHA256:",
            "SHA256:AAAA",
            "MD5:AAAA",
            &text[7..],
            &format!("{text}A"),
        ] {
            assert!(wrong.parse::<Pin>().is_err(), "{wrong}");
        }
    }
}

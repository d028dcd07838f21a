//! TLS as the protocol library takes it, bound to the certificate.

use std::future::Future;
use std::io;
use std::pin::Pin;
use std::task::{Context, Poll};

use rustls::pki_types::ServerName;
use sha2::{Digest as _, Sha256, Sha384, Sha512};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio_postgres::tls::{ChannelBinding, TlsConnect, TlsStream};
use tokio_rustls::TlsConnector;
use x509_parser::prelude::{FromDer as _, X509Certificate};

use crate::reach::Connection;

/// Opens TLS over a connection.
pub(super) struct Tls {
    pub(super) connector: TlsConnector,
    pub(super) name: ServerName<'static>,
}

impl TlsConnect<Connection> for Tls {
    type Stream = Stream;
    type Error = io::Error;
    type Future = Pin<Box<dyn Future<Output = io::Result<Stream>> + Send>>;

    fn connect(self, stream: Connection) -> Self::Future {
        Box::pin(async move {
            let stream = self.connector.connect(self.name, stream).await?;
            Ok(Stream {
                inner: Box::new(stream),
                left: MOST_READ,
            })
        })
    }
}

/// So many bytes are read of one session, and no more: the library gathers a message until it is
/// whole, however long a server says that it is.
const MOST_READ: usize = 8 * 1024 * 1024;

/// A connection in TLS.
pub(super) struct Stream {
    inner: Box<tokio_rustls::client::TlsStream<Connection>>,
    left: usize,
}

impl AsyncRead for Stream {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        let before = buffer.filled().len();
        let read = Pin::new(&mut self.inner).poll_read(context, buffer);
        let count = buffer.filled().len() - before;
        match self.left.checked_sub(count) {
            Some(left) => {
                self.left = left;
                read
            }
            None => Poll::Ready(Err(io::Error::other("the device sends too much"))),
        }
    }
}

impl AsyncWrite for Stream {
    fn poll_write(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        bytes: &[u8],
    ) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.inner).poll_write(context, bytes)
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.inner).poll_flush(context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.inner).poll_shutdown(context)
    }
}

impl TlsStream for Stream {
    fn channel_binding(&self) -> ChannelBinding {
        let certificate = self.inner.get_ref().1.peer_certificates();
        certificate
            .and_then(|chain| end_point(chain.first()?))
            .map_or_else(ChannelBinding::none, ChannelBinding::tls_server_end_point)
    }
}

/// The hash of a certificate as `tls-server-end-point` wants it (RFC 5929, section 4.1): by the hash of
/// its signature, and by SHA-256 where that is MD5 or SHA-1.
fn end_point(certificate: &[u8]) -> Option<Vec<u8>> {
    let (_, parsed) = X509Certificate::from_der(certificate).ok()?;
    match parsed.signature_algorithm.algorithm.to_id_string().as_str() {
        // MD5, SHA-1 and SHA-256 with RSA; SHA-1 and SHA-256 with ECDSA.
        "1.2.840.113549.1.1.4"
        | "1.2.840.113549.1.1.5"
        | "1.2.840.113549.1.1.11"
        | "1.2.840.10045.4.1"
        | "1.2.840.10045.4.3.2" => Some(Sha256::digest(certificate).to_vec()),
        // SHA-384 with RSA and ECDSA.
        "1.2.840.113549.1.1.12" | "1.2.840.10045.4.3.3" => {
            Some(Sha384::digest(certificate).to_vec())
        }
        // SHA-512 with RSA and ECDSA.
        "1.2.840.113549.1.1.13" | "1.2.840.10045.4.3.4" => {
            Some(Sha512::digest(certificate).to_vec())
        }
        _ => None,
    }
}

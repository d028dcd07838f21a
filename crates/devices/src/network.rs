//! Connections to where an organisation allows them.

use std::net::SocketAddr;

use jexlin_core::names::show_foreign;
use jexlin_core::upkeep::Endpoint;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::TcpStream;

/// A connection to a device, whichever way leads there.
pub(crate) trait Stream: AsyncRead + AsyncWrite + Send + Unpin + 'static {}
impl<S: AsyncRead + AsyncWrite + Send + Unpin + 'static> Stream for S {}

/// A device's words, or the network's, as they can be shown: short, and without control characters.
pub(crate) fn plain_words(text: &str) -> String {
    show_foreign(text).chars().take(300).collect()
}

/// Why there is no connection.
pub(crate) fn no_connection(why: &str) -> String {
    format!("no connection to the device: {}", plain_words(why))
}

/// The addresses of a device that the organisation allows connections to.
///
/// # Errors
/// A sentence when there is none.
pub(crate) async fn allowed_addresses(endpoint: &Endpoint) -> Result<Vec<SocketAddr>, String> {
    let found = tokio::net::lookup_host((endpoint.address(), endpoint.port()))
        .await
        .map_err(|error| no_connection(&error.to_string()))?;
    let allowed: Vec<_> = found
        .filter(|address| endpoint.rules().allow(*address))
        .collect();
    if allowed.is_empty() {
        return Err(
            "the organisation does not allow connections to this address and port".to_owned(),
        );
    }
    Ok(allowed)
}

/// Connects to a device itself.
///
/// # Errors
/// A sentence.
pub(crate) async fn connect(endpoint: &Endpoint) -> Result<TcpStream, String> {
    // What was resolved and checked is what is connected to.
    let allowed = allowed_addresses(endpoint).await?;
    let stream = TcpStream::connect(allowed.as_slice())
        .await
        .map_err(|error| no_connection(&error.to_string()))?;
    let _ = stream.set_nodelay(true);
    Ok(stream)
}

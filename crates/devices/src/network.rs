//! Connections to where an organisation allows them.

use jexlin_core::names::show_foreign;
use jexlin_core::upkeep::Endpoint;
use tokio::net::TcpStream;

/// A device's words, or the network's, as they can be shown: short, and without control characters.
pub(crate) fn plain_words(text: &str) -> String {
    show_foreign(text).chars().take(300).collect()
}

/// Why there is no connection.
pub(crate) fn no_connection(why: &str) -> String {
    format!("no connection to the device: {}", plain_words(why))
}

/// Connects to an address that the organisation allows.
///
/// # Errors
/// A sentence.
pub(crate) async fn connect(endpoint: &Endpoint) -> Result<TcpStream, String> {
    let found = tokio::net::lookup_host((endpoint.address(), endpoint.port()))
        .await
        .map_err(|error| no_connection(&error.to_string()))?;
    // What was resolved and checked is what is connected to.
    let allowed: Vec<_> = found
        .filter(|address| endpoint.rules().allow(*address))
        .collect();
    if allowed.is_empty() {
        return Err(
            "the organisation does not allow connections to this address and port".to_owned(),
        );
    }
    let stream = TcpStream::connect(allowed.as_slice())
        .await
        .map_err(|error| no_connection(&error.to_string()))?;
    let _ = stream.set_nodelay(true);
    Ok(stream)
}

//! The way to a device: a connection of the service's own, or one through a jump host.

use std::io;
use std::pin::Pin;
use std::task::{Context, Poll};

use jexlin_core::upkeep::{Endpoint, Route};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};

use crate::jump_host;
use crate::network::{self, Stream};

/// A connection to a device, whichever way leads there.
pub(crate) struct Connection {
    stream: Box<dyn Stream>,
    // The connection to the jump host that it goes through.
    _through: Option<jump_host::Use>,
}

/// Connects to an address that the organisation allows, by the endpoint's own way and no other.
///
/// # Errors
/// A sentence.
pub(crate) async fn connect(endpoint: &Endpoint) -> Result<Connection, String> {
    match endpoint.route() {
        Route::Direct => {
            let stream = Box::new(network::connect(endpoint).await?);
            Ok(Connection {
                stream,
                _through: None,
            })
        }
        Route::Through(open) => {
            let (stream, through) = jump_host::connect(open, endpoint).await?;
            Ok(Connection {
                stream: Box::new(stream),
                _through: Some(through),
            })
        }
        Route::NotOpen => Err("there is no connection to its jump host".to_owned()),
    }
}

impl AsyncRead for Connection {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_read(context, buffer)
    }
}

impl AsyncWrite for Connection {
    fn poll_write(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        bytes: &[u8],
    ) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.stream).poll_write(context, bytes)
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_flush(context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_shutdown(context)
    }
}

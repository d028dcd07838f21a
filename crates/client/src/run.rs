//! What every command works with: the connection and the output format.

use crate::args::Format;
use crate::connection::Connection;
use crate::error::ClientError;

/// What a command comes to.
pub type Done = Result<(), ClientError>;

/// What every command has at hand.
pub struct Run {
    /// The service.
    pub link: Connection,
    /// How to print.
    pub format: Format,
}

//! What every command works with: the connection and the output format.

use crate::args::Format;
use crate::connection::Connection;
use crate::error::ClientError;

/// The result of a command.
pub type Done = Result<(), ClientError>;

/// What every command has available.
pub struct Run {
    /// The service.
    pub connection: Connection,
    /// How to print.
    pub format: Format,
}

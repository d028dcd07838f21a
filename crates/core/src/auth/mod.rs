//! Signing in: passwords, tokens, and the ceremony that leads to a session.

mod ceremony;
mod passwords;
mod tokens;

pub use ceremony::{Assurance, Ceremony, Channel, Progress, Refused, SignedIn, Step};
pub use passwords::{check_password, hash_password, verify_password};
pub use tokens::{new_token, read_token};

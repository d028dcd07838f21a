//! What is told of a value without it.

use std::collections::BTreeMap;

/// What everybody who knows of a credential may know of a value: the public half of a key, the last
/// day of a certificate. By a name that does not change.
pub type Facts = BTreeMap<String, String>;

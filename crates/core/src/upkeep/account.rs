//! Accounts: login names on a device.

use crate::words::word_enum;

word_enum! {
    /// The family of an account. A device may have the same name in two families.
    pub enum Family {
        /// An account of the operating system.
        Local,
        /// An account of a database server.
        Database,
        /// An account of a directory.
        Directory,
        /// An account of an application.
        Application,
    }
}

impl Family {
    /// The login as devices of this family compare names: two logins with the same key are one
    /// account. Directories and applications ignore case; POSIX hosts and databases do not.
    #[must_use]
    pub fn login_key(self, login: &str) -> String {
        match self {
            Self::Local | Self::Database => login.to_owned(),
            Self::Directory | Self::Application => login.to_lowercase(),
        }
    }
}

/// The longest login name, in characters.
pub const LONGEST_LOGIN: usize = 256;

/// Checks that a text can be a login name.
///
/// # Errors
/// A sentence.
pub fn check_login(login: &str) -> Result<(), String> {
    if login.is_empty() {
        return Err("an account needs a user name".to_owned());
    }
    if login.chars().count() > LONGEST_LOGIN {
        return Err(format!(
            "a user name has at most {LONGEST_LOGIN} characters"
        ));
    }
    if login.chars().any(char::is_control) || login.starts_with(' ') || login.ends_with(' ') {
        return Err("a user name has no control characters and no space at its ends".to_owned());
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_compared_as_the_family_compares_them() {
        assert_ne!(
            Family::Local.login_key("Root"),
            Family::Local.login_key("root")
        );
        assert_eq!(
            Family::Directory.login_key("Marek"),
            Family::Directory.login_key("mAREK")
        );
    }

    #[test]
    fn a_login_that_could_be_read_as_two_is_refused() {
        for login in ["", " duty", "duty ", "du\nty", "du\0ty", &"x".repeat(257)] {
            assert!(check_login(login).is_err(), "{login:?}");
        }
        assert!(check_login("OSMERE\\duty").is_ok());
    }
}

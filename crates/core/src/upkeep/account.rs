//! Accounts: login names on a device.

use crate::words::word_enum;

word_enum! {
    /// The family of an account. A device may have the same name in two families.
    pub enum Family {
        /// An account of the operating system, by its password.
        Local,
        /// An account of the operating system, by its SSH key.
        Key,
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
            Self::Local | Self::Key | Self::Database => login.to_owned(),
            Self::Directory => distinguished(&login.to_lowercase()),
            Self::Application => login.to_lowercase(),
        }
    }
}

/// A distinguished name (RFC 4514) without the spaces that do not count, around its commas and equals
/// signs; another name as it is.
fn distinguished(name: &str) -> String {
    let mut out = String::with_capacity(name.len());
    // Spaces before this count: they are escaped, or something stands before them.
    let (mut kept, mut after_sign) = (0, true);
    let mut letters = name.chars();
    while let Some(letter) = letters.next() {
        match letter {
            ' ' if after_sign => continue,
            '\\' => {
                out.push(letter);
                out.extend(letters.next());
                kept = out.len();
            }
            ',' | '=' => {
                let end = out.trim_end_matches(' ').len();
                out.truncate(end.max(kept));
                out.push(letter);
            }
            _ => out.push(letter),
        }
        after_sign = matches!(letter, ',' | '=');
    }
    out
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
        let key = |name: &str| Family::Directory.login_key(name);
        assert_eq!(
            key("uid=Duty, ou = People ,dc=osmere"),
            key("uid=duty,ou=people,dc=osmere")
        );
        assert_ne!(key("uid=duty one,dc=osmere"), key("uid=dutyone,dc=osmere"));
        assert_ne!(key(r"cn=a\, b,dc=osmere"), key(r"cn=a\,b,dc=osmere"));
        assert_ne!(key(r"cn=a\ ,dc=osmere"), key("cn=a,dc=osmere"));
        assert_eq!(key(r"cn=a\  , dc = osmere"), key(r"cn=a\ ,dc=osmere"));
    }

    #[test]
    fn a_login_that_could_be_read_as_two_is_refused() {
        for login in ["", " duty", "duty ", "du\nty", "du\0ty", &"x".repeat(257)] {
            assert!(check_login(login).is_err(), "{login:?}");
        }
        assert!(check_login("OSMERE\\duty").is_ok());
    }
}

//! People, groups and clients: what they are, and which duties they hold.

use crate::words::word_enum;

word_enum! {
    /// A duty: a right over the organisation, held beside the levels on folders.
    pub enum Duty {
        /// Adds and edits people, groups and clients.
        People,
        /// Adds folders at the top, and sets kinds.
        Folders,
        /// Shares where stewards may not, and fixes access issues.
        Access,
        /// Sets password policies and settings.
        Policy,
        /// Reads the audit log.
        Audit,
        /// Exports without protection.
        Export,
        /// Locks the vault and changes its keys.
        Recovery,
    }
}

word_enum! {
    /// Whether a person can sign in.
    pub enum PersonState {
        /// Has no password yet.
        Invited,
        /// Can sign in.
        Active,
        /// Cannot sign in for now.
        Suspended,
        /// Has left permanently.
        Left,
    }
}

impl PersonState {
    /// Whether anything can be granted to a person in this state.
    #[must_use]
    pub const fn can_be_granted(self) -> bool {
        matches!(self, Self::Invited | Self::Active)
    }
}

word_enum! {
    /// What signs in.
    pub enum PersonType {
        /// A person, with a password.
        Person,
        /// A program, with a secret.
        Client,
    }
}

word_enum! {
    /// What the table of people is sorted by.
    pub enum PersonSort {
        /// Their name.
        Name,
        /// The name that they sign in with.
        SignInName,
        /// Whether they can sign in.
        State,
        /// Their duties.
        Duties,
    }
}

word_enum! {
    /// To what a grant is given.
    pub enum SubjectType {
        /// A person.
        Person,
        /// A group.
        Group,
    }
}

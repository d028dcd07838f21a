//! Access issues.

use crate::words::word_enum;

word_enum! {
    /// What is wrong with access somewhere.
    pub enum IssueType {
        /// No active person is a steward of the folder, nor of those below it that get theirs from
        /// here.
        NoSteward,
        /// A grant to somebody who left.
        Left,
        /// A grant that has expired.
        Expired,
        /// A grant that gives nothing which another one does not give as well.
        Redundant,
    }
}

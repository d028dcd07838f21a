//! What can be chosen for an import and an export.

use crate::words::word_enum;

word_enum! {
    /// By what a row is matched with a credential that exists.
    #[derive(Default)]
    pub enum MatchKey {
        /// By its name in the same folder.
        #[default]
        Name,
        /// By its user name.
        #[serde(rename = "user_name")]
        #[strum(serialize = "user_name")]
        UserName,
        /// By its address.
        Url,
    }
}

word_enum! {
    /// What is done with a row that matches.
    #[derive(Default)]
    pub enum Matching {
        /// It is left out.
        #[default]
        Skip,
        /// It changes the credential.
        Update,
        /// It is added beside it.
        Duplicate,
    }
}

word_enum! {
    /// The format of an export.
    #[derive(Default)]
    pub enum ExportFormat {
        /// The Credential Exchange Format.
        #[default]
        Exchange,
        /// CSV.
        Csv,
    }
}

word_enum! {
    /// What separates the cells of a row.
    pub enum Separator {
        /// `,`
        Comma,
        /// `;`
        Semicolon,
        /// A tab.
        Tab,
        /// `|`
        Bar,
    }
}

impl Separator {
    /// The character.
    #[must_use]
    pub const fn byte(self) -> u8 {
        match self {
            Self::Comma => b',',
            Self::Semicolon => b';',
            Self::Tab => b'\t',
            Self::Bar => b'|',
        }
    }
}

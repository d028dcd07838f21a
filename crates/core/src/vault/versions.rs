//! The versions of a secret, and how lists of credentials are narrowed.

use crate::words::word_enum;

word_enum! {
    /// The state of a version of a secret.
    pub enum VersionState {
        /// Made for a device that may have it, or not yet.
        Candidate,
        /// The one that counts.
        Current,
        /// Was current before.
        Previous,
        /// Was made, and no device can ever have it.
        Discarded,
    }
}

word_enum! {
    /// Where a value came from.
    pub enum ValueOrigin {
        /// Somebody typed it.
        Typed,
        /// It was generated.
        Generated,
        /// A rotation made it.
        Rotated,
        /// It was imported.
        Imported,
        /// A former value was restored.
        Restored,
    }
}

word_enum! {
    /// A view of the credentials that somebody may know of.
    pub enum CredentialView {
        /// Their favourites.
        Favourites,
        /// What they used last.
        Recent,
        /// What they used most.
        MostUsed,
        /// Where they are a steward.
        Mine,
        /// What others granted them.
        SharedWithMe,
        /// What they granted to others.
        SharedByMe,
        /// Where nobody but them has access.
        WithNobody,
    }
}

word_enum! {
    /// What a table of credentials is sorted by.
    pub enum CredentialSort {
        /// Its name.
        Name,
        /// Its user name.
        UserName,
        /// Its kind.
        Kind,
        /// The name of its device.
        Device,
        /// The path of its folder.
        Folder,
        /// The outcome of its last check.
        Check,
        /// When it was changed.
        Changed,
    }
}

word_enum! {
    /// What can be in the bin.
    pub enum RemovedType {
        /// A credential.
        Credential,
        /// A device.
        Device,
        /// A folder, with all below it.
        Folder,
        /// What an import added.
        Import,
        /// An attachment.
        Attachment,
    }
}

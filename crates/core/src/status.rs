//! The state of a service.

use crate::words::word_enum;

word_enum! {
    /// What a service can do now.
    pub enum ServiceState {
        /// It has no database.
        NoDatabase,
        /// There is no organisation yet.
        NeedsSetup,
        /// The vault is locked.
        Locked,
        /// It works.
        Ready,
    }
}

word_enum! {
    /// What live news are about.
    pub enum Topic {
        /// A job.
        Job,
        /// A request to pass a gate.
        Request,
        /// A checkout.
        Checkout,
        /// Whether the vault of an organisation is locked, or its keys.
        Organisation,
    }
}

//! One example of each request body, for the OpenAPI document and for people who read it.

use serde_json::{Map, Value};

/// Examples by the name of the type. Each reads as that type; a test sees to it.
#[must_use]
pub fn examples() -> Map<String, Value> {
    serde_json::from_str(include_str!("examples.json")).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::*;
    use jexlin_core::policy::settings::Settings;

    macro_rules! read_as {
        ($($name:ident),* $(,)?) => {{
            let mut all = examples();
            $(
                let example = all.remove(stringify!($name)).unwrap_or_default();
                let read = serde_json::from_value::<$name>(example);
                assert!(read.is_ok(), "{}: {:?}", stringify!($name), read.err());
            )*
            assert_eq!(all.keys().collect::<Vec<_>>(), Vec::<&String>::new(), "nobody reads these");
        }};
    }

    #[test]
    fn every_example_reads_as_what_it_is_an_example_of() {
        read_as!(
            Change,
            EditCredential,
            EditDevice,
            EditFolder,
            EditGrant,
            ChangeKey,
            EditKind,
            ChangePassphrase,
            ChangePassword,
            EditPerson,
            ChangeRootKey,
            CopyCredential,
            Decide,
            ExportOptions,
            FixAccessIssues,
            LockVault,
            MoveIn,
            MoveOut,
            NewAccessRequest,
            NewCheckout,
            NewClient,
            NewCredential,
            NewDevice,
            NewFolder,
            NewGate,
            NewGrant,
            NewGroup,
            NewJob,
            NewJobs,
            NewKind,
            NewPasswordPolicy,
            NewPerson,
            NewPersonalItem,
            NewPlan,
            NewRequest,
            NewSavedSearch,
            OperatorScope,
            Passphrase,
            PasswordRule,
            PlanRules,
            Problem,
            Restore,
            Reveal,
            Settings,
            Setup,
            SignIn,
            TransferStewardship,
            TryPolicy,
            Unlock,
        );
    }
}

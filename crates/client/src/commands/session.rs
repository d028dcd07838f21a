//! Set-up, signing in and out, and who is signed in.

use std::path::Path;

use jexlin_api::words::Channel;
use jexlin_api::{Setup, SignIn, SignedIn, Status};

use crate::args::SetupArgs;
use crate::error::ClientError;
use crate::output::say;
use crate::run::{Done, Run};
use crate::secrets;

impl Run {
    pub fn setup(&self, args: SetupArgs) -> Done {
        let code = secrets::read(
            "Set-up code (from the file `setup-code` in the service's folder)",
            args.code_file.as_deref(),
            false,
        )?;
        let password = secrets::read(
            "Password of the first administrator",
            args.password_file.as_deref(),
            true,
        )?;
        let passphrase = if args.managed_key {
            None
        } else {
            Some(secrets::read(
                "Passphrase to protect the root key with",
                args.passphrase_file.as_deref(),
                true,
            )?)
        };
        let name = args.organisation.clone();
        let body = Setup {
            code,
            organisation: args.organisation,
            sign_in_name: args.name,
            display_name: args.display_name,
            password,
            passphrase,
        };
        let _: Status = self.connection.post("/api/v1/setup", &body)?;
        say(&format!(
            "{name} is set up. Keep a copy of root-key.json and its passphrase apart from the database's backups: without both, nothing can be opened."
        ))
    }

    pub fn sign_in(&self, name: String, organisation: Option<String>, file: Option<&Path>) -> Done {
        let password = secrets::read(&format!("Password of {name}"), file, false)?;
        let signed: SignedIn = self.connection.post(
            "/api/v1/sign-in",
            &SignIn {
                organisation,
                sign_in_name: name,
                password,
                channel: Channel::Client,
            },
        )?;
        let token = signed
            .token
            .ok_or_else(|| ClientError::local("The service sent no token."))?;
        self.connection.keep(token)?;
        say(&format!(
            "Signed in to {} as {} until {}.",
            signed.me.organisation,
            signed.me.display_name,
            crate::time::shown(signed.ends_at)
        ))
    }
}

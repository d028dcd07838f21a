//! Signing in over SSH (RFC 4252): the identity that a host proves, and whoever signs in by password,
//! at a prompt or by key. Whichever way leads to the host.

use std::borrow::Cow;
use std::future::Future;
use std::sync::{Arc, Mutex as StdMutex};
use std::time::{Duration, SystemTime};

use jexlin_core::upkeep::identity::{Identity, PresentedIdentity, proves};
use jexlin_core::upkeep::{BoundLogin, RoleMark};
use russh::client::{AuthResult, Handle, Handler, KeyboardInteractiveAuthResponse};
use russh::keys::{
    Algorithm, Certificate, EcdsaCurve, HashAlg, PrivateKey, PrivateKeyWithHashAlg, PublicKey,
    PublicKeyOrCertificate,
};
use russh::{MethodKind, Preferred};
use tokio::time::timeout;

use crate::network::{Stream, no_connection};
use crate::time_limits::silence;

/// Notes the identity that a device shows, and lets the key exchange end only when it is accepted.
pub(crate) struct IdentityWatch {
    pub(super) address: String,
    pub(super) accepted: Vec<Identity>,
    /// Accept whatever is shown: the organisation trusts the first contact.
    pub(super) trust: bool,
    pub(super) presented: Arc<StdMutex<Option<PresentedIdentity>>>,
}

pub(super) fn line_of(key: &PublicKey) -> Option<String> {
    let mut key = key.clone();
    key.set_comment("");
    key.to_openssh().ok().map(|line| line.trim().to_owned())
}

/// The key that signed a host certificate which is valid for this address now.
pub(super) fn authority_of(certificate: &Certificate, address: &str) -> Option<String> {
    let now = SystemTime::now()
        .duration_since(SystemTime::UNIX_EPOCH)
        .ok()?
        .as_secs();
    let signer = PublicKey::new(certificate.signature_key().clone(), "");
    let valid = certificate.cert_type().is_host()
        && certificate.critical_options().iter().next().is_none()
        && certificate
            .valid_principals()
            .iter()
            .any(|principal| principal.eq_ignore_ascii_case(address))
        && certificate
            .validate_at(now, [&signer.fingerprint(HashAlg::Sha256)])
            .is_ok();
    if valid { line_of(&signer) } else { None }
}

impl Handler for IdentityWatch {
    type Error = russh::Error;

    async fn check_server_key(
        &mut self,
        shown: &PublicKeyOrCertificate,
    ) -> Result<bool, Self::Error> {
        let Some(key) = line_of(&shown.public_key()) else {
            return Ok(false);
        };
        let authority = shown
            .certificate()
            .and_then(|certificate| authority_of(certificate, &self.address));
        let presented = PresentedIdentity { key, authority };
        let accepted = self.trust || proves(&self.accepted, &presented);
        if let Ok(mut slot) = self.presented.lock() {
            *slot = Some(presented);
        }
        Ok(accepted)
    }
}

/// Why there is no connection that is signed in.
pub(crate) enum NoSession {
    Closed,
    NoAnswer(String),
}

/// The types of host keys, most preferred first.
pub(super) const KEYS: [Algorithm; 6] = [
    Algorithm::Ed25519,
    Algorithm::Ecdsa {
        curve: EcdsaCurve::NistP256,
    },
    Algorithm::Ecdsa {
        curve: EcdsaCurve::NistP384,
    },
    Algorithm::Ecdsa {
        curve: EcdsaCurve::NistP521,
    },
    Algorithm::Rsa {
        hash: Some(HashAlg::Sha512),
    },
    Algorithm::Rsa {
        hash: Some(HashAlg::Sha256),
    },
];

/// Asks a device for the types of keys that it can prove one of these identities with.
pub(super) fn preferred_for(accepted: &[Identity]) -> Preferred {
    let same_type = |known: &Algorithm, key: &Algorithm| match (known, key) {
        (Algorithm::Rsa { .. }, Algorithm::Rsa { .. }) => true,
        _ => known == key,
    };
    let mut keys: Vec<Algorithm> = vec![];
    let mut certificates = false;
    for identity in accepted {
        match identity {
            Identity::HostKey(line) => {
                let key_type = PublicKey::from_openssh(line)
                    .ok()
                    .map(|key| key.algorithm());
                keys.extend(
                    KEYS.iter()
                        .filter(|known| {
                            key_type
                                .as_ref()
                                .is_some_and(|key_type| same_type(known, key_type))
                        })
                        .cloned(),
                );
            }
            Identity::HostAuthority(_) => certificates = true,
            Identity::Fingerprint(_) => keys.extend(KEYS),
            Identity::Unproven => {}
        }
    }
    if keys.is_empty() {
        keys.extend(KEYS);
    }
    Preferred {
        key: Cow::Owned(keys),
        host_key_certificates: if certificates {
            Cow::Borrowed(&KEYS)
        } else {
            Cow::Borrowed(&[])
        },
        ..Preferred::DEFAULT
    }
}

/// Begins SSH on a connection, as far as the end of the key exchange.
pub(super) async fn exchange_keys<S: Stream>(
    stream: S,
    watch: IdentityWatch,
    preferred: Preferred,
) -> Result<Handle<IdentityWatch>, NoSession> {
    let config = russh::client::Config {
        client_id: russh::SshId::Standard("SSH-2.0-Jexlin".into()),
        inactivity_timeout: Some(Duration::from_secs(120)),
        nodelay: true,
        preferred,
        ..Default::default()
    };
    russh::client::connect_stream(Arc::new(config), stream, watch)
        .await
        .map_err(|error| NoSession::NoAnswer(no_connection(&error.to_string())))
}

/// Opens a connection and signs in, within a time, to a device that proves its identity. With what it
/// showed, if it did.
pub(crate) async fn open<R: RoleMark, S: Stream>(
    connecting: impl Future<Output = Result<S, String>>,
    account: &BoundLogin<R>,
    within: Duration,
) -> (
    Result<Handle<IdentityWatch>, NoSession>,
    Option<PresentedIdentity>,
) {
    let endpoint = account.endpoint();
    let presented = Arc::new(StdMutex::new(None));
    let watch = IdentityWatch {
        address: endpoint.address().to_owned(),
        accepted: endpoint.identity().to_vec(),
        trust: account.trusts_first_contact(),
        presented: Arc::clone(&presented),
    };
    let opening = async {
        let stream = connecting.await.map_err(NoSession::NoAnswer)?;
        sign_in(stream, account, watch).await
    };
    let opened = timeout(within, opening)
        .await
        .unwrap_or_else(|_| Err(NoSession::NoAnswer(silence(within))));
    let shown: Option<PresentedIdentity> = presented.lock().ok().and_then(|mut slot| slot.take());
    if !account.trusts_first_contact()
        && shown
            .as_ref()
            .is_some_and(|shown| !proves(endpoint.identity(), shown))
    {
        let why = "the device did not prove its identity: it shows another host key. Nothing was sent. If it was replaced, have a steward confirm its new identity";
        return (Err(NoSession::NoAnswer(why.to_owned())), None);
    }
    (opened, shown)
}

async fn sign_in<R: RoleMark, S: Stream>(
    stream: S,
    account: &BoundLogin<R>,
    watch: IdentityWatch,
) -> Result<Handle<IdentityWatch>, NoSession> {
    let no_answer = |error: russh::Error| NoSession::NoAnswer(no_connection(&error.to_string()));
    let preferred = preferred_for(account.endpoint().identity());
    let mut handle = exchange_keys(stream, watch, preferred).await?;
    let text = account
        .password()
        .expose_secret_text()
        .map_err(|_| NoSession::NoAnswer("the stored password is not text".into()))?;
    let (method, result) = if account.is_key() {
        let key = key_of(text)?;
        let hash = handle.best_supported_rsa_hash().await.map_err(no_answer)?;
        let hash = hash.flatten().or(Some(HashAlg::Sha512));
        let key = PrivateKeyWithHashAlg::new(Arc::new(key), hash);
        let tried = handle.authenticate_publickey(account.login(), key);
        (MethodKind::PublicKey, tried.await.map_err(no_answer)?)
    } else {
        let tried = handle.authenticate_password(account.login(), text);
        (MethodKind::Password, tried.await.map_err(no_answer)?)
    };
    match result {
        AuthResult::Success => Ok(handle),
        AuthResult::Failure {
            remaining_methods,
            partial_success: false,
        } if method == MethodKind::Password
            && !remaining_methods.contains(&MethodKind::Password)
            && remaining_methods.contains(&MethodKind::KeyboardInteractive) =>
        {
            answer_prompt(&mut handle, account.login(), text).await?;
            Ok(handle)
        }
        AuthResult::Failure {
            remaining_methods,
            partial_success,
        } if partial_success || !remaining_methods.contains(&method) => {
            let what = if account.is_key() { "key" } else { "password" };
            Err(NoSession::NoAnswer(format!(
                "the device does not accept a {what} alone for this account"
            )))
        }
        AuthResult::Failure { .. } => Err(NoSession::Closed),
    }
}

/// The private key in a text.
fn key_of(text: &str) -> Result<PrivateKey, NoSession> {
    let unusable = || {
        NoSession::NoAnswer(
            "the stored key cannot be used: it is damaged, or has a passphrase".into(),
        )
    };
    let key = PrivateKey::from_openssh(text).map_err(|_| unusable())?;
    if key.is_encrypted() {
        return Err(unusable());
    }
    Ok(key)
}

/// Answers the one question for a password that a device asks (RFC 4256). One that asks for more, or
/// would show what is typed, gets nothing.
async fn answer_prompt(
    handle: &mut Handle<IdentityWatch>,
    user: &str,
    password: &str,
) -> Result<(), NoSession> {
    use KeyboardInteractiveAuthResponse::{Failure, InfoRequest, Success};
    let no_answer = |error: russh::Error| NoSession::NoAnswer(no_connection(&error.to_string()));
    let more =
        || NoSession::NoAnswer("the device asks for more than a password for this account".into());
    let mut said = handle
        .authenticate_keyboard_interactive_start(user, None)
        .await
        .map_err(no_answer)?;
    let mut answered = false;
    // A question without a prompt is a message, and answered with nothing.
    for _ in 0..4 {
        let answers = match said {
            Success => return Ok(()),
            Failure {
                partial_success: true,
                ..
            } => return Err(more()),
            Failure { .. } if answered => return Err(NoSession::Closed),
            Failure { .. } => return Err(more()),
            InfoRequest { prompts, .. } => match prompts.as_slice() {
                [] => vec![],
                [one] if !one.echo && !answered => {
                    answered = true;
                    vec![password.to_owned()]
                }
                // The same question again: the password was wrong.
                [one] if !one.echo => return Err(NoSession::Closed),
                _ => return Err(more()),
            },
        };
        said = handle
            .authenticate_keyboard_interactive_respond(answers)
            .await
            .map_err(no_answer)?;
    }
    Err(more())
}

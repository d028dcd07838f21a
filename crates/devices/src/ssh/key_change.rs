//! Replacing the key that opens an account of an OpenSSH host: the new one is added to
//! `authorized_keys`, proves itself, and the former one goes. What the file becomes, core works out; this
//! reads and writes it as the account, never as root in a folder that belongs to somebody else.

use std::sync::atomic::{AtomicBool, Ordering};

use jexlin_core::secret::Secret;
use jexlin_core::upkeep::authorized_keys::{
    LONGEST_FILE, PublicKeyLine, with_added, with_only, without,
};
use jexlin_core::upkeep::{Account, BoundLogin, shell_word};
use russh::keys::PrivateKey;
use sha2::{Digest as _, Sha256};
use tokio::time::timeout;

use super::Ssh;
use super::connection::Session;
use super::password_change::{Broken, Ran, run};
use super::sign_in::NoSession;
use crate::network::plain_words;
use crate::{Answer, Change, MaySend};

/// Where the keys of whoever runs this are.
const WHERE: &str = r#"h=$(getent passwd "$(id -un)" 2>/dev/null | cut -d: -f6); [ -n "$h" ] || h=$HOME; d="$h/.ssh"; f="$d/authorized_keys"; export LC_ALL=C; [ ! -L "$f" ] || exit 33; "#;

/// Writes the file out, or nothing when there is none.
const READ: &str = r#"[ ! -e "$f" ] || cat "$f""#;

/// Puts what comes in place of the file, if it still is what was read and all of the new one came.
const WRITE: &str = r#"umask 077; mkdir -p "$d" || exit 34; t="$f.jexlin"; of() { sha256sum | cut -c1-64; }
if [ -e "$f" ]; then was=$(of < "$f"); cp -p "$f" "$t" || exit 34; else was=$(of < /dev/null); : > "$t" || exit 34; fi
[ "$was" = "$1" ] || { rm -f "$t"; exit 35; }
cat > "$t" && [ "$(of < "$t")" = "$2" ] || { rm -f "$t"; exit 36; }
mv -f "$t" "$f" || exit 34"#;

/// What the ends of these mean.
fn status_words(status: u32, output: &str) -> String {
    match status {
        33 => "authorized_keys is a symbolic link, which is left alone".into(),
        34 => format!("authorized_keys cannot be written: {}", plain_words(output)),
        35 => "somebody else changed authorized_keys at the same moment; try again".into(),
        36 => "the device did not get all of the new file".into(),
        other => format!(
            "the device ended with status {other}: {}",
            plain_words(output)
        ),
    }
}

/// A shell command. It runs as the user who is signed in, or as `user` when root is signed in.
fn command(script: &str, user: Option<&str>, given: &[&str]) -> String {
    let given: Vec<String> = given.iter().map(|text| shell_word(text)).collect();
    let script = shell_word(&format!("{WHERE}{script}"));
    let shell = format!("sh -c {script} sh {}", given.join(" "));
    match user {
        Some(user) => format!("runuser -u {} -- {shell}", shell_word(user)),
        None => shell,
    }
}

fn hex(bytes: &[u8]) -> String {
    let digest = Sha256::digest(bytes);
    digest.iter().map(|byte| format!("{byte:02x}")).collect()
}

/// The public half of the key in a login, as its line; none when the key cannot be used.
pub(super) fn public_line(login: &BoundLogin<Account>) -> Option<PublicKeyLine> {
    let text = login.password().expose_secret_text().ok()?;
    let key = PrivateKey::from_openssh(text).ok()?;
    PublicKeyLine::parse(&key.public_key().to_openssh().ok()?)
}

/// Why a file was not read or written.
enum NotDone {
    /// It is as it was, for sure.
    Refused(String),
    /// Nothing was sent.
    NotReached(String),
    /// Whether it is written is not known.
    Lost(String),
    LeaseLost,
}

impl NotDone {
    fn words(self) -> String {
        match self {
            Self::Refused(why) | Self::NotReached(why) | Self::Lost(why) => why,
            Self::LeaseLost => "the lease of this job is over".into(),
        }
    }
}

impl From<NotDone> for Change {
    fn from(not: NotDone) -> Self {
        match not {
            NotDone::Refused(why) => Self::Refused(why),
            NotDone::NotReached(why) => Self::NotReached(why),
            NotDone::Lost(why) => Self::Lost(why),
            NotDone::LeaseLost => Self::LeaseLost,
        }
    }
}

fn at_once<'a>() -> MaySend<'a> {
    Box::new(|| -> Answer<'a> { Box::pin(async { true }) })
}

impl Ssh {
    async fn run_script(
        &self,
        session: &Session,
        command: &str,
        input: &[u8],
        may_send: MaySend<'_>,
    ) -> Result<Ran, NotDone> {
        let (input, sent) = (Secret::from_bytes(input.to_vec()), AtomicBool::new(false));
        let running = run(session, command, &input, may_send, &sent, LONGEST_FILE);
        match timeout(self.limits.change, running).await {
            Ok(Ok(ran)) => Ok(ran),
            Ok(Err(Broken::Before(why))) => Err(NotDone::NotReached(why)),
            Ok(Err(Broken::After(why))) => Err(NotDone::Lost(why)),
            Ok(Err(Broken::LeaseLost)) => Err(NotDone::LeaseLost),
            Err(_) if sent.load(Ordering::Relaxed) => {
                Err(NotDone::Lost("the device did not finish in time".into()))
            }
            Err(_) => Err(NotDone::NotReached(
                "the device did not begin in time".into(),
            )),
        }
    }

    async fn read_keys(&self, session: &Session, user: Option<&str>) -> Result<Vec<u8>, NotDone> {
        let command = command(READ, user, &[]);
        // Reading changes nothing, however it ends.
        match self.run_script(session, &command, b"", at_once()).await {
            Ok(ran) if ran.status == 0 => Ok(ran.output),
            Ok(ran) => Err(NotDone::Refused(status_words(ran.status, &ran.words()))),
            Err(why) => Err(NotDone::NotReached(why.words())),
        }
    }

    async fn write_keys(
        &self,
        session: &Session,
        user: Option<&str>,
        was: &[u8],
        file: &[u8],
        may_send: MaySend<'_>,
    ) -> Result<(), NotDone> {
        let command = command(WRITE, user, &[&hex(was), &hex(file)]);
        let ran = self.run_script(session, &command, file, may_send).await?;
        if ran.status == 0 {
            return Ok(());
        }
        Err(NotDone::Refused(status_words(ran.status, &ran.words())))
    }

    /// Replaces the key of an account, by a session of the account itself, or of root for `user`.
    pub(super) async fn replace_key(
        &self,
        session: &Session,
        user: Option<&str>,
        candidate: &BoundLogin<Account>,
        may_send: MaySend<'_>,
    ) -> Change {
        let Some(new) = public_line(candidate) else {
            return Change::NotReached("the new key cannot be used".into());
        };
        let (whose, former) = (
            candidate.credential(),
            candidate.former_key().and_then(PublicKeyLine::parse),
        );
        let added = async {
            let file = self.read_keys(session, user).await?;
            let added = with_added(&file, former.as_ref(), &new, whose);
            self.write_keys(session, user, &file, &added, may_send)
                .await
        };
        if let Err(why) = added.await {
            return why.into();
        }
        // Whatever goes wrong from here on, a key that opens the account is in the file.
        let proof = self.open(candidate).await.0;
        let opens = proof.is_ok();
        let cleaned = async {
            let file = self.read_keys(session, user).await?;
            let rest = if opens {
                with_only(&file, former.as_ref(), &new, whose)
            } else {
                without(&file, &new)
            };
            self.write_keys(session, user, &file, &rest, at_once())
                .await
        };
        match proof {
            Ok(_) => match cleaned.await {
                Ok(()) => Change::Applied,
                Err(why) => Change::Lost(format!(
                    "the new key opens the account, and the former one could not be taken out of authorized_keys: {}",
                    why.words()
                )),
            },
            Err(NoSession::Closed) => match cleaned.await {
                Ok(()) => Change::Refused(
                    "the new key was added to ~/.ssh/authorized_keys and does not open the account; it was taken out again. Does sshd read this file, and take keys?".into(),
                ),
                Err(why) => Change::Lost(why.words()),
            },
            Err(NoSession::NoAnswer(why)) => Change::Lost(why),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::{READ, command, hex};

    #[test]
    fn a_command_runs_as_the_account_whatever_it_is_called() {
        let line = command(READ, Some("o'neil; id"), &["a b"]);
        assert!(
            line.starts_with("runuser -u 'o'\\''neil; id' -- sh -c '"),
            "{line}"
        );
        assert!(line.ends_with("' sh 'a b'"), "{line}");
        assert!(command(READ, None, &[]).starts_with("sh -c '"));
        assert_eq!(hex(b"").len(), 64);
    }
}

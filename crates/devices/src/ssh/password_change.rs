//! Changing a password on an OpenSSH host: by the operator with `chpasswd`, or by the account
//! itself at the prompt of `passwd`.

use std::sync::atomic::{AtomicBool, Ordering};

use jexlin_core::dialogue::{LINUX_PASSWD, Purpose, Talk, Values};
use jexlin_core::secret::{Secret, redact};
use jexlin_core::upkeep::{Account, BoundLogin, Operator};
use russh::ChannelMsg;
use tokio::time::timeout;

use super::connection::Session;
use super::sign_in::NoSession;
use super::{InChannel, Ssh};
use crate::conversation::converse;
use crate::instructed::change;
use crate::network::plain_words;
use crate::{Change, MaySend, Met, OperatorConnection};

/// The most that a command may write before it is left, in bytes.
pub(super) const MOST_OUTPUT: usize = 64 * 1024;

impl Ssh {
    /// Changes the password of an account to that of `candidate`, as the operator of the host.
    /// `may_send` is asked when everything is ready, immediately before anything is sent.
    pub(super) async fn operator_changes(
        &self,
        operator: &BoundLogin<Operator>,
        candidate: &BoundLogin<Account>,
        may_send: MaySend<'_>,
    ) -> Met<Change> {
        let user = candidate.login();
        let met = |result| Met::of(result, None);
        if user.is_empty() || user.contains([':', '\n', '\r', '\0']) || user.starts_with('-') {
            return met(Change::Refused("an account name cannot be empty, begin with a dash, or contain a colon or a line break".into()));
        }
        if operator.endpoint() != candidate.endpoint() {
            return met(Change::NotReached(
                "operator and account are not of the same endpoint".into(),
            ));
        }
        if candidate.is_key() {
            return self
                .operator_replaces_key(operator, candidate, may_send)
                .await;
        }
        let Ok(plain) = candidate.password().expose_secret_text() else {
            return met(Change::Refused("the new password is not text".into()));
        };
        if plain.contains(['\n', '\r', '\0']) {
            return met(Change::Refused("the new password has a line break".into()));
        }
        let session = match self.operator_session(operator).await {
            Ok(session) => session,
            Err((NoSession::Closed, presented)) => {
                return Met::of(Change::OperatorRefused, presented);
            }
            Err((NoSession::NoAnswer(why), presented)) => {
                return Met::of(Change::NotReached(why), presented);
            }
        };
        let line = Secret::from_text(format!("{user}:{plain}\n"));
        let sent = AtomicBool::new(false);
        let result = match timeout(
            self.limits.change,
            run(
                &session,
                "LC_ALL=C chpasswd",
                &line,
                may_send,
                &sent,
                MOST_OUTPUT,
            ),
        )
        .await
        {
            Err(_) if sent.load(Ordering::Relaxed) => {
                Change::Lost("the device did not finish in time".into())
            }
            Err(_) => Change::NotReached("the device did not begin in time".into()),
            Ok(Err(Broken::Before(why))) => Change::NotReached(why),
            Ok(Err(Broken::After(why))) => Change::Lost(why),
            Ok(Err(Broken::LeaseLost)) => Change::LeaseLost,
            Ok(Ok(ran)) if ran.status == 0 => Change::Applied,
            Ok(Ok(ran)) => Change::Refused(tidy(
                &ran.words(),
                &[candidate.password(), operator.password()],
            )),
        };
        if matches!(result, Change::Lost(_) | Change::NotReached(_)) {
            self.close_kept(&OperatorConnection::of(operator));
        }
        Met::of(result, session.presented.clone())
    }

    async fn operator_replaces_key(
        &self,
        operator: &BoundLogin<Operator>,
        candidate: &BoundLogin<Account>,
        may_send: MaySend<'_>,
    ) -> Met<Change> {
        let session = match self.operator_session(operator).await {
            Ok(session) => session,
            Err((NoSession::Closed, presented)) => {
                return Met::of(Change::OperatorRefused, presented);
            }
            Err((NoSession::NoAnswer(why), presented)) => {
                return Met::of(Change::NotReached(why), presented);
            }
        };
        let user = Some(candidate.login());
        let result = self.replace_key(&session, user, candidate, may_send).await;
        if matches!(result, Change::Lost(_) | Change::NotReached(_)) {
            self.close_kept(&OperatorConnection::of(operator));
        }
        Met::of(result, session.presented.clone())
    }

    /// Changes the password of an account as the account itself, at the host's own prompt.
    /// `may_send` is asked when everything is ready, immediately before the new password is sent.
    pub(super) async fn account_changes(
        &self,
        account: &BoundLogin<Account>,
        candidate: &BoundLogin<Account>,
        may_send: MaySend<'_>,
    ) -> Met<Change> {
        if account.endpoint() != candidate.endpoint() {
            return Met::of(
                Change::NotReached("the two passwords are not of the same endpoint".into()),
                None,
            );
        }
        let (session, presented) = self.open(account).await;
        let result = match session {
            Err(NoSession::Closed) => Change::AccountRefused,
            Err(NoSession::NoAnswer(why)) => Change::NotReached(why),
            Ok(session) if candidate.is_key() => {
                self.replace_key(&session, None, candidate, may_send).await
            }
            Ok(session) => {
                let talk =
                    at_the_prompt(&session, account.password(), candidate.password(), may_send);
                match timeout(self.limits.change, talk).await {
                    Ok(change) => change,
                    Err(_) => Change::Lost("the device did not finish its prompt in time".into()),
                }
            }
        };
        Met::of(result, presented)
    }
}

/// Whether anything can have reached the device when a command broke off.
pub(super) enum Broken {
    Before(String),
    After(String),
    LeaseLost,
}

/// How a command ended, and what it wrote.
pub(super) struct Ran {
    pub(super) status: u32,
    pub(super) output: Vec<u8>,
    pub(super) errors: Vec<u8>,
}

impl Ran {
    /// All that it wrote, as text.
    pub(super) fn words(&self) -> String {
        let both = [self.output.as_slice(), &self.errors].concat();
        String::from_utf8_lossy(&both).into_owned()
    }
}

/// Runs a command, gives it a secret on standard input when `may_send` says yes, and returns how it
/// ended and what it wrote: so many bytes and no more.
pub(super) async fn run(
    session: &Session,
    command: &str,
    input: &Secret,
    may_send: MaySend<'_>,
    sent: &AtomicBool,
    most: usize,
) -> Result<Ran, Broken> {
    let before = |error: russh::Error| {
        Broken::Before(format!(
            "the connection was lost: {}",
            plain_words(&error.to_string())
        ))
    };
    let after = |error: russh::Error| {
        Broken::After(format!(
            "the connection was lost: {}",
            plain_words(&error.to_string())
        ))
    };
    let mut channel = session
        .handle
        .channel_open_session()
        .await
        .map_err(before)?;
    channel.exec(true, command).await.map_err(before)?;
    // The device says first whether it runs commands at all.
    loop {
        match channel.wait().await {
            Some(ChannelMsg::Success) => break,
            Some(ChannelMsg::Failure) => {
                return Err(Broken::Before(
                    "the device does not run commands for the operator".into(),
                ));
            }
            Some(ChannelMsg::Eof | ChannelMsg::Close) | None => {
                return Err(Broken::Before("the device ended the connection".into()));
            }
            Some(_) => {}
        }
    }
    if !may_send().await {
        return Err(Broken::LeaseLost);
    }
    sent.store(true, Ordering::Relaxed);
    channel
        .data_bytes(input.expose_secret().to_vec())
        .await
        .map_err(after)?;
    channel.eof().await.map_err(after)?;
    let (mut output, mut errors) = (vec![], vec![]);
    let mut status = None;
    while let Some(message) = channel.wait().await {
        match message {
            ChannelMsg::Data { data } => output.extend_from_slice(&data),
            ChannelMsg::ExtendedData { data, .. } => errors.extend_from_slice(&data),
            ChannelMsg::ExitStatus { exit_status } => status = Some(exit_status),
            _ => {}
        }
        if output.len() + errors.len() > most {
            return Err(Broken::After("the device wrote more than the limit".into()));
        }
    }
    let ran = |status| Ran {
        status,
        output,
        errors,
    };
    status.map(ran).ok_or_else(|| {
        Broken::After("the connection was lost before the device reported the result".into())
    })
}

/// Talks to `passwd` through a terminal.
async fn at_the_prompt(
    session: &Session,
    current: &Secret,
    candidate: &Secret,
    may_send: MaySend<'_>,
) -> Change {
    let words = |error: russh::Error| plain_words(&error.to_string());
    let mut channel = match session.handle.channel_open_session().await {
        Ok(channel) => channel,
        Err(error) => return Change::NotReached(words(error)),
    };
    // No echo: what is typed must not come back.
    if let Err(error) = channel
        .request_pty(false, "dumb", 200, 50, 0, 0, &[(russh::Pty::ECHO, 0)])
        .await
    {
        return Change::NotReached(words(error));
    }
    if let Err(error) = channel.exec(true, "LC_ALL=C passwd").await {
        return Change::NotReached(words(error));
    }
    let values = Values {
        current: Some(current),
        new: Some(candidate),
        ..Values::default()
    };
    let (mut talk, act) = Talk::begin(&LINUX_PASSWD, Purpose::Account, values);
    let outcome = converse(&mut InChannel(&mut channel), &mut talk, act, may_send).await;
    change(outcome, talk.is_changing(), Change::AccountRefused)
}

/// A device's output as one line for a message.
fn tidy(output: &str, secrets: &[&Secret]) -> String {
    let words = plain_words(&redact(output, secrets));
    if words.is_empty() {
        "the device refused without an answer".into()
    } else {
        words
    }
}

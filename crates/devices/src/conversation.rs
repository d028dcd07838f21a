//! A dialogue with whatever is at the other end of a terminal.

use std::time::Instant;

use async_trait::async_trait;
use jexlin_core::dialogue::{Act, Ending, Talk};
use jexlin_core::secret::Secret;
use tokio::time::timeout;

use crate::MaySend;
use crate::instructed::Stopped;

/// What comes from a terminal.
pub(crate) enum Heard {
    Text(Vec<u8>),
    /// Something that is no text.
    Nothing,
    Ended,
    /// There will be no talk; why.
    Refused(String),
}

/// Where somebody types, and reads what comes back.
#[async_trait]
pub(crate) trait Terminal: Send {
    /// Types.
    async fn send(&mut self, text: &Secret) -> Result<(), String>;
    /// Waits for what comes. Given up in between, nothing is lost.
    async fn next(&mut self) -> Heard;
}

/// Talks until the dialogue ends. `may_send` is asked immediately before the first line that changes
/// something on the device.
pub(crate) async fn converse(
    terminal: &mut dyn Terminal,
    talk: &mut Talk<'_>,
    mut act: Act,
    may_send: MaySend<'_>,
) -> Result<Ending, Stopped> {
    let mut may_send = Some(may_send);
    let (mut step, mut since) = (talk.step(), Instant::now());
    loop {
        if talk.step() != step {
            (step, since) = (talk.step(), Instant::now());
        }
        let patience = talk.patience();
        act = match act {
            Act::End(ending) => return Ok(ending),
            Act::Type(line, changes) => {
                if changes
                    && let Some(may_send) = may_send.take()
                    && !may_send().await
                {
                    talk.held_back();
                    return Err(Stopped::LeaseLost);
                }
                terminal.send(&line).await.map_err(Stopped::Connection)?;
                talk.typed()
            }
            Act::Listen(most) => {
                let left = patience.saturating_sub(since.elapsed());
                match timeout(most.min(left), terminal.next()).await {
                    Err(_) => talk.silence(since.elapsed() >= patience),
                    Ok(Heard::Text(data)) => match talk.hear(&data) {
                        Act::Listen(_) if since.elapsed() >= patience => talk.silence(true),
                        act => act,
                    },
                    Ok(Heard::Refused(why)) => return Err(Stopped::Connection(why)),
                    Ok(Heard::Ended) => talk.hung_up(),
                    Ok(Heard::Nothing) if since.elapsed() >= patience => talk.silence(true),
                    Ok(Heard::Nothing) => Act::Listen(most),
                }
            }
        };
    }
}

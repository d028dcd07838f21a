//! A dialogue with what runs in a terminal of an SSH connection.

use std::time::Instant;

use jexlin_core::dialogue::{Act, Ending, Talk};
use russh::client::Msg;
use russh::{Channel, ChannelMsg};
use tokio::time::timeout;

use crate::MaySend;
use crate::instructed::Stopped;
use crate::network::plain_words;

/// Talks until the dialogue ends. `may_send` is asked immediately before the first line that changes
/// something on the device.
pub(super) async fn converse(
    channel: &mut Channel<Msg>,
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
                    return Err(Stopped::LeaseLost);
                }
                channel
                    .data_bytes(line.expose_secret().to_vec())
                    .await
                    .map_err(|error| Stopped::Connection(plain_words(&error.to_string())))?;
                talk.typed()
            }
            Act::Listen(most) => {
                let left = patience.saturating_sub(since.elapsed());
                match timeout(most.min(left), channel.wait()).await {
                    Err(_) => talk.silence(since.elapsed() >= patience),
                    Ok(Some(ChannelMsg::Data { data } | ChannelMsg::ExtendedData { data, .. })) => {
                        match talk.hear(&data) {
                            Act::Listen(_) if since.elapsed() >= patience => talk.silence(true),
                            act => act,
                        }
                    }
                    Ok(Some(ChannelMsg::Failure)) => {
                        return Err(Stopped::Connection(
                            "the device does not run commands for this account".into(),
                        ));
                    }
                    Ok(Some(ChannelMsg::Eof | ChannelMsg::Close) | None) => talk.hung_up(),
                    Ok(Some(_)) => Act::Listen(most),
                }
            }
        };
    }
}

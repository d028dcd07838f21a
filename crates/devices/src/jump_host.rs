//! Jump hosts: devices that the service cannot reach itself are reached through an SSH server that can
//! (RFC 4254, section 7.2).
//!
//! Whoever performs a job signs in first, with [`open`]; connectors find the connection again by what
//! their endpoint says. One connection serves all devices behind the same host, and ends when it has
//! been idle for a while.

use std::collections::HashMap;
use std::sync::{Arc, LazyLock, Mutex as StdMutex};
use std::time::{Duration, Instant};

use jexlin_core::upkeep::{BoundLogin, Endpoint, JumpConnection, JumpHost};
use russh::client::{Handle, Msg};
use russh::{ChannelOpenFailure, ChannelStream};
use tokio::time::timeout;

use crate::network::{self, plain_words};
use crate::ssh::sign_in::{self, IdentityWatch, NoSession};
use crate::{Met, Probe};

/// For the connection, the handshake and the sign-in together.
const CONNECT: Duration = Duration::from_secs(15);
/// For a connection from the jump host to a device.
const FORWARD: Duration = Duration::from_secs(10);
/// An idle connection is kept for this long.
const IDLE: Duration = Duration::from_secs(60);
/// At most this many addresses of a device are tried.
const MOST_ADDRESSES: usize = 4;

struct Kept {
    handle: Handle<IdentityWatch>,
    last_used: StdMutex<Instant>,
}

type All = HashMap<JumpConnection, Arc<Kept>>;

/// All connectors of a process share them.
static KEPT: LazyLock<StdMutex<All>> = LazyLock::new(StdMutex::default);

fn with_all<T: Default>(act: impl FnOnce(&mut All) -> T) -> T {
    KEPT.lock().map(|mut all| act(&mut all)).unwrap_or_default()
}

fn find(open: &JumpConnection) -> Option<Arc<Kept>> {
    with_all(|all| {
        let kept = all.get(open).filter(|kept| !kept.handle.is_closed());
        kept.cloned()
    })
}

/// Whether there is an open connection, so that no sign-in is needed.
#[must_use]
pub fn is_open(open: &JumpConnection) -> bool {
    find(open).is_some()
}

/// Signs in to a jump host, and keeps the connection.
pub async fn open(login: &BoundLogin<JumpHost>) -> Met<Probe> {
    let connecting = network::connect(login.endpoint());
    let (opened, presented) = sign_in::open(connecting, login, CONNECT).await;
    let probe = match opened {
        Ok(handle) => {
            let key = login.connection();
            let kept = Arc::new(Kept {
                handle,
                last_used: StdMutex::new(Instant::now()),
            });
            with_all(|all| {
                all.retain(|other, _| !key.replaces(other));
                all.insert(key, kept);
            });
            Probe::Opened
        }
        Err(NoSession::Closed) => Probe::Closed,
        Err(NoSession::NoAnswer(why)) => Probe::NoAnswer(why),
    };
    Met::of(probe, presented)
}

/// Ends the connections that have been idle for a while, and forgets those that were closed. One that
/// a device is still reached through is kept.
pub fn close_idle() {
    with_all(|all| {
        all.retain(|_, kept| {
            let used = Arc::strong_count(kept) > 1;
            let recent = kept
                .last_used
                .lock()
                .is_ok_and(|last| last.elapsed() < IDLE);
            !kept.handle.is_closed() && (used || recent)
        });
    });
}

/// Keeps no connection to a jump host any longer; one ends with the last device that is reached
/// through it.
pub fn close_all() {
    with_all(All::clear);
}

/// The use of a connection to a jump host, which lives as long.
pub(crate) struct Use(Arc<Kept>);

impl Drop for Use {
    fn drop(&mut self) {
        if let Ok(mut last) = self.0.last_used.lock() {
            *last = Instant::now();
        }
    }
}

/// Connects from a jump host to a device. The address is resolved and allowed here, as for a
/// connection of the service's own, and the host is asked for that address and no name.
///
/// # Errors
/// A sentence.
pub(crate) async fn connect(
    open: &JumpConnection,
    to: &Endpoint,
) -> Result<(ChannelStream<Msg>, Use), String> {
    let ended = || "the connection to the jump host has ended".to_owned();
    let host = find(open).ok_or_else(ended)?;
    let mut why = String::new();
    for address in network::allowed_addresses(to)
        .await?
        .into_iter()
        .take(MOST_ADDRESSES)
    {
        let opening = host.handle.channel_open_direct_tcpip(
            address.ip().to_string(),
            u32::from(address.port()),
            "127.0.0.1",
            0,
        );
        match timeout(FORWARD, opening).await {
            Ok(Ok(channel)) => {
                return Ok((channel.into_stream(), Use(host)));
            }
            Ok(Err(russh::Error::ChannelOpenFailure(
                ChannelOpenFailure::AdministrativelyProhibited,
            ))) => {
                return Err("the jump host does not let this account forward connections (AllowTcpForwarding, PermitOpen)".to_owned());
            }
            Ok(Err(russh::Error::ChannelOpenFailure(ChannelOpenFailure::ConnectFailed))) => {
                "the jump host gets no connection to the device".clone_into(&mut why);
            }
            Ok(Err(error)) => {
                why = format!("the jump host: {}", plain_words(&error.to_string()));
            }
            Err(_) => {
                why = format!(
                    "the jump host got no connection to the device within {} seconds",
                    FORWARD.as_secs()
                );
            }
        }
    }
    Err(why)
}

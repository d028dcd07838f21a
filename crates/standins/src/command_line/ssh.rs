//! A command line over SSH.

use std::io;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use russh::keys::ssh_key::LineEnding;
use russh::keys::{Algorithm, PrivateKey};
use russh::server::{Auth, Config, Handler, Msg, Server, Session};
use russh::{Channel, ChannelId, MethodKind, MethodSet};

use super::{Machine, Manner, Model, Shared, Waits};

/// The key of a device: the one that is kept in its folder, or a new one.
pub(super) fn host_key(folder: Option<&Path>) -> io::Result<PrivateKey> {
    let new = || PrivateKey::random(&mut rand::rng(), Algorithm::Ed25519).map_err(io::Error::other);
    let Some(file) = folder.map(|folder| folder.join("host-key")) else {
        return new();
    };
    if file.exists() {
        return PrivateKey::read_openssh_file(&file).map_err(io::Error::other);
    }
    let key = new()?;
    key.write_openssh_file(&file, LineEnding::LF)
        .map_err(io::Error::other)?;
    Ok(key)
}

/// Listens from now on; on which port.
pub(super) fn listen(
    model: Model,
    address: String,
    key: PrivateKey,
    shared: Shared,
) -> io::Result<u16> {
    let config = Config {
        keys: vec![key],
        auth_rejection_time: Duration::ZERO,
        auth_rejection_time_initial: Some(Duration::ZERO),
        methods: MethodSet::from(&[MethodKind::Password][..]),
        nodelay: true,
        ..Config::default()
    };
    let (sender, receiver) = std::sync::mpsc::channel();
    std::thread::spawn(move || {
        let runtime = tokio::runtime::Builder::new_multi_thread()
            .worker_threads(1)
            .enable_all()
            .build();
        let Ok(runtime) = runtime else { return };
        runtime.block_on(async move {
            let bound = tokio::net::TcpListener::bind(address).await;
            let (socket, port) = match bound.and_then(|it| Ok((it.local_addr()?, it))) {
                Ok((at, socket)) => (socket, Ok(at.port())),
                Err(error) => {
                    let _ = sender.send(Err(error));
                    return;
                }
            };
            let _ = sender.send(port);
            let _ = Listener(model, shared)
                .run_on_socket(Arc::new(config), &socket)
                .await;
        });
    });
    receiver
        .recv()
        .map_err(|_| io::Error::other("the device did not come up"))?
}

struct Listener(Model, Shared);

impl Server for Listener {
    type Handler = Connection;

    fn new_client(&mut self, _: Option<std::net::SocketAddr>) -> Connection {
        Connection {
            model: self.0,
            shared: self.1.clone(),
            machine: None,
            line: String::new(),
            _channels: vec![],
        }
    }
}

struct Connection {
    model: Model,
    shared: Shared,
    machine: Option<Box<dyn Machine>>,
    line: String,
    _channels: Vec<Channel<Msg>>,
}

/// Writes, as the device's manner wants it.
fn write(
    session: &mut Session,
    channel: ChannelId,
    manner: Manner,
    text: &str,
) -> Result<(), russh::Error> {
    if manner == Manner::Dribbles {
        for byte in text.bytes() {
            session.data(channel, vec![byte])?;
        }
        return Ok(());
    }
    session.data(channel, text.as_bytes().to_vec())
}

impl Handler for Connection {
    type Error = russh::Error;

    async fn auth_password(&mut self, user: &str, password: &str) -> Result<Auth, Self::Error> {
        if self.shared.opens(user, password) {
            self.machine = Some(self.model.session(&self.shared, user));
            return Ok(Auth::Accept);
        }
        Ok(Auth::Reject {
            proceed_with_methods: Some(MethodSet::from(&[MethodKind::Password][..])),
            partial_success: false,
        })
    }

    async fn channel_open_session(
        &mut self,
        channel: Channel<Msg>,
        reply: russh::server::ChannelOpenHandle,
        _: &mut Session,
    ) -> Result<(), Self::Error> {
        self._channels.push(channel);
        reply.accept().await;
        Ok(())
    }

    async fn shell_request(
        &mut self,
        channel: ChannelId,
        session: &mut Session,
    ) -> Result<(), Self::Error> {
        session.channel_success(channel)?;
        let manner = self.shared.manner();
        if manner == Manner::Floods {
            for _ in 0..40 {
                session.data(channel, vec![b'x'; 32_000])?;
            }
            return Ok(());
        }
        let Some(machine) = &mut self.machine else {
            return Ok(());
        };
        let greeting = machine.greeting();
        write(session, channel, manner, &greeting)
    }

    async fn data(
        &mut self,
        channel: ChannelId,
        data: &[u8],
        session: &mut Session,
    ) -> Result<(), Self::Error> {
        let Some(machine) = &mut self.machine else {
            return Ok(());
        };
        for byte in data {
            if matches!(byte, b'\r' | b'\n') || machine.waits() == Waits::Key {
                let line = std::mem::take(&mut self.line);
                match machine.answer(&line) {
                    Some(answer) => write(session, channel, self.shared.manner(), &answer)?,
                    None => {
                        session.eof(channel)?;
                        session.close(channel)?;
                    }
                }
                continue;
            }
            if machine.waits() == Waits::Line {
                session.data(channel, vec![*byte])?;
            }
            self.line.push(char::from(*byte));
        }
        Ok(())
    }
}

//! One session with a MariaDB server: TLS before anything secret, the sign-in, and queries whose answers
//! are read in bounded memory.

use std::sync::Arc;

use bytes::BytesMut;
use jexlin_core::secret::Secret;
use jexlin_core::upkeep::identity::PresentedIdentity;
use jexlin_core::upkeep::{BoundLogin, Endpoint, RoleMark};

use mysql_common::auth::plugins::{AuthProc, ChallengeResponsePlugin as _, Context};
use mysql_common::constants::CapabilityFlags;
use mysql_common::io::ParseBuf;
use mysql_common::packets::{
    AuthPlugin, AuthSwitchRequest, Column, ErrPacket, HandshakePacket, HandshakeResponse,
    SslRequest,
};
use mysql_common::proto::codec::PacketCodec;
use mysql_common::proto::{MyDeserialize, MySerialize, Text};
use mysql_common::row::{Row, RowDeserializer};
use mysql_common::value::ServerSide;
use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWrite, AsyncWriteExt as _};

use crate::network::{self, no_connection};
use crate::reach::{self, Connection};
use crate::tls::{self, DeviceStream};

/// So many bytes are read of one session, and no more.
const MOST_READ: usize = 8 * 1024 * 1024;

/// The longest packet that is taken.
const LONGEST_PACKET: usize = 1024 * 1024;

/// utf8mb4, whatever the server prefers.
const CHARACTER_SET: u8 = 45;

/// What a client asks with.
const QUERY: u8 = 0x03;

/// What both sides must be able to do. A password is never sent as it is, so the server need not be
/// able to read one.
const NEEDED: CapabilityFlags = CapabilityFlags::CLIENT_PROTOCOL_41
    .union(CapabilityFlags::CLIENT_SECURE_CONNECTION)
    .union(CapabilityFlags::CLIENT_PLUGIN_AUTH)
    .union(CapabilityFlags::CLIENT_SSL);

/// What is used where the server has it. An expired password opens a session in which nothing but its
/// change is possible.
const WELCOME: CapabilityFlags = CapabilityFlags::CLIENT_CAN_HANDLE_EXPIRED_PASSWORDS;

/// What went wrong in a session.
pub(super) enum Broken {
    /// The server said so itself, and the session goes on: the number of its error, and its words.
    Said(u16, String),
    /// The connection is not to be used any more.
    Lost(String),
}

type Result<T> = std::result::Result<T, Broken>;

/// Packets over a connection.
struct Packets<S> {
    stream: S,
    codec: PacketCodec,
    incoming: BytesMut,
    left: usize,
}

/// What a server is told to look for.
pub(super) struct Session(Packets<DeviceStream>);

fn lost(why: impl std::fmt::Display) -> Broken {
    Broken::Lost(no_connection(&why.to_string()))
}

fn no_server() -> Broken {
    Broken::Lost("the device does not answer as a MariaDB server does".into())
}

/// Reads what a packet holds.
fn parse<'a, T: MyDeserialize<'a>>(packet: &'a [u8], context: T::Ctx) -> Result<T> {
    ParseBuf(packet).parse(context).map_err(|_| no_server())
}

/// The error in a packet that holds one.
fn said(packet: &[u8]) -> Broken {
    match parse::<ErrPacket<'_>>(packet, CapabilityFlags::CLIENT_PROTOCOL_41) {
        Ok(ErrPacket::Error(error)) => {
            Broken::Said(error.error_code(), error.message_str().into_owned())
        }
        Ok(ErrPacket::Progress(_)) => no_server(),
        Err(why) => why,
    }
}

impl<S: AsyncRead + AsyncWrite + Unpin> Packets<S> {
    fn new(stream: S, codec: PacketCodec) -> Self {
        Self {
            stream,
            codec,
            incoming: BytesMut::new(),
            left: MOST_READ,
        }
    }

    async fn read(&mut self) -> Result<Vec<u8>> {
        let mut packet = vec![];
        loop {
            if self
                .codec
                .decode(&mut self.incoming, &mut packet)
                .map_err(lost)?
            {
                return Ok(packet);
            }
            let count = self
                .stream
                .read_buf(&mut self.incoming)
                .await
                .map_err(lost)?;
            if count == 0 {
                return Err(lost("the device ended the connection"));
            }
            self.left = self
                .left
                .checked_sub(count)
                .ok_or_else(|| lost("the device sends too much"))?;
        }
    }

    async fn write(&mut self, bytes: &[u8]) -> Result<()> {
        let mut outgoing = BytesMut::new();
        let mut bytes = bytes;
        self.codec.encode(&mut bytes, &mut outgoing).map_err(lost)?;
        self.stream.write_all(&outgoing).await.map_err(lost)
    }
}

/// What a server says first, or why it does not: it may turn a client away before anything else.
fn greeting(packet: &[u8]) -> Result<HandshakePacket<'_>> {
    if packet.first() == Some(&0xff) {
        // Before anything is agreed, an error has no state before its words.
        let words = packet.get(3..).unwrap_or_default();
        return Err(Broken::Lost(format!(
            "the device says: {}",
            network::plain_words(&String::from_utf8_lossy(words))
        )));
    }
    // After the version: the number of the connection, a part of the scramble, two times two bytes of
    // capabilities, the character set and the state; then the length of the scramble, which the
    // library takes for less than 128.
    let version = packet.iter().position(|byte| *byte == 0);
    let length = version.and_then(|end| packet.get(end + 21)).copied();
    if packet.first() != Some(&10) || length.is_none_or(|length| length > 64) {
        return Err(no_server());
    }
    let greeting: HandshakePacket<'_> = parse(packet, ())?;
    if !greeting.capabilities().contains(NEEDED) {
        return Err(Broken::Lost(
            "the device does not offer TLS: set ssl_cert and ssl_key on the server".into(),
        ));
    }
    Ok(greeting)
}

/// Asks for TLS. What the server has said is gone then: whoever is between could have said it.
async fn ask_for_tls(
    stream: Connection,
) -> Result<(Connection, HandshakePacket<'static>, PacketCodec)> {
    let mut codec = PacketCodec::default();
    codec.max_allowed_packet = LONGEST_PACKET;
    let mut packets = Packets::new(stream, codec);
    let packet = packets.read().await?;
    let greeting = greeting(&packet)?.into_owned();
    let mut request = vec![];
    SslRequest::new(capabilities(&greeting), packet_size(), CHARACTER_SET).serialize(&mut request);
    packets.write(&request).await?;
    if !packets.incoming.is_empty() {
        return Err(lost("the device says more than it was asked before TLS"));
    }
    Ok((packets.stream, greeting, packets.codec))
}

fn capabilities(greeting: &HandshakePacket<'_>) -> CapabilityFlags {
    NEEDED.union(greeting.capabilities().intersection(WELCOME))
}

fn packet_size() -> u32 {
    u32::try_from(LONGEST_PACKET).unwrap_or(u32::MAX)
}

/// What a way of signing in may know.
struct Signing<'a>(&'a Secret);

impl Context for Signing<'_> {
    fn pass(&self) -> &[u8] {
        self.0.expose_secret()
    }
    fn is_ipc_transport(&self) -> bool {
        false
    }
    fn is_tls_transport(&self) -> bool {
        true
    }
    fn scramble(&self) -> &[u8] {
        &[]
    }
    fn server_key_pem(&self) -> Option<&[u8]> {
        None
    }
}

/// What proves that the password is known, in a way that does not tell it. No other way is used.
fn answer(plugin: &AuthPlugin<'_>, challenge: &[u8], password: &Secret) -> Result<Vec<u8>> {
    let way = match plugin {
        AuthPlugin::MysqlNativePassword | AuthPlugin::Ed25519 => AuthProc::init(plugin).ok(),
        _ => None,
    };
    let Some(mut way) = way else {
        return Err(Broken::Lost(format!(
            "this user signs in by {}, and only mysql_native_password and ed25519 are used: with others a server could read the password",
            network::plain_words(&String::from_utf8_lossy(plugin.as_bytes()))
        )));
    };
    let response = way
        .run(Signing(password), challenge)
        .map_err(|_| no_server())?;
    Ok(response.data().unwrap_or_default().to_vec())
}

/// What a server keeps of a password, by the way that a user signs in: what it is told when the
/// password is changed. Nothing when the way is another.
pub(super) fn kept(plugin: &str, password: &Secret) -> Option<String> {
    use base64::Engine as _;
    let hash = |way: &AuthPlugin<'_>| {
        let way = AuthProc::init(way).ok()?;
        way.password_hash(Signing(password))
    };
    match plugin {
        // A user whose way is not named signs in by the usual one.
        "mysql_native_password" | "" => {
            let hash = hash(&AuthPlugin::MysqlNativePassword)?;
            let digits: String = hash.iter().map(|byte| format!("{byte:02X}")).collect();
            Some(format!("*{digits}"))
        }
        "ed25519" => {
            let hash = hash(&AuthPlugin::Ed25519)?;
            Some(base64::engine::general_purpose::STANDARD_NO_PAD.encode(hash))
        }
        _ => None,
    }
}

impl Session {
    /// Signs in where the identity is proved. With what the device showed, if it did.
    pub(super) async fn open<R: RoleMark>(
        login: &BoundLogin<R>,
        user: &str,
    ) -> (Result<Self>, Option<PresentedIdentity>) {
        let begun = async {
            let stream = reach::connect(login.endpoint())
                .await
                .map_err(Broken::Lost)?;
            ask_for_tls(stream).await
        };
        let (stream, greeting, codec) = match begun.await {
            Ok(begun) => begun,
            Err(why) => return (Err(why), None),
        };
        let (stream, presented) = tls::open_over(stream, login).await;
        let session = match stream {
            Ok(stream) => {
                Self::sign_in(
                    Packets::new(stream, codec),
                    &greeting,
                    user,
                    login.password(),
                )
                .await
            }
            Err(why) => Err(Broken::Lost(why)),
        };
        (session, presented)
    }

    /// Reads the identity that a device shows.
    pub(super) async fn look(
        endpoint: &Endpoint,
    ) -> std::result::Result<Vec<PresentedIdentity>, String> {
        let stream = reach::connect(endpoint).await?;
        match ask_for_tls(stream).await {
            Ok((stream, ..)) => tls::look_over(stream, endpoint).await,
            Err(Broken::Lost(why) | Broken::Said(_, why)) => Err(why),
        }
    }

    async fn sign_in(
        mut packets: Packets<DeviceStream>,
        greeting: &HandshakePacket<'_>,
        user: &str,
        password: &Secret,
    ) -> Result<Self> {
        // The usual way; the server names another if the user has another.
        let usual = AuthPlugin::MysqlNativePassword;
        let response = HandshakeResponse::new(
            Some(answer(&usual, &greeting.nonce(), password)?),
            (10, 11, 0),
            Some(user.as_bytes()),
            None::<&[u8]>,
            Some(usual),
            capabilities(greeting),
            None,
            packet_size(),
        );
        let mut bytes = vec![];
        response.serialize(&mut bytes);
        packets.write(&bytes).await?;
        let mut packet = packets.read().await?;
        if packet.first() == Some(&0xfe) {
            let other: AuthSwitchRequest<'_> = parse(&packet, ())?;
            let proof = answer(&other.auth_plugin(), other.plugin_data(), password)?;
            packets.write(&proof).await?;
            packet = packets.read().await?;
        }
        match packet.first() {
            Some(0) => Ok(Self(packets)),
            Some(0xff) => Err(said(&packet)),
            _ => Err(no_server()),
        }
    }

    /// Sends a statement, and reads what it finds.
    pub(super) async fn ask(&mut self, statement: &str) -> Result<Vec<Row>> {
        self.0.codec.reset_seq_id();
        let mut bytes = vec![QUERY];
        bytes.extend_from_slice(statement.as_bytes());
        self.0.write(&bytes).await?;
        let first = self.0.read().await?;
        let columns = match first.as_slice() {
            [0, ..] => return Ok(vec![]),
            [0xff, ..] => return Err(said(&first)),
            // How many columns there are. What a server could ask for instead, such as a file, it
            // does not get.
            [count @ 1..=32] => usize::from(*count),
            _ => return Err(no_server()),
        };
        let mut heads = vec![];
        for _ in 0..columns {
            heads.push(parse::<Column>(&self.0.read().await?, ())?);
        }
        let heads: Arc<[Column]> = heads.into();
        let mut rows = vec![];
        if !is_end(&self.0.read().await?) {
            return Err(no_server());
        }
        loop {
            let packet = self.0.read().await?;
            if packet.first() == Some(&0xff) {
                return Err(said(&packet));
            }
            if is_end(&packet) {
                return Ok(rows);
            }
            let row: RowDeserializer<ServerSide, Text> = parse(&packet, Arc::clone(&heads))?;
            rows.push(row.into_inner());
        }
    }
}

/// Whether a packet says that the heads, or the rows, are all there.
fn is_end(packet: &[u8]) -> bool {
    packet.first() == Some(&0xfe) && packet.len() < 9
}

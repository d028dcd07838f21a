//! What the tests of every connector need: a vault of one organisation in memory, so that every login
//! goes the whole way from binding to password.

#![allow(dead_code, reason = "each test uses its part")]

pub mod watch;

use std::collections::BTreeMap;
use std::sync::Arc;

use jexlin_core::dialogue::Instructions;
use jexlin_core::secret::Secret;
use jexlin_core::upkeep::identity::Identity;
use jexlin_core::upkeep::{
    Account, Binding, BoundLogin, ConnectRules, ConnectorKind, DeviceFacts, Endpoint,
    JumpConnection, JumpHost, Lease, Operator, Role, RoleMark, StoredBinding,
};
use jexlin_core::vault::{
    OrganisationKey, Place as VaultPlace, RootKey, add_enable_password, open_for_device,
};
use jexlin_devices::{Answer, Change, Connector, MaySend, Probe};
use jexlin_standins::database_server::certificates;
use jexlin_standins::misbehaving_device::{self, Manner, Wire};
use rustls::pki_types::pem::PemObject as _;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use uuid::Uuid;

const DEVICE: Uuid = Uuid::from_u128(2);
const JUMP_HOST: Uuid = Uuid::from_u128(3);

/// Where a device is, and what it must prove.
pub struct Place {
    pub address: String,
    pub port: u16,
    pub identity: String,
    pub trust: bool,
    pub rules: ConnectRules,
    pub dialogue: Option<Arc<Instructions>>,
    pub connector: ConnectorKind,
    /// The enable password of every credential.
    pub enable: Option<&'static str>,
    /// The field `context` of every credential.
    pub context: &'static str,
    /// The field `certificate` of every credential.
    pub certificate: String,
    /// Through which connection to which jump host it is reached.
    pub through: Option<(DeviceFacts, JumpConnection)>,
}

pub fn place(address: &str, port: u16) -> Place {
    Place {
        address: address.into(),
        port,
        identity: String::new(),
        trust: true,
        rules: ConnectRules::new(&["127.0.0.0/8".into()], vec![]).unwrap(),
        dialogue: None,
        connector: ConnectorKind::Ssh,
        enable: None,
        context: "",
        certificate: String::new(),
        through: None,
    }
}

impl Place {
    pub fn login<R: RoleMark>(
        &self,
        credential: u128,
        user: &str,
        password: &str,
        version: i32,
    ) -> BoundLogin<R> {
        let (organisation, device, credential) =
            (Uuid::from_u128(1), DEVICE, Uuid::from_u128(credential));
        let facts = match R::ROLE {
            // Whoever signs in here does so on the way to another device.
            Role::JumpHost => DeviceFacts {
                jump_host: Some(Box::new(self.facts(JUMP_HOST))),
                ..self.facts(device)
            },
            Role::Account | Role::Operator => self.facts(device),
        };
        let stored = StoredBinding {
            organisation,
            credential,
            device,
            role: R::ROLE,
            address: self.address.clone(),
            port: self.port,
            identity: self.identity.clone(),
            dialogue: facts.dialogue_digest().to_owned(),
            way: facts.way(),
            in_scope: true,
        };
        let now = chrono::Utc::now();
        #[allow(
            clippy::disallowed_methods,
            reason = "the tests stand in for the store"
        )]
        let (binding, lease) = (
            Binding::from_store(stored),
            Lease::from_store(
                Uuid::nil(),
                1,
                credential,
                device,
                now + chrono::TimeDelta::minutes(1),
            ),
        );
        let permit = lease.permit::<R>(&binding, &facts, now).unwrap();
        let mut rng = rand::rng();
        let root = RootKey::generate(&mut rng);
        let (key, _) = OrganisationKey::generate(&mut rng, &root, organisation).unwrap();
        let (data, wrapped) = key
            .generate_data_key(&mut rng, organisation, credential)
            .unwrap();
        let of = |field| VaultPlace {
            organisation,
            credential,
            field,
            version,
        };
        let mut sealed = |field, text: &str| {
            let text = Secret::from_text(text.to_owned());
            data.seal(&mut rng, &of(field), &text).unwrap()
        };
        let own = sealed("password", password);
        let login = open_for_device(&permit, user, &key, &wrapped, &of("password"), &own).unwrap();
        let fields = BTreeMap::from([
            ("context".to_owned(), self.context.to_owned()),
            ("certificate".to_owned(), self.certificate.clone()),
        ]);
        let login = login.with_fields(fields);
        let login = login.through(self.through.as_ref().map(|(_, open)| open));
        let Some(enable) = self.enable else {
            return login;
        };
        let enable = sealed("enable_password", enable);
        let field = of("enable_password");
        add_enable_password(&permit, login, &key, &wrapped, &field, &enable).unwrap()
    }

    pub fn account(&self, user: &str, password: &str) -> BoundLogin<Account> {
        self.login(7, user, password, 1)
    }

    pub fn operator(&self, user: &str, password: &str) -> BoundLogin<Operator> {
        self.login(8, user, password, 1)
    }

    pub fn look(&self) -> Endpoint {
        let open = self.through.as_ref().map(|(_, open)| open);
        Endpoint::to_look_at(Uuid::from_u128(1), &self.facts(DEVICE)).through(open)
    }

    fn facts(&self, device: Uuid) -> DeviceFacts {
        let host = self.through.as_ref().map(|(host, _)| host.clone());
        DeviceFacts {
            device,
            connector: self.connector,
            allows_unproven: true,
            address: self.address.clone(),
            port: self.port,
            identity: self.identity.clone(),
            jump_host: host.map(Box::new),
            trust_first_contact: self.trust,
            rules: self.rules.clone(),
            dialogue: self.dialogue.clone(),
        }
    }

    /// The same place, reached through an account of a jump host.
    pub fn behind(self, host: &Self, login: &BoundLogin<JumpHost>) -> Self {
        Self {
            through: Some((host.facts(JUMP_HOST), login.connection())),
            ..self
        }
    }

    /// An account of a jump host, by the number of its credential.
    pub fn jump_account(&self, user: &str, password: &str, number: u8) -> BoundLogin<JumpHost> {
        self.login(900 + u128::from(number), user, password, 1)
    }

    /// The same place, with the identity that answers there confirmed.
    pub async fn confirmed(self, connector: &dyn Connector) -> Self {
        let shown = connector.identify(&self.look()).await.unwrap();
        self.known_by(&shown[0].key)
    }

    /// The same place, which must prove this.
    pub fn known_by(self, identity: &str) -> Self {
        Self {
            identity: identity.to_owned(),
            trust: false,
            ..self
        }
    }
}

/// The lease holds when it is asked about.
pub fn yes<'a>() -> MaySend<'a> {
    answer(true)
}

pub fn answer<'a>(holds: bool) -> MaySend<'a> {
    Box::new(move || -> Answer<'a> { Box::pin(async move { holds }) })
}

/// Has an operator change a password several times over one session, and once more after the line was
/// cut.
pub async fn changes_over_a_kept_session(
    connector: &dyn Connector,
    line: &Wire,
    operator: &BoundLogin<Operator>,
    candidate: &BoundLogin<Account>,
) {
    assert!(!connector.has_operator(operator));
    let change = async || {
        let changing = connector.change_as_operator(operator, candidate, yes());
        changing.await.result
    };
    for _ in 0..3 {
        assert_eq!(change().await, Change::Applied);
        assert!(connector.has_operator(operator));
    }
    let lines = line.connections();
    assert_eq!(change().await, Change::Applied);
    assert_eq!(line.connections(), lines, "no other connection was opened");
    line.cut();
    line.fix();
    assert_eq!(change().await, Change::Applied);
    assert_eq!(line.connections(), lines + 1);
    let kept = connector.kept().unwrap();
    assert_eq!(kept.all().len(), 1);
    kept.all().iter().for_each(|which| kept.close(which));
    assert!(!connector.has_operator(operator));
}

/// The TLS of a server; certificates are made in the folder, which goes again.
pub fn server_tls(folder: &std::path::Path) -> tokio_rustls::TlsAcceptor {
    std::fs::create_dir_all(folder).unwrap();
    certificates(folder, "127.0.0.1").unwrap();
    let chain = vec![CertificateDer::from_pem_file(folder.join("tls.pem")).unwrap()];
    let key = PrivateKeyDer::from_pem_file(folder.join("tls.key")).unwrap();
    std::fs::remove_dir_all(folder).unwrap();
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let config = rustls::ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .unwrap()
        .with_no_client_auth()
        .with_single_cert(chain, key)
        .unwrap();
    tokio_rustls::TlsAcceptor::from(Arc::new(config))
}

/// A device with TLS that answers whatever it hears with this, as often as it hears something. Its
/// port; certificates are made in the folder, which goes again.
pub async fn lying(
    folder: &std::path::Path,
    say: impl Fn(&[u8]) -> Vec<u8> + Send + 'static,
) -> u16 {
    let acceptor = server_tls(folder);
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    tokio::spawn(async move {
        while let Ok((stream, _)) = listener.accept().await {
            let Ok(mut stream) = acceptor.accept(stream).await else {
                continue;
            };
            let mut buffer = [0; 1024];
            while let Ok(count @ 1..) = stream.read(&mut buffer).await {
                let heard: Vec<u8> = buffer[..count]
                    .iter()
                    .copied()
                    .filter(|byte| (b' '..0x7f).contains(byte))
                    .collect();
                if stream.write_all(&say(&heard)).await.is_err() {
                    break;
                }
            }
        }
    });
    port
}

/// A server that a connector is tried on, with an account and an operator of it.
pub struct Tried<'a> {
    pub address: &'a str,
    pub port: u16,
    pub account: &'a str,
    pub first: &'a str,
    pub operator: (&'a str, &'a str),
    pub dialogue: Option<Arc<Instructions>>,
}

impl Tried<'_> {
    fn place(&self) -> Place {
        self.at(self.address, self.port)
    }

    fn at(&self, address: &str, port: u16) -> Place {
        Place {
            dialogue: self.dialogue.clone(),
            ..place(address, port)
        }
    }

    /// A server is known by its key, by the pin of that, and by the authority that signed its
    /// certificate; one that shows another gets nothing.
    pub async fn proves_who_it_is(&self, connector: &dyn Connector, authority: &str) {
        let look = self.place().look();
        let shown = connector.identify(&look).await.unwrap().remove(0);
        let pin = Identity::parse(&shown.key).unwrap().fingerprint();
        let authority = Identity::parse(authority).unwrap();
        for known in [shown.key, pin, authority.to_line()] {
            let there = self.place().known_by(&known);
            let met = connector
                .check(&there.account(self.account, self.first))
                .await;
            assert_eq!(met.result, Probe::Opened, "{known}");
        }
        let stranger = self.place().known_by(&format!("SHA256:{}", "A".repeat(43)));
        let met = connector
            .check(&stranger.account(self.account, self.first))
            .await;
        assert!(
            matches!(met.result, Probe::NoAnswer(why) if why.contains("did not prove its identity"))
        );
    }

    /// Whatever byte of a rotation the line drops after, the account opens with one of two
    /// passwords that are known, and the connector never says what is not so.
    pub async fn drops_at_any_byte(&self, connector: &dyn Connector, steps: u32, bytes: u32) {
        let mut present = self.first.to_owned();
        let mut outcomes = std::collections::BTreeSet::new();
        let here = self.place().confirmed(connector).await;
        for step in 0..steps {
            let wire = Wire::to(self.address, self.port).unwrap();
            let there = self.at("127.0.0.1", wire.port()).confirmed(connector).await;
            let wanted = format!("Dropped-tide-{step}");
            let candidate = there.login(7, self.account, &wanted, 2);
            wire.cut_after(i64::from(step * bytes));
            let operator = there.operator(self.operator.0, self.operator.1);
            let met = connector
                .change_as_operator(&operator, &candidate, yes())
                .await;
            let opens = async |password: &String| {
                let login = here.account(self.account, password);
                connector.check(&login).await.result == Probe::Opened
            };
            outcomes.insert(settled(met.result, &mut present, wanted, opens).await);
        }
        assert!(
            outcomes.contains("not reached") && outcomes.contains("applied"),
            "{outcomes:?}"
        );
    }
}

/// After a change whose line dropped: the account opens with what the connector says, or with one of the
/// two where it says that it does not know. What opens it is `present` then. The word for what was said.
pub async fn settled<T>(
    said: Change,
    present: &mut T,
    wanted: T,
    opens: impl AsyncFn(&T) -> bool,
) -> &'static str {
    match said {
        Change::NotReached(_) => {
            assert!(opens(present).await, "nothing was sent");
            "not reached"
        }
        Change::Lost(_) => {
            if opens(&wanted).await {
                *present = wanted;
            } else {
                assert!(opens(present).await, "one of both opens it");
            }
            "lost"
        }
        Change::Applied => {
            assert!(opens(&wanted).await, "it says that it is changed");
            *present = wanted;
            "applied"
        }
        other => panic!("{other:?}"),
    }
}

/// A closed port, and devices that hang, flood and babble: each is left in the time that the
/// connector has, with a sentence, and without a password.
pub async fn is_left_in_bounded_time(connector: &dyn Connector, account: &str, password: &str) {
    let mut ports = vec![jexlin_standins::free_port().unwrap()];
    for manner in [Manner::Hangs, Manner::Floods, Manner::Babbles] {
        ports.push(misbehaving_device::device(manner).unwrap());
    }
    for port in ports {
        let there = place("127.0.0.1", port);
        let why = connector.identify(&there.look()).await.unwrap_err();
        assert!(!why.is_empty() && why.len() < 400, "{why}");
        let there = there.known_by(&format!("SHA256:{}", "A".repeat(43)));
        let met = connector.check(&there.account(account, password)).await;
        assert!(matches!(met.result, Probe::NoAnswer(why) if !why.contains(password)));
    }
}

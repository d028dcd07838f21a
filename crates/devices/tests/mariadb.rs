//! The MariaDB connector against a real server with TLS, and against one that lies.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing,
    reason = "what cannot be set up ends the test"
)]

mod rig;

use std::sync::OnceLock;
use std::time::Duration;

use jexlin_core::upkeep::identity::Identity;
use jexlin_devices::mariadb::Mariadb;
use jexlin_devices::{Change, Connector as _, Probe, TimeLimits};
use jexlin_standins::mariadb_server::{MariadbServer, OPERATOR_RIGHTS};
use proptest::prelude::*;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::sync::mpsc;

use rig::watch::{Watched, watched};
use rig::{Place, Tried, answer, is_left_in_bounded_time, place, server_tls, yes};

const OPERATOR: &str = "Operator-tide-1";
const FIRST: &str = "Orders-tide-1";

fn server() -> &'static MariadbServer {
    static SERVER: OnceLock<MariadbServer> = OnceLock::new();
    SERVER.get_or_init(|| {
        let rotator = format!("CREATE USER rotator IDENTIFIED BY '{OPERATOR}'");
        let first = [&[rotator.as_str()][..], &OPERATOR_RIGHTS].concat();
        MariadbServer::temporary(&first).expect("a server")
    })
}

/// A user of this name, with the first password.
fn user(name: &str) {
    let _ = server()
        .sql(&format!("CREATE USER {name} IDENTIFIED BY '{FIRST}'"))
        .unwrap();
}

fn mariadb() -> Watched {
    watched(Mariadb::new(TimeLimits {
        connect: Duration::from_secs(5),
        change: Duration::from_secs(5),
        ..TimeLimits::default()
    }))
}

/// One that waits for nobody.
fn hasty() -> Watched {
    let short = Duration::from_millis(500);
    watched(Mariadb::new(TimeLimits {
        connect: short,
        change: short,
        ..TimeLimits::default()
    }))
}

async fn here() -> Place {
    place("127.0.0.1", server().port())
        .confirmed(&mariadb())
        .await
}

#[tokio::test]
async fn a_check_tells_the_right_password_from_a_wrong_one() {
    user("reader");
    let (connector, here) = (mariadb(), here().await);
    let check =
        async |user: &str, password: &str| connector.check(&here.account(user, password)).await;
    let met = check("reader@%", FIRST).await;
    assert_eq!(met.result, Probe::Opened);
    assert!(met.presented.unwrap().key.starts_with("tls-key "));
    assert_eq!(
        check("reader@%", "Wrong-tide-9").await.result,
        Probe::Closed
    );
    assert_eq!(check("nobody@%", FIRST).await.result, Probe::Closed);
    // The server takes whom it finds; who was meant may be somebody else.
    match check("reader@10.20.%", FIRST).await.result {
        Probe::NoAnswer(why) => assert!(why.contains("reader@%"), "{why}"),
        other => panic!("{other:?}"),
    }
    // A locked user is no wrong password, and the server says so in its own words.
    user("locked");
    let _ = server().sql("ALTER USER locked ACCOUNT LOCK").unwrap();
    match check("locked@%", FIRST).await.result {
        Probe::NoAnswer(why) => assert!(why.contains("locked"), "{why}"),
        other => panic!("{other:?}"),
    }
    // A password that has expired is right all the same.
    user("expired");
    let _ = server().sql("ALTER USER expired PASSWORD EXPIRE").unwrap();
    assert_eq!(check("expired@%", FIRST).await.result, Probe::Opened);
}

#[tokio::test]
async fn an_anonymous_user_is_nobody_that_was_meant() {
    let anonymous = format!("CREATE USER ''@'127.0.0.1' IDENTIFIED BY '{FIRST}'");
    let server = MariadbServer::temporary(&[&anonymous]).unwrap();
    let connector = mariadb();
    let here = place("127.0.0.1", server.port())
        .confirmed(&connector)
        .await;
    assert!(server.opens("anybody", FIRST));
    let met = connector.check(&here.account("anybody@%", FIRST)).await;
    assert_eq!(met.result, Probe::Closed);
}

#[tokio::test]
async fn an_operator_and_a_user_itself_change_a_password_that_no_log_ever_has() {
    user("orders");
    let _ = server()
        .sql(&format!(
            "CREATE USER modern IDENTIFIED VIA ed25519 USING PASSWORD('{FIRST}')"
        ))
        .unwrap();
    let (connector, here) = (mariadb(), here().await);
    let operator = here.operator("rotator@%", OPERATOR);
    let (second, third) = ("Second-tide-2'; DROP USER x --", "Third tide $3 \\ \" ü %s");
    for name in ["orders", "modern"] {
        let login = format!("{name}@%");
        // The operator does not need the password that is there now.
        let candidate = here.login(7, &login, second, 2);
        let met = connector
            .change_as_operator(&operator, &candidate, yes())
            .await;
        assert_eq!(met.result, Change::Applied, "{name}");
        assert_eq!(connector.check(&candidate).await.result, Probe::Opened);
        let first = here.account(&login, FIRST);
        assert_eq!(connector.check(&first).await.result, Probe::Closed);
        let next = here.login(7, &login, third, 3);
        let met = connector.change_as_itself(&candidate, &next, yes()).await;
        assert_eq!(met.result, Change::Applied, "{name}");
        assert_eq!(connector.check(&next).await.result, Probe::Opened);
        assert!(server().opens(name, third));
        // A worker that has lost its lease sends nothing.
        let met = connector
            .change_as_operator(&operator, &candidate, answer(false))
            .await;
        assert_eq!(met.result, Change::LeaseLost);
        assert_eq!(connector.check(&next).await.result, Probe::Opened);
        let met = connector.change_as_itself(&first, &candidate, yes()).await;
        assert_eq!(met.result, Change::AccountRefused);
        let wrong = here.operator("rotator@%", "Wrong-tide-9");
        let met = connector
            .change_as_operator(&wrong, &candidate, yes())
            .await;
        assert_eq!(met.result, Change::OperatorRefused);
    }
    let log = server().log().unwrap();
    assert!(log.contains("SET PASSWORD"), "{log}");
    for secret in ["Second-tide-2", "Third tide"] {
        assert!(!log.contains(secret), "{secret}");
    }
}

#[tokio::test]
async fn an_expired_password_is_changed_by_its_user() {
    user("late");
    let _ = server().sql("ALTER USER late PASSWORD EXPIRE").unwrap();
    let (connector, here) = (mariadb(), here().await);
    let (present, next) = (
        here.account("late@%", FIRST),
        here.login(7, "late@%", "Second-tide-2", 2),
    );
    let met = connector.change_as_itself(&present, &next, yes()).await;
    assert_eq!(met.result, Change::Applied);
    assert!(server().opens("late", "Second-tide-2"));
}

#[tokio::test]
async fn users_with_the_same_name_are_not_taken_for_each_other() {
    for host in ["'127.0.0.1'", "'10.20.%'"] {
        let sql = format!("CREATE USER twin@{host} IDENTIFIED BY '{FIRST}'");
        let _ = server().sql(&sql).unwrap();
    }
    let (connector, here) = (mariadb(), here().await);
    let operator = here.operator("rotator@%", OPERATOR);
    let change = async |login: &str| {
        let candidate = here.login(7, login, "Second-tide-2", 2);
        let met = connector.change_as_operator(&operator, &candidate, yes());
        met.await.result
    };
    match change("twin").await {
        Change::Refused(why) => assert!(why.contains("such as duty@%"), "{why}"),
        other => panic!("{other:?}"),
    }
    assert_eq!(change("twin@10.20.%").await, Change::Applied);
    assert!(server().opens("twin", FIRST), "the other one was meant");
    assert_eq!(change("twin@127.0.0.1").await, Change::Applied);
    assert!(server().opens("twin", "Second-tide-2"));
    match change("nobody@%").await {
        Change::Refused(why) => assert!(why.contains("no such user"), "{why}"),
        other => panic!("{other:?}"),
    }
}

#[tokio::test]
async fn what_a_server_refuses_it_says() {
    user("socket");
    let _ = server()
        .sql("ALTER USER socket IDENTIFIED VIA unix_socket")
        .unwrap();
    user("weak");
    let (connector, here) = (mariadb(), here().await);
    let operator = here.operator("rotator@%", OPERATOR);
    let candidate = here.login(7, "socket@%", "Second-tide-2", 2);
    let met = connector
        .change_as_operator(&operator, &candidate, yes())
        .await;
    assert!(matches!(met.result, Change::Refused(why) if why.contains("unix_socket")));
    // An operator without the right.
    let candidate = here.login(7, "rotator@%", "Second-tide-2", 2);
    let weak = here.operator("weak@%", FIRST);
    let met = connector.change_as_operator(&weak, &candidate, yes()).await;
    assert!(matches!(met.result, Change::Refused(why) if why.contains("denied")));
    assert!(server().opens("rotator", OPERATOR));
}

#[tokio::test]
async fn a_server_that_wants_to_read_passwords_is_told_no() {
    let rotator = format!("CREATE USER rotator IDENTIFIED BY '{OPERATOR}'");
    let orders = format!("CREATE USER orders IDENTIFIED BY '{FIRST}'");
    let plugin = "INSTALL SONAME 'simple_password_check'";
    let first = [&[&rotator, &orders, plugin], &OPERATOR_RIGHTS[..]].concat();
    let server = MariadbServer::temporary(&first).unwrap();
    let connector = mariadb();
    let here = place("127.0.0.1", server.port())
        .confirmed(&connector)
        .await;
    let candidate = here.login(7, "orders@%", "Second-tide-2", 2);
    let operator = here.operator("rotator@%", OPERATOR);
    match connector
        .change_as_operator(&operator, &candidate, yes())
        .await
        .result
    {
        Change::Refused(why) => assert!(why.contains("strict_password_validation = OFF"), "{why}"),
        other => panic!("{other:?}"),
    }
    assert!(server.opens("orders", FIRST));
}

#[tokio::test]
async fn an_operator_lists_users_with_what_they_may() {
    user("plain");
    user("elsewhere");
    let _ = server()
        .sql("ALTER USER elsewhere IDENTIFIED VIA unix_socket")
        .unwrap();
    let _ = server()
        .sql("CREATE USER chief IDENTIFIED BY 'Chief-tide-1'; GRANT ALL ON *.* TO chief")
        .unwrap();
    for name in ["deputy", "scribe", "clerk"] {
        user(name);
    }
    let _ = server()
        .sql(
            "CREATE ROLE keepers; GRANT CREATE USER ON *.* TO keepers;
             CREATE ROLE shift; GRANT keepers TO shift; GRANT shift TO deputy;
             CREATE ROLE readers; GRANT SELECT ON mysql.user TO readers; GRANT readers TO clerk;
             GRANT UPDATE ON mysql.time_zone TO clerk;
             GRANT INSERT (User, Host, Role) ON mysql.roles_mapping TO scribe",
        )
        .unwrap();
    let (connector, here) = (mariadb(), here().await);
    let operator = here.operator("rotator@%", OPERATOR);
    let found = connector
        .list_accounts(&operator)
        .await
        .result
        .found()
        .unwrap();
    let of = |name: &str| {
        let login = format!("{name}@%");
        found.iter().find(|found| found.login == login).unwrap()
    };
    assert!(of("chief").privileged.is_some() && of("plain").privileged.is_none());
    assert!(
        of("rotator").privileged.is_some(),
        "who writes to the schema mysql may change every user"
    );
    // By roles of roles, and by a single table that holds rights.
    let why = |name: &str| of(name).privileged.clone().unwrap_or_default();
    assert_eq!(
        why("deputy"),
        "may grant rights or change users with the role keepers"
    );
    assert_eq!(why("scribe"), "may grant rights or change users");
    assert_eq!(why("clerk"), "");
    let root = found.iter().find(|found| found.login == "root@localhost");
    assert!(root.is_some_and(|root| root.signs_in && root.privileged.is_some()));
    assert!(of("plain").signs_in && !of("elsewhere").signs_in);
}

#[tokio::test]
async fn a_server_proves_who_it_is_by_its_key_its_pin_or_an_authority() {
    user("gauge");
    let tried = Tried {
        address: "127.0.0.1",
        port: server().port(),
        account: "gauge@%",
        first: FIRST,
        operator: ("rotator@%", OPERATOR),
        dialogue: None,
    };
    let authority = server().authority().unwrap();
    tried.proves_who_it_is(&mariadb(), &authority).await;
    let authority = Identity::parse(&authority).unwrap();
    let named = Place {
        address: "localhost".into(),
        ..place("127.0.0.1", server().port()).known_by(&authority.to_line())
    };
    match mariadb()
        .check(&named.account("gauge@%", FIRST))
        .await
        .result
    {
        Probe::NoAnswer(why) => assert!(why.contains("did not prove its identity"), "{why}"),
        other => panic!("{other:?}"),
    }
}

#[tokio::test]
async fn what_is_no_server_or_does_not_answer_is_said_in_bounded_time() {
    is_left_in_bounded_time(&hasty(), "gauge@%", FIRST).await;
}

#[tokio::test]
async fn a_line_that_drops_at_any_byte_leaves_a_password_that_is_known() {
    user("dropped");
    let tried = Tried {
        address: "127.0.0.1",
        port: server().port(),
        account: "dropped@%",
        first: FIRST,
        operator: ("rotator@%", OPERATOR),
        dialogue: None,
    };
    tried.drops_at_any_byte(&mariadb(), 40, 160).await;
}

/// A server's first words: version 10 of the protocol, TLS, and the usual way of signing in.
fn greeting(tls: bool) -> Vec<u8> {
    let mut words = vec![10];
    words.extend_from_slice(b"10.11.0-MariaDB\0");
    words.extend_from_slice(&[1, 0, 0, 0]);
    words.extend_from_slice(b"12345678\0");
    words.extend_from_slice(&[
        0x00,
        if tls { 0x8a } else { 0x82 },
        45,
        2,
        0,
        0x08,
        0x00,
        21,
    ]);
    words.extend_from_slice(&[0; 10]);
    words.extend_from_slice(b"123456789012\0mysql_native_password\0");
    words
}

fn packet(number: u8, words: &[u8]) -> Vec<u8> {
    let length = u32::try_from(words.len()).unwrap().to_le_bytes();
    [&length[..3], &[number], words].concat()
}

/// A server that greets, begins TLS and then says this to whoever signs in. What it is told after that,
/// once the client has gone.
async fn greedy(say: Vec<u8>) -> (u16, mpsc::UnboundedReceiver<Vec<u8>>) {
    let folder = std::env::temp_dir().join(format!(
        "jexlin-greedy-{}-{}",
        std::process::id(),
        say.len()
    ));
    let acceptor = server_tls(&folder);
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    let (tell, heard) = mpsc::unbounded_channel();
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            let _ = stream.write_all(&packet(0, &greeting(true))).await;
            let mut request = [0; 36];
            let _ = stream.read_exact(&mut request).await;
            let Ok(mut stream) = acceptor.accept(stream).await else {
                continue;
            };
            let mut buffer = vec![0; 4096];
            // Whoever only looks at the certificate says nothing.
            let Ok(1..) = stream.read(&mut buffer).await else {
                continue;
            };
            let _ = stream.write_all(&say).await;
            let mut heard = vec![];
            while let Ok(count @ 1..) = stream.read(&mut buffer).await {
                heard.extend_from_slice(&buffer[..count]);
            }
            let _ = tell.send(heard);
        }
    });
    (port, heard)
}

async fn probe(port: u16) -> Probe {
    let connector = mariadb();
    let there = place("127.0.0.1", port).confirmed(&connector).await;
    connector
        .check(&there.account("orders@%", FIRST))
        .await
        .result
}

#[tokio::test]
async fn a_server_that_asks_for_the_password_itself_does_not_get_it() {
    for way in ["mysql_clear_password", "caching_sha2_password", "dialog"] {
        let switch = [&[0xfe], way.as_bytes(), b"\x0012345678901234567890\0"].concat();
        let (port, mut heard) = greedy(packet(3, &switch)).await;
        match probe(port).await {
            Probe::NoAnswer(why) => assert!(why.contains(way), "{why}"),
            other => panic!("{other:?}"),
        }
        assert_eq!(
            heard.recv().await.unwrap(),
            b"",
            "nothing is sent after that"
        );
    }
}

#[tokio::test]
async fn a_server_that_asks_for_a_file_does_not_get_one() {
    // It lets the user in, and answers the first question with the request for a file.
    let yes = packet(3, &[0, 0, 0, 2, 0, 0, 0]);
    let file = packet(1, b"\xfb/etc/passwd");
    let (port, mut heard) = greedy([yes, file].concat()).await;
    match probe(port).await {
        Probe::NoAnswer(why) => assert!(why.contains("does not answer as a MariaDB"), "{why}"),
        other => panic!("{other:?}"),
    }
    let heard = heard.recv().await.unwrap();
    assert_eq!(heard, packet(0, b"\x03SELECT CURRENT_USER()"));
}

#[tokio::test]
async fn a_packet_that_never_ends_is_left_within_bounds() {
    let (port, _) = greedy([&[0xff, 0xff, 0xff, 3][..], &vec![b'x'; 32 << 20]].concat()).await;
    match probe(port).await {
        Probe::NoAnswer(why) => assert!(why.len() < 400, "{why}"),
        other => panic!("{other:?}"),
    }
}

/// Where nothing but the first words is told, as before TLS.
async fn says_first(words: Vec<u8>) -> String {
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            let _ = stream.write_all(&words).await;
            let mut rest = vec![];
            let _ = stream.read_to_end(&mut rest).await;
        }
    });
    let look = place("127.0.0.1", port).look();
    hasty().identify(&look).await.unwrap_err()
}

#[tokio::test]
async fn nothing_is_taken_from_what_was_said_before_tls() {
    let why = says_first(packet(0, &greeting(false))).await;
    assert!(why.contains("does not offer TLS"), "{why}");
    // Whoever is between adds an answer to the greeting.
    let answer = packet(2, &[0, 0, 0, 2, 0, 0, 0]);
    let why = says_first([packet(0, &greeting(true)), answer].concat()).await;
    assert!(!why.is_empty());
    let blocked = b"\xff\x69\x04Host is blocked";
    let why = says_first(packet(0, blocked)).await;
    assert!(why.contains("Host is blocked"), "{why}");
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, ..ProptestConfig::default() })]

    #[test]
    fn every_printable_password_opens_what_it_was_set_on(password in "[ -~äß€\u{2003}]{12,40}") {
        static USERS: std::sync::Once = std::sync::Once::new();
        USERS.call_once(|| user("`nasty ``user\\\\'`"));
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let (connector, here) = (mariadb(), here().await);
            let candidate = here.login(7, "nasty `user\\\\'@%", &password, 2);
            let operator = here.operator("rotator@%", OPERATOR);
            let met = connector.change_as_operator(&operator, &candidate, yes()).await;
            assert_eq!(met.result, Change::Applied);
            assert_eq!(connector.check(&candidate).await.result, Probe::Opened);
        });
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 64, ..ProptestConfig::default() })]

    #[test]
    fn whatever_a_server_says_first_ends_in_a_sentence(words in proptest::collection::vec(any::<u8>(), 0..120)) {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let mut said = greeting(true);
            let place = usize::from(words.first().copied().unwrap_or_default()) % said.len();
            said.splice(place.., words.iter().copied());
            let why = says_first(packet(0, &said)).await;
            assert!(!why.is_empty() && why.len() < 500, "{why}");
        });
    }
}

//! The PostgreSQL connector against a real server with TLS, and against one that lies.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing,
    reason = "what cannot be set up ends the test"
)]

mod rig;

use std::sync::{Arc, Mutex, OnceLock};
use std::time::Duration;

use jexlin_core::upkeep::identity::Identity;
use jexlin_devices::postgresql::Postgresql;
use jexlin_devices::{Change, Connector as _, Probe, TimeLimits};
use jexlin_standins::database_server::DatabaseServer;
use jexlin_standins::misbehaving_device::{self, Manner, Wire};
use proptest::prelude::*;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};

use rig::watch::{Watched, watched};
use rig::{Place, Tried, answer, changes_over_a_kept_session, place, server_tls, yes};

const OPERATOR: &str = "Operator-tide-1";
const FIRST: &str = "Historian-tide-1";

fn server() -> &'static DatabaseServer {
    static SERVER: OnceLock<DatabaseServer> = OnceLock::new();
    SERVER.get_or_init(|| {
        let server = DatabaseServer::temporary().expect("a server");
        server
            .sql(&format!(
                "CREATE ROLE rotator LOGIN CREATEROLE PASSWORD '{OPERATOR}'"
            ))
            .unwrap();
        server
    })
}

/// A role of this name, with the first password.
fn role(name: &str) {
    let sql = format!(r#"CREATE ROLE "{name}" LOGIN PASSWORD '{FIRST}'"#);
    let _ = server().sql(&sql).unwrap();
}

fn postgresql() -> Watched {
    watched(Postgresql::new(TimeLimits {
        connect: Duration::from_secs(5),
        change: Duration::from_secs(5),
        ..TimeLimits::default()
    }))
}

async fn here() -> Place {
    place("127.0.0.1", server().port())
        .confirmed(&postgresql())
        .await
}

#[tokio::test]
async fn a_check_tells_the_right_password_from_a_wrong_one() {
    role("reader");
    let (connector, here) = (postgresql(), here().await);
    let check =
        async |role: &str, password: &str| connector.check(&here.account(role, password)).await;
    let met = check("reader", FIRST).await;
    assert_eq!(met.result, Probe::Opened);
    assert!(met.presented.unwrap().key.starts_with("tls-key "));
    assert_eq!(check("reader", "Wrong-tide-9").await.result, Probe::Closed);
    assert_eq!(check("nobody", FIRST).await.result, Probe::Closed);
    // A role that may connect to no database has shown its password all the same.
    let _ = server().sql("CREATE ROLE apart LOGIN PASSWORD 'Apart-tide-1'; REVOKE CONNECT ON DATABASE template1 FROM PUBLIC").unwrap();
    assert_eq!(check("apart", "Apart-tide-1").await.result, Probe::Opened);
    // One that may not sign in is no wrong password, and the server says so in its own words.
    let _ = server().sql("ALTER ROLE apart NOLOGIN").unwrap();
    match check("apart", "Apart-tide-1").await.result {
        Probe::NoAnswer(why) => assert!(why.contains("not permitted to log in"), "{why}"),
        other => panic!("{other:?}"),
    }
    // A password that the server keeps in another form cannot be checked without showing it.
    let _ = server()
        .sql("SET password_encryption = 'md5'; CREATE ROLE former LOGIN PASSWORD 'Former-tide-1'")
        .unwrap();
    match check("former", "Former-tide-1").await.result {
        Probe::NoAnswer(why) => assert!(
            why.contains("SCRAM-SHA-256") || why.contains("device says"),
            "{why}"
        ),
        Probe::Closed => {}
        other @ Probe::Opened => panic!("{other:?}"),
    }
}

#[tokio::test]
async fn an_operator_and_a_role_itself_change_a_password_that_no_log_ever_has() {
    role("historian");
    let (connector, here) = (postgresql(), here().await);
    let operator = here.operator("rotator", OPERATOR);
    let (second, third) = (
        "Second-tide-2'; DROP ROLE \"x\" --",
        "Third tide $3 \\ \" ü %s",
    );
    // The operator does not need the password that is there now.
    let candidate = here.login(7, "historian", second, 2);
    let met = connector
        .change_as_operator(&operator, &candidate, yes())
        .await;
    assert_eq!(met.result, Change::Applied);
    assert_eq!(connector.check(&candidate).await.result, Probe::Opened);
    assert_eq!(
        connector
            .check(&here.account("historian", FIRST))
            .await
            .result,
        Probe::Closed
    );
    let next = here.login(7, "historian", third, 3);
    let met = connector.change_as_itself(&candidate, &next, yes()).await;
    assert_eq!(met.result, Change::Applied);
    assert_eq!(connector.check(&next).await.result, Probe::Opened);
    // A worker that has lost its lease sends nothing.
    let met = connector
        .change_as_operator(&operator, &candidate, answer(false))
        .await;
    assert_eq!(met.result, Change::LeaseLost);
    assert_eq!(connector.check(&next).await.result, Probe::Opened);
    let stale = here.account("historian", FIRST);
    let met = connector.change_as_itself(&stale, &candidate, yes()).await;
    assert_eq!(met.result, Change::AccountRefused);
    let wrong = here.login(8, "rotator", "Wrong-tide-9", 2);
    let met = connector
        .change_as_operator(&wrong, &candidate, yes())
        .await;
    assert_eq!(met.result, Change::OperatorRefused);
    // What the server refuses, it says.
    for (name, word) in [("nobody", "does not exist"), ("postgres", "superuser")] {
        let target = here.login(7, name, second, 2);
        match connector
            .change_as_operator(&operator, &target, yes())
            .await
            .result
        {
            Change::Refused(why) => assert!(
                why.contains(word) || why.contains("permission denied"),
                "{why}"
            ),
            other => panic!("{name}: {other:?}"),
        }
    }
    let found = connector
        .list_accounts(&operator)
        .await
        .result
        .found()
        .unwrap();
    let of = |login: &str| found.iter().find(|found| found.login == login).unwrap();
    assert!(
        of("rotator").privileged.is_some()
            && of("postgres").privileged.is_some()
            && of("historian").privileged.is_none()
    );
    assert!(of("historian").signs_in);
    let log = server().log().unwrap();
    assert!(
        log.contains("ALTER ROLE \"historian\" PASSWORD 'SCRAM-SHA-256$"),
        "{log}"
    );
    for secret in [OPERATOR, "Second-tide-2", "Third tide"] {
        assert_eq!(
            log.matches(secret).count(),
            usize::from(secret == OPERATOR),
            "{secret}: its own CREATE ROLE alone"
        );
    }
}

#[tokio::test]
async fn a_server_proves_who_it_is_by_its_key_its_pin_or_an_authority() {
    role("gauge");
    let connector = postgresql();
    let at = || place("127.0.0.1", server().port());
    let shown = connector.identify(&at().look()).await.unwrap().remove(0);
    let key = Identity::parse(&shown.key).unwrap();
    let authority = Identity::parse(&server().authority().unwrap()).unwrap();
    let check = async |known: &str| {
        let place = at().known_by(known);
        connector.check(&place.account("gauge", FIRST)).await
    };
    for known in [shown.key.clone(), key.fingerprint(), authority.to_line()] {
        assert_eq!(check(&known).await.result, Probe::Opened, "{known}");
    }
    // Another key, another pin, an authority that did not sign it.
    let stranger = DatabaseServer::temporary().unwrap();
    let elsewhere = place("127.0.0.1", stranger.port());
    let other = connector
        .identify(&elsewhere.look())
        .await
        .unwrap()
        .remove(0);
    let others = Identity::parse(&stranger.authority().unwrap()).unwrap();
    let pin = Identity::parse(&other.key).unwrap().fingerprint();
    for known in [other.key, pin, others.to_line()] {
        let met = check(&known).await;
        match met.result {
            Probe::NoAnswer(why) => assert!(why.contains("did not prove its identity"), "{why}"),
            other => panic!("{known}: {other:?}"),
        }
        assert_eq!(met.presented, None, "nothing to confirm from a stranger");
    }
    // An authority vouches for a name: the same server under another one is a stranger.
    let named = Place {
        address: "localhost".into(),
        ..at().known_by(&authority.to_line())
    };
    match connector.check(&named.account("gauge", FIRST)).await.result {
        Probe::NoAnswer(why) => assert!(why.contains("did not prove its identity"), "{why}"),
        other => panic!("{other:?}"),
    }
}

#[tokio::test]
async fn what_is_no_server_or_does_not_answer_is_said_in_bounded_time() {
    let connector = Postgresql::new(TimeLimits {
        connect: Duration::from_millis(700),
        change: Duration::from_millis(700),
        ..TimeLimits::default()
    });
    let free = jexlin_standins::free_port().unwrap();
    let mut ports = vec![(free, "refused")];
    for (manner, word) in [
        (Manner::Hangs, "did not answer"),
        (Manner::Floods, "does not offer TLS"),
        (Manner::Babbles, "does not offer TLS"),
    ] {
        ports.push((misbehaving_device::device(manner).unwrap(), word));
    }
    for (port, word) in ports {
        let there = place("127.0.0.1", port);
        let why = connector.identify(&there.look()).await.unwrap_err();
        assert!(why.contains(word), "{word}: {why}");
        let there = there.known_by(&format!("SHA256:{}", "A".repeat(43)));
        match connector.check(&there.account("gauge", FIRST)).await.result {
            Probe::NoAnswer(why) => assert!(!why.contains(FIRST) && why.len() < 400, "{why}"),
            other => panic!("{word}: {other:?}"),
        }
    }
}

#[tokio::test]
async fn a_line_that_drops_at_any_byte_leaves_a_password_that_is_known() {
    role("dropped");
    let tried = Tried {
        address: "127.0.0.1",
        port: server().port(),
        account: "dropped",
        first: FIRST,
        operator: ("rotator", OPERATOR),
        dialogue: None,
    };
    tried.drops_at_any_byte(&postgresql(), 40, 190).await;
}

/// A server with a certificate, which asks for the password in the clear (or by MD5), and keeps all
/// that it is sent.
async fn greedy(request: &'static [u8]) -> (u16, Arc<Mutex<Vec<u8>>>) {
    let folder = std::env::temp_dir().join(format!(
        "jexlin-greedy-{}-{}",
        std::process::id(),
        request.len()
    ));
    let acceptor = server_tls(&folder);
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    let heard = Arc::new(Mutex::new(vec![]));
    let ears = Arc::clone(&heard);
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            let mut first = [0; 8];
            let _ = stream.read_exact(&mut first).await;
            let _ = stream.write_all(b"S").await;
            let Ok(mut stream) = acceptor.accept(stream).await else {
                continue;
            };
            let mut buffer = vec![0; 4096];
            if let Ok(count) = stream.read(&mut buffer).await {
                ears.lock().unwrap().extend_from_slice(&buffer[..count]);
            }
            let _ = stream.write_all(request).await;
            while let Ok(count @ 1..) = stream.read(&mut buffer).await {
                ears.lock().unwrap().extend_from_slice(&buffer[..count]);
            }
        }
    });
    (port, heard)
}

#[tokio::test]
async fn a_server_that_never_ends_its_message_is_left_within_bounds() {
    // An error message of two gigabytes, of which nothing but the beginning matters.
    static FLOOD: OnceLock<Vec<u8>> = OnceLock::new();
    let flood = FLOOD.get_or_init(|| {
        let mut flood = b"E\x7f\xff\xff\xff".to_vec();
        flood.resize(32 << 20, b'x');
        flood
    });
    let connector = postgresql();
    let (port, _) = greedy(flood).await;
    let there = place("127.0.0.1", port).confirmed(&connector).await;
    match connector
        .check(&there.account("historian", FIRST))
        .await
        .result
    {
        Probe::NoAnswer(why) => assert!(why.contains("sends too much"), "{why}"),
        other => panic!("{other:?}"),
    }
}

#[tokio::test]
async fn a_server_that_asks_for_the_password_itself_does_not_get_it() {
    let connector = postgresql();
    // AuthenticationCleartextPassword and AuthenticationMD5Password.
    for request in [&b"R\0\0\0\x08\0\0\0\x03"[..], b"R\0\0\0\x0c\0\0\0\x05salt"] {
        let (port, heard) = greedy(request).await;
        let there = place("127.0.0.1", port).confirmed(&connector).await;
        match connector
            .check(&there.account("historian", FIRST))
            .await
            .result
        {
            Probe::NoAnswer(why) => {
                assert!(why.contains("no other way of signing in is used"), "{why}")
            }
            other => panic!("{other:?}"),
        }
        let heard = heard.lock().unwrap();
        assert!(
            heard.windows(9).any(|part| part == b"historian"),
            "it came as far as the user name"
        );
        // After the first message, whose length is in its first four bytes, nothing but a goodbye.
        let first = u32::from_be_bytes(heard[..4].try_into().unwrap());
        assert!(
            matches!(heard[first as usize..], [] | [b'X', 0, 0, 0, 4]),
            "{heard:?}"
        );
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, ..ProptestConfig::default() })]

    #[test]
    fn every_printable_password_opens_what_it_was_set_on(password in "[ -~äß€\u{2003}]{12,40}") {
        static ROLE: std::sync::Once = std::sync::Once::new();
        ROLE.call_once(|| role("nasty \"\"role\"\""));
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let (connector, here) = (postgresql(), here().await);
            let candidate = here.login(7, "nasty \"role\"", &password, 2);
            let operator = here.operator("rotator", OPERATOR);
            let met = connector.change_as_operator(&operator, &candidate, yes()).await;
            assert_eq!(met.result, Change::Applied);
            assert_eq!(connector.check(&candidate).await.result, Probe::Opened);
        });
    }
}

#[tokio::test]
async fn an_operator_signs_in_once_for_many_changes_and_again_after_the_line_was_cut() {
    role("kept");
    let line = Wire::to("127.0.0.1", server().port()).unwrap();
    let connector = postgresql();
    let there = place("127.0.0.1", line.port()).confirmed(&connector).await;
    let operator = there.operator("rotator", OPERATOR);
    let candidate = there.login(7, "kept", "Kept-tide-2", 2);
    changes_over_a_kept_session(&connector, &line, &operator, &candidate).await;
}

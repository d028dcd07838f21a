//! The Redis connector against a real server, and against one that lies.

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

use jexlin_devices::redis::Redis;
use jexlin_devices::{Change, Connector as _, Probe, TimeLimits};
use jexlin_standins::redis_server::{OPERATOR_RIGHTS, RedisServer};
use proptest::prelude::*;

use rig::watch::{Watched, watched};
use rig::{Place, Tried, answer, place, yes};

const OPERATOR: &str = "Operator-tide-1";
const FIRST: &str = "Gauge-tide-1";

fn users() -> Vec<String> {
    let mut users = vec![format!("rotator on >{OPERATOR} {OPERATOR_RIGHTS}")];
    for name in ["duty", "night", "nasty", "dropped", "gauge"] {
        users.push(format!("{name} on >{FIRST} ~* +@read"));
    }
    users.push(format!("off off >{FIRST} ~* +@read"));
    users.push("open on nopass ~* +@read".to_owned());
    users.push(format!("chief on >{FIRST} ~* +@all"));
    users
}

fn start() -> RedisServer {
    let users = users();
    let lines: Vec<&str> = users.iter().map(String::as_str).collect();
    RedisServer::temporary(&lines).expect("a server")
}

fn server() -> &'static RedisServer {
    static SERVER: OnceLock<RedisServer> = OnceLock::new();
    SERVER.get_or_init(start)
}

fn redis() -> Watched {
    watched(Redis::new(TimeLimits {
        connect: Duration::from_secs(5),
        change: Duration::from_secs(5),
        ..TimeLimits::default()
    }))
}

async fn here() -> Place {
    place("127.0.0.1", server().port())
        .confirmed(&redis())
        .await
}

#[tokio::test]
async fn a_check_tells_the_right_password_from_a_wrong_one() {
    let (connector, here) = (redis(), here().await);
    let check = async |user: &str, password: &str| {
        connector.check(&here.account(user, password)).await.result
    };
    assert_eq!(check("night", FIRST).await, Probe::Opened);
    assert_eq!(check("night", "Wrong-tide-9").await, Probe::Closed);
    assert_eq!(check("nobody", FIRST).await, Probe::Closed);
    // The server does not tell a user that is off from a wrong password.
    assert_eq!(check("off", FIRST).await, Probe::Closed);
    // One that opens with anything proves nothing by opening.
    match check("open", FIRST).await {
        Probe::NoAnswer(why) => assert!(why.contains("nopass"), "{why}"),
        other => panic!("{other:?}"),
    }
}

#[tokio::test]
async fn an_operator_changes_a_password_that_outlives_the_server_and_that_nothing_written_has() {
    let mut server = start();
    let connector = redis();
    let here = place("127.0.0.1", server.port())
        .confirmed(&connector)
        .await;
    let operator = here.operator("rotator", OPERATOR);
    for (user, password) in [("duty", "Second-tide-2"), ("open", "Closed-tide-2")] {
        let candidate = here.login(7, user, password, 2);
        let met = connector
            .change_as_operator(&operator, &candidate, yes())
            .await;
        assert_eq!(met.result, Change::Applied);
        assert_eq!(connector.check(&candidate).await.result, Probe::Opened);
        let first = here.account(user, FIRST);
        assert_eq!(connector.check(&first).await.result, Probe::Closed);
    }
    server.restart().unwrap();
    let candidate = here.login(7, "duty", "Second-tide-2", 2);
    assert_eq!(connector.check(&candidate).await.result, Probe::Opened);
    let written = server.written().unwrap();
    assert!(written.contains("user duty on"), "the file is read");
    for secret in ["Second-tide-2", "Closed-tide-2"] {
        assert!(!written.contains(secret), "{secret}");
    }
    // The others keep what they had, and nobody new is made.
    let night = here.account("night", FIRST);
    assert_eq!(connector.check(&night).await.result, Probe::Opened);
    let stranger = here.login(7, "stranger", "Second-tide-2", 2);
    let met = connector
        .change_as_operator(&operator, &stranger, yes())
        .await;
    assert_eq!(
        met.result,
        Change::Refused("there is no such user".to_owned())
    );
    assert!(!server.written().unwrap().contains("user stranger"));
    let met = connector
        .change_as_operator(&operator, &candidate, answer(false))
        .await;
    assert_eq!(met.result, Change::LeaseLost);
    let wrong = here.operator("rotator", "Wrong-tide-9");
    let met = connector
        .change_as_operator(&wrong, &candidate, yes())
        .await;
    assert_eq!(met.result, Change::OperatorRefused);
    let powerless = here.operator("night", FIRST);
    let met = connector
        .change_as_operator(&powerless, &candidate, yes())
        .await;
    match met.result {
        Change::Refused(why) => assert!(
            why.contains("NOPERM") && !why.contains("Second-tide-2"),
            "{why}"
        ),
        other => panic!("{other:?}"),
    }
    let met = connector.change_as_itself(&night, &candidate, yes()).await;
    assert!(matches!(met.result, Change::NotReached(_)));
    let found = connector
        .list_accounts(&operator)
        .await
        .result
        .found()
        .unwrap();
    let of = |login: &str| {
        let account = found.iter().find(|account| account.login == login);
        account.map(|account| (account.signs_in, account.privileged.is_some()))
    };
    assert_eq!(of("night"), Some((true, false)));
    assert_eq!(of("off"), Some((false, false)));
    assert_eq!(of("chief"), Some((true, true)));
}

#[tokio::test]
async fn a_server_that_cannot_keep_a_password_is_not_given_one() {
    let server = start();
    let connector = redis();
    let here = place("127.0.0.1", server.port())
        .confirmed(&connector)
        .await;
    // A folder in the way of the file that it writes.
    let file = server.users_file();
    std::fs::remove_file(&file).unwrap();
    std::fs::create_dir(&file).unwrap();
    let candidate = here.login(7, "duty", "Second-tide-2", 2);
    let operator = here.operator("rotator", OPERATOR);
    let met = connector
        .change_as_operator(&operator, &candidate, yes())
        .await;
    assert!(matches!(met.result, Change::Refused(why) if why.contains("ACL")));
    let first = here.account("duty", FIRST);
    assert_eq!(connector.check(&first).await.result, Probe::Opened);
}

#[tokio::test]
async fn a_server_proves_who_it_is_by_its_key_its_pin_or_an_authority() {
    let authority = server().authority().unwrap();
    let tried = Tried {
        address: "127.0.0.1",
        port: server().port(),
        account: "gauge",
        first: FIRST,
        operator: ("rotator", OPERATOR),
        dialogue: None,
    };
    tried.proves_who_it_is(&redis(), &authority).await;
}

#[tokio::test]
async fn what_is_no_server_or_does_not_answer_is_said_in_bounded_time() {
    let connector = Redis::new(TimeLimits {
        connect: Duration::from_millis(700),
        change: Duration::from_millis(700),
        ..TimeLimits::default()
    });
    rig::is_left_in_bounded_time(&connector, "gauge", FIRST).await;
}

#[tokio::test]
async fn a_server_that_says_the_password_back_or_never_ends_is_left_within_bounds() {
    let folder = std::env::temp_dir().join(format!("jexlin-redis-echo-{}", std::process::id()));
    for said in [
        None,
        Some(b"$99999999\r\n".as_slice()),
        Some(b"*1\r\n".as_slice()),
    ] {
        let port = rig::lying(&folder, move |heard: &[u8]| match said {
            None => [b"-ERR what is ", heard, b"\r\n"].concat(),
            Some(said) => said.repeat(2000),
        })
        .await;
        let connector = Redis::new(TimeLimits {
            connect: Duration::from_secs(2),
            change: Duration::from_secs(2),
            ..TimeLimits::default()
        });
        let there = place("127.0.0.1", port).confirmed(&connector).await;
        let operator = there.operator("rotator", OPERATOR);
        let candidate = there.login(7, "duty", "Second-tide-2", 2);
        let met = connector
            .change_as_operator(&operator, &candidate, yes())
            .await;
        match met.result {
            Change::NotReached(why) => {
                assert!(why.len() < 500 && !why.contains(OPERATOR), "{why}");
                assert!(said.is_some() || why.contains("what is"), "{why}");
            }
            other => panic!("{other:?}"),
        }
        let met = connector.check(&there.account("duty", FIRST)).await;
        assert!(matches!(met.result, Probe::NoAnswer(why) if !why.contains(FIRST)));
    }
}

#[tokio::test]
async fn a_line_that_drops_at_any_byte_leaves_a_password_that_is_known() {
    let tried = Tried {
        address: "127.0.0.1",
        port: server().port(),
        account: "dropped",
        first: FIRST,
        operator: ("rotator", OPERATOR),
        dialogue: None,
    };
    tried.drops_at_any_byte(&redis(), 30, 130).await;
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, ..ProptestConfig::default() })]

    #[test]
    fn every_password_opens_what_it_was_set_on(password in "[ -~äß€\u{2003}\r\n\t]{12,40}") {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let (connector, here) = (redis(), here().await);
            let candidate = here.login(7, "nasty", &password, 2);
            let operator = here.operator("rotator", OPERATOR);
            let met = connector.change_as_operator(&operator, &candidate, yes()).await;
            assert_eq!(met.result, Change::Applied);
            assert_eq!(connector.check(&candidate).await.result, Probe::Opened);
        });
    }
}

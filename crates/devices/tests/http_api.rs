//! HTTP APIs by a recipe, on real servers: etcd and InfluxDB.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing,
    reason = "what cannot be set up ends the test"
)]

mod rig;

use std::sync::Arc;
use std::time::Duration;

use jexlin_core::dialogue::Instructions;
use jexlin_core::upkeep::ConnectorKind;
use jexlin_devices::{Change, Connector, Listing, Probe, TimeLimits};
use jexlin_standins::api_servers::ApiServer;
use jexlin_standins::cloud_console::{CloudConsole, KEEPER};
use rig::watch::{Watched, watched_too};
use rig::{Place, Tried, answer, is_left_in_bounded_time, lying, place, yes};

const ETCD: &str = include_str!("../../../demo/recipes/etcd.toml");
const RABBITMQ: &str = include_str!("../../../demo/recipes/rabbitmq.toml");
const INFLUXDB: &str = include_str!("../../../demo/recipes/influxdb.toml");
const HARBOUR: &str = include_str!("../../../demo/recipes/harbour-console.toml");
const FIRST: &str = "Duty-2019-a";

fn recipe(text: &str) -> Arc<Instructions> {
    Arc::new(Instructions::read(text).expect("a recipe"))
}

fn at(port: u16, text: &str) -> Place {
    Place {
        dialogue: Some(recipe(text)),
        ..place("127.0.0.1", port)
    }
}

fn connector() -> Watched {
    watched_too(jexlin_devices::connector(
        ConnectorKind::HttpApi,
        TimeLimits {
            connect: Duration::from_secs(5),
            change: Duration::from_secs(5),
            ..TimeLimits::default()
        },
    ))
}

/// A server with its operator: the recipe, and the operator's name and password.
struct Server {
    server: ApiServer,
    text: &'static str,
    operator: (&'static str, &'static str),
    /// Whether it says which users are administrators.
    tells_privileged: bool,
}

fn etcd() -> Server {
    let users = [("root", "Root-2019-a"), ("duty", FIRST)];
    Server {
        server: ApiServer::etcd(&users).expect("etcd"),
        text: ETCD,
        operator: ("root", "Root-2019-a"),
        tells_privileged: false,
    }
}

fn influxdb() -> Server {
    let users = [("rotator", "Rotator-2019-a"), ("duty", FIRST)];
    Server {
        server: ApiServer::influxdb(&users).expect("InfluxDB"),
        text: INFLUXDB,
        operator: ("rotator", "Rotator-2019-a"),
        tells_privileged: true,
    }
}

fn rabbitmq() -> Server {
    let users = [("rotator", "Rotator-2019-a"), ("duty", FIRST)];
    Server {
        server: ApiServer::rabbitmq(&users).expect("RabbitMQ"),
        text: RABBITMQ,
        operator: ("rotator", "Rotator-2019-a"),
        tells_privileged: true,
    }
}

/// Checks and changes, right and wrong ones; passwords of every character that the server takes.
async fn is_kept_up(of: &Server) {
    let connector = connector();
    let there = at(of.server.port(), of.text);
    let check = async |password: &str| connector.check(&there.account("duty", password)).await;
    assert_eq!(check(FIRST).await.result, Probe::Opened);
    let wrong = check("wrong").await;
    assert_eq!(wrong.result, Probe::Closed, "{wrong:?}");
    let nobody = connector.check(&there.account("nobody", FIRST)).await;
    assert_eq!(nobody.result, Probe::Closed, "{nobody:?}");
    let operator = there.operator(of.operator.0, of.operator.1);
    let takes = there.dialogue.as_ref().expect("one").head().takes().clone();
    let all: Vec<char> = (' '..='~')
        .filter(|c| takes.problem(&c.to_string()).is_none())
        .collect();
    let mut passwords: Vec<String> = all.chunks(40).map(|part| part.iter().collect()).collect();
    passwords.push("Gezeitenhöhe-ß-77".into());
    for password in &passwords {
        let met = connector
            .change_as_operator(&operator, &there.account("duty", password), yes())
            .await;
        assert_eq!(met.result, Change::Applied, "{met:?}");
        assert_eq!(check(password).await.result, Probe::Opened, "{password}");
        let shown = format!("{met:?}");
        assert!(!shown.contains(password.as_str()) && !shown.contains(of.operator.1));
        assert!(!met.transcript.is_empty());
    }
    let last = passwords.last().expect("one");
    let listed = connector.list_accounts(&operator).await;
    let Listing::Found(found) = &listed.result else {
        panic!("{listed:?}");
    };
    let names: Vec<&str> = found.iter().map(|one| one.login.as_str()).collect();
    for name in ["duty", of.operator.0] {
        assert!(names.contains(&name), "{names:?}");
    }
    let privileged = |name: &str| {
        found
            .iter()
            .any(|one| one.login == name && one.privileged.is_some())
    };
    assert_eq!(privileged(of.operator.0), of.tells_privileged);
    assert!(!privileged("duty"));
    let wrong = there.operator(of.operator.0, "wrong");
    let listed = connector.list_accounts(&wrong).await;
    assert_eq!(listed.result, Listing::OperatorRefused, "{listed:?}");
    let powerless = there.operator("duty", last);
    let listed = connector.list_accounts(&powerless).await;
    assert!(
        matches!(&listed.result, Listing::NoAnswer(why) if why.contains("the operator")),
        "{listed:?}"
    );
    let refused = connector
        .change_as_operator(
            &there.operator(of.operator.0, "wrong"),
            &there.account("duty", "New-tide-1"),
            yes(),
        )
        .await;
    assert_eq!(refused.result, Change::OperatorRefused, "{refused:?}");
    let missing = connector
        .change_as_operator(&operator, &there.account("nobody", "New-tide-1"), yes())
        .await;
    assert!(
        matches!(&missing.result, Change::Refused(why) if why.contains("no such user")),
        "{missing:?}"
    );
    let late = connector
        .change_as_operator(
            &operator,
            &there.account("duty", "New-tide-1"),
            answer(false),
        )
        .await;
    assert_eq!(late.result, Change::LeaseLost);
    assert_eq!(
        check(last).await.result,
        Probe::Opened,
        "nothing has changed"
    );
    let none = place("127.0.0.1", of.server.port());
    let without = connector.check(&none.account("duty", last)).await;
    assert!(matches!(without.result, Probe::NoAnswer(_)));
    // Neither its log nor what it tells has a password.
    let written = of.server.written().expect("its log");
    assert!(!written.is_empty());
    for password in passwords.iter().filter(|it| it.len() > 20) {
        assert!(
            !written.contains(password.as_str()),
            "{password} is in the log"
        );
    }
}

async fn holds_when_things_go_wrong(of: &Server) {
    let tried = Tried {
        address: "127.0.0.1",
        port: of.server.port(),
        account: "duty",
        first: FIRST,
        operator: of.operator,
        dialogue: Some(recipe(of.text)),
    };
    let connector = connector();
    let authority = of.server.authority().expect("its authority");
    tried.proves_who_it_is(&connector, &authority).await;
    tried.drops_at_any_byte(&connector, 12, 700).await;
}

#[tokio::test]
async fn a_console_with_sessions_is_kept_up_by_its_operator_and_by_the_account() {
    let text = HARBOUR;
    let console =
        CloudConsole::temporary(&[(KEEPER, "Master-2019-a"), ("backups", FIRST)]).unwrap();
    let there = at(console.port(), text);
    let connector = connector();
    let account = |password: &str| there.account("backups", password);
    let operator = there.operator(KEEPER, "Master-2019-a");
    let check = async |password: &str| connector.check(&account(password)).await.result;
    assert_eq!(check(FIRST).await, Probe::Opened);
    assert_eq!(check("wrong").await, Probe::Closed);
    let changed = connector
        .change_as_operator(&operator, &account("New; tide=1&2 %41"), yes())
        .await;
    assert_eq!(changed.result, Change::Applied, "{changed:?}");
    assert_eq!(console.password("backups"), "New; tide=1&2 %41");
    let own = connector
        .change_as_itself(
            &account("New; tide=1&2 %41"),
            &account("Own-tide-2-x"),
            yes(),
        )
        .await;
    assert_eq!(own.result, Change::Applied, "{own:?}");
    assert_eq!(check("Own-tide-2-x").await, Probe::Opened);
    let short = connector
        .change_as_operator(&operator, &account("short"), yes())
        .await;
    assert_eq!(
        short.result,
        Change::Refused("A password has at least 10 characters.".into())
    );
    let weak = there.operator("backups", "Own-tide-2-x");
    let other = there.account(KEEPER, "Taken-over-1");
    let refused = connector.change_as_operator(&weak, &other, yes()).await;
    assert_eq!(
        refused.result,
        Change::Refused("Only harbour-master changes the passwords of others.".into())
    );
    for met in [&changed, &own, &short] {
        let shown = format!("{met:?}");
        assert!(
            !shown.contains("tide") && !shown.contains("Master-2019-a"),
            "{shown}"
        );
    }
    for _ in 0..5 {
        let _ = check("wrong").await;
    }
    let listed = connector.list_accounts(&operator).await;
    let Listing::Found(found) = listed.result else {
        panic!("{listed:?}");
    };
    let shown: Vec<(&str, Option<&str>, Option<bool>)> = found
        .iter()
        .map(|one| (one.login.as_str(), one.privileged.as_deref(), one.locked))
        .collect();
    assert_eq!(
        shown,
        [
            ("backups", None, Some(true)),
            (KEEPER, Some("owner"), Some(false))
        ]
    );
    assert!(
        matches!(check("Own-tide-2-x").await, Probe::NoAnswer(why) if why.contains("the account is locked"))
    );
}

#[tokio::test]
async fn etcd_is_kept_up() {
    let server = etcd();
    is_kept_up(&server).await;
}

#[tokio::test]
async fn influxdb_is_kept_up() {
    let server = influxdb();
    is_kept_up(&server).await;
}

#[tokio::test]
async fn rabbitmq_is_kept_up_proves_who_it_is_and_may_be_cut_off() {
    let server = rabbitmq();
    is_kept_up(&server).await;
    // A change sends the tags back as they were: the account may still look.
    let there = at(server.server.port(), RABBITMQ);
    let operator = there.operator(server.operator.0, server.operator.1);
    let back = connector()
        .change_as_operator(&operator, &there.account("duty", FIRST), yes())
        .await;
    assert_eq!(back.result, Change::Applied);
    assert!(format!("{:?}", back.transcript).contains("monitoring"));
    holds_when_things_go_wrong(&server).await;
}

#[tokio::test]
async fn etcd_proves_who_it_is_and_may_be_cut_off() {
    holds_when_things_go_wrong(&etcd()).await;
}

#[tokio::test]
async fn influxdb_proves_who_it_is_and_may_be_cut_off() {
    holds_when_things_go_wrong(&influxdb()).await;
}

#[tokio::test]
async fn what_hangs_floods_or_babbles_is_left() {
    is_left_in_bounded_time(&connector(), "duty", FIRST).await;
}

#[tokio::test]
async fn a_server_that_lies_floods_or_echoes_is_believed_no_further_than_it_goes() {
    let folder = std::env::temp_dir().join(format!("jexlin-lying-api-{}", std::process::id()));
    let echo = |heard: &[u8]| {
        let body = String::from_utf8_lossy(heard).into_owned();
        format!(
            "HTTP/1.1 403 Forbidden\r\ncontent-length: {}\r\n\r\n{body}",
            body.len()
        )
        .into_bytes()
    };
    let flood = |_: &[u8]| {
        [
            b"HTTP/1.1 200 OK\r\ncontent-length: 4000000\r\n\r\n".to_vec(),
            vec![b'x'; 4_000_000],
        ]
        .concat()
    };
    let turn_away = |_: &[u8]| {
        b"HTTP/1.1 307 Temporary Redirect\r\nlocation: https://192.0.2.7/\r\ncontent-length: 0\r\n\r\n".to_vec()
    };
    let nonsense = |_: &[u8]| b"I am no server\r\n\r\n".to_vec();
    type Says = Box<dyn Fn(&[u8]) -> Vec<u8> + Send>;
    let cases: [(&str, Says, &str); 4] = [
        ("echo", Box::new(echo), "answered 403"),
        ("flood", Box::new(flood), "length limit exceeded"),
        ("turn", Box::new(turn_away), "answered 307"),
        ("nonsense", Box::new(nonsense), "the connection was lost"),
    ];
    for (name, say, expected) in cases {
        let port = lying(&folder.join(name), say).await;
        let there = at(port, ETCD);
        let met = connector()
            .check(&there.account("duty", "Secret-tide-41"))
            .await;
        let shown = format!("{met:?}");
        assert!(shown.contains(expected), "{name}: {shown}");
        assert!(!shown.contains("tide"), "{name}: {shown}");
    }
    let _ = std::fs::remove_dir_all(&folder);
}

/// The recipe of the cloud console for an operator that signs in by a certificate.
fn by_certificate() -> String {
    HARBOUR
        .replace("recipe = 1\n", "recipe = 1\nclient_certificate = true\n")
        .replace(
            "path = \"/session\"\nform = { name = \"{operator}\", password = \"{operator_password}\" }",
            "path = \"/session/certificate\"",
        )
}

#[tokio::test]
async fn an_operator_signs_in_by_a_client_certificate_whose_key_is_in_no_request() {
    let accounts = [(KEEPER, "Harbour-2019-a"), ("duty", FIRST)];
    let (console, stranger) = (
        CloudConsole::temporary(&accounts).unwrap(),
        CloudConsole::temporary(&accounts).unwrap(),
    );
    let (certificate, key) = console.client_certificate().unwrap();
    let (other_certificate, other_key) = stranger.client_certificate().unwrap();
    let text = by_certificate();
    let says_it = text.replace(
        "path = \"/session/certificate\"",
        "path = \"/session/certificate\"\njson = { key = \"{operator_password}\" }",
    );
    let rotate = async |text: &str, certificate: &str, secret: &str| {
        let place = Place {
            certificate: certificate.to_owned(),
            connector: ConnectorKind::HttpApi,
            ..at(console.port(), text)
        };
        let (operator, account) = (
            place.operator(KEEPER, secret),
            place.account("duty", "Low-tide-77-north"),
        );
        let met = connector()
            .change_as_operator(&operator, &account, yes())
            .await;
        format!("{:?}", met.result)
    };
    for (text, certificate, secret, expected) in [
        (
            &text,
            &certificate,
            "Harbour-2019-a",
            "signs in by a client certificate",
        ),
        (&text, &other_certificate, &*other_key, "NotReached"),
        (
            &text,
            &certificate,
            &other_key,
            "certificate cannot be shown",
        ),
        (&text, &String::new(), &key, "has no certificate"),
        (
            &says_it,
            &certificate,
            &key,
            "has no value, or one that is not allowed there",
        ),
    ] {
        let said = rotate(text, certificate, secret).await;
        assert!(said.contains(expected), "{expected}: {said}");
        assert_eq!(console.password("duty"), FIRST);
    }
    assert_eq!(rotate(&text, &certificate, &key).await, "Applied");
    assert_eq!(console.password("duty"), "Low-tide-77-north");
    // Where the recipe does not say so, a private key is bound to nothing: it would be sent.
    let plain = Place {
        connector: ConnectorKind::HttpApi,
        ..at(console.port(), HARBOUR)
    };
    let bound = std::panic::catch_unwind(|| plain.operator(KEEPER, &key));
    assert!(bound.is_err());
}

//! The LDAP connector against OpenLDAP and 389 Directory Server, over TLS.

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

use jexlin_devices::ldap::Ldap;
use jexlin_devices::{Change, Connector as _, Probe, TimeLimits};
use jexlin_standins::directory_server::{DirectoryServer, SUFFIX};
use jexlin_standins::misbehaving_device::Wire;
use proptest::prelude::*;

use rig::watch::{Watched, watched};
use rig::{Place, Tried, answer, changes_over_a_kept_session, place, yes};

const OPERATOR: &str = "Operator-tide-1";
const FIRST: &str = "Duty-tide-1";

const ACCOUNTS: [(&str, &str); 6] = [
    ("duty", FIRST),
    ("night", FIRST),
    ("gauge", FIRST),
    ("dropped", FIRST),
    ("nasty", FIRST),
    ("kept", FIRST),
];

fn openldap() -> &'static DirectoryServer {
    static SERVER: OnceLock<DirectoryServer> = OnceLock::new();
    SERVER.get_or_init(|| DirectoryServer::temporary(OPERATOR, &ACCOUNTS).expect("OpenLDAP"))
}

fn ds_389() -> &'static DirectoryServer {
    static SERVER: OnceLock<DirectoryServer> = OnceLock::new();
    SERVER.get_or_init(|| {
        DirectoryServer::temporary_389(OPERATOR, &ACCOUNTS).expect("389 Directory Server")
    })
}

/// Runs each of these against both directories.
macro_rules! against_both {
    ($($name:ident)*) => {
        mod openldap {
            $(#[tokio::test]
            async fn $name() {
                super::$name(super::openldap()).await;
            })*
        }
        mod ds_389 {
            $(#[tokio::test]
            async fn $name() {
                super::$name(super::ds_389()).await;
            })*
        }
    };
}

against_both! {
    a_check_tells_the_right_password_from_a_wrong_one
    an_operator_and_an_account_itself_change_a_password
    a_directory_proves_who_it_is_by_its_key_its_pin_or_an_authority
    a_line_that_drops_at_any_byte_leaves_a_password_that_is_known
    an_operator_signs_in_once_for_many_changes_and_again_after_the_line_was_cut
}

fn dn(name: &str) -> String {
    format!("uid={name},ou=people,{SUFFIX}")
}

fn rotator() -> String {
    format!("cn=rotator,{SUFFIX}")
}

fn ldap() -> Watched {
    watched(Ldap::new(TimeLimits {
        connect: Duration::from_secs(5),
        change: Duration::from_secs(5),
        ..TimeLimits::default()
    }))
}

async fn at(server: &DirectoryServer) -> Place {
    place("127.0.0.1", server.port()).confirmed(&ldap()).await
}

async fn a_check_tells_the_right_password_from_a_wrong_one(server: &DirectoryServer) {
    let (connector, here) = (ldap(), at(server).await);
    let check = async |name: &str, password: &str| {
        connector.check(&here.account(name, password)).await.result
    };
    assert_eq!(check(&dn("night"), FIRST).await, Probe::Opened);
    assert_eq!(check(&dn("night"), "Wrong-tide-9").await, Probe::Closed);
    assert_eq!(check(&dn("nobody"), FIRST).await, Probe::Closed);
    // A directory says yes to whoever gives no password; that opens nothing.
    assert!(matches!(check(&dn("night"), "").await, Probe::NoAnswer(_)));
    match check("not a name", FIRST).await {
        // The device's own words: "invalid DN", "invalid bind dn".
        Probe::NoAnswer(why) => assert!(why.contains("(result 34)"), "{why}"),
        other => panic!("{other:?}"),
    }
}

async fn an_operator_and_an_account_itself_change_a_password(server: &DirectoryServer) {
    let (connector, here) = (ldap(), at(server).await);
    let operator = here.operator(&rotator(), OPERATOR);
    let duty = dn("duty");
    let candidate = here.login(7, &duty, "Second-tide-2", 2);
    let met = connector
        .change_as_operator(&operator, &candidate, yes())
        .await;
    assert_eq!(met.result, Change::Applied);
    assert_eq!(connector.check(&candidate).await.result, Probe::Opened);
    let first = here.account(&duty, FIRST);
    assert_eq!(connector.check(&first).await.result, Probe::Closed);
    let next = here.login(7, &duty, "Third tide 3 ü", 3);
    let met = connector.change_as_itself(&candidate, &next, yes()).await;
    assert_eq!(met.result, Change::Applied);
    assert_eq!(connector.check(&next).await.result, Probe::Opened);
    let met = connector
        .change_as_operator(&operator, &candidate, answer(false))
        .await;
    assert_eq!(met.result, Change::LeaseLost);
    let met = connector.change_as_itself(&first, &candidate, yes()).await;
    assert_eq!(met.result, Change::AccountRefused);
    let wrong = here.login(8, &rotator(), "Wrong-tide-9", 2);
    let met = connector
        .change_as_operator(&wrong, &candidate, yes())
        .await;
    assert_eq!(met.result, Change::OperatorRefused);
    // An account that is no operator, and an account that is not there.
    let powerless = here.operator(&dn("night"), FIRST);
    for (operator, target) in [(&powerless, duty.as_str()), (&operator, &dn("nobody"))] {
        let target = here.login(7, target, "Second-tide-2", 2);
        match connector
            .change_as_operator(operator, &target, yes())
            .await
            .result
        {
            Change::Refused(why) => assert!(!why.contains("Second-tide-2"), "{why}"),
            other => panic!("{other:?}"),
        }
    }
    assert_eq!(connector.check(&next).await.result, Probe::Opened);
    let found = connector
        .list_accounts(&operator)
        .await
        .result
        .found()
        .unwrap();
    for name in [dn("duty"), dn("night"), rotator()] {
        assert!(found.iter().any(|found| found.login == name), "{name}");
    }
    let log = server.log().unwrap();
    // OpenLDAP has the name of the operation, 389 Directory Server its number as well.
    assert!(
        log.contains("PASSMOD") || log.contains("1.3.6.1.4.1.4203.1.11.1"),
        "it logs what is done"
    );
    for secret in [OPERATOR, "Second-tide-2", "Third tide"] {
        assert!(!log.contains(secret), "{secret}");
    }
}

async fn a_directory_proves_who_it_is_by_its_key_its_pin_or_an_authority(server: &DirectoryServer) {
    let authority = server.authority().unwrap();
    let tried = Tried {
        address: "127.0.0.1",
        port: server.port(),
        account: &dn("gauge"),
        first: FIRST,
        operator: (&rotator(), OPERATOR),
        dialogue: None,
    };
    tried.proves_who_it_is(&ldap(), &authority).await;
}

#[tokio::test]
async fn what_is_no_directory_or_does_not_answer_is_said_in_bounded_time() {
    let connector = Ldap::new(TimeLimits {
        connect: Duration::from_millis(700),
        change: Duration::from_millis(700),
        ..TimeLimits::default()
    });
    rig::is_left_in_bounded_time(&connector, &dn("gauge"), FIRST).await;
}

/// A directory that answers every bind with another error, and says back all that it was sent.
async fn echoing() -> u16 {
    let folder = std::env::temp_dir().join(format!("jexlin-echo-{}", std::process::id()));
    rig::lying(&folder, |heard| {
        // The end of it, where the password is: short enough for lengths of one byte.
        let said = &heard[heard.len().saturating_sub(60)..];
        let length = |more: usize| u8::try_from(said.len() + more).unwrap();
        // LDAPMessage 1, BindResponse: other (80), no name, these words.
        let mut answer = vec![0x30, length(12), 2, 1, 1, 0x61, length(7)];
        answer.extend([0x0a, 1, 80, 4, 0, 4, length(0)]);
        answer.extend(said);
        answer
    })
    .await
}

#[tokio::test]
async fn a_directory_that_says_the_password_back_is_quoted_without_it() {
    let connector = ldap();
    let there = place("127.0.0.1", echoing().await)
        .confirmed(&connector)
        .await;
    let name = dn("duty");
    let met = connector.check(&there.account(&name, FIRST)).await;
    match met.result {
        Probe::NoAnswer(why) => assert!(
            why.contains("(result 80)") && why.contains("dc=example") && !why.contains(FIRST),
            "{why}"
        ),
        other => panic!("{other:?}"),
    }
    let candidate = there.login(7, &name, "Second-tide-2", 2);
    let operator = there.operator(&rotator(), OPERATOR);
    let met = connector
        .change_as_operator(&operator, &candidate, yes())
        .await;
    match met.result {
        Change::NotReached(why) => assert!(!why.contains(OPERATOR), "{why}"),
        other => panic!("{other:?}"),
    }
}

async fn a_line_that_drops_at_any_byte_leaves_a_password_that_is_known(server: &DirectoryServer) {
    let tried = Tried {
        address: "127.0.0.1",
        port: server.port(),
        account: &dn("dropped"),
        first: FIRST,
        operator: (&rotator(), OPERATOR),
        dialogue: None,
    };
    tried.drops_at_any_byte(&ldap(), 30, 130).await;
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, ..ProptestConfig::default() })]

    #[test]
    fn every_printable_password_opens_what_it_was_set_on(password in "[ -~äß€\u{2003}]{12,40}") {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        for server in [openldap(), ds_389()] {
            runtime.block_on(async {
                let (connector, here) = (ldap(), at(server).await);
                let candidate = here.login(7, &dn("nasty"), &password, 2);
                let operator = here.operator(&rotator(), OPERATOR);
                let met = connector.change_as_operator(&operator, &candidate, yes()).await;
                assert_eq!(met.result, Change::Applied);
                assert_eq!(connector.check(&candidate).await.result, Probe::Opened);
            });
        }
    }
}

async fn an_operator_signs_in_once_for_many_changes_and_again_after_the_line_was_cut(
    server: &DirectoryServer,
) {
    let kept = dn("kept");
    let line = Wire::to("127.0.0.1", server.port()).unwrap();
    let connector = ldap();
    let there = place("127.0.0.1", line.port()).confirmed(&connector).await;
    let operator = there.operator(&rotator(), OPERATOR);
    let candidate = there.login(7, &kept, "Kept-tide-2", 2);
    changes_over_a_kept_session(&connector, &line, &operator, &candidate).await;
}

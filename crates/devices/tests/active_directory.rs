//! The connector of Active Directory against Samba's domain controller.

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

use jexlin_devices::active_directory::ActiveDirectory;
use jexlin_devices::{Change, Connector as _, Probe, TimeLimits};
use jexlin_standins::domain_controller::{DOMAIN, DomainController, PORT};
use jexlin_standins::misbehaving_device::Wire;
use proptest::prelude::*;

use rig::watch::{Watched, watched};
use rig::{Place, Tried, answer, changes_over_a_kept_session, place, yes};

const OPERATOR: &str = "Operator-tide-1";
const FIRST: &str = "Duty-tide-1";

fn controller() -> &'static DomainController {
    static CONTROLLER: OnceLock<DomainController> = OnceLock::new();
    CONTROLLER.get_or_init(|| {
        let mut accounts = vec![("rotator", OPERATOR)];
        for name in [
            "duty", "night", "off", "locked", "must", "nasty", "dropped", "gauge", "kept",
        ] {
            accounts.push((name, FIRST));
        }
        let controller = DomainController::temporary(&accounts).expect("a domain controller");
        controller.disable("off").expect("its tool");
        controller.expire("must", "Must-tide-1").expect("its tool");
        controller
    })
}

fn name(account: &str) -> String {
    format!("{account}@{DOMAIN}")
}

fn connector() -> Watched {
    watched(ActiveDirectory::new(TimeLimits {
        connect: Duration::from_secs(10),
        change: Duration::from_secs(10),
        ..TimeLimits::default()
    }))
}

async fn here() -> Place {
    place(controller().address(), PORT)
        .confirmed(&connector())
        .await
}

#[tokio::test]
async fn a_check_tells_a_wrong_password_from_an_account_that_is_not_let_in() {
    let (connector, here) = (connector(), here().await);
    let check = async |account: &str, password: &str| {
        let login = here.account(&name(account), password);
        connector.check(&login).await.result
    };
    assert_eq!(check("night", FIRST).await, Probe::Opened);
    assert_eq!(check("night", "Wrong-tide-9").await, Probe::Closed);
    assert_eq!(check("nobody", FIRST).await, Probe::Closed);
    // The right password, which must be changed: what is stored is what the domain has.
    assert_eq!(check("must", "Must-tide-1").await, Probe::Opened);
    match check("off", FIRST).await {
        Probe::NoAnswer(why) => assert_eq!(why, "the account is disabled"),
        other => panic!("{other:?}"),
    }
    for _ in 0..3 {
        assert_eq!(check("locked", "Wrong-tide-9").await, Probe::Closed);
    }
    match check("locked", FIRST).await {
        Probe::NoAnswer(why) => assert_eq!(why, "the account is locked"),
        other => panic!("{other:?}"),
    }
    // One account has one name.
    for other in [
        "night",
        "OSMERE\\night",
        "CN=night,CN=Users,DC=osmere,DC=example",
    ] {
        let met = connector.check(&here.account(other, FIRST)).await;
        assert!(
            matches!(met.result, Probe::NoAnswer(why) if why.contains("such as duty@")),
            "{other}"
        );
    }
    // A controller treats a bind without a password as anonymous, and accepts it.
    assert!(matches!(check("night", "").await, Probe::NoAnswer(_)));
}

#[tokio::test]
async fn an_operator_and_an_account_itself_change_a_password_that_no_log_ever_has() {
    let (connector, here) = (connector(), here().await);
    let operator = here.operator(&name("rotator"), OPERATOR);
    let duty = name("duty");
    let candidate = here.login(7, &duty, "Second-tide-2", 2);
    let met = connector
        .change_as_operator(&operator, &candidate, yes())
        .await;
    assert_eq!(met.result, Change::Applied);
    assert_eq!(connector.check(&candidate).await.result, Probe::Opened);
    let next = here.login(7, &duty, "Third tide 3 ü", 3);
    let met = connector.change_as_itself(&candidate, &next, yes()).await;
    assert_eq!(met.result, Change::Applied);
    assert_eq!(connector.check(&next).await.result, Probe::Opened);
    let met = connector
        .change_as_operator(&operator, &candidate, answer(false))
        .await;
    assert_eq!(met.result, Change::LeaseLost);
    let wrong = here.login(8, &name("rotator"), "Wrong-tide-9", 2);
    let met = connector
        .change_as_operator(&wrong, &candidate, yes())
        .await;
    assert_eq!(met.result, Change::OperatorRefused);
    // Too short for the domain; nobody; somebody of another domain; and an operator who is none.
    let powerless = here.operator(&name("night"), FIRST);
    for (operator, target, password) in [
        (&operator, duty.clone(), "Short"),
        (&operator, name("nobody"), "Second-tide-2"),
        (&operator, "duty@else.example".into(), "Second-tide-2"),
        (&powerless, duty.clone(), "Second-tide-2"),
    ] {
        let target = here.login(7, &target, password, 2);
        let met = connector.change_as_operator(operator, &target, yes()).await;
        match met.result {
            Change::Refused(why) => {
                assert!(!why.is_empty() && !why.contains("Second-tide-2"), "{why}");
            }
            other => panic!("{}: {other:?}", target.login()),
        }
    }
    assert_eq!(connector.check(&next).await.result, Probe::Opened);
    let found = connector
        .list_accounts(&operator)
        .await
        .result
        .found()
        .unwrap();
    let of = |login: &str| {
        let account = found.iter().find(|account| account.login == name(login));
        account.map(|account| (account.signs_in, account.privileged.is_some()))
    };
    assert_eq!(of("night"), Some((true, false)));
    assert_eq!(of("off"), Some((false, false)));
    assert_eq!(of("Administrator"), Some((true, true)));
    let chief = found
        .iter()
        .find(|account| account.login == name("Administrator"));
    let chief = chief.unwrap();
    assert!(
        chief.groups.contains(&"Domain Admins".to_owned()),
        "{chief:?}"
    );
    assert!(
        chief.password_set_at.is_some() && chief.locked == Some(false),
        "{chief:?}"
    );
    let log = controller().log().unwrap();
    assert!(log.contains("duty"), "it logs what is done");
    for secret in [OPERATOR, "Second-tide-2", "Third tide"] {
        assert!(!log.contains(secret), "{secret}");
    }
}

#[tokio::test]
async fn a_controller_proves_who_it_is_by_its_key_its_pin_or_an_authority() {
    let authority = controller().authority().unwrap();
    let tried = Tried {
        address: controller().address(),
        port: PORT,
        account: &name("gauge"),
        first: FIRST,
        operator: (&name("rotator"), OPERATOR),
        dialogue: None,
    };
    tried.proves_who_it_is(&connector(), &authority).await;
}

#[tokio::test]
async fn what_is_no_controller_or_does_not_answer_is_said_in_bounded_time() {
    let connector = ActiveDirectory::new(TimeLimits {
        connect: Duration::from_millis(700),
        change: Duration::from_millis(700),
        ..TimeLimits::default()
    });
    rig::is_left_in_bounded_time(&connector, &name("gauge"), FIRST).await;
}

#[tokio::test]
async fn a_line_that_drops_at_any_byte_leaves_a_password_that_is_known() {
    let tried = Tried {
        address: controller().address(),
        port: PORT,
        account: &name("dropped"),
        first: FIRST,
        operator: (&name("rotator"), OPERATOR),
        dialogue: None,
    };
    tried.drops_at_any_byte(&connector(), 24, 200).await;
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 12, ..ProptestConfig::default() })]

    #[test]
    fn every_printable_password_opens_what_it_was_set_on(password in "[ -~äß€\u{2003}]{12,40}") {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let (connector, here) = (connector(), here().await);
            let candidate = here.login(7, &name("nasty"), &password, 2);
            let operator = here.operator(&name("rotator"), OPERATOR);
            let met = connector.change_as_operator(&operator, &candidate, yes()).await;
            assert_eq!(met.result, Change::Applied);
            assert_eq!(connector.check(&candidate).await.result, Probe::Opened);
        });
    }
}

#[tokio::test]
async fn an_operator_signs_in_once_for_many_changes_and_again_after_the_line_was_cut() {
    let kept = name("kept");
    let line = Wire::to(controller().address(), PORT).unwrap();
    let connector = connector();
    let there = place("127.0.0.1", line.port()).confirmed(&connector).await;
    let operator = there.operator(&name("rotator"), OPERATOR);
    let candidate = there.login(7, &kept, "Kept-tide-2", 2);
    changes_over_a_kept_session(&connector, &line, &operator, &candidate).await;
}

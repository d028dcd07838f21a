//! Command lines over Telnet: FRR's own, and devices that misbehave.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing,
    reason = "what cannot be set up ends the test"
)]

mod rig;

use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::Duration;

use jexlin_core::dialogue::{Instructions, Turn};
use jexlin_core::upkeep::ConnectorKind;
use jexlin_devices::{Change, Connector, Probe, TimeLimits};
use jexlin_standins::misbehaving_device::{self, Manner, Wire};
use jexlin_standins::router::Router;
use rig::watch::{Watched, watched_too};
use rig::{Place, answer, place, settled, yes};

const DIALOGUE: &str = include_str!("../../../demo/dialogues/frr.toml");
const OLD: &str = "Router2019a";

fn at(port: u16) -> Place {
    Place {
        dialogue: Some(Arc::new(Instructions::read(DIALOGUE).expect("a dialogue"))),
        connector: ConnectorKind::Telnet,
        ..place("127.0.0.1", port)
    }
    .known_by("unproven")
}

fn connector(seconds: u64) -> Watched {
    let time = Duration::from_secs(seconds);
    watched_too(jexlin_devices::connector(
        ConnectorKind::Telnet,
        TimeLimits {
            connect: time,
            change: time,
            ..TimeLimits::default()
        },
    ))
}

#[tokio::test]
async fn a_router_is_checked_and_changes_its_password_for_good() {
    let mut router = Router::temporary(OLD, None).unwrap();
    let (connector, here) = (connector(10), at(router.port()));
    let check = async |password: &str| connector.check(&here.account("vty", password)).await.result;
    assert_eq!(check(OLD).await, Probe::Opened);
    assert_eq!(check("Wrong-tide-1").await, Probe::Closed);
    let candidate = here.login(7, "vty", "Lowtide77north", 2);
    let met = connector
        .change_as_itself(&here.account("vty", OLD), &candidate, answer(false))
        .await;
    assert_eq!(met.result, Change::LeaseLost);
    assert_eq!(check(OLD).await, Probe::Opened);
    let met = connector
        .change_as_itself(&here.account("vty", OLD), &candidate, yes())
        .await;
    assert_eq!(met.result, Change::Applied, "{:?}", met.transcript);
    let said: Vec<&str> = met
        .transcript
        .iter()
        .filter_map(|turn| match turn {
            Turn::Said(line) => Some(line.as_str()),
            Turn::Heard(_) => None,
        })
        .collect();
    assert_eq!(
        said,
        [
            "{current}",
            "enable",
            "configure terminal",
            "password {new}",
            "end",
            "write memory"
        ]
    );
    let written = format!("{met:?}");
    for secret in [OLD, "Lowtide77north"] {
        assert!(!written.contains(secret), "{written}");
    }
    assert_eq!(check("Lowtide77north").await, Probe::Opened);
    assert_eq!(check(OLD).await, Probe::Closed);
    router.restart().unwrap();
    assert_eq!(check("Lowtide77north").await, Probe::Opened);
    let stale = here.account("vty", OLD);
    let met = connector.change_as_itself(&stale, &candidate, yes()).await;
    assert_eq!(met.result, Change::AccountRefused);
    // What the router would take for something else is not typed.
    let odd = here.login(7, "vty", "-tide-88-south", 2);
    let present = here.account("vty", "Lowtide77north");
    let met = connector.change_as_itself(&present, &odd, yes()).await;
    assert!(
        matches!(&met.result, Change::Refused(why) if why.contains("takes no password with")),
        "{met:?}"
    );
    // What the dialogue does not do is said, and nothing is sent.
    let met = connector
        .change_as_operator(&here.operator("vty", OLD), &candidate, yes())
        .await;
    assert!(
        matches!(&met.result, Change::NotReached(why) if why.contains("does not say how")),
        "{met:?}"
    );
}

#[tokio::test]
async fn passwords_of_every_character_that_the_router_takes_are_set() {
    let router = Router::temporary(OLD, None).unwrap();
    let (connector, here) = (connector(10), at(router.port()));
    let takes = here.dialogue.as_ref().expect("one").head().takes().clone();
    let all: Vec<char> = (' '..='~')
        .filter(|c| takes.problem(&c.to_string()).is_none())
        .collect();
    assert_eq!(all.len(), 62, "letters and digits alone");
    let mut present = OLD.to_owned();
    for part in all.chunks(16) {
        let next: String = part.iter().collect();
        let candidate = here.login(7, "vty", &next, 2);
        let met = connector
            .change_as_itself(&here.account("vty", &present), &candidate, yes())
            .await;
        assert_eq!(met.result, Change::Applied, "{met:?}");
        assert!(!format!("{met:?}").contains(&next));
        assert_eq!(
            connector.check(&candidate).await.result,
            Probe::Opened,
            "{next}"
        );
        present = next;
    }
}

#[tokio::test]
async fn a_router_with_a_password_for_enable_gets_the_one_of_the_credential() {
    const ENABLE: &str = "Enable-2019-a";
    let router = Router::temporary(OLD, Some(ENABLE)).unwrap();
    let (connector, here) = (connector(10), at(router.port()));
    for (enable, why) in [
        (None, "the credential that signs in has none"),
        (Some("Enable-of-1999"), "does not take the enable password"),
    ] {
        let here = Place {
            enable,
            ..at(router.port())
        };
        let candidate = here.login(7, "vty", "Lowtide77north", 2);
        let met = connector
            .change_as_itself(&here.account("vty", OLD), &candidate, yes())
            .await;
        assert!(
            matches!(&met.result, Change::NotReached(said) if said.contains(why)),
            "{met:?}"
        );
        let check = connector.check(&here.account("vty", OLD)).await;
        assert_eq!(check.result, Probe::Opened);
    }
    let here = Place {
        enable: Some(ENABLE),
        ..here
    };
    let candidate = here.login(7, "vty", "Lowtide77north", 2);
    let met = connector
        .change_as_itself(&here.account("vty", OLD), &candidate, yes())
        .await;
    assert_eq!(met.result, Change::Applied, "{met:?}");
    assert!(!format!("{met:?}").contains(ENABLE), "{met:?}");
    let check = connector
        .check(&here.account("vty", "Lowtide77north"))
        .await;
    assert_eq!(check.result, Probe::Opened);
}

#[tokio::test]
async fn nothing_is_sent_where_nobody_has_accepted_that_nothing_is_proved() {
    let router = Router::temporary(OLD, None).unwrap();
    let connector = connector(5);
    let wire = Wire::to("127.0.0.1", router.port()).unwrap();
    let trusting = Place {
        identity: String::new(),
        trust: true,
        ..at(wire.port())
    };
    let met = connector.check(&trusting.account("vty", OLD)).await;
    assert!(
        matches!(&met.result, Probe::NoAnswer(why) if why.contains("nothing was sent")),
        "{met:?}"
    );
    assert_eq!(connector.identify(&trusting.look()).await, Ok(vec![]));
}

#[tokio::test]
async fn devices_that_hang_flood_babble_or_are_off_get_an_answer_in_bounded_time() {
    let connector = connector(2);
    let mut ports = vec![jexlin_standins::free_port().unwrap()];
    for manner in [Manner::Hangs, Manner::Floods, Manner::Babbles] {
        ports.push(misbehaving_device::device(manner).unwrap());
    }
    for port in ports {
        let there = at(port);
        let met = connector.check(&there.account("vty", OLD)).await;
        match met.result {
            Probe::NoAnswer(why) => assert!(!why.contains(OLD) && why.len() < 500, "{why}"),
            other => panic!("{other:?}"),
        }
    }
}

#[tokio::test]
async fn a_line_that_drops_at_any_byte_leaves_a_password_that_is_known() {
    let router = Router::temporary(OLD, None).unwrap();
    let (connector, here) = (connector(10), at(router.port()));
    let mut present = OLD.to_owned();
    let mut outcomes = BTreeSet::new();
    for step in 0..30 {
        let wire = Wire::to("127.0.0.1", router.port()).unwrap();
        let there = at(wire.port());
        let wanted = format!("Droppedtide{step}");
        wire.cut_after(step * 19);
        let met = connector
            .change_as_itself(
                &there.account("vty", &present),
                &there.login(7, "vty", &wanted, 2),
                yes(),
            )
            .await;
        let opens = async |password: &String| {
            connector.check(&here.account("vty", password)).await.result == Probe::Opened
        };
        outcomes.insert(settled(met.result, &mut present, wanted, opens).await);
    }
    let all = BTreeSet::from(["applied", "lost", "not reached"]);
    assert_eq!(outcomes, all);
}

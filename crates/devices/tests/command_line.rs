//! Command lines over SSH, by a dialogue, on a switch that does what a test tells it.

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

use jexlin_core::dialogue::{Instructions, Turn};
use jexlin_core::secret::Secret;
use jexlin_devices::{Change, Connector, Met, Probe, Settings, ssh};
use jexlin_standins::host::Host;
use jexlin_standins::misbehaving_device::Wire;
use jexlin_standins::switch::{KEEPER, Manner, Switch};
use rig::{Place, answer, place, yes};

const DIALOGUE: &str = include_str!("../../../demo/dialogues/ridge-switch.toml");
const OPERATOR: &str = "Keeper-2019-a";
const OLD: &str = "Duty-2019-a";
const NEW: &str = "Low-tide-77-north";

fn switch() -> Switch {
    Switch::temporary(&[(KEEPER, OPERATOR), ("duty", OLD)]).expect("a switch")
}

fn at(port: u16) -> Place {
    Place {
        dialogue: Some(Arc::new(Instructions::read(DIALOGUE).expect("a dialogue"))),
        ..place("127.0.0.1", port)
    }
}

fn connector() -> Arc<dyn Connector> {
    Settings::CommandLine(ssh::Settings {
        connect: Duration::from_secs(10),
        change: Duration::from_secs(10),
        ..ssh::Settings::default()
    })
    .connector()
}

async fn rotated(place: &Place, new: &str) -> Met<Change> {
    let (operator, account) = (place.operator(KEEPER, OPERATOR), place.account("duty", new));
    connector()
        .change_as_operator(&operator, &account, yes())
        .await
}

/// Everything that somebody can read of a result.
fn written(met: &Met<Change>) -> String {
    format!("{:?} {:?}", met.result, met.transcript)
}

#[tokio::test]
async fn a_password_is_checked_and_changed_by_the_operator_and_by_the_account() {
    let switch = switch();
    let place = at(switch.port());
    let connector = connector();
    let check = async |password: &str| connector.check(&place.account("duty", password)).await;
    assert_eq!(check(OLD).await.result, Probe::Opened);
    assert_eq!(check("something else").await.result, Probe::Closed);
    let met = rotated(&place, NEW).await;
    assert_eq!(met.result, Change::Applied, "{:?}", met.transcript);
    assert_eq!(switch.password("duty"), NEW);
    assert_eq!(check(NEW).await.result, Probe::Opened);
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
            "enable",
            "{operator_password}",
            "user duty password",
            "{new}",
            "{new}",
            "save"
        ]
    );
    for secret in [OPERATOR, NEW, OLD] {
        assert!(!written(&met).contains(secret), "{met:?}");
    }
    let changed = connector
        .change_as_itself(
            &place.account("duty", NEW),
            &place.account("duty", "Spring-tide-78"),
            yes(),
        )
        .await;
    assert_eq!(changed.result, Change::Applied, "{:?}", changed.transcript);
    assert_eq!(switch.password("duty"), "Spring-tide-78");
}

#[tokio::test]
async fn whoever_cannot_sign_in_is_told_apart_and_changes_nothing() {
    let switch = switch();
    let place = at(switch.port());
    let connector = connector();
    let operator = connector
        .change_as_operator(
            &place.operator(KEEPER, "wrong"),
            &place.account("duty", NEW),
            answer(false),
        )
        .await;
    assert_eq!(operator.result, Change::OperatorRefused);
    let account = connector
        .change_as_itself(
            &place.account("duty", "wrong"),
            &place.account("duty", NEW),
            answer(false),
        )
        .await;
    assert_eq!(account.result, Change::AccountRefused);
    // An operator without the role, an account that is not there, a lease that is over.
    let weak = connector
        .change_as_operator(
            &place.operator("duty", OLD),
            &place.account("duty", NEW),
            answer(false),
        )
        .await;
    assert_eq!(
        weak.result,
        Change::NotReached("the operator does not have the role keeper".into())
    );
    let nobody = connector
        .change_as_operator(
            &place.operator(KEEPER, OPERATOR),
            &place.account("nobody", NEW),
            answer(false),
        )
        .await;
    assert!(
        matches!(&nobody.result, Change::Refused(why) if why.contains("No such user")),
        "{nobody:?}"
    );
    let late = connector
        .change_as_operator(
            &place.operator(KEEPER, OPERATOR),
            &place.account("duty", NEW),
            answer(false),
        )
        .await;
    assert_eq!(late.result, Change::LeaseLost);
    let without = Place {
        dialogue: None,
        ..at(switch.port())
    };
    let none = rotated(&without, NEW).await;
    assert!(matches!(none.result, Change::NotReached(_)));
    assert!(!switch.told().iter().any(|told| told == NEW));
    assert_eq!(switch.password("duty"), OLD);
}

#[tokio::test]
async fn a_switch_that_misbehaves_leads_to_a_clear_outcome_and_no_secret_is_written() {
    let switch = switch();
    let mut place = at(switch.port());
    // Steps that wait for what never comes are given up after a second.
    let hasty = DIALOGUE.replace("hear = [", "seconds = 1\nhear = [");
    place.dialogue = Some(Arc::new(Instructions::read(&hasty).expect("a dialogue")));
    for (manner, expected) in [
        (Manner::Dribbles, "Applied"),
        (Manner::Chatty, "Applied"),
        (Manner::AlreadyOpen, "Applied"),
        (Manner::Lies, "Applied"),
        (Manner::Refuses, "Refused(\"% The password was used before"),
        (
            Manner::ShowsSecrets,
            "Refused(\"% The password ••• was used before",
        ),
        (
            Manner::OtherPrompt,
            "NotReached(\"the device did not go on: Ridge 3.2",
        ),
        (
            Manner::Silent,
            "NotReached(\"the device did not go on: it wrote nothing",
        ),
        (
            Manner::Floods,
            "NotReached(\"the device wrote more than the limit",
        ),
        (Manner::HangsUp, "Lost(\"the device ended the connection"),
        (Manner::AsksForEver, "Lost(\"the device did not go on"),
        (Manner::DoesNotSave, "Lost(\"the switch did not save"),
    ] {
        switch.set("duty", OLD);
        switch.behave(manner);
        let met = rotated(&place, NEW).await;
        let result = format!("{:?}", met.result);
        assert!(result.starts_with(expected), "{manner:?}: {met:?}");
        for secret in [OPERATOR, NEW] {
            assert!(!written(&met).contains(secret), "{manner:?}: {met:?}");
        }
        let kept = if matches!(manner, Manner::Lies) || !result.starts_with("Applied") {
            switch.password("duty") == OLD || manner == Manner::DoesNotSave
        } else {
            switch.password("duty") == NEW
        };
        assert!(kept, "{manner:?}: {}", switch.password("duty"));
    }
}

#[tokio::test]
async fn a_line_that_drops_at_any_byte_leaves_no_doubt_about_what_was_sent() {
    let switch = switch();
    let wire = Wire::to("127.0.0.1", switch.port()).expect("a wire");
    let place = at(wire.port());
    let mut outcomes = std::collections::BTreeSet::new();
    for bytes in (1500..6500).step_by(250) {
        switch.set("duty", OLD);
        wire.fix();
        wire.cut_after(bytes);
        let before = switch.told().len();
        let met = rotated(&place, NEW).await;
        let sent = switch.told().iter().skip(before).any(|told| told == NEW);
        match &met.result {
            Change::NotReached(_) => assert!(!sent, "{bytes}: {met:?}"),
            Change::Lost(_) => {}
            Change::Applied => assert_eq!(switch.password("duty"), NEW),
            other => panic!("{bytes}: {other:?}"),
        }
        outcomes.insert(format!("{:?}", std::mem::discriminant(&met.result)));
    }
    assert!(outcomes.len() >= 2, "cut before and after");
}

#[tokio::test]
async fn passwords_of_every_character_that_the_switch_takes_are_set() {
    let switch = switch();
    let place = at(switch.port());
    let takes = place.dialogue.as_ref().expect("one").head().takes().clone();
    let all: String = (' '..='~')
        .filter(|c| takes.problem(&c.to_string()).is_none())
        .collect();
    assert!(all.len() > 85);
    let characters: Vec<char> = all.chars().collect();
    for part in characters.chunks(40) {
        let password = Secret::from_text(part.iter().collect());
        let text = password.expose_secret_text().expect("text");
        let met = rotated(&place, text).await;
        assert_eq!(met.result, Change::Applied, "{met:?}");
        assert_eq!(switch.password("duty"), text);
        assert!(!written(&met).contains(text));
    }
    for refused in ["what?is-this", "two words 77", "quo\"ted-77"] {
        let met = rotated(&place, refused).await;
        assert!(matches!(met.result, Change::Refused(_)), "{met:?}");
    }
}

#[tokio::test]
async fn a_real_host_is_kept_up_by_an_operator_with_sudo_and_by_its_accounts() {
    let text = include_str!("../../../demo/dialogues/linux-sudo.toml");
    let accounts = [(KEEPER, OPERATOR), ("duty", OLD), ("watch", "Watch-2019-a")];
    let host = Host::temporary("mill-race", &accounts).expect("a host");
    let there = Place {
        dialogue: Some(Arc::new(Instructions::read(text).expect("a dialogue"))),
        ..place("127.0.0.1", host.port())
    };
    let connector = connector();
    let operator = there.operator(KEEPER, OPERATOR);
    let check = async |password: &str| {
        let account = there.account("duty", password);
        connector.check(&account).await.result
    };
    assert_eq!(check(OLD).await, Probe::Opened);
    assert_eq!(check("wrong").await, Probe::Closed);
    // All that can be typed, quotes and dollar signs too; the shell never sees it.
    let all: Vec<char> = (' '..='~').collect();
    for part in all.chunks(48) {
        let password: String = part.iter().collect();
        let account = there.account("duty", &password);
        let met = connector
            .change_as_operator(&operator, &account, yes())
            .await;
        assert_eq!(met.result, Change::Applied, "{met:?}");
        assert!(
            host.opens("duty", &password).expect("a login"),
            "{password}"
        );
        assert!(!written(&met).contains(&password) && !written(&met).contains(OPERATOR));
    }
    let last: String = all.chunks(48).last().expect("one").iter().collect();
    let own = connector
        .change_as_itself(
            &there.account("duty", &last),
            &there.account("duty", "Own-Tide-77-north"),
            yes(),
        )
        .await;
    assert_eq!(own.result, Change::Applied, "{own:?}");
    assert!(host.opens("duty", "Own-Tide-77-north").expect("a login"));
    let nobody = connector
        .change_as_operator(&operator, &there.account("nobody-here", NEW), yes())
        .await;
    assert!(
        matches!(&nobody.result, Change::Refused(why) if why.contains("does not exist")),
        "{nobody:?}"
    );
    // Who has no right by sudo changes nothing, and is told why.
    let weak = connector
        .change_as_operator(
            &there.operator("watch", "Watch-2019-a"),
            &there.account("duty", NEW),
            answer(false),
        )
        .await;
    assert_eq!(
        weak.result,
        Change::NotReached("sudo does not know the operator".into()),
        "{weak:?}"
    );
    let same = connector
        .change_as_itself(
            &there.account("duty", "Own-Tide-77-north"),
            &there.account("duty", "short"),
            yes(),
        )
        .await;
    assert!(matches!(&same.result, Change::Refused(_)), "{same:?}");
    assert!(host.opens("duty", "Own-Tide-77-north").expect("a login"));
}

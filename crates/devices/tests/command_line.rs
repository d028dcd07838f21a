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
use jexlin_core::upkeep::ConnectorKind;
use jexlin_devices::{Change, Connector as _, Listing, Met, Probe, TimeLimits};
use jexlin_standins::command_line::{CHANGES, CommandLine, FITTER, KEEPER, Manner, Model, WARDEN};
use jexlin_standins::host::Host;
use jexlin_standins::misbehaving_device::Wire;
use rig::watch::{Watched, watched_too};
use rig::{Place, answer, place, yes};

const DIALOGUE: &str = include_str!("../../../demo/dialogues/ridge-switch.toml");
const OPERATOR: &str = "Keeper-2019-a";
const OLD: &str = "Duty-2019-a";
const NEW: &str = "Low-tide-77-north";

fn switch() -> CommandLine {
    CommandLine::temporary(Model::Switch, &[(KEEPER, OPERATOR), ("duty", OLD)]).expect("a switch")
}

fn at(port: u16) -> Place {
    Place {
        dialogue: Some(Arc::new(Instructions::read(DIALOGUE).expect("a dialogue"))),
        ..place("127.0.0.1", port)
    }
}

fn connector() -> Watched {
    watched_too(jexlin_devices::connector(
        ConnectorKind::CommandLine,
        TimeLimits {
            connect: Duration::from_secs(10),
            change: Duration::from_secs(10),
            ..TimeLimits::default()
        },
    ))
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

/// A family of devices: its dialogue, its accounts, and what it says when it misbehaves.
struct FamilyOf {
    model: Model,
    text: &'static str,
    operator: &'static str,
    enable: Option<&'static str>,
    refuses: &'static str,
    shows: &'static str,
    prompt: &'static str,
    does_not_save: &'static str,
}

const NEW_CODE: &str = "Lowtide77north";

const FAMILIES: [FamilyOf; 3] = [
    FamilyOf {
        model: Model::Switch,
        text: DIALOGUE,
        operator: KEEPER,
        enable: None,
        refuses: "% The password was used before",
        shows: "% The password ••• was used before",
        prompt: "Ridge 3.2",
        does_not_save: "the switch did not save",
    },
    FamilyOf {
        model: Model::Firewall,
        text: include_str!("../../../demo/dialogues/holloway-firewall.toml"),
        operator: WARDEN,
        enable: Some("Only-for-changes-1"),
        refuses: "Error: this secret is on the list",
        shows: "Error: ••• is on the list",
        prompt: "Holloway HG-40",
        does_not_save: "the firewall did not apply",
    },
    FamilyOf {
        model: Model::Telemetry,
        text: include_str!("../../../demo/dialogues/tarn-telemetry.toml"),
        operator: FITTER,
        enable: None,
        refuses: "? not that one again",
        shows: "? not ••• again",
        prompt: "channel",
        does_not_save: "the unit did not keep",
    },
];

impl FamilyOf {
    fn device(&self) -> CommandLine {
        let mut accounts = vec![(self.operator, OPERATOR), ("duty", OLD)];
        accounts.extend(self.enable.map(|enable| (CHANGES, enable)));
        CommandLine::temporary(self.model, &accounts).expect("a device")
    }

    /// Steps that wait for what never comes are given up after a second.
    fn at(&self, port: u16) -> Place {
        let hasty = self.text.replace("hear = [", "seconds = 1\nhear = [");
        let there = Place {
            dialogue: Some(Arc::new(Instructions::read(&hasty).expect("a dialogue"))),
            enable: self.enable,
            context: "edge",
            ..place("127.0.0.1", port)
        };
        match self.model {
            Model::Telemetry => Place {
                connector: ConnectorKind::Telnet,
                ..there
            }
            .known_by("unproven"),
            Model::Switch | Model::Firewall => there,
        }
    }

    fn connector(&self) -> Watched {
        match self.model {
            Model::Telemetry => watched_too(jexlin_devices::connector(
                ConnectorKind::Telnet,
                TimeLimits {
                    connect: Duration::from_secs(10),
                    change: Duration::from_secs(10),
                    ..TimeLimits::default()
                },
            )),
            Model::Switch | Model::Firewall => connector(),
        }
    }
}

#[tokio::test]
async fn a_device_that_misbehaves_leads_to_a_clear_outcome_and_no_secret_is_written() {
    let [switch, firewall, telemetry] = &FAMILIES;
    // Most of it is waiting for what never comes.
    tokio::join!(
        misbehaves(switch),
        misbehaves(firewall),
        misbehaves(telemetry)
    );
}

async fn misbehaves(family: &FamilyOf) {
    let (device, connector) = (family.device(), family.connector());
    let place = family.at(device.port());
    let (operator, account) = (
        place.operator(family.operator, OPERATOR),
        place.account("duty", NEW_CODE),
    );
    for manner in Manner::ALL {
        device.set("duty", OLD);
        device.behave(manner);
        let check = connector.check(&place.account("duty", OLD)).await.result;
        let met = connector
            .change_as_operator(&operator, &account, yes())
            .await;
        let said = format!("{:?} {manner:?}: {met:?}", family.model);
        match (manner, &met.result) {
            (
                Manner::Obeys
                | Manner::Dribbles
                | Manner::Chatty
                | Manner::AlreadyOpen
                | Manner::Lies,
                Change::Applied,
            ) => assert_eq!(check, Probe::Opened, "{said}"),
            (Manner::Refuses, Change::Refused(why)) => {
                assert!(why.contains(family.refuses), "{said}");
            }
            (Manner::ShowsSecrets, Change::Refused(why)) => {
                assert!(why.contains(family.shows), "{said}");
            }
            (Manner::OtherPrompt, Change::NotReached(why)) => {
                assert!(why.contains("did not go on"), "{said}");
                assert!(why.contains(family.prompt), "{said}");
            }
            (Manner::Silent, Change::NotReached(why)) => {
                assert!(why.contains("it wrote nothing"), "{said}");
            }
            (Manner::Floods, Change::NotReached(why)) => {
                assert!(why.contains("more than the limit"), "{said}");
            }
            (Manner::HangsUp, Change::Lost(why)) => {
                assert!(why.contains("ended the connection"), "{said}");
            }
            (Manner::AsksForEver, Change::Lost(why)) => {
                assert!(why.contains("did not go on"), "{said}");
            }
            (Manner::DoesNotSave, Change::Lost(why)) => {
                assert!(why.contains(family.does_not_save), "{said}");
            }
            _ => panic!("{said}"),
        }
        let listed = connector.list_accounts(&operator).await;
        match (manner, &listed.result) {
            (Manner::OtherPrompt | Manner::Silent | Manner::Floods, Listing::NoAnswer(why)) => {
                assert!(!why.is_empty());
            }
            (_, Listing::Found(found)) => {
                let shown: Vec<(&str, bool)> = found
                    .iter()
                    .map(|one| (one.login.as_str(), one.privileged.is_some()))
                    .collect();
                assert_eq!(
                    shown,
                    [("duty", false), (family.operator, true)],
                    "{manner:?}"
                );
            }
            (_, other) => panic!("{:?} {manner:?}: {other:?}", family.model),
        }
        let is_new = matches!(met.result, Change::Applied | Change::Lost(_))
            && !matches!(manner, Manner::Lies | Manner::HangsUp | Manner::AsksForEver);
        for leave in ["quit", "leave", "bye"] {
            assert!(
                !device.told().iter().any(|told| told == leave),
                "the leaving line was typed at a question for a password: {said}"
            );
        }
        let kept = if is_new { NEW_CODE } else { OLD };
        assert_eq!(device.password("duty"), kept, "{said}");
    }
}

#[tokio::test]
async fn accounts_of_every_family_change_their_own_password() {
    for family in FAMILIES {
        let (device, connector) = (family.device(), family.connector());
        let place = family.at(device.port());
        for manner in [Manner::Obeys, Manner::AlreadyOpen, Manner::Chatty] {
            device.set("duty", OLD);
            device.behave(manner);
            for (current, expected) in [
                ("Wrong-2019-a", Change::AccountRefused),
                (OLD, Change::Applied),
            ] {
                let met = connector
                    .change_as_itself(
                        &place.account("duty", current),
                        &place.account("duty", NEW_CODE),
                        yes(),
                    )
                    .await;
                assert_eq!(
                    met.result, expected,
                    "{:?} {manner:?}: {met:?}",
                    family.model
                );
            }
            assert_eq!(device.password("duty"), NEW_CODE);
            let check = connector.check(&place.account("duty", OLD)).await;
            assert_eq!(check.result, Probe::Closed, "{:?}", family.model);
        }
    }
}

#[tokio::test]
async fn a_firewall_says_what_is_wrong_with_the_enable_password_and_the_context() {
    let family = &FAMILIES[1];
    let device = family.device();
    for (enable, context, operator, expected) in [
        (
            None,
            "edge",
            WARDEN,
            "the credential that signs in has none",
        ),
        (
            Some("Not-for-changes-9"),
            "edge",
            WARDEN,
            "does not take the operator's enable",
        ),
        (family.enable, "cellar", WARDEN, "has no such context"),
        (family.enable, "edge", "duty", "the operator is no warden"),
        (family.enable, "", WARDEN, "no field “context”"),
        (family.enable, "edge; apply", WARDEN, "would not take"),
    ] {
        let place = Place {
            enable,
            context,
            ..family.at(device.port())
        };
        let password = device.password(operator);
        let met = family
            .connector()
            .change_as_operator(
                &place.operator(operator, &password),
                &place.account("duty", NEW_CODE),
                answer(false),
            )
            .await;
        let (Change::NotReached(why) | Change::Refused(why)) = &met.result else {
            panic!("{expected}: {met:?}")
        };
        assert!(why.contains(expected), "{expected}: {met:?}");
        assert_eq!(device.password("duty"), OLD);
    }
}

#[tokio::test]
async fn a_line_that_drops_at_any_byte_leaves_no_doubt_about_what_was_sent() {
    for (family, bytes) in FAMILIES.into_iter().zip([
        (1500..6500).step_by(250),
        (1500..7500).step_by(250),
        (20..820).step_by(20),
    ]) {
        let (device, connector) = (family.device(), family.connector());
        let wire = Wire::to("127.0.0.1", device.port()).expect("a wire");
        let place = family.at(wire.port());
        let (operator, account) = (
            place.operator(family.operator, OPERATOR),
            place.account("duty", NEW_CODE),
        );
        let mut outcomes = std::collections::BTreeSet::new();
        for bytes in bytes {
            device.set("duty", OLD);
            wire.fix();
            wire.cut_after(bytes);
            let before = device.told().len();
            let met = connector
                .change_as_operator(&operator, &account, yes())
                .await;
            let sent = device
                .told()
                .iter()
                .skip(before)
                .any(|told| told == NEW_CODE);
            match &met.result {
                Change::NotReached(_) => assert!(!sent, "{bytes}: {met:?}"),
                Change::Lost(_) => {}
                Change::Applied => assert_eq!(device.password("duty"), NEW_CODE),
                other => panic!("{:?} {bytes}: {other:?}", family.model),
            }
            outcomes.insert(format!("{:?}", std::mem::discriminant(&met.result)));
        }
        assert!(
            outcomes.len() >= 2,
            "{:?}: cut before and after",
            family.model
        );
    }
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
    let listed = connector.list_accounts(&operator).await;
    let Listing::Found(found) = &listed.result else {
        panic!("{listed:?}");
    };
    let account = |name: &str| {
        let one = found.iter().find(|one| one.login == name);
        one.map(|one| (one.privileged.as_deref(), one.signs_in))
    };
    assert_eq!(account("duty"), Some((None, true)), "{listed:?}");
    assert_eq!(account("root"), Some((Some("root"), true)));
    assert_eq!(account("daemon"), Some((None, false)));
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

//! Wrong logins are spent through a second credential, a second device for the same host, checks at
//! the same moment, or an operator that the host refuses, until the account locks.

use jexlin_standins::ssh_device::SshDevice;
use serde_json::json;

use super::{account, confirm, device, job, login, make_operator, strict};

#[test]
fn the_budget_is_the_accounts_whatever_credential_or_device_reaches_it() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let folder = ines.folder("Pumping");
    let host = SshDevice::start(&[("duty", "Duty-1")]).unwrap();
    let unit = device(&ines, &folder, "unit", host.port());
    confirm(&ines, &unit);
    let first = account(&ines, &folder, &unit, "first", "duty", "Guess-1");
    for _ in 0..2 {
        assert_eq!(job(&ines, &first, "check")["outcome"], "out-of-sync");
    }
    // Another credential in its place.
    let revision = ines.get(&format!("/api/v1/credentials/{first}")).good()["revision"]
        .as_i64()
        .unwrap();
    let _ = ines
        .patch(
            &format!("/api/v1/credentials/{first}"),
            revision,
            &json!({"no_device": true}),
        )
        .good();
    let second = account(&ines, &folder, &unit, "second", "duty", "Guess-2");
    assert_eq!(job(&ines, &second, "check")["outcome"], "out-of-sync");
    assert_eq!(job(&ines, &second, "check")["outcome"], "locked-out");
    // The same host as another device.
    let twin = device(&ines, &folder, "twin", host.port());
    confirm(&ines, &twin);
    let third = account(&ines, &folder, &twin, "third", "duty", "Guess-3");
    assert_eq!(job(&ines, &third, "check")["outcome"], "locked-out");
    assert_eq!(host.tried().len(), 3);
}

#[test]
fn an_operator_that_the_device_refuses_pauses_it_with_one_message() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let folder = ines.folder("Pumping");
    let accounts: Vec<String> = (0..6).map(|n| format!("user{n}")).collect();
    let list: Vec<(&str, &str)> = accounts
        .iter()
        .map(|user| (user.as_str(), "User-1"))
        .chain([("root", "Root-1")])
        .collect();
    let host = SshDevice::start(&list).unwrap();
    let unit = device(&ines, &folder, "unit", host.port());
    confirm(&ines, &unit);
    let root = login(&ines, &folder, "root", "root", "not the password");
    make_operator(&ines, &unit, &root);
    let mut jobs = vec![];
    for user in &accounts {
        let credential = account(&ines, &folder, &unit, user, user, "User-1");
        let answer = ines.post(
            &format!("/api/v1/credentials/{credential}/rotate"),
            &json!({}),
        );
        if answer.status == 200 {
            jobs.push(answer.text("id"));
        } else {
            answer.refused(409, "device-paused");
        }
    }
    let first = ines.settled(&jobs[0]);
    assert!(
        first["message"].as_str().unwrap().contains("operator"),
        "{first}"
    );
    jexlin_acceptance::until("a pause", || {
        (!ines.get(&format!("/api/v1/devices/{unit}")).good()["paused_at"].is_null()).then_some(())
    });
    assert!(
        host.tried()
            .iter()
            .filter(|(user, _)| user == "root")
            .count()
            <= 3,
        "{:?}",
        host.tried()
    );
    assert_eq!(ines.events("device.pause").len(), 1);
    // Once the password is right and a steward says so, the jobs that wait go on.
    let _ = ines
        .patch(
            &format!("/api/v1/credentials/{root}"),
            1,
            &json!({"password": "Root-1"}),
        )
        .good();
    let path = format!("/api/v1/devices/{unit}");
    service.sql("DELETE FROM failed_login");
    let _ = ines
        .call(
            "POST",
            &format!("{path}/resume"),
            None,
            Some(super::revision(&ines, &path)),
        )
        .good();
    let waiting = service.sql("SELECT count(*) FROM job WHERE state = 'queued'");
    jexlin_acceptance::until("the jobs that waited", || {
        (service.sql("SELECT count(*) FROM job WHERE state IN ('queued', 'running')") == "0")
            .then_some(())
    });
    let done: i64 = service
        .sql("SELECT count(*) FROM job WHERE outcome = 'done'")
        .parse()
        .unwrap();
    assert!(done >= waiting.parse().unwrap(), "{done} of {waiting}");
}

#[test]
fn many_rotations_at_once_are_not_taken_for_guesses_with_the_operators_password() {
    many_at_once(true);
}

#[test]
fn nor_are_they_at_first_contact_when_no_connection_is_kept() {
    many_at_once(false);
}

fn many_at_once(is_known: bool) {
    let service = strict(&[("JEXLIN_RUNNERS", "8"), ("JEXLIN_PER_DEVICE", "8")]);
    let ines = service.sign_in("ines");
    let folder = ines.folder("Pumping");
    let accounts: Vec<String> = (0..16).map(|n| format!("user{n}")).collect();
    let list: Vec<(&str, &str)> = accounts
        .iter()
        .map(|user| (user.as_str(), "User-1"))
        .chain([("root", "Root-1")])
        .collect();
    let host = SshDevice::start(&list).unwrap();
    let unit = device(&ines, &folder, "unit", host.port());
    if is_known {
        confirm(&ines, &unit);
    } else {
        service.settings(&json!({"trust_first_contact": true, "connect_to": ["127.0.0.0/8"]}));
    }
    let root = login(&ines, &folder, "root", "root", "Root-1");
    make_operator(&ines, &unit, &root);
    let credentials: Vec<String> = accounts
        .iter()
        .map(|user| account(&ines, &folder, &unit, user, user, "User-1"))
        .collect();
    let jobs: Vec<String> = credentials
        .iter()
        .map(|credential| {
            ines.post(
                &format!("/api/v1/credentials/{credential}/rotate"),
                &json!({}),
            )
            .good()["id"]
                .as_str()
                .unwrap()
                .to_owned()
        })
        .collect();
    for entry in jobs {
        let ended = ines.settled(&entry);
        assert_eq!(ended["outcome"], "done", "{ended}");
    }
    assert_eq!(service.sql("SELECT count(*) FROM failed_login"), "0");
}

#[test]
fn devices_that_prove_no_identity_do_not_spend_each_others_budget() {
    let service = strict(&[]);
    service.settings(&json!({"unproven_devices": true, "connect_to": ["127.0.0.0/8"]}));
    let ines = service.sign_in("ines");
    let folder = ines.folder("Works");
    // Nothing listens there: what is tried at all is unreachable.
    let accounts = [("inlet", 9), ("outlet", 10)].map(|(name, port)| {
        let body = json!({"folder": folder, "name": name, "connector": "telnet", "address": "127.0.0.1", "port": port, "identity": ["unproven"]});
        let unit = ines.make("/api/v1/devices", &body);
        account(&ines, &folder, &unit, name, "fitter", "Inlet1stday")
    });
    service.sql(&format!(
        "INSERT INTO failed_login (organisation, account_id, at) SELECT organisation, id, now() FROM account, generate_series(1, 3) WHERE credential_id = '{}'",
        accounts[0]
    ));
    let found = accounts.map(|credential| job(&ines, &credential, "check")["outcome"].clone());
    assert_eq!(found, [json!("locked-out"), json!("unreachable")]);
}

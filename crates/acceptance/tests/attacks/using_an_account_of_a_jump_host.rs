//! Somebody who is a steward of a device has it reached with an account of a jump host that nobody
//! gave him, guesses at that account, or has a password that goes to a device without an identity go
//! through a host of his own.

use std::sync::OnceLock;

use jexlin_acceptance::{Service, Session};
use jexlin_standins::host::Host;
use jexlin_standins::ssh_device::SshDevice;
use serde_json::{Value, json};

use super::{account, confirm, device, grant, job, revision, strict};

const TUNNEL: &str = "Gateway-tunnel-1";

fn gateway() -> &'static Host {
    static HOST: OnceLock<Host> = OnceLock::new();
    HOST.get_or_init(|| {
        let accounts = [("root", "Gateway-root-1"), ("tunnel", TUNNEL)];
        Host::temporary("control-gateway", &accounts).expect("a host")
    })
}

/// A jump host in a folder of its own, confirmed, with the account that signs in there.
fn jump_account(of: &Session<'_>, password: &str) -> String {
    let folder = of.folder("Control room");
    let host = device(of, &folder, "gateway", gateway().port());
    confirm(of, &host);
    account(of, &folder, &host, "tunnel", "tunnel", password)
}

fn scope(of: &Session<'_>, credential: &str, folders: &Value) {
    let path = format!("/api/v1/credentials/{credential}/operator-scope");
    let body = json!({"devices": [], "folders": folders});
    let _ = of.call("PUT", &path, Some(&body), None).good();
}

/// Changes a device as it is now.
fn change(of: &Session<'_>, device: &str, body: &Value) -> jexlin_acceptance::Answer {
    let path = format!("/api/v1/devices/{device}");
    of.patch(&path, revision(of, &path), body)
}

fn events_of(of: &Session<'_>, credential: &str) -> Vec<Value> {
    let mut used = of.events("upkeep.sign-in");
    used.retain(|event| event["target"] == json!(credential));
    used
}

#[test]
fn an_account_there_is_used_only_where_its_stewards_say_and_each_use_is_in_its_log() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let tunnel = jump_account(&ines, TUNNEL);
    let works = ines.folder("Works");
    let host = SshDevice::start(&[("root", "Root-1"), ("duty", "Duty-1")]).unwrap();
    let person = ines.person("marek", &[]);
    grant(&ines, "folder", &works, &person, "steward");
    let marek = service.sign_in("marek");
    let unit = device(&marek, &works, "unit", host.port());
    let through = json!({"jump_account": tunnel});
    // What he has no access to does not exist for him; what he may see is not yet his to use.
    change(&marek, &unit, &through).refused(404, "unknown");
    grant(&ines, "credential", &tunnel, &person, "reveal");
    change(&marek, &unit, &through).refused(403, "not-allowed");
    scope(&ines, &tunnel, &json!([works]));
    let shown = change(&marek, &unit, &through).good();
    assert_eq!(shown["jump_host"]["account"], json!(tunnel));
    assert_eq!(
        (&shown["jump_host"]["device"], &shown["jump_host"]["path"]),
        (&Value::Null, &json!("")),
        "he has no access to the folder of the host"
    );

    // Reading who answers there signs in, which the log of that credential says.
    confirm(&marek, &unit);
    let used = events_of(&ines, &tunnel);
    assert_eq!(used.len(), 1, "{used:?}");
    let detail = &used[0]["detail"];
    assert_eq!(
        (&detail["as"], &detail["for"]),
        (&json!("jump-host"), &json!("unit"))
    );
    let duty = account(&marek, &works, &unit, "duty", "duty", "Duty-1");
    assert_eq!(job(&marek, &duty, "check")["outcome"], "in-sync");
    let used = events_of(&ines, &tunnel);
    assert_eq!(used.len(), 2, "{used:?}");
    assert!(used.iter().any(|event| {
        event["detail"]["asked_by"]
            .as_str()
            .is_some_and(|who| who.contains("marek"))
    }));

    // It cannot be taken away meanwhile, and what its stewards take back does not count any more.
    ines.delete(&format!("/api/v1/credentials/{tunnel}"), Some(1))
        .refused(409, "is-operator");
    scope(&ines, &tunnel, &json!([]));
    let ended = job(&marek, &duty, "check");
    assert_eq!(ended["outcome"], "unreachable");
    assert!(
        ended["message"].as_str().unwrap().contains("do not allow"),
        "{ended}"
    );
    assert_eq!(events_of(&ines, &tunnel).len(), 2);
}

#[test]
fn many_jobs_behind_a_jump_host_do_not_lock_its_account() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let tunnel = jump_account(&ines, "Wrong-tide-1");
    let works = ines.folder("Works");
    let host = SshDevice::start(&[("duty", "Duty-1")]).unwrap();
    let unit = device(&ines, &works, "unit", host.port());
    confirm(&ines, &unit);
    let _ = change(&ines, &unit, &json!({"jump_account": tunnel})).good();
    let duty = account(&ines, &works, &unit, "duty", "duty", "Duty-1");
    let mut messages = vec![];
    for _ in 0..5 {
        let ended = job(&ines, &duty, "check");
        assert_eq!(ended["outcome"], "unreachable");
        messages.push(ended["message"].as_str().unwrap().to_owned());
    }
    let refused = messages
        .iter()
        .filter(|said| said.contains("does not take"))
        .count();
    let spared = messages
        .iter()
        .filter(|said| said.contains("too many sign-ins"))
        .count();
    assert_eq!((refused, spared), (3, 2), "{messages:?}");
    // The account of the device was never tried.
    assert_eq!(host.tried(), []);
}

#[test]
fn a_password_for_a_device_without_an_identity_goes_no_other_way_unasked() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let _ = service
        .client("ines")
        .good(&["settings", "edit", "unproven_devices=true"]);
    let works = ines.folder("Works");
    let marek = ines.person("marek", &[]);
    grant(&ines, "folder", &works, &marek, "steward");
    let secrets = ines.folder("Secrets");
    let unit = ines.make(
        "/api/v1/devices",
        &json!({"folder": works, "name": "unit", "connector": "telnet", "address": "127.0.0.1", "port": 2323, "identity": ["unproven"]}),
    );
    let _ = account(&ines, &secrets, &unit, "vty", "vty", "Router2019a");
    let session = service.sign_in("marek");
    let suspended = |of: &Session<'_>| {
        let shown = of.get(&format!("/api/v1/devices/{unit}")).good();
        let all = shown["bindings"].as_array().unwrap().clone();
        let own = all.into_iter().find(|binding| binding["role"] == "account");
        own.unwrap()["suspended"].as_str().unwrap().to_owned()
    };
    assert_eq!(suspended(&ines), "");
    // A host of his own, which he may well have the service sign in to.
    let host = device(&session, &works, "own", gateway().port());
    confirm(&session, &host);
    let own = account(&session, &works, &host, "tunnel", "tunnel", TUNNEL);
    let _ = change(&session, &unit, &json!({"jump_account": own})).good();
    assert!(
        suspended(&ines).contains("or its jump host"),
        "{}",
        suspended(&ines)
    );
    let confirm_all = |of: &Session<'_>| {
        let path = format!("/api/v1/devices/{unit}");
        let at = revision(of, &path);
        of.call(
            "POST",
            &format!("{path}/confirm-bindings"),
            Some(&json!({})),
            Some(at),
        )
        .good()
    };
    assert_eq!(
        confirm_all(&session)["left"],
        1,
        "he may not see the password"
    );
    assert_ne!(suspended(&ines), "");
    let waiting = ines.get("/api/v1/overview").good().to_string();
    assert!(
        waiting.contains("unit"),
        "whoever may confirm it is asked: {waiting}"
    );
    // Whoever may see it says that this way is right; then another end of it counts as another way.
    assert_eq!(confirm_all(&ines)["confirmed"], 1);
    assert_eq!(suspended(&ines), "");
    let _ = change(&session, &host, &json!({"address": "127.0.0.2"})).good();
    assert_ne!(suspended(&ines), "");
    let _ = change(&session, &host, &json!({"address": "127.0.0.1"})).good();
    assert_eq!(suspended(&ines), "");
    let _ = change(&session, &unit, &json!({"no_jump_host": true})).good();
    assert_ne!(suspended(&ines), "");
}

#[test]
fn one_jump_host_is_the_most_and_it_is_no_device_that_is_reached_through_another() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let tunnel = jump_account(&ines, TUNNEL);
    let gateway = id(&service, "gateway");
    let works = ines.folder("Works");
    let (near, far) = (
        device(&ines, &works, "near", gateway_port()),
        device(&ines, &works, "far", 2222),
    );
    confirm(&ines, &near);
    let at_near = account(&ines, &works, &near, "near root", "root", "Gateway-root-1");
    let elsewhere = ines.login(&works, "nowhere", "Winter-tide-41");
    for (device, jump_account) in [(&gateway, &tunnel), (&far, &elsewhere)] {
        change(&ines, device, &json!({"jump_account": jump_account})).refused(422, "bad-input");
    }
    let _ = change(&ines, &far, &json!({"jump_account": at_near})).good();
    // The host of another device is itself reached directly, whichever is asked first.
    change(&ines, &near, &json!({"jump_account": tunnel})).refused(409, "in-use");
    let _ = change(&ines, &far, &json!({"jump_account": tunnel})).good();
    let _ = change(&ines, &near, &json!({"jump_account": tunnel})).good();
    change(&ines, &far, &json!({"jump_account": at_near})).refused(422, "bad-input");
    let refused = service.try_sql(&format!(
        "UPDATE device SET jump_host_id = '{near}' WHERE id = '{far}'"
    ));
    assert!(refused.is_err(), "the keys of the table say the same");
    // It stays while others are reached through it.
    let path = format!("/api/v1/devices/{gateway}");
    let kept = ines.delete(&path, Some(revision(&ines, &path)));
    assert_eq!(kept.status, 409, "{}", kept.body);
}

fn gateway_port() -> u16 {
    gateway().port()
}

fn id(service: &Service, name: &str) -> String {
    service.sql(&format!("SELECT id FROM device WHERE name = '{name}'"))
}

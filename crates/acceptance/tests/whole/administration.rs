//! The administrator's day: people, groups, password policies, devices, recalls, and following
//! jobs, in the client and through the network interface.

use std::io::{BufRead as _, BufReader};
use std::process::{Command, Stdio};

use jexlin_acceptance::{PASSWORD, Service, program};
use jexlin_standins::host::Host;
use serde_json::json;

#[test]
fn a_person_is_invited_given_duties_suspended_and_let_in_again() {
    let service = Service::ready();
    let client = service.client("ines");
    let _ = client.good_with(
        &[
            "people",
            "add",
            "marek",
            "--display-name",
            "Marek Lund",
            "--password-file",
            "-",
        ],
        PASSWORD,
    );
    let marek = service.sign_in("marek");
    marek
        .post(
            "/api/v1/people",
            &json!({"sign_in_name": "x", "display_name": "X"}),
        )
        .refused(403, "needs-duty");
    let _ = client.good(&["people", "edit", "marek", "--state", "suspended"]);
    marek.get("/api/v1/me").refused(401, "signed-out");
    let body = json!({"sign_in_name": "marek", "password": PASSWORD, "channel": "client"});
    service
        .call("POST", "/api/v1/sign-in", None, Some(&body), None)
        .refused(401, "sign-in-refused");
    let _ = client.good(&["people", "edit", "marek", "--state", "active"]);
    let _ = service.sign_in("marek").get("/api/v1/me").good();
    let (code, words) = client.bad(&["people", "add", "marek", "--display-name", "Another"]);
    assert_eq!(code, 6, "{words}");
    let ines = service.sign_in("ines");
    let me = ines.get("/api/v1/me").text("id");
    // Nobody shuts the door behind themselves.
    let mine = ines.get(&format!("/api/v1/people/{me}")).good();
    ines.patch(
        &format!("/api/v1/people/{me}"),
        mine["revision"].as_i64().unwrap(),
        &json!({"duties": []}),
    )
    .refused(403, "not-allowed");
    let added: Vec<_> = ines
        .events("person.add")
        .iter()
        .map(|event| event["outcome"].as_str().unwrap().to_owned())
        .collect();
    assert_eq!(
        added,
        ["refused", "refused", "done"],
        "her own slip, Marek's try, and Marek himself"
    );
    assert!(ines.events("person.edit").len() >= 2);
}

#[test]
fn groups_hold_people_and_groups_but_never_themselves() {
    let service = Service::ready();
    let client = service.client("ines");
    for name in ["yusra", "tomas"] {
        let _ = client.good_with(
            &[
                "people",
                "add",
                name,
                "--display-name",
                name,
                "--password-file",
                "-",
            ],
            PASSWORD,
        );
    }
    let _ = client.good(&["group", "add", "Duty engineers"]);
    let _ = client.good(&["group", "add", "Pumping"]);
    let _ = client.good(&["group", "add-member", "Duty engineers", "--person", "yusra"]);
    let _ = client.good(&[
        "group",
        "add-member",
        "Pumping",
        "--group",
        "Duty engineers",
    ]);
    let (code, words) = client.bad(&[
        "group",
        "add-member",
        "Duty engineers",
        "--group",
        "Pumping",
    ]);
    assert!(
        code == 7 && words.contains("is already in Pumping"),
        "a ring of groups: {words}"
    );
    let listed = client.good(&["group", "list", "--output", "json"]);
    assert!(
        listed.contains("Duty engineers") && listed.contains("yusra"),
        "{listed}"
    );
    let _ = client.good(&[
        "group",
        "remove-member",
        "Duty engineers",
        "--person",
        "yusra",
    ]);
    let listed = client.good(&["group", "list", "--output", "json"]);
    assert!(!listed.contains("yusra"), "{listed}");
    let actions: Vec<usize> = ["group.add", "group.add-member", "group.remove-member"]
        .map(|action| service.sign_in("ines").events(action).len())
        .into();
    assert!(actions.iter().all(|count| *count > 0), "{actions:?}");
}

#[test]
fn a_password_policy_is_checked_before_it_is_kept_and_names_what_is_made() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let rules = |length: i64, symbols: &str| json!({"length": length, "min_length": 8, "min_lower": 1, "min_upper": 1, "min_digits": 4, "min_symbols": 0, "symbols": symbols, "no_look_alikes": true});
    let policy = ines.make(
        "/api/v1/password-policies",
        &json!({"name": "Telemetry units", "rules": rules(24, "")}),
    );
    ines.post(
        "/api/v1/password-policies",
        &json!({"name": "Too weak", "rules": rules(8, "")}),
    )
    .refused(422, "bad-input");
    ines.post(
        "/api/v1/password-policies",
        &json!({"name": "Telemetry units", "rules": rules(24, "")}),
    )
    .refused(409, "name-taken");
    let path = format!("/api/v1/password-policies/{policy}");
    let change = |revision: i64| {
        service.call(
            "PUT",
            &path,
            Some(&ines.token),
            Some(&json!({"name": "Telemetry", "rules": rules(30, "-")})),
            Some(revision),
        )
    };
    assert_eq!(change(1).good()["revision"], 2);
    change(1).refused(412, "changed-meanwhile");
    let made = ines
        .post(&format!("/api/v1/generate?policy={policy}"), &json!({}))
        .text("password");
    assert_eq!(made.len(), 30);
    assert!(
        made.chars().filter(char::is_ascii_digit).count() >= 4
            && made.chars().all(|c| c.is_ascii_alphanumeric() || c == '-'),
        "{made}"
    );
    let client = service.client("ines");
    assert_eq!(
        client.good(&["generate", "--policy", "Telemetry"]).len(),
        30
    );
    let marek = ines.person("marek", &[]);
    assert!(!marek.is_empty());
    service
        .sign_in("marek")
        .post(
            "/api/v1/password-policies",
            &json!({"name": "Mine", "rules": rules(24, "")}),
        )
        .refused(403, "needs-duty");
}

#[test]
fn a_device_is_added_edited_given_an_operator_and_removed_without_accounts() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let folder = ines.folder("Pumping");
    let client = service.client("ines");
    let _ = client.good(&[
        "device",
        "add",
        "/Pumping/telemetry",
        "--address",
        "127.0.0.1",
        "--port",
        "2201",
    ]);
    let (code, _) = client.bad(&[
        "device",
        "add",
        "/Pumping/telemetry",
        "--address",
        "127.0.0.2",
    ]);
    assert_eq!(code, 6);
    let device = ines.get("/api/v1/devices").good()["items"][0]["id"]
        .as_str()
        .unwrap()
        .to_owned();
    let body = json!({"folder": folder, "kind": "device-admin", "name": "root", "fields": {"user_name": "root"}, "password": "Ridge-root-1", "device": device});
    let root = ines.make("/api/v1/credentials", &body);
    let path = format!("/api/v1/devices/{device}");
    ines.patch(&path, 1, &json!({"operator": device}))
        .refused(404, "unknown");
    let changed = ines
        .patch(&path, 1, &json!({"operator": root, "address": "127.0.0.3"}))
        .good();
    assert_eq!(
        (
            &changed["operator"],
            &changed["address"],
            &changed["identity"]
        ),
        (&json!(root), &json!("127.0.0.3"), &json!([]))
    );
    ines.patch(&path, 1, &json!({"name": "late"}))
        .refused(412, "changed-meanwhile");
    ines.delete(&path, Some(2)).refused(409, "has-accounts");
    ines.delete(&format!("/api/v1/credentials/{root}"), Some(1))
        .refused(409, "is-operator");
}

#[test]
fn a_steward_recalls_a_checkout() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let folder = ines.folder("Pumping");
    let credential = ines.login(&folder, "duty", "Winter-tide-41");
    let yusra = ines.person("yusra", &[]);
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": folder, "person": yusra, "level": "reveal"}),
    );
    let gate = json!({"folder": folder, "needs_reason": true, "approver_people": [], "approver_groups": [], "max_minutes": 60, "one_holder": true, "rotate_on_return": false});
    let _ = ines.make("/api/v1/gates", &gate);
    let holder = service.sign_in("yusra");
    let held = holder.make(
        "/api/v1/checkouts",
        &json!({"credential": credential, "reason": "pump 3 stopped", "minutes": 60}),
    );
    assert_eq!(holder.reveal(&credential).text("value"), "Winter-tide-41");
    ines.post(
        "/api/v1/checkouts",
        &json!({"credential": credential, "reason": "me too", "minutes": 5}),
    )
    .refused(409, "held");
    assert!(
        holder
            .post(&format!("/api/v1/checkouts/{held}/recall"), &json!({}))
            .status
            >= 400
    );
    assert_eq!(
        ines.post(&format!("/api/v1/checkouts/{held}/recall"), &json!({}))
            .good()["ended_how"],
        "recalled"
    );
    holder.reveal(&credential).refused(403, "gate");
    holder
        .post(&format!("/api/v1/checkouts/{held}/check-in"), &json!({}))
        .refused(409, "checkout-ended");
    let event = &ines.events("checkout.recall")[0];
    assert_eq!(event["target_name"], "/Pumping/duty");
}

#[test]
fn the_event_stream_shows_jobs_only_to_those_with_access() {
    let host =
        Host::temporary("north-ridge-telemetry", &[("duty", "North-ridge-2019")]).expect("a host");
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let folder = ines.folder("Pumping");
    let device = ines.make("/api/v1/devices", &json!({"folder": folder, "name": "telemetry", "address": "127.0.0.1", "port": host.port()}));
    let body = json!({"folder": folder, "kind": "device-admin", "name": "duty", "fields": {"user_name": "duty"}, "password": "North-ridge-2019", "device": device});
    let credential = ines.make("/api/v1/credentials", &body);
    let _ = ines.person("pim", &[]);
    let watch = |name: &str| {
        let client = service.client(name);
        let mut command = Command::new(program("jexlin"));
        command
            .args(["upkeep", "watch"])
            .env("JEXLIN_SESSION", client.folder.join("session.json"))
            .env("JEXLIN_SERVICE", &service.url);
        command
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .expect("the client")
    };
    let (mut seeing, mut blind) = (watch("ines"), watch("pim"));
    let mut lines = BufReader::new(seeing.stdout.take().unwrap()).lines();
    // A watch that began after a job's end says nothing of it: check until one is seen to the end.
    let (sender, done) = std::sync::mpsc::channel();
    let reader = std::thread::spawn(move || {
        let mut seen = vec![];
        for line in lines.by_ref().map_while(Result::ok) {
            let last = line.contains("in-sync");
            seen.push(line);
            if last {
                break;
            }
        }
        let _ = sender.send(());
        seen
    });
    while done
        .recv_timeout(std::time::Duration::from_millis(10))
        .is_err()
    {
        let job = ines.make(
            &format!("/api/v1/credentials/{credential}/check"),
            &json!({}),
        );
        let _ = ines.settled(&job);
    }
    let seen = reader.join().unwrap();
    assert!(
        seen.iter().any(|line| line.contains("running"))
            && seen.last().unwrap().contains("/Pumping/duty"),
        "{seen:?}"
    );
    for child in [&mut seeing, &mut blind] {
        child.kill().unwrap();
        child.wait().unwrap();
    }
    let mut nothing = String::new();
    std::io::Read::read_to_string(&mut blind.stdout.take().unwrap(), &mut nothing).unwrap();
    assert_eq!(nothing, "", "somebody without a grant hears of no job");
}

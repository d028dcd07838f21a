//! Somebody who must pass a gate sets a weaker one below it, closes the folder under it, moves what
//! is under it, uses an old approval or keeps a long checkout, or holds it twice.

use jexlin_acceptance::{Service, Session};
use serde_json::{Value, json};

use super::{grant, login, revision, strict};

struct World {
    service: Service,
    top: String,
    safe: String,
    target: String,
}

/// `/Top` with a gate of its own, `/Top/Safe` below it with a login; `petra` is a steward of
/// `/Top/Safe` alone, `marek` may reveal there, `tomas` approves.
fn world() -> World {
    let service = strict(&[]);
    let (top, safe, target) = {
        let ines = service.sign_in("ines");
        let top = ines.folder("Top");
        let safe = ines.make("/api/v1/folders", &json!({"name": "Safe", "parent": top}));
        let target = login(&ines, &safe, "root", "root", "Root-1");
        let (petra, marek, tomas) = (
            ines.person("petra", &[]),
            ines.person("marek", &[]),
            ines.person("tomas", &[]),
        );
        grant(&ines, "folder", &safe, &petra, "steward");
        grant(&ines, "folder", &safe, &marek, "reveal");
        // Their own sign-ins: nobody owes anybody anything here.
        service.sql("UPDATE person SET sign_in_by = NULL");
        let _ = ines.make(
            "/api/v1/gates",
            &json!({"folder": top, "needs_reason": true, "approver_people": [tomas], "max_minutes": 30, "one_holder": true, "rotate_on_return": false}),
        );
        (top, safe, target)
    };
    World {
        service,
        top,
        safe,
        target,
    }
}

fn ask(of: &Session<'_>, target: &str) -> String {
    of.make(
        "/api/v1/requests",
        &json!({"credential": target, "reason": "pump 3", "minutes": 20}),
    )
}

fn approve(of: &Session<'_>, request: &str) -> Value {
    of.post(
        &format!("/api/v1/requests/{request}/approve"),
        &json!({"comment": ""}),
    )
    .good()
}

fn gates(of: &Session<'_>, place: &str) -> (String, i64) {
    let all = of.get("/api/v1/gates").good();
    let gate = all["items"]
        .as_array()
        .unwrap()
        .iter()
        .find(|gate| gate["target"] == place)
        .unwrap()
        .clone();
    (
        gate["id"].as_str().unwrap().to_owned(),
        gate["revision"].as_i64().unwrap(),
    )
}

#[test]
fn a_weaker_gate_below_adds_to_the_one_above() {
    let World {
        service,
        target,
        safe,
        ..
    } = world();
    let (petra, marek) = (service.sign_in("petra"), service.sign_in("marek"));
    for place in [json!({"credential": target}), json!({"folder": safe})] {
        let mut gate = json!({"needs_reason": false, "max_minutes": 600, "one_holder": false, "rotate_on_return": false});
        gate.as_object_mut()
            .unwrap()
            .extend(place.as_object().unwrap().clone());
        let _ = petra.make("/api/v1/gates", &gate);
    }
    let shown = marek.get(&format!("/api/v1/credentials/{target}")).good()["gate"].clone();
    assert_eq!(
        (
            &shown["needs_approval"],
            &shown["max_minutes"],
            &shown["one_holder"]
        ),
        (&json!(true), &json!(30), &json!(true)),
        "{shown}"
    );
    assert_eq!(marek.reveal(&target).status, 403);
    marek
        .post(
            "/api/v1/checkouts",
            &json!({"credential": target, "reason": "x"}),
        )
        .refused(403, "not-allowed");
    marek
        .post(
            "/api/v1/requests",
            &json!({"credential": target, "reason": "x", "minutes": 60}),
        )
        .refused(422, "bad-input");
}

#[test]
fn closing_or_moving_does_not_take_it_out_from_under_its_gate() {
    let World {
        service,
        top,
        safe,
        target,
    } = world();
    let ines = service.sign_in("ines");
    let petra = service.sign_in("petra");
    // Closed below, the gate above still stands.
    let path = format!("/api/v1/folders/{safe}");
    let _ = petra.patch(&path, 1, &json!({"closed": true}));
    assert_eq!(petra.reveal(&target).status, 403);
    // With `edit` above, nobody closes a new folder below those who look after it.
    let marek = ines.get("/api/v1/people").good()["items"]
        .as_array()
        .unwrap()
        .iter()
        .find(|person| person["sign_in_name"] == "marek")
        .unwrap()["id"]
        .as_str()
        .unwrap()
        .to_owned();
    grant(&ines, "folder", &top, &marek, "edit");
    let marek = service.sign_in("marek");
    marek
        .post(
            "/api/v1/folders",
            &json!({"name": "Mine", "parent": top, "closed": true}),
        )
        .refused(403, "not-allowed");
    // Moved to a folder of one's own without a gate, it is a steward's act, in the log; a checkout
    // or a request of before is good for nothing there that it was not good for here.
    let own = ines.folder("Own");
    let petra_id = petra.get("/api/v1/me").text("id");
    grant(&ines, "folder", &own, &petra_id, "edit");
    let path = format!("/api/v1/credentials/{target}");
    petra
        .patch(&path, revision(&petra, &path), &json!({"folder": own}))
        .refused(403, "not-allowed");
}

#[test]
fn an_old_approval_does_not_open_a_new_gate() {
    let World {
        service,
        target,
        safe,
        ..
    } = world();
    let (petra, marek, tomas) = (
        service.sign_in("petra"),
        service.sign_in("marek"),
        service.sign_in("tomas"),
    );
    let request = ask(&marek, &target);
    assert_eq!(approve(&tomas, &request)["state"], "approved");
    let petra_id = petra.get("/api/v1/me").text("id");
    let _ = petra.make(
        "/api/v1/gates",
        &json!({"folder": safe, "needs_reason": true, "approver_people": [petra_id], "max_minutes": 10, "one_holder": false, "rotate_on_return": false}),
    );
    assert_eq!(
        marek
            .get(&format!("/api/v1/requests/{request}"))
            .text("state"),
        "expired",
        "examined again with the change"
    );
    marek
        .post("/api/v1/checkouts", &json!({"request": request}))
        .refused(409, "not-approved");
    // The new request needs an approval at each gate.
    let again = marek.make(
        "/api/v1/requests",
        &json!({"credential": target, "reason": "pump 3", "minutes": 10}),
    );
    assert_eq!(approve(&tomas, &again)["state"], "waiting");
    marek
        .post("/api/v1/checkouts", &json!({"request": again}))
        .refused(409, "not-approved");
    assert_eq!(approve(&petra, &again)["state"], "approved");
    let _ = marek
        .post("/api/v1/checkouts", &json!({"request": again}))
        .good();
    assert_eq!(marek.reveal(&target).text("value"), "Root-1");
}

#[test]
fn a_checkout_ends_when_its_gate_gets_stricter_and_when_access_goes() {
    let World {
        service,
        target,
        safe,
        top,
    } = world();
    let (ines, petra, marek, tomas) = (
        service.sign_in("ines"),
        service.sign_in("petra"),
        service.sign_in("marek"),
        service.sign_in("tomas"),
    );
    let take = || {
        let request = ask(&marek, &target);
        let _ = approve(&tomas, &request);
        marek.make("/api/v1/checkouts", &json!({"request": request}))
    };
    let state = |checkout: &str| {
        let all = marek.get("/api/v1/checkouts").good();
        all["items"]
            .as_array()
            .unwrap()
            .iter()
            .find(|row| row["id"] == checkout)
            .unwrap()["ended_how"]
            .clone()
    };
    let first = take();
    assert_eq!(marek.reveal(&target).text("value"), "Root-1");
    let tomas_id = tomas.get("/api/v1/me").text("id");
    let (gate, present) = gates(&ines, &top);
    let stricter = json!({"needs_reason": true, "approver_people": [tomas_id], "max_minutes": 25, "one_holder": true, "rotate_on_return": false});
    let _ = ines
        .call(
            "PUT",
            &format!("/api/v1/gates/{gate}"),
            Some(&stricter),
            Some(present),
        )
        .good();
    assert_eq!(state(&first), "recalled");
    assert_eq!(marek.reveal(&target).status, 403);
    let second = take();
    let grants = petra.get(&format!("/api/v1/grants?folder={safe}")).good();
    let own = grants["items"]
        .as_array()
        .unwrap()
        .iter()
        .find(|grant| grant["level"] == "reveal")
        .unwrap()["id"]
        .as_str()
        .unwrap()
        .to_owned();
    let _ = petra.delete(&format!("/api/v1/grants/{own}"), None).good();
    assert_eq!(state(&second), "recalled");
    assert!(ines.events("checkout.recall").len() >= 2);
}

#[test]
fn where_one_at_a_time_holds_it_nobody_holds_it_twice() {
    let World {
        service, target, ..
    } = world();
    let ines = service.sign_in("ines");
    let (marek, tomas, petra) = (
        service.sign_in("marek"),
        service.sign_in("tomas"),
        service.sign_in("petra"),
    );
    let mine: Vec<String> = (0..2)
        .map(|_| {
            let request = ask(&marek, &target);
            let _ = approve(&tomas, &request);
            request
        })
        .collect();
    let theirs = ask(&petra, &target);
    let _ = approve(&tomas, &theirs);
    let taken: Vec<u16> = std::thread::scope(|scope| {
        let tries: Vec<_> = [(&marek, &mine[0]), (&marek, &mine[1]), (&petra, &theirs)]
            .map(|(who, request)| {
                scope.spawn(move || {
                    who.post("/api/v1/checkouts", &json!({"request": request}))
                        .status
                })
            })
            .into_iter()
            .collect();
        tries.into_iter().map(|each| each.join().unwrap()).collect()
    });
    assert_eq!(
        taken.iter().filter(|status| **status == 200).count(),
        1,
        "{taken:?}"
    );
    assert_eq!(
        service.sql("SELECT count(*) FROM checkout WHERE ended_at IS NULL"),
        "1"
    );
    drop(ines);
}

/// Removed, revealed, restored: the removal waits for a second steward.
#[test]
fn a_gate_is_not_lifted_for_a_moment_by_one_person() {
    let World {
        service,
        target,
        safe,
        ..
    } = world();
    let ines = service.sign_in("ines");
    let petra = service.sign_in("petra");
    let gate =
        petra.make("/api/v1/gates", &json!({"folder": safe, "needs_reason": true, "max_minutes": 10, "one_holder": false, "rotate_on_return": false}));
    let removed = petra.delete(&format!("/api/v1/gates/{gate}"), Some(1));
    assert_eq!(
        (removed.status, removed.text("state")),
        (202, "waiting".to_owned()),
        "{}",
        removed.body
    );
    let weaker = json!({"needs_reason": false, "max_minutes": 600, "one_holder": false, "rotate_on_return": false});
    assert_eq!(
        petra
            .call(
                "PUT",
                &format!("/api/v1/gates/{gate}"),
                Some(&weaker),
                Some(1)
            )
            .status,
        202
    );
    assert_eq!(petra.reveal(&target).status, 403);
    let act = removed.text("id");
    petra
        .post(
            &format!("/api/v1/pending-acts/{act}/confirm"),
            &json!({"comment": ""}),
        )
        .refused(403, "not-allowed");
    let _ = ines
        .post(
            &format!("/api/v1/pending-acts/{act}/confirm"),
            &json!({"comment": "It moves to the folder above."}),
        )
        .good();
    assert!(
        ines.get("/api/v1/gates").good()["items"]
            .as_array()
            .unwrap()
            .iter()
            .all(|row| row["id"] != json!(gate))
    );
    let log = ines.events("gate.remove");
    assert!(
        log.iter().any(|event| event["detail"]["proposed_by"]
            .as_str()
            .unwrap_or_default()
            .contains("petra")),
        "{log:?}"
    );
}

#[test]
fn a_gate_on_a_device_stands_before_all_its_accounts() {
    let World { service, .. } = world();
    let ines = service.sign_in("ines");
    let (devices, logins) = (ines.folder("Devices"), ines.folder("Logins"));
    let unit = super::device(&ines, &devices, "unit", 22);
    let duty = super::account(&ines, &logins, &unit, "duty", "duty", "Duty-1");
    assert_eq!(ines.reveal(&duty).text("value"), "Duty-1");
    let client = service.client("ines");
    let _ = client.good(&[
        "gate",
        "add",
        "--device",
        "/Devices/unit",
        "--needs-reason",
        "--minutes",
        "5",
    ]);
    assert_eq!(ines.reveal(&duty).status, 403);
    let _ = ines.make(
        "/api/v1/checkouts",
        &json!({"credential": duty, "reason": "a look", "minutes": 5}),
    );
    assert_eq!(ines.reveal(&duty).text("value"), "Duty-1");
}

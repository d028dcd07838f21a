//! The holder of one duty makes a puppet with all of them, resets the password of somebody with
//! power, approves through an account that they made, or joins a group that brings power.

use jexlin_acceptance::PASSWORD;
use serde_json::json;

use super::{grant, login, revision, strict};

fn id_of(of: &jexlin_acceptance::Session<'_>, name: &str) -> String {
    let people = of.get("/api/v1/people?limit=200").good();
    people["items"]
        .as_array()
        .unwrap()
        .iter()
        .find(|person| person["sign_in_name"] == name)
        .unwrap()["id"]
        .as_str()
        .unwrap()
        .to_owned()
}

#[test]
fn nobody_gives_a_duty_that_they_lack_or_gives_one_alone() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    // While nobody else holds `people` there is nobody to confirm; the first page says so.
    let petra = ines.person("petra", &["people"]);
    let _ = petra;
    let petra = service.sign_in("petra");
    petra
        .post(
            "/api/v1/people",
            &json!({"sign_in_name": "puppet", "display_name": "Puppet", "password": PASSWORD, "duties": ["people", "access", "policy", "audit"]}),
        )
        .refused(403, "not-allowed");
    let made = petra.post("/api/v1/people", &json!({"sign_in_name": "puppet", "display_name": "Puppet", "password": PASSWORD, "duties": ["people"]}));
    assert_eq!(
        (made.status, made.text("act")),
        (202, "give-duties".to_owned()),
        "{}",
        made.body
    );
    let puppet = id_of(&ines, "puppet");
    assert_eq!(
        ines.get(&format!("/api/v1/people/{puppet}")).good()["duties"],
        json!([])
    );
    // The puppet does not confirm for itself, and neither does whoever proposed it.
    let as_puppet = service.sign_in("puppet");
    let act = made.text("id");
    as_puppet
        .post(
            &format!("/api/v1/pending-acts/{act}/confirm"),
            &json!({"comment": ""}),
        )
        .refused(404, "unknown");
    petra
        .post(
            &format!("/api/v1/pending-acts/{act}/confirm"),
            &json!({"comment": ""}),
        )
        .refused(403, "not-allowed");
    assert!(
        ines.get("/api/v1/overview").good()["pending"]
            .as_array()
            .unwrap()
            .iter()
            .any(|pending| pending["id"] == json!(act))
    );
    let client = service.client("ines");
    assert!(
        client
            .good(&["pending", "list", "--waiting"])
            .contains("Puppet")
    );
    let _ = client.good(&["pending", "refuse", &act, "--comment", "who is that?"]);
    petra
        .post(
            &format!("/api/v1/pending-acts/{act}/withdraw"),
            &json!({"comment": ""}),
        )
        .refused(409, "act-settled");
    assert_eq!(ines.events("pending-act.refuse").len(), 1);
}

#[test]
fn the_password_of_somebody_with_duties_is_not_reset_by_one_person() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let safe = ines.folder("Safe");
    let (petra, olena, marek) = (
        ines.person("petra", &["people"]),
        ines.person("olena", &[]),
        ines.person("marek", &[]),
    );
    let _ = petra;
    grant(&ines, "folder", &safe, &olena, "steward");
    let petra = service.sign_in("petra");
    let reset = |person: &str| {
        petra.patch(
            &format!("/api/v1/people/{person}"),
            revision(&ines, &format!("/api/v1/people/{person}")),
            &json!({"password": "another-password-1"}),
        )
    };
    // Somebody without power: at once. A steward, and the administrator: not alone.
    assert_eq!(reset(&marek).status, 200);
    assert_eq!(reset(&olena).status, 202);
    let me = ines.get("/api/v1/me").text("id");
    let waiting = reset(&me);
    assert_eq!(waiting.status, 202);
    // The old passwords still count, and no hash of the new one is told to anybody.
    let _ = (service.sign_in("olena"), service.sign_in("ines"));
    assert!(!waiting.body.to_string().contains("argon2"));
    let _ = petra
        .post(
            &format!("/api/v1/pending-acts/{}/withdraw", waiting.text("id")),
            &json!({"comment": ""}),
        )
        .good();
    assert_eq!(
        service.sql("SELECT count(*) FROM pending_act WHERE state <> 'waiting' AND body <> '{}'"),
        "0"
    );
}

#[test]
fn an_approver_whose_password_the_requester_set_does_not_approve() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let safe = ines.folder("Safe");
    let target = login(&ines, &safe, "root", "root", "Root-1");
    let (petra, tomas) = (ines.person("petra", &["people"]), ines.person("tomas", &[]));
    grant(&ines, "folder", &safe, &petra, "reveal");
    let group = ines.make("/api/v1/groups", &json!({"name": "Shift leads"}));
    let _ = ines
        .put(&format!("/api/v1/groups/{group}/members/{tomas}"))
        .good();
    let _ = ines.make(
        "/api/v1/gates",
        &json!({"folder": safe, "needs_reason": true, "approver_groups": [group], "max_minutes": 30, "one_holder": false, "rotate_on_return": false}),
    );
    let petra = service.sign_in("petra");
    let puppet = petra.person("puppet", &[]);
    // A group that approves where she is no steward: not alone.
    let joined = petra.put(&format!("/api/v1/groups/{group}/members/{puppet}"));
    assert_eq!(
        (joined.status, joined.text("act")),
        (202, "join-group".to_owned()),
        "{}",
        joined.body
    );
    // Even once somebody has let it in, it does not decide what its maker asks.
    let _ = ines
        .post(
            &format!("/api/v1/pending-acts/{}/confirm", joined.text("id")),
            &json!({"comment": ""}),
        )
        .good();
    let request = petra.make(
        "/api/v1/requests",
        &json!({"credential": target, "reason": "pump 3", "minutes": 20}),
    );
    service
        .sign_in("puppet")
        .post(
            &format!("/api/v1/requests/{request}/approve"),
            &json!({"comment": ""}),
        )
        .refused(403, "not-allowed");
    let _ = service
        .sign_in("tomas")
        .post(
            &format!("/api/v1/requests/{request}/approve"),
            &json!({"comment": ""}),
        )
        .good();
}

#[test]
fn secrets_of_clients_and_these_rules_themselves_are_not_changed_by_one() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let _ = ines.person("petra", &["people", "policy"]);
    let petra = service.sign_in("petra");
    let made = ines
        .post(
            "/api/v1/clients",
            &json!({"name": "pump control", "display_name": "Pump control"}),
        )
        .good();
    let client = made["client"]["id"].as_str().unwrap().to_owned();
    let waiting = petra.post(&format!("/api/v1/clients/{client}/secret"), &json!({}));
    assert_eq!(waiting.status, 202, "{}", waiting.body);
    let settings = petra.get("/api/v1/settings").good();
    let mut body = settings["settings"].clone();
    body["two_people_duties"] = json!(false);
    assert_eq!(
        petra
            .call(
                "PUT",
                "/api/v1/settings",
                Some(&body),
                settings["revision"].as_i64()
            )
            .status,
        202
    );
    // What one person may set alone stays so.
    let mut body = settings["settings"].clone();
    body["bin_days"] = json!(60);
    assert_eq!(
        petra
            .call(
                "PUT",
                "/api/v1/settings",
                Some(&body),
                settings["revision"].as_i64()
            )
            .status,
        200
    );
    let confirmed = ines
        .post(
            &format!("/api/v1/pending-acts/{}/confirm", waiting.text("id")),
            &json!({"comment": ""}),
        )
        .good();
    assert!(
        confirmed["secret"].as_str().unwrap().len() > 20,
        "{confirmed}"
    );
    // The other one was proposed for settings that have changed since.
    let stale = petra.get("/api/v1/pending-acts?waiting=true").good()["items"][0]["id"]
        .as_str()
        .unwrap()
        .to_owned();
    ines.post(
        &format!("/api/v1/pending-acts/{stale}/confirm"),
        &json!({"comment": ""}),
    )
    .refused(412, "changed-meanwhile");
}

#[test]
fn an_access_file_does_not_do_what_needs_two_people() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let safe = ines.folder("Safe");
    let petra = ines.person("petra", &[]);
    grant(&ines, "folder", &safe, &petra, "steward");
    let _ = ines.make("/api/v1/gates", &json!({"folder": safe, "needs_reason": true, "max_minutes": 30, "one_holder": false, "rotate_on_return": false}));
    let petra = service.sign_in("petra");
    let file = service.client("petra").good(&["access", "export", "-"]);
    assert!(file.contains("minutes = 30"), "{file}");
    let weaker = file.replace("minutes = 30", "minutes = 600");
    let answer = service
        .raw(
            "POST",
            "/api/v1/access/apply",
            Some(&petra.token),
            Some(weaker.into_bytes()),
            None,
        )
        .unwrap();
    answer.refused(409, "needs-second-person");
}

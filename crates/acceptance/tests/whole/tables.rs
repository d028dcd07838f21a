//! The tables that the service sorts and narrows: people, devices, checkouts, requests, events.

use jexlin_acceptance::{Service, Session};
use serde_json::{Value, json};

/// How many rows a table has, and what `field` says in those of the part.
fn rows(session: &Session<'_>, address: &str, field: &str) -> (i64, Vec<String>) {
    let part = session.get(address).good();
    let text = |row: &Value| row[field].as_str().unwrap().to_owned();
    let items = part["items"].as_array().unwrap();
    (
        part["total"].as_i64().unwrap(),
        items.iter().map(text).collect(),
    )
}

fn these<const N: usize>(names: [&str; N]) -> (i64, Vec<String>) {
    (i64::try_from(N).unwrap(), names.map(str::to_owned).to_vec())
}

fn refused(session: &Session<'_>, addresses: &[&str]) {
    for address in addresses {
        session.get(address).refused(422, "bad-input");
    }
}

#[test]
fn the_table_of_people_is_sorted_and_narrowed() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let anna = ines.person("anna", &["audit"]);
    let _ = ines.person("bela", &["audit", "policy"]);
    let carla = ines.person("carla", &[]);
    let group = ines.make("/api/v1/groups", &json!({"name": "Night shift"}));
    let _ = ines
        .put(&format!("/api/v1/groups/{group}/members/{carla}"))
        .good();
    let revision = ines.get(&format!("/api/v1/people/{anna}")).good()["revision"]
        .as_i64()
        .unwrap();
    let _ = ines
        .patch(
            &format!("/api/v1/people/{anna}"),
            revision,
            &json!({"state": "suspended"}),
        )
        .good();
    let _ = ines
        .post(
            "/api/v1/clients",
            &json!({"name": "reports", "display_name": "Reports"}),
        )
        .good();
    let table = |query: &str| {
        let address = format!("/api/v1/people/table?{query}");
        rows(&ines, &address, "sign_in_name")
    };
    let all = table("").1;
    assert_eq!(all.len(), 4, "clients are in a table of their own: {all:?}");
    assert_eq!(
        table("sort=-sign-in-name").1.last().map(String::as_str),
        Some("anna")
    );
    assert_eq!(table("kind=client"), these(["reports"]));
    assert_eq!(table("group=NIGHT"), these(["carla"]));
    assert_eq!(table("state=suspended"), these(["anna"]));
    assert_eq!(table("duty=policy&name=be"), these(["bela"]));
    assert_eq!(table("find=osmere+audit").1, ["anna", "bela"]);
    assert_eq!(table("from=3&limit=2").1.len(), 1);
    assert_eq!(table("from=90"), (4, vec![]), "the number stays right");
    assert_eq!(table("find=_"), (0, vec![]), "signs stand for themselves");
    refused(
        &ines,
        &[
            "/api/v1/people/table?sort=password",
            "/api/v1/people/table?kind=god",
            "/api/v1/people/table?state=well",
            "/api/v1/people/table?duty=all",
        ],
    );
}

#[test]
fn the_table_of_devices_has_what_somebody_may_know_of() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let (pumping, apart) = (ines.folder("Pumping"), ines.folder("Apart"));
    let device = |folder: &str, name: &str, port: u16, connector: &str| {
        ines.make(
            "/api/v1/devices",
            &json!({"folder": folder, "name": name, "address": "127.0.0.1", "port": port, "connector": connector}),
        )
    };
    let north = device(&pumping, "north telemetry", 9, "ssh");
    let _ = device(&pumping, "billing database", 7, "postgresql");
    let _ = device(&apart, "south telemetry", 8, "ssh");
    let account = |name: &str| {
        ines.make(
            "/api/v1/credentials",
            &json!({"folder": pumping, "kind": "device-admin", "name": name, "fields": {"user_name": name}, "password": "Duty-2019-a", "device": north}),
        )
    };
    let duty = account("duty");
    let _ = account("night");
    let table = |session: &Session<'_>, query: &str| {
        let address = format!("/api/v1/devices/table?{query}");
        rows(session, &address, "name")
    };
    let three = ["billing database", "north telemetry", "south telemetry"];
    assert_eq!(table(&ines, ""), these(three));
    assert_eq!(table(&ines, "sort=-accounts").1[0], "north telemetry");
    assert_eq!(table(&ines, "sort=address").1[0], "billing database");
    assert_eq!(table(&ines, "kind=postgresql"), these([three[0]]));
    assert_eq!(table(&ines, "folder=apart"), these([three[2]]));
    assert_eq!(table(&ines, "address=1:9"), these([three[1]]));
    assert_eq!(table(&ines, "find=telemetry+pump"), these([three[1]]));
    assert_eq!(table(&ines, "identity=confirmed").0, 0);
    assert_eq!(table(&ines, "state=not-paused").0, 3);
    refused(
        &ines,
        &[
            "/api/v1/devices/table?sort=password",
            "/api/v1/devices/table?kind=toaster",
            "/api/v1/devices/table?identity=maybe",
            "/api/v1/devices/table?state=suspended",
        ],
    );
    // What is on one device, and what was done there.
    let on = |what: &str, field: &str| {
        let address = format!("/api/v1/{what}/table?on={north}");
        rows(&ines, &address, field)
    };
    assert_eq!(on("credentials", "name"), these(["duty", "night"]));
    let job = ines.make(&format!("/api/v1/credentials/{duty}/check"), &json!({}));
    let _ = ines.settled(&job);
    assert_eq!(on("jobs", "credential"), these([duty.as_str()]));
    // Who has one folder sees and counts what is in it.
    let pim = ines.person("pim", &[]);
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": apart, "person": pim, "level": "list"}),
    );
    let pim = service.sign_in("pim");
    assert_eq!(table(&pim, ""), these([three[2]]));
    assert_eq!(table(&pim, "find=billing"), (0, vec![]));
    let on = format!("/api/v1/jobs/table?on={north}");
    assert_eq!(rows(&pim, &on, "credential"), (0, vec![]));
}

#[test]
fn the_tables_of_requests_and_checkouts_have_what_concerns_somebody() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let folder = ines.folder("Pumping");
    let people = ["marek", "tomas", "pim"].map(|name| {
        let person = ines.person(name, &[]);
        let _ = ines.make(
            "/api/v1/grants",
            &json!({"folder": folder, "person": person, "level": "reveal"}),
        );
        person
    });
    let credentials = ["alder", "birch"].map(|name| {
        let credential = ines.login(&folder, name, "Pump-2019-a");
        let _ = ines.make(
            "/api/v1/gates",
            &json!({"credential": credential, "needs_reason": true, "approver_people": [people[1]], "max_minutes": 60}),
        );
        credential
    });
    let [marek, tomas, pim] = ["marek", "tomas", "pim"].map(|name| service.sign_in(name));
    let ask = |session: &Session<'_>, place: usize, minutes: i32, reason: &str| {
        session.make(
            "/api/v1/requests",
            &json!({"credential": credentials[place], "minutes": minutes, "reason": reason}),
        )
    };
    let first = ask(&marek, 0, 30, "pump 3 stopped");
    let _ = ask(&marek, 1, 10, "yearly test");
    let _ = ask(&pim, 0, 20, "valve 9 leaks");
    let requests = |session: &Session<'_>, query: &str| {
        let address = format!("/api/v1/requests/table?{query}");
        rows(session, &address, "reason")
    };
    let three = ["pump 3 stopped", "valve 9 leaks", "yearly test"];
    assert_eq!(requests(&tomas, "sort=reason"), these(three));
    assert_eq!(requests(&tomas, "sort=-minutes").1[0], three[0]);
    assert_eq!(requests(&tomas, "").1[0], three[1], "the newest first");
    assert_eq!(requests(&tomas, "who=pim"), these([three[1]]));
    assert_eq!(requests(&tomas, "credential=birch"), these([three[2]]));
    assert_eq!(requests(&tomas, "find=alder+3"), these([three[0]]));
    assert_eq!(
        requests(&tomas, "sort=asked&from=2"),
        (3, vec![three[1].into()])
    );
    assert_eq!(requests(&marek, "").0, 2, "one's own");
    assert_eq!(requests(&ines, "").0, 0, "ines approves nothing here");
    let _ = tomas
        .post(&format!("/api/v1/requests/{first}/approve"), &json!({}))
        .good();
    assert_eq!(requests(&tomas, "state=approved"), these([three[0]]));
    let held = marek.make("/api/v1/checkouts", &json!({"request": first}));
    let checkouts = |session: &Session<'_>, query: &str| {
        let address = format!("/api/v1/checkouts/table?{query}");
        rows(session, &address, "id")
    };
    assert_eq!(checkouts(&marek, "ended=held-now"), these([held.as_str()]));
    assert_eq!(
        checkouts(&marek, "credential=alder&find=stopped&sort=-until"),
        these([held.as_str()])
    );
    assert_eq!(checkouts(&marek, "ended=check-in").0, 0);
    assert_eq!(checkouts(&tomas, "").0, 0, "those of others are not there");
    refused(
        &marek,
        &[
            "/api/v1/requests/table?sort=comment",
            "/api/v1/requests/table?state=fine",
            "/api/v1/checkouts/table?sort=who",
            "/api/v1/checkouts/table?ended=well",
        ],
    );
}

#[test]
fn the_log_is_narrowed_by_its_columns_and_read_from_either_end() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let folder = ines.folder("Pumping");
    let _ = ines.login(&folder, "alder", "Pump-2019-a");
    let auditor = ines.person("anna", &["audit"]);
    let anna = service.sign_in("anna");
    let names = |query: &str| -> Vec<String> {
        let found = anna.get(&format!("/api/v1/audit?{query}")).good();
        let name = |event: &Value| event["action"].as_str().unwrap().to_owned();
        found["items"]
            .as_array()
            .unwrap()
            .iter()
            .map(name)
            .collect()
    };
    assert_eq!(
        names("actor_name=INES&target_name=alder"),
        ["credential.add"]
    );
    assert_eq!(names("actor_name=%25"), Vec::<String>::new());
    assert_eq!(names("origin=192.0.2"), Vec::<String>::new());
    let (newest, oldest) = (names("limit=500"), names("oldest=true&limit=500"));
    assert_eq!(newest.last(), oldest.first());
    // Page after page from the oldest on, each event once.
    let (mut cursor, mut seen) = (String::new(), vec![]);
    loop {
        let address = format!("/api/v1/audit?actor={auditor}&oldest=true&limit=2&cursor={cursor}");
        let page = anna.get(&address).good();
        for event in page["items"].as_array().unwrap() {
            seen.push(event["id"].as_str().unwrap().to_owned());
        }
        // Each look adds an event of its own.
        match page["next"].as_str() {
            Some(next) if seen.len() < 8 => cursor = next.to_owned(),
            _ => break,
        }
    }
    let mut once = seen.clone();
    once.sort();
    once.dedup();
    assert!(seen.len() >= 8 && once.len() == seen.len(), "{seen:?}");
    let read = anna.events("audit.read");
    assert!(
        read.iter()
            .any(|event| event["detail"]["target_name"] == "alder"),
        "what was asked for is noted"
    );
}

//! An editor makes devices of the service's own ports and addresses, and reads from the answers
//! which are open.

use jexlin_standins::misbehaving_device::{self, Manner};
use serde_json::json;

use super::{account, device, grant, job, strict};

#[test]
fn loopback_and_the_database_are_closed_unless_allowed_and_the_database_always() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let folder = ines.folder("Pumping");
    let database: u16 = service
        .database
        .service
        .rsplit(':')
        .next()
        .unwrap()
        .split('/')
        .next()
        .unwrap()
        .parse()
        .unwrap();
    let own: u16 = service.url.rsplit(':').next().unwrap().parse().unwrap();
    for (name, port) in [("database", database), ("service", own)] {
        let unit = device(&ines, &folder, name, port);
        let answer = ines.post(&format!("/api/v1/devices/{unit}/read-identity"), &json!({}));
        let closed = answer.text("detail").contains("does not allow");
        assert_eq!(closed, name == "database", "{name}: {}", answer.body);
    }
    // By default nothing of this machine is reached at all.
    service.settings(&json!({}));
    let unit = device(&ines, &folder, "own", own);
    let answer = ines.post(&format!("/api/v1/devices/{unit}/read-identity"), &json!({}));
    assert!(
        answer.text("detail").contains("does not allow"),
        "{}",
        answer.body
    );
}

#[test]
fn whoever_is_no_steward_of_a_device_hears_one_answer() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let folder = ines.folder("Pumping");
    service.settings(&json!({"connect_to": ["127.0.0.0/8"], "trust_first_contact": true}));
    let marek = ines.person("marek", &[]);
    grant(&ines, "folder", &folder, &marek, "edit");
    let marek = service.sign_in("marek");
    let ports = [
        (
            "babbles",
            misbehaving_device::device(Manner::Babbles).unwrap(),
        ),
        ("off", jexlin_standins::free_port().unwrap()),
    ];
    let told: Vec<(String, String)> = ports
        .iter()
        .map(|(name, port)| {
            let unit = device(&ines, &folder, name, *port);
            let credential = account(&ines, &folder, &unit, name, "duty", "Duty-1");
            let ended = job(&marek, &credential, "check");
            (
                ended["outcome"].as_str().unwrap().to_owned(),
                ended["message"].as_str().unwrap().to_owned(),
            )
        })
        .collect();
    assert_eq!(told[0], told[1]);
    let detailed = ines.get("/api/v1/jobs?limit=2").good();
    assert_ne!(
        detailed["items"][0]["message"], detailed["items"][1]["message"],
        "a steward sees why: {detailed}"
    );
    // Nor does an editor point a device anywhere, or have its identity read.
    let own = marek
        .post(
            "/api/v1/devices",
            &json!({"folder": folder, "name": "own", "address": "127.0.0.1", "port": ports[0].1}),
        )
        .good();
    let path = format!(
        "/api/v1/devices/{}/read-identity",
        own["id"].as_str().unwrap()
    );
    marek.post(&path, &json!({})).refused(403, "not-allowed");
}

//! A request whose body is held back takes effect after its sender was suspended, lost the grant or
//! the duty, or signed out.

use std::io::{Read as _, Write as _};
use std::net::TcpStream;
use std::time::Duration;

use jexlin_acceptance::{PASSWORD, Service};
use serde_json::{Value, json};

use super::{grant, login, revision, strict};

/// A request of which everything but the end of its body is sent.
struct Held {
    stream: TcpStream,
    rest: Vec<u8>,
}

fn hold_back(service: &Service, token: &str, path: &str, body: &Value) -> Held {
    let address = service.url.trim_start_matches("http://").to_owned();
    let mut stream = TcpStream::connect(&address).unwrap();
    stream
        .set_read_timeout(Some(Duration::from_secs(30)))
        .unwrap();
    let body = body.to_string().into_bytes();
    let (first, rest) = body.split_at(body.len() / 2);
    let head = format!(
        "POST {path} HTTP/1.1\r\nHost: {address}\r\nAuthorization: Bearer {token}\r\nContent-Type: application/json\r\nContent-Length: {}\r\nConnection: close\r\n\r\n",
        body.len()
    );
    stream.write_all(head.as_bytes()).unwrap();
    stream.write_all(first).unwrap();
    stream.flush().unwrap();
    Held {
        stream,
        rest: rest.to_vec(),
    }
}

impl Held {
    /// Sends the rest; the status of the answer.
    fn let_go(mut self) -> (u16, String) {
        self.stream.write_all(&self.rest).unwrap();
        let mut answer = String::new();
        let _ = self.stream.read_to_string(&mut answer);
        (
            answer
                .split_whitespace()
                .nth(1)
                .and_then(|status| status.parse().ok())
                .unwrap_or_default(),
            answer,
        )
    }
}

#[test]
fn it_counts_when_it_is_carried_out() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let safe = ines.folder("Safe");
    let target = login(&ines, &safe, "root", "root", "Root-held-back-1");
    let (petra, marek, pim) = (
        ines.person("petra", &["people"]),
        ines.person("marek", &[]),
        ines.person("pim", &[]),
    );
    for person in [&marek, &pim] {
        grant(&ines, "folder", &safe, person, "reveal");
    }
    service.settings(&json!({"two_people_duties": false}));
    let reveal = format!("/api/v1/credentials/{target}/reveal");
    let puppet = json!({"sign_in_name": "puppet", "display_name": "Puppet", "password": PASSWORD, "duties": ["people"]});

    // Dismissed while the body is held back.
    let token = service.sign_in("petra").token;
    let held = hold_back(&service, &token, "/api/v1/people", &puppet);
    let path = format!("/api/v1/people/{petra}");
    let _ = ines
        .patch(
            &path,
            revision(&ines, &path),
            &json!({"state": "suspended"}),
        )
        .good();
    assert_eq!(held.let_go().0, 401);
    assert_eq!(
        service.sql("SELECT count(*) FROM person WHERE sign_in_name = 'puppet'"),
        "0"
    );

    // Without the duty any more.
    let _ = ines
        .patch(&path, revision(&ines, &path), &json!({"state": "active"}))
        .good();
    let token = service.sign_in("petra").token;
    let held = hold_back(&service, &token, "/api/v1/people", &puppet);
    let _ = ines
        .patch(&path, revision(&ines, &path), &json!({"duties": []}))
        .good();
    assert_eq!(held.let_go().0, 403);

    // Without the grant any more.
    let token = service.sign_in("marek").token;
    let held = hold_back(&service, &token, &reveal, &json!({"field": "password"}));
    let grants = ines.get(&format!("/api/v1/grants?folder={safe}")).good();
    let own = grants["items"]
        .as_array()
        .unwrap()
        .iter()
        .find(|grant| grant["subject"] == json!(marek))
        .unwrap()["id"]
        .as_str()
        .unwrap()
        .to_owned();
    let _ = ines.delete(&format!("/api/v1/grants/{own}"), None).good();
    let (status, answer) = held.let_go();
    assert!(
        status == 404 && !answer.contains("Root-held-back-1"),
        "{answer}"
    );

    // Signed out.
    let session = service.sign_in("pim");
    let held = hold_back(
        &service,
        &session.token,
        &reveal,
        &json!({"field": "password"}),
    );
    let _ = session.post("/api/v1/sign-out", &json!({}));
    let (status, answer) = held.let_go();
    assert!(
        status == 401 && !answer.contains("Root-held-back-1"),
        "{answer}"
    );
}

#[test]
fn slow_senders_keep_nobody_waiting() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let safe = ines.folder("Safe");
    // As many as the service has connections to its database, twice.
    let held: Vec<Held> = (0..24)
        .map(|n| {
            hold_back(
                &service,
                &ines.token,
                "/api/v1/folders",
                &json!({"name": format!("slow {n}"), "parent": safe}),
            )
        })
        .collect();
    for _ in 0..5 {
        assert_eq!(ines.get("/api/v1/folders").status, 200);
    }
    for each in held {
        assert_eq!(each.let_go().0, 200);
    }
    assert_eq!(
        ines.get("/api/v1/folders").good()["items"]
            .as_array()
            .unwrap()
            .len(),
        25
    );
}

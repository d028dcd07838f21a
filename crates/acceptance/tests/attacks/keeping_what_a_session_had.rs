//! Somebody with a stolen session changes the passphrase of a personal folder, keeps its key after
//! the session ended, hears of what they may not know, or overwrites a key.

use std::io::{BufRead as _, BufReader, Write as _};
use std::net::TcpStream;
use std::time::Duration;

use jexlin_acceptance::until;
use serde_json::json;

use super::{account, device, grant, login, revision, strict};

#[test]
fn a_personal_folder_needs_the_current_passphrase_and_locks_with_its_session() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let _ = ines.person("marek", &[]);
    let marek = service.sign_in("marek");
    let _ = marek
        .post(
            "/api/v1/personal",
            &json!({"passphrase": "a phrase of my own"}),
        )
        .good();
    let other = json!({"present": "a guess of theirs", "passphrase": "a phrase of theirs"});
    marek
        .call("PUT", "/api/v1/personal/passphrase", Some(&other), None)
        .refused(403, "not-allowed");
    // Suspended and back again: the same session does not count, and its key is gone.
    let person = marek.get("/api/v1/me").text("id");
    let path = format!("/api/v1/people/{person}");
    let _ = ines
        .patch(
            &path,
            revision(&ines, &path),
            &json!({"state": "suspended"}),
        )
        .good();
    until("a closed folder", || {
        service.sql("UPDATE person SET state = 'active'; UPDATE session SET ended_at = NULL");
        let closed = marek.get("/api/v1/personal/items").status == 409;
        service.sql("UPDATE person SET state = 'suspended' WHERE sign_in_name = 'marek'; UPDATE session SET ended_at = now()");
        closed.then_some(())
    });
}

#[test]
fn a_removed_attachment_comes_back() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let safe = ines.folder("Safe");
    let target = login(&ines, &safe, "root", "root", "Root-1");
    let path = format!("/api/v1/credentials/{target}/attachments");
    let made = service
        .raw(
            "POST",
            &format!("{path}?name=key.txt"),
            Some(&ines.token),
            Some(b"pump".to_vec()),
            None,
        )
        .unwrap()
        .good();
    let file = made["id"].as_str().unwrap();
    let _ = ines.delete(&format!("{path}/{file}"), None);
    assert_eq!(ines.get(&path).good()["items"], json!([]));
    let bin = ines.get("/api/v1/bin").good();
    let removal = bin["items"]
        .as_array()
        .unwrap()
        .iter()
        .find(|row| row["target_type"] == "attachment")
        .unwrap()["id"]
        .as_str()
        .unwrap()
        .to_owned();
    let _ = ines
        .post(&format!("/api/v1/bin/{removal}/restore"), &json!({}))
        .good();
    assert_eq!(ines.get(&format!("{path}/{file}")).body, json!("pump"));
}

#[test]
fn a_data_key_is_not_overwritten_even_past_the_service() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let target = login(&ines, &ines.folder("Safe"), "root", "root", "Root-1");
    let tried = jexlin_acceptance::cluster().psql(
        &service.database.name,
        &format!("UPDATE credential SET data_key = '\\x00' WHERE id = '{target}'"),
    );
    assert!(tried.is_err(), "{tried:?}");
    assert_eq!(ines.reveal(&target).text("value"), "Root-1");
}

/// The identifiers that come over the live news of somebody.
fn heard(service: &jexlin_acceptance::Service, token: &str) -> std::sync::mpsc::Receiver<String> {
    let address = service.url.trim_start_matches("http://").to_owned();
    let mut stream = TcpStream::connect(&address).unwrap();
    stream
        .set_read_timeout(Some(Duration::from_secs(60)))
        .unwrap();
    write!(
        stream,
        "GET /api/v1/events HTTP/1.1\r\nHost: {address}\r\nAuthorization: Bearer {token}\r\n\r\n"
    )
    .unwrap();
    let (sender, receiver) = std::sync::mpsc::channel();
    std::thread::spawn(move || {
        for line in BufReader::new(stream).lines().map_while(Result::ok) {
            if sender.send(line).is_err() {
                break;
            }
        }
    });
    receiver
}

#[test]
fn events_are_sent_only_to_those_with_access() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let (safe, open) = (ines.folder("Safe"), ines.folder("Open"));
    let (hidden, seen) = (
        device(&ines, &safe, "hidden", 9),
        device(&ines, &open, "seen", 9),
    );
    let hidden = account(&ines, &safe, &hidden, "hidden", "duty", "Duty-1");
    let seen = account(&ines, &open, &seen, "seen", "duty", "Duty-1");
    let pim = ines.person("pim", &[]);
    grant(&ines, "folder", &open, &pim, "list");
    let pim = service.sign_in("pim");
    let news = heard(&service, &pim.token);
    assert!(news.iter().any(|line| line.contains("listening")));
    let first = ines.make(&format!("/api/v1/credentials/{hidden}/check"), &json!({}));
    let second = ines.make(&format!("/api/v1/credentials/{seen}/check"), &json!({}));
    let _ = (ines.settled(&first), ines.settled(&second));
    let mut lines = vec![];
    while let Ok(line) = news.recv_timeout(Duration::from_secs(20)) {
        let ends = line.contains(&second);
        lines.push(line);
        if ends {
            break;
        }
    }
    let text = lines.join("\n");
    assert!(text.contains(&second) && !text.contains(&first), "{text}");
}

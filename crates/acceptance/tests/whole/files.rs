//! Attachments: sealed as they stream in, whole or not at all.

use std::io::{Read as _, Write as _};
use std::net::TcpStream;

use jexlin_acceptance::{Service, until};
use serde_json::json;

/// Bytes that repeat in no piece.
fn bytes(count: usize) -> Vec<u8> {
    let mut state = 41_u64;
    let next = |state: &mut u64| {
        *state = state
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695_040_888_963_407);
        u8::try_from(*state >> 56).unwrap()
    };
    (0..count).map(|_| next(&mut state)).collect()
}

#[test]
fn attachments_of_every_length_around_a_chunk_are_downloaded_unchanged() {
    let service = Service::ready();
    let client = service.client("ines");
    let _ = client.good(&["folder", "add", "/Works"]);
    let _ = client.good(&[
        "credential",
        "add",
        "/Works/Drawing",
        "--kind",
        "file",
        "--set",
        "about=The dosing hall",
    ]);
    const PIECE: usize = 256 * 1024;
    for count in [0, 1, PIECE - 1, PIECE, PIECE + 1, 3 * PIECE] {
        let name = format!("{count}.bin");
        let (there, back) = (client.folder.join(&name), client.folder.join("back"));
        std::fs::write(&there, bytes(count)).unwrap();
        let _ = client.good(&[
            "credential",
            "attach",
            "/Works/Drawing",
            there.to_str().unwrap(),
        ]);
        let _ = client.good(&[
            "credential",
            "download",
            "/Works/Drawing",
            &name,
            "--to",
            back.to_str().unwrap(),
            "--force",
        ]);
        assert!(std::fs::read(&back).unwrap() == bytes(count), "{count}");
    }
    let shown = client.good(&["credential", "show", "/Works/Drawing"]);
    assert!(shown.contains("262144.bin"), "{shown}");
    assert_eq!(
        client
            .bad(&[
                "credential",
                "attach",
                "/Works/Drawing",
                client.folder.join("1.bin").to_str().unwrap()
            ])
            .0,
        6
    );
    let _ = client.good(&["credential", "remove-attachment", "/Works/Drawing", "1.bin"]);
    assert_eq!(
        client
            .bad(&["credential", "download", "/Works/Drawing", "1.bin"])
            .0,
        5
    );
    // In the database there is nothing to read.
    let plain: String = bytes(262_145)[..16]
        .iter()
        .map(|byte| format!("{byte:02x}"))
        .collect();
    assert_eq!(service.sql(&format!("SELECT count(*) FROM attachment_piece WHERE position('\\\\x{plain}'::bytea IN sealed) > 0")).trim(), "0");
}

#[test]
fn an_attachment_follows_the_rules_of_a_reveal_and_every_download_is_recorded() {
    let service = Service::ready();
    let (ines, client) = (service.sign_in("ines"), service.client("ines"));
    let folder = ines.folder("Works");
    let id = ines.login(&folder, "Portal", "Winter-tide-41");
    std::fs::write(client.folder.join("plan.pdf"), b"the plan").unwrap();
    let _ = client.good(&[
        "credential",
        "attach",
        "/Works/Portal",
        client.folder.join("plan.pdf").to_str().unwrap(),
    ]);
    let listed = ines
        .get(&format!("/api/v1/credentials/{id}/attachments"))
        .good();
    let path = format!(
        "/api/v1/credentials/{id}/attachments/{}",
        listed["items"][0]["id"].as_str().unwrap()
    );
    let (petra, pim) = (ines.person("petra", &[]), ines.person("pim", &[]));
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": folder, "person": petra, "level": "use"}),
    );
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": folder, "person": pim, "level": "reveal"}),
    );
    service
        .sign_in("petra")
        .get(&path)
        .refused(403, "not-allowed");
    assert_eq!(service.sign_in("pim").get(&path).body, json!("the plan"));
    let gate = json!({"credential": id, "needs_reason": true, "approver_people": [], "approver_groups": [], "max_minutes": 60, "one_holder": true, "rotate_on_return": false});
    let _ = ines.make("/api/v1/gates", &gate);
    service.sign_in("pim").get(&path).refused(403, "gate");
    let seen: Vec<_> = ines
        .events("credential.reveal")
        .iter()
        .filter(|event| event["outcome"] == "done")
        .map(|event| event["detail"]["attachment"].clone())
        .collect();
    assert_eq!(seen, [json!("plan.pdf")]);
}

#[test]
fn uploads_that_are_too_large_or_interrupted_leave_nothing_behind() {
    let service = Service::ready();
    let (ines, client) = (service.sign_in("ines"), service.client("ines"));
    let folder = ines.folder("Works");
    let id = ines.login(&folder, "Portal", "Winter-tide-41");
    let _ = client.good(&[
        "settings",
        "edit",
        "attachment_mib=1",
        "attachments_total_mib=1",
    ]);
    let file = client.folder.join("large");
    std::fs::write(&file, bytes(1024 * 1024 + 1)).unwrap();
    let (code, words) = client.bad(&[
        "credential",
        "attach",
        "/Works/Portal",
        file.to_str().unwrap(),
    ]);
    assert!(code == 7 && words.contains("larger than 1 MiB"), "{words}");
    std::fs::write(&file, bytes(1024 * 1024)).unwrap();
    let _ = client.good(&[
        "credential",
        "attach",
        "/Works/Portal",
        file.to_str().unwrap(),
    ]);
    let (code, words) = client.bad(&[
        "credential",
        "attach",
        "/Works/Portal",
        file.to_str().unwrap(),
        "--name",
        "second",
    ]);
    assert!(code == 7 && words.contains("together"), "{words}");
    let _ = client.good(&["credential", "remove-attachment", "/Works/Portal", "large"]);
    let _ = client.good(&[
        "settings",
        "edit",
        "attachment_mib=25",
        "attachments_total_mib=100",
    ]);
    // 25 MiB are announced, half of them sent, and the line is cut.
    let mut line = TcpStream::connect(service.url.trim_start_matches("http://")).unwrap();
    let head = format!(
        "POST /api/v1/credentials/{id}/attachments?name=cut HTTP/1.1\r\nHost: osmere.example\r\nAuthorization: Bearer {}\r\nContent-Type: application/octet-stream\r\nContent-Length: 26214400\r\n\r\n",
        ines.token
    );
    line.write_all(head.as_bytes()).unwrap();
    line.write_all(&bytes(12 * 1024 * 1024)).unwrap();
    line.shutdown(std::net::Shutdown::Write).unwrap();
    let _ = line.read(&mut [0; 64]);
    drop(line);
    until("the end of it", || {
        (service
            .sql("SELECT count(*) FROM pg_stat_activity WHERE state = 'idle in transaction'")
            .trim()
            == "0")
            .then_some(())
    });
    // The one that was detached is in the bin, in one piece; of the other nothing is left.
    assert_eq!(service.sql("SELECT DISTINCT a.name FROM attachment_piece p JOIN attachment a ON a.id = p.attachment_id").trim(), "large");
    let shown = ines.get(&format!("/api/v1/credentials/{id}")).good();
    assert_eq!(shown["attachments"], json!([]));
    // The whole of it goes in afterwards, in pieces, without the service holding it in memory.
    std::fs::write(&file, bytes(25 * 1024 * 1024)).unwrap();
    let _ = client.good(&[
        "credential",
        "attach",
        "/Works/Portal",
        file.to_str().unwrap(),
        "--name",
        "cut",
    ]);
    let status = std::fs::read_to_string(format!("/proc/{}/status", service.process())).unwrap();
    let resident: u64 = status
        .lines()
        .find(|line| line.starts_with("VmHWM"))
        .unwrap()
        .split_whitespace()
        .nth(1)
        .unwrap()
        .parse()
        .unwrap();
    assert!(resident < 300 * 1024, "{resident} KiB at most");
}

/// Sends the beginning of a file of 25 MiB and holds the line.
fn half_sent(service: &Service, token: &str, credential: &str, name: &str) -> TcpStream {
    let mut line = TcpStream::connect(service.url.trim_start_matches("http://")).unwrap();
    let head = format!(
        "POST /api/v1/credentials/{credential}/attachments?name={name} HTTP/1.1\r\nHost: osmere.example\r\nAuthorization: Bearer {token}\r\nContent-Type: application/octet-stream\r\nContent-Length: 26214400\r\n\r\n"
    );
    line.write_all(head.as_bytes()).unwrap();
    line.write_all(&bytes(2 * 1024 * 1024)).unwrap();
    let arrived =
        || (service.sql("SELECT count(*) FROM attachment_piece").trim() != "0").then_some(());
    until("the first pieces", arrived);
    line
}

#[test]
fn a_slow_sender_delays_nobody_and_is_checked_again_at_the_end() {
    let service = Service::ready();
    let (ines, client) = (service.sign_in("ines"), service.client("ines"));
    let folder = ines.folder("Works");
    let id = ines.login(&folder, "Portal", "Winter-tide-41");
    let petra = ines.person("petra", &[]);
    let grant = ines.make(
        "/api/v1/grants",
        &json!({"folder": folder, "person": petra, "level": "edit"}),
    );
    let session = service.sign_in("petra");
    let mut line = half_sent(&service, &session.token, &id, "slow");
    // Others attach meanwhile, change the credential, and see nothing of the half.
    std::fs::write(client.folder.join("plan"), b"the plan").unwrap();
    let _ = client.good(&[
        "credential",
        "attach",
        "/Works/Portal",
        client.folder.join("plan").to_str().unwrap(),
    ]);
    let _ = ines
        .patch(
            &format!("/api/v1/credentials/{id}"),
            1,
            &json!({"fields": {"user_name": "marek"}}),
        )
        .good();
    let listed = ines
        .get(&format!("/api/v1/credentials/{id}/attachments"))
        .good();
    assert_eq!(listed["items"].as_array().unwrap().len(), 1);
    // Whoever may not add it any more when the last byte comes has added nothing.
    let _ = ines.delete(&format!("/api/v1/grants/{grant}"), None).good();
    line.write_all(&bytes(23 * 1024 * 1024)).unwrap();
    let mut answer = [0; 400];
    let read = line.read(&mut answer).unwrap();
    assert!(
        String::from_utf8_lossy(&answer[..read]).starts_with("HTTP/1.1 404"),
        "{}",
        String::from_utf8_lossy(&answer[..read])
    );
    until("it is cleared away", || {
        (service.sql("SELECT count(*) FROM attachment").trim() == "1").then_some(())
    });
    assert_eq!(
        ines.events("credential.add-attachment")
            .iter()
            .filter(|event| event["outcome"] == "done")
            .count(),
        1
    );
}

#[test]
fn uploads_that_were_interrupted_by_a_restart_are_removed() {
    let mut service = Service::ready();
    let ines = service.sign_in("ines");
    let folder = ines.folder("Works");
    let id = ines.login(&folder, "Portal", "Winter-tide-41");
    let line = half_sent(&service, &ines.token, &id, "cut");
    service.kill();
    drop(line);
    // As if that had been a while ago.
    let _ = service.sql("UPDATE attachment SET heard_at = heard_at - interval '1 hour'");
    service.start(&[]);
    service.unlock();
    until("it is cleared away", || {
        (service.sql("SELECT count(*) FROM attachment").trim() == "0").then_some(())
    });
    assert_eq!(
        service.sql("SELECT count(*) FROM attachment_piece").trim(),
        "0"
    );
}

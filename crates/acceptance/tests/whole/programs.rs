//! Clients: programs that sign in with a secret of their own, and have grants as people do.

use jexlin_acceptance::Service;
use serde_json::{Value, json};

/// Asks the token endpoint as any OAuth library does; the status and the answer.
fn token(service: &Service, name: &str, secret: &str, in_header: bool) -> (u16, Value) {
    use base64::Engine as _;
    let agent = ureq::Agent::config_builder()
        .http_status_as_error(false)
        .build()
        .new_agent();
    let request = agent.post(format!("{}/api/v1/oauth/token", service.url));
    let mut answer = if in_header {
        let basic = base64::engine::general_purpose::STANDARD.encode(format!("{name}:{secret}"));
        request
            .header("Authorization", format!("Basic {basic}"))
            .send_form([("grant_type", "client_credentials")])
            .unwrap()
    } else {
        request
            .send_form([
                ("grant_type", "client_credentials"),
                ("client_id", name),
                ("client_secret", secret),
            ])
            .unwrap()
    };
    let status = answer.status().as_u16();
    (
        status,
        serde_json::from_str(&answer.body_mut().read_to_string().unwrap()).unwrap(),
    )
}

#[test]
fn a_client_signs_in_by_oauth_and_has_the_access_it_was_granted() {
    let service = Service::ready();
    let (ines, client) = (service.sign_in("ines"), service.client("ines"));
    let office = ines.folder("Office");
    let (mine, other) = (
        ines.login(&office, "Backup target", "Winter-tide-41"),
        ines.login(&office, "Bank portal", "Winter-tide-42"),
    );
    let file = client.folder.join("backup.secret");
    let told = client.good(&[
        "client",
        "add",
        "backup-job",
        "--display-name",
        "Nightly backup",
        "--secret-to-file",
        file.to_str().unwrap(),
    ]);
    let secret = std::fs::read_to_string(&file).unwrap();
    assert!(
        !told.contains(&secret) && client.good(&["client", "list"]).contains("backup-job"),
        "{told}"
    );
    {
        use std::os::unix::fs::PermissionsExt as _;
        assert_eq!(
            std::fs::metadata(&file).unwrap().permissions().mode() & 0o777,
            0o600
        );
    }
    assert_eq!(
        client
            .bad(&[
                "client",
                "add",
                "other",
                "--display-name",
                "Other",
                "--secret-to-file",
                file.to_str().unwrap()
            ])
            .0,
        7
    );
    let _ = client.good(&[
        "grant",
        "add",
        "reveal",
        "--credential",
        "/Office/Backup target",
        "--person",
        "backup-job",
    ]);
    // The secret itself opens nothing; the token that it is good for opens what was granted.
    assert_eq!(
        service
            .call("GET", "/api/v1/credentials", Some(&secret), None, None)
            .status,
        401
    );
    for in_header in [true, false] {
        let (status, answer) = token(&service, "backup-job", &secret, in_header);
        assert_eq!(
            (
                status,
                answer["token_type"].as_str(),
                answer["expires_in"].as_i64()
            ),
            (200, Some("Bearer"), Some(3600)),
            "{answer}"
        );
        let bearer = answer["access_token"].as_str().unwrap();
        let reveal = |id: &str| {
            service.call(
                "POST",
                &format!("/api/v1/credentials/{id}/reveal"),
                Some(bearer),
                Some(&json!({})),
                None,
            )
        };
        assert_eq!(reveal(&mine).good()["value"], "Winter-tide-41");
        reveal(&other).refused(404, "unknown");
        // A program does nothing that is a person's alone.
        service
            .call(
                "POST",
                "/api/v1/people",
                Some(bearer),
                Some(&json!({"sign_in_name": "x", "display_name": "x"})),
                None,
            )
            .refused(403, "needs-duty");
    }
    assert!(
        ines.events("credential.reveal")
            .iter()
            .any(|event| event["actor_name"] == "Nightly backup" && event["outcome"] == "done")
    );
    assert!(
        ines.events("session.sign-in")
            .iter()
            .any(|event| event["detail"]["channel"] == "program")
    );
    // In an access file it is named as what it is.
    let text = client.good(&["access", "export", "-"]);
    assert!(
        text.contains("{ to = \"client backup-job\", level = \"reveal\" }"),
        "{text}"
    );

    // Another secret ends the old one and its tokens; a suspended client gets none.
    let (_, answer) = token(&service, "backup-job", &secret, true);
    let old = answer["access_token"].as_str().unwrap().to_owned();
    let renewed = client.folder.join("renewed.secret");
    let _ = client.good(&[
        "client",
        "renew",
        "backup-job",
        "--secret-to-file",
        renewed.to_str().unwrap(),
    ]);
    assert_eq!(
        service
            .call("GET", "/api/v1/credentials", Some(&old), None, None)
            .status,
        401
    );
    assert_eq!(token(&service, "backup-job", &secret, true).0, 401);
    let secret = std::fs::read_to_string(&renewed).unwrap();
    assert_eq!(token(&service, "backup-job", &secret, true).0, 200);
    let _ = client.good(&["client", "state", "backup-job", "suspended"]);
    let (status, answer) = token(&service, "backup-job", &secret, true);
    assert_eq!(
        (status, answer["error"].as_str()),
        (401, Some("invalid_client"))
    );
    assert!(
        ines.events("session.sign-in")
            .iter()
            .any(|event| event["outcome"] == "refused" && event["target_name"] == "backup-job")
    );
}

#[test]
fn errors_of_the_token_endpoint_follow_its_standard() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let made = ines
        .post(
            "/api/v1/clients",
            &json!({"name": "feed", "display_name": "Feed"}),
        )
        .good();
    let (id, secret) = (
        made["client"]["id"].as_str().unwrap(),
        made["secret"].as_str().unwrap(),
    );
    let agent = ureq::Agent::config_builder()
        .http_status_as_error(false)
        .build()
        .new_agent();
    let mut answer = agent
        .post(format!("{}/api/v1/oauth/token", service.url))
        .send_form([("grant_type", "password"), ("client_id", "feed")])
        .unwrap();
    assert_eq!(answer.status().as_u16(), 400);
    assert!(
        answer
            .body_mut()
            .read_to_string()
            .unwrap()
            .contains("unsupported_grant_type")
    );
    for (name, secret) in [
        ("feed", "jx1.nonsense"),
        ("feed", ""),
        ("nobody", secret),
        ("ines", secret),
    ] {
        let (status, answer) = token(&service, name, secret, true);
        assert_eq!(
            (status, answer["error"].as_str()),
            (401, Some("invalid_client")),
            "{name}"
        );
    }
    // A client has no password, no duties and no console; a person no client's secret.
    let revision = made["client"]["revision"].as_i64().unwrap();
    ines.patch(
        &format!("/api/v1/people/{id}"),
        revision,
        &json!({"password": "a long enough password"}),
    )
    .refused(422, "bad-input");
    ines.patch(
        &format!("/api/v1/people/{id}"),
        revision,
        &json!({"duties": ["audit"]}),
    )
    .refused(422, "bad-input");
    service
        .call(
            "POST",
            "/api/v1/sign-in",
            None,
            Some(&json!({"sign_in_name": "feed", "password": secret, "channel": "client"})),
            None,
        )
        .refused(401, "sign-in-refused");
    // A program keeps no place in order for anybody.
    let me = ines.get("/api/v1/me").good()["id"].clone();
    let _ = ines.folder("Office");
    ines.post(
        "/api/v1/transfer-stewardship",
        &json!({"from": me, "to": id}),
    )
    .refused(422, "bad-input");
    let pim = ines.person("pim", &[]);
    ines.post(&format!("/api/v1/clients/{pim}/secret"), &json!({}))
        .refused(404, "unknown");
    let theirs = service.sign_in("pim");
    theirs
        .post(
            "/api/v1/clients",
            &json!({"name": "x", "display_name": "x"}),
        )
        .refused(403, "needs-duty");
    theirs
        .post(&format!("/api/v1/clients/{id}/secret"), &json!({}))
        .refused(403, "needs-duty");
}

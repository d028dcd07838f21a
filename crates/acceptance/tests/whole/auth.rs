//! Set-up, the locked vault, signing in, sessions.

use jexlin_acceptance::{PASSPHRASE, PASSWORD, Service};
use serde_json::json;

#[test]
fn set_up_needs_the_code_happens_once_and_writes_a_protected_key_file() {
    let service = Service::bare();
    assert_eq!(
        service
            .call("GET", "/api/v1/status", None, None, None)
            .text("state"),
        "needs-setup"
    );
    let body = |code: &str, password: &str| json!({"code": code, "organisation": "Osmere Water", "sign_in_name": "ines", "display_name": "Ines Calder", "password": password, "passphrase": PASSPHRASE});
    service
        .call(
            "POST",
            "/api/v1/setup",
            None,
            Some(&body("guess", PASSWORD)),
            None,
        )
        .refused(403, "not-allowed");
    let code = std::fs::read_to_string(service.folder.join("setup-code")).unwrap();
    service
        .call(
            "POST",
            "/api/v1/setup",
            None,
            Some(&body(&code, "short")),
            None,
        )
        .refused(422, "bad-input");
    service.set_up();
    let key = service.folder.join("root-key.json");
    let mode =
        std::os::unix::fs::PermissionsExt::mode(&std::fs::metadata(&key).unwrap().permissions());
    assert_eq!(mode & 0o777, 0o600);
    assert!(std::fs::read_to_string(&key).unwrap().contains("argon2id"));
    assert!(!service.folder.join("setup-code").exists());
    service
        .call(
            "POST",
            "/api/v1/setup",
            None,
            Some(&body(&code, PASSWORD)),
            None,
        )
        .refused(409, "already-set-up");
}

#[test]
fn a_locked_vault_says_so_and_serves_nothing_secret() {
    let mut service = Service::ready();
    let ines = service.sign_in("ines");
    let credential = ines.login(&ines.folder("Office"), "Portal", "Winter-tide-41");
    let token = ines.token.clone();
    drop(ines);
    service.kill();
    service.start(&[]);
    assert_eq!(
        service
            .call("GET", "/api/v1/status", None, None, None)
            .text("state"),
        "locked"
    );
    let reveal = format!("/api/v1/credentials/{credential}/reveal");
    service
        .call("POST", &reveal, Some(&token), Some(&json!({})), None)
        .refused(503, "vault-locked");
    service
        .call("GET", "/api/v1/credentials", Some(&token), None, None)
        .refused(503, "vault-locked");
    service
        .call("GET", "/health/ready", None, None, None)
        .refused(503, "vault-locked");
    assert_eq!(
        service.call("GET", "/health/live", None, None, None).status,
        200
    );
    service
        .call(
            "POST",
            "/api/v1/unlock",
            None,
            Some(&json!({"passphrase": "not the passphrase"})),
            None,
        )
        .refused(403, "not-allowed");
    service.unlock();
    assert_eq!(
        service
            .call("POST", &reveal, Some(&token), Some(&json!({})), None)
            .text("value"),
        "Winter-tide-41"
    );
    let opened = service.sign_in("ines").events("vault.unlock");
    assert_eq!(opened[0]["detail"]["refused_before"], "1");
}

#[test]
fn a_root_key_from_the_service_manager_needs_no_passphrase() {
    let folder = std::env::temp_dir().join(format!("jexlin-credentials-{}", std::process::id()));
    std::fs::create_dir_all(&folder).unwrap();
    let root = jexlin_core::vault::RootKey::from_credential(
        "AAECAwQFBgcICQoLDA0ODxAREhMUFRYXGBkaGxwdHh8=",
    )
    .unwrap();
    std::fs::write(
        folder.join("jexlin-root-key"),
        root.expose_credential().expose_secret(),
    )
    .unwrap();
    let mut service = Service::on(
        jexlin_acceptance::cluster(),
        &[("CREDENTIALS_DIRECTORY", folder.to_str().unwrap())],
    );
    service.set_up();
    assert!(!service.folder.join("root-key.json").exists());
    service.kill();
    service.start(&[]);
    assert_eq!(
        service
            .call("GET", "/api/v1/status", None, None, None)
            .text("state"),
        "ready"
    );
    // It changes as well: prepared on the machine, given to the manager, finished by whoever has
    // the duty.
    let ines = service.sign_in("ines");
    let words = json!({"passphrase": "no passphrase", "new_passphrase": "eleven sluices and a lock", "reason": "yearly"});
    ines.post("/api/v1/keys/root", &words)
        .refused(409, "no-root-key-file");
    let next = folder.join("next");
    let prepare = || {
        std::process::Command::new(jexlin_acceptance::program("jexlind"))
            .args(["new-root-key", next.to_str().unwrap()])
            .env("JEXLIN_DATABASE", &service.database.service)
            .env("JEXLIN_FOLDER", &service.folder)
            .env("CREDENTIALS_DIRECTORY", &folder)
            .output()
            .unwrap()
    };
    let made = prepare();
    assert!(
        made.status.success(),
        "{}",
        String::from_utf8_lossy(&made.stderr)
    );
    assert!(!prepare().status.success(), "a file is never overwritten");
    assert_eq!(
        std::os::unix::fs::MetadataExt::mode(&std::fs::metadata(&next).unwrap()) & 0o777,
        0o600
    );
    ines.post("/api/v1/keys/root/finish", &json!({}))
        .refused(409, "root-key-missing");
    service.kill();
    std::fs::rename(&next, folder.join("jexlin-root-key")).unwrap();
    service.start(&[]);
    service.sql("DELETE FROM service_seen");
    let ines = service.sign_in("ines");
    assert!(ines.post("/api/v1/keys/root/finish", &json!({})).good()["next_root_key"].is_null());
    service.kill();
    service.start(&[]);
    let credential =
        service
            .sign_in("ines")
            .login(&service.sign_in("ines").folder("Safe"), "root", "Root-1");
    assert_eq!(
        service.sign_in("ines").reveal(&credential).text("value"),
        "Root-1"
    );
    std::fs::remove_dir_all(folder).unwrap();
}

#[test]
fn guessing_is_throttled_by_person_and_a_success_in_time_forgives() {
    let service = Service::ready();
    let try_with = |password: &str| {
        service.call(
            "POST",
            "/api/v1/sign-in",
            None,
            Some(&json!({"sign_in_name": "ines", "password": password, "channel": "client"})),
            None,
        )
    };
    for _ in 0..3 {
        try_with("not the password").refused(401, "sign-in-refused");
    }
    let _ = try_with(PASSWORD).good();
    for _ in 0..6 {
        let _ = try_with("not the password");
    }
    // However slow the guesses were: a dozen of them a moment ago.
    service.sql("UPDATE throttle SET failures = 12, last_failure_at = now()");
    let shut = try_with(PASSWORD);
    shut.refused(429, "sign-in-throttled");
    assert!(shut.headers.iter().any(|(name, _)| name == "retry-after"));
    let unknown = service.call(
        "POST",
        "/api/v1/sign-in",
        None,
        Some(&json!({"sign_in_name": "nobody", "password": "x", "channel": "client"})),
        None,
    );
    unknown.refused(401, "sign-in-refused");
}

#[test]
fn refused_sign_ins_are_in_the_audit_log_without_the_password() {
    let service = Service::ready();
    service
        .call("POST", "/api/v1/sign-in", None, Some(&json!({"sign_in_name": "ines", "password": "Typed-by-mistake-9", "channel": "client"})), None)
        .refused(401, "sign-in-refused");
    let events = service.sign_in("ines").events("session.sign-in");
    let refused: Vec<_> = events
        .iter()
        .filter(|event| event["outcome"] == "refused")
        .collect();
    assert_eq!(
        (refused.len(), &refused[0]["target_name"]),
        (1, &json!("ines"))
    );
    assert_eq!(service.sql("SELECT count(*) FROM audit_event WHERE row(audit_event.*)::text LIKE '%Typed-by-mistake%'"), "0");
    assert!(!service.log().contains("Typed-by-mistake"));
}

#[test]
fn a_session_ends_by_sign_out_by_idleness_and_by_time() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let _ = ines.post("/api/v1/sign-out", &json!({}));
    ines.get("/api/v1/me").refused(401, "signed-out");
    let idle = service.sign_in("ines");
    service.sql(
        "UPDATE session SET last_used_at = now() - interval '31 minutes' WHERE ended_at IS NULL",
    );
    idle.get("/api/v1/me").refused(401, "signed-out");
    let old = service.sign_in("ines");
    service.sql("UPDATE session SET ends_at = now() - interval '1 second' WHERE ended_at IS NULL");
    old.get("/api/v1/me").refused(401, "signed-out");
}

#[test]
fn a_stolen_database_holds_no_token_and_a_forged_token_opens_nothing() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let random = ines.token.rsplit('.').next().unwrap().to_owned();
    assert_eq!(
        service.sql(&format!(
            "SELECT count(*) FROM session WHERE encode(token_hash, 'escape') LIKE '%{random}%'"
        )),
        "0"
    );
    for forged in [
        "jx1.AAAA.AAAA",
        "",
        "Bearer",
        &ines.token.replace("jx1", "jx2"),
        &format!("{}x", ines.token),
    ] {
        assert_eq!(
            service
                .call("GET", "/api/v1/me", Some(forged), None, None)
                .status,
            401,
            "{forged}"
        );
    }
}

#[test]
fn every_answer_carries_the_headers_that_protect_the_console() {
    let service = Service::ready();
    for path in ["/", "/vault", "/api/v1/status", "/api/v1/nowhere"] {
        let answer = service.call("GET", path, None, None, None);
        let header = |name: &str| {
            answer
                .headers
                .iter()
                .find(|(known, _)| known == name)
                .map(|(_, value)| value.clone())
                .unwrap_or_default()
        };
        assert!(
            header("content-security-policy").contains("default-src 'none'"),
            "{path}"
        );
        assert!(
            !header("content-security-policy").contains("unsafe"),
            "{path}"
        );
        assert_eq!(header("x-content-type-options"), "nosniff", "{path}");
        assert_eq!(header("server"), "", "{path}");
    }
    let allowed = [
        "content-type",
        "content-length",
        "content-security-policy",
        "x-content-type-options",
        "referrer-policy",
        "cross-origin-opener-policy",
        "x-request-id",
        "cache-control",
        "date",
        "x-frame-options",
        "permissions-policy",
    ];
    let answer = service.call("GET", "/api/v1/status", None, None, None);
    for (name, _) in &answer.headers {
        assert!(
            allowed.contains(&name.as_str()),
            "an answer carries the header {name}"
        );
    }
}

#[test]
fn a_cookie_alone_changes_nothing() {
    let service = Service::ready();
    let token = service.sign_in("ines").token;
    let agent = ureq::Agent::config_builder()
        .http_status_as_error(false)
        .build()
        .new_agent();
    let request = |console: bool| {
        let mut request = ureq::http::Request::builder()
            .method("POST")
            .uri(format!("{}/api/v1/folders", service.url))
            .header("Cookie", format!("jexlin_session={token}"));
        if console {
            request = request.header("Jexlin-Console", "1");
        }
        agent
            .run(request.body(json!({"name": "Forged"}).to_string()).unwrap())
            .unwrap()
            .status()
            .as_u16()
    };
    assert_eq!(
        request(false),
        403,
        "a request that another site made the browser send"
    );
    assert_eq!(request(true), 200);
}

#[test]
fn sessions_are_listed_and_ended_by_their_owner_or_by_duty() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let marek_id = ines.person("marek", &[]);
    let (first, second) = (service.client("marek"), service.sign_in("marek"));
    let sessions = |of: &jexlin_acceptance::Session<'_>, query: &str| {
        let list = of.get(&format!("/api/v1/sessions{query}")).good();
        list["items"].as_array().unwrap().clone()
    };
    // One's own: which is the current one, from where, and how.
    let own = sessions(&second, "");
    assert_eq!(own.len(), 2);
    assert_eq!(
        own.iter()
            .filter(|session| session["current"] == true)
            .count(),
        1
    );
    assert!(
        own.iter()
            .all(|session| session["origin"] == "127.0.0.1" && session["channel"] == "client")
    );
    // Nobody else's, nor whether there are any.
    let of_ines = sessions(&ines, "")[0]["id"].as_str().unwrap().to_owned();
    let ines_id = ines.get("/api/v1/me").text("id");
    second
        .get(&format!("/api/v1/sessions?person={ines_id}"))
        .refused(403, "needs-duty");
    second
        .call("DELETE", &format!("/api/v1/sessions/{of_ines}"), None, None)
        .refused(404, "unknown");
    second
        .call(
            "DELETE",
            &format!("/api/v1/sessions?person={ines_id}"),
            None,
            None,
        )
        .refused(403, "needs-duty");
    // All but this one.
    let listed = first.good(&["session", "list"]);
    assert!(
        listed.contains("127.0.0.1") && listed.lines().count() == 3,
        "{listed}"
    );
    assert_eq!(first.good(&["session", "end", "--all"]), "1 session ended.");
    second.get("/api/v1/me").refused(401, "signed-out");
    assert!(first.good(&["me"]).contains("marek"));
    // By duty, and in the log.
    let theirs = sessions(&ines, &format!("?person={marek_id}"));
    let last = theirs[0]["id"].as_str().unwrap();
    let _ = ines
        .call("DELETE", &format!("/api/v1/sessions/{last}"), None, None)
        .good();
    assert_eq!(first.bad(&["me"]).0, 3);
    ines.call("DELETE", &format!("/api/v1/sessions/{last}"), None, None)
        .refused(404, "unknown");
    let events = ines.events("session.end");
    let by_duty = events
        .iter()
        .find(|event| event["target_name"] == "marek" && event["actor"] == *ines_id);
    assert!(by_duty.is_some(), "{events:?}");
    // Ending the own one signs out.
    let again = service.sign_in("marek");
    let own = sessions(&again, "")[0]["id"].as_str().unwrap().to_owned();
    let _ = again
        .call("DELETE", &format!("/api/v1/sessions/{own}"), None, None)
        .good();
    again.get("/api/v1/me").refused(401, "signed-out");
}

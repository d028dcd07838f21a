//! One address shuts a whole office out by wrong guesses, one person is shut out from anywhere, a
//! header pretends another address, a stolen session guesses the password, or the log is filled.

use jexlin_acceptance::{Answer, PASSWORD, Service, until};
use serde_json::json;

use super::strict;

/// The clock stands still: no wait ends while a test goes on.
const STOPPED: (&str, &str) = ("JEXLIN_CLOCK_STOPPED", "1");

fn try_as(service: &Service, name: &str, password: &str, from: Option<&str>) -> Answer {
    let agent = ureq::Agent::config_builder()
        .http_status_as_error(false)
        .build()
        .new_agent();
    let mut request = ureq::http::Request::builder()
        .method("POST")
        .uri(format!("{}/api/v1/sign-in", service.url))
        .header("Content-Type", "application/json");
    if let Some(from) = from {
        request = request
            .header("X-Forwarded-For", from)
            .header("X-Real-IP", from);
    }
    let body = json!({"sign_in_name": name, "password": password, "channel": "client"}).to_string();
    let mut response = agent.run(request.body(body).unwrap()).unwrap();
    let status = response.status().as_u16();
    let text = response.body_mut().read_to_string().unwrap();
    Answer {
        status,
        body: serde_json::from_str(&text).unwrap_or_default(),
        headers: vec![],
    }
}

#[test]
fn those_who_are_at_home_at_an_address_are_not_shut_out_by_somebody_there() {
    let service = strict(&[STOPPED]);
    let ines = service.sign_in("ines");
    let _ = (ines.person("marek", &[]), ines.person("yusra", &[]));
    let _ = service.sign_in("marek");
    for n in 0..40 {
        let _ = try_as(&service, &format!("nobody{n}"), "x", None);
        let _ = try_as(&service, "marek", "not the password", None);
    }
    // Many names from one address: that address waits, for names that were never at home there.
    assert_eq!(try_as(&service, "nobody99", "x", None).status, 429);
    assert_eq!(try_as(&service, "ines", PASSWORD, None).status, 200);
    // Its own successful sign-in forgives nothing.
    assert_eq!(try_as(&service, "nobody98", "x", None).status, 429);
    // One name is slowed for the place it is guessed from, and wherever it was never at home.
    assert_eq!(try_as(&service, "marek", PASSWORD, None).status, 429);
}

#[test]
fn an_address_is_pretended_only_by_a_trusted_proxy() {
    let service = strict(&[STOPPED]);
    for n in 0..40 {
        let _ = try_as(
            &service,
            &format!("nobody{n}"),
            "x",
            Some(&format!("192.0.2.{n}")),
        );
    }
    assert_eq!(
        try_as(&service, "nobody99", "x", Some("192.0.2.99")).status,
        429,
        "the header was not believed"
    );
    let proxied = strict(&[STOPPED, ("JEXLIN_TRUSTED_PROXIES", "127.0.0.0/8")]);
    for n in 0..40 {
        let _ = try_as(
            &proxied,
            &format!("nobody{n}"),
            "x",
            Some("203.0.113.9, 192.0.2.1, 127.0.0.2"),
        );
    }
    assert_eq!(
        try_as(&proxied, "nobody99", "x", Some("198.51.100.1, 192.0.2.1")).status,
        429,
        "the nearest that is no proxy"
    );
    assert_eq!(
        try_as(&proxied, "nobody99", "x", Some("192.0.2.1, 192.0.2.2")).status,
        401,
        "another address"
    );
    let origins = proxied.sign_in("ines").events("session.sign-in");
    assert!(
        origins.iter().any(|event| event["origin"] == "192.0.2.1"),
        "{origins:?}"
    );
}

#[test]
fn a_stolen_session_does_not_guess_the_present_password() {
    let service = strict(&[STOPPED]);
    let ines = service.sign_in("ines");
    let guess = |n: usize| {
        ines.post(
            "/api/v1/me/password",
            &json!({"present": format!("guess {n}"), "new": "another-password-1"}),
        )
        .status
    };
    let answers: Vec<u16> = (0..9).map(guess).collect();
    assert!(
        answers.starts_with(&[403, 403]) && answers.ends_with(&[429]),
        "{answers:?}"
    );
}

#[test]
fn strangers_fill_no_log() {
    let service = strict(&[STOPPED]);
    let ines = service.sign_in("ines");
    for n in 0..60 {
        let _ = try_as(&service, &format!("nobody{n}"), "x", None);
    }
    let refused = || {
        ines.events("session.sign-in")
            .into_iter()
            .filter(|event| event["outcome"] == "refused")
            .collect::<Vec<_>>()
    };
    assert_eq!(refused().len(), 1, "{:?}", refused());
    service.sql("UPDATE stranger_refusal SET since = since - interval '2 minutes'");
    let counted = until("a count", || {
        refused()
            .into_iter()
            .find(|event| event["detail"]["count"].is_string())
    });
    assert!(
        counted["detail"]["count"]
            .as_str()
            .unwrap()
            .parse::<u32>()
            .unwrap()
            >= 20,
        "{counted}"
    );
}

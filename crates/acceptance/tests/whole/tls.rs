//! The service's own TLS: what it speaks, whom it says it was, and a certificate that changes.

use std::io::Write as _;
use std::process::Command;

use jexlin_acceptance::{Client, PASSPHRASE, PASSWORD, Service, until};

/// A self-signed certificate for this machine, and its key.
fn certificate(service: &Service, name: &str) {
    let folder = &service.folder;
    let output = Command::new("openssl")
        .args([
            "req",
            "-x509",
            "-newkey",
            "ec",
            "-pkeyopt",
            "ec_paramgen_curve:P-256",
            "-nodes",
        ])
        .args([
            "-days",
            "30",
            "-subj",
            &format!("/CN={name}"),
            "-addext",
            "subjectAltName=IP:127.0.0.1",
        ])
        .args(["-addext", "basicConstraints=critical,CA:FALSE"])
        .arg("-keyout")
        .arg(folder.join("new.key"))
        .arg("-out")
        .arg(folder.join("new.pem"))
        .output()
        .unwrap();
    assert!(
        output.status.success(),
        "{}",
        String::from_utf8_lossy(&output.stderr)
    );
    std::fs::rename(folder.join("new.key"), folder.join("tls.key")).unwrap();
    std::fs::rename(folder.join("new.pem"), folder.join("tls.pem")).unwrap();
}

/// What openssl says of a handshake with the service.
fn handshake(service: &Service, arguments: &[&str]) -> String {
    let output = Command::new("openssl")
        .args([
            "s_client",
            "-connect",
            service.url.trim_start_matches("https://"),
        ])
        .args(arguments)
        .stdin(std::process::Stdio::null())
        .output()
        .unwrap();
    String::from_utf8_lossy(&output.stdout).into_owned()
}

fn client(service: &Service) -> Client {
    let folder = service.folder.join("tls-client");
    std::fs::create_dir_all(&folder).unwrap();
    std::fs::copy(service.folder.join("tls.pem"), folder.join("ca.pem")).unwrap();
    Client {
        folder,
        url: service.url.clone(),
    }
}

#[test]
fn the_service_speaks_tls_itself_and_takes_a_new_certificate_without_a_restart() {
    let mut service = Service::ready();
    service.kill();
    certificate(&service, "one");
    let file = |name: &str| service.folder.join(name).to_str().unwrap().to_owned();
    let (pem, key) = (file("tls.pem"), file("tls.key"));
    let free = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let redirect = free.local_addr().unwrap().port().to_string();
    drop(free);
    let tls = [
        ("JEXLIN_REDIRECT_PORT", redirect.as_str()),
        ("JEXLIN_TLS_CERTIFICATE", pem.as_str()),
        ("JEXLIN_TLS_KEY", key.as_str()),
    ];
    service.start(&tls);
    assert!(
        service.url.starts_with("https://127.0.0.1:"),
        "{}",
        service.url
    );
    // Modern versions alone.
    for (version, wanted) in [("-tls1_3", true), ("-tls1_2", true), ("-tls1_1", false)] {
        let said = handshake(&service, &[version]);
        assert_eq!(
            said.contains("-----BEGIN CERTIFICATE-----"),
            wanted,
            "{version}: {said}"
        );
    }
    // Nobody but who has the certificate goes on.
    let ours = client(&service);
    let (code, words) = ours.bad(&["status"]);
    assert!(code == 8 && words.contains("certificate"), "{words}");
    std::fs::write(ours.folder.join("pass"), PASSPHRASE).unwrap();
    let _ = ours.good(&["unlock", "--passphrase-file", "pass", "--ca-file", "ca.pem"]);
    let sign_in = [
        "sign-in",
        "ines",
        "--password-file",
        "-",
        "--ca-file",
        "ca.pem",
    ];
    let _ = ours.good_with(&sign_in, PASSWORD);
    // The session knows the certificate from then on, and the log knows from where it came.
    assert!(ours.good(&["me"]).contains("ines"));
    let events = ours.good(&["audit", "list", "--action", "session.sign-in", "-o", "json"]);
    assert!(events.contains("\"origin\": \"127.0.0.1\""), "{events}");
    // Plain HTTP is sent on, and browsers are told to come by TLS.
    let agent = ureq::Agent::config_builder()
        .max_redirects(0)
        .http_status_as_error(false)
        .build()
        .new_agent();
    let sent = until("the redirect", || {
        agent
            .get(format!("http://127.0.0.1:{redirect}/vault?find=ridge"))
            .call()
            .ok()
    });
    assert_eq!(sent.status(), 308);
    assert_eq!(
        sent.headers()["location"],
        format!("{}/vault?find=ridge", service.url)
    );
    let mut asked = Command::new("openssl")
        .args([
            "s_client",
            "-quiet",
            "-connect",
            service.url.trim_start_matches("https://"),
        ])
        .stdin(std::process::Stdio::piped())
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::null())
        .spawn()
        .unwrap();
    let request =
        b"GET /api/v1/status HTTP/1.1\r\nHost: osmere.example\r\nConnection: close\r\n\r\n";
    asked.stdin.as_mut().unwrap().write_all(request).unwrap();
    let answer = String::from_utf8(asked.wait_with_output().unwrap().stdout).unwrap();
    assert!(
        answer
            .to_lowercase()
            .contains("strict-transport-security: max-age=63072000"),
        "{answer}"
    );
    // Another certificate is shown to whoever comes next.
    certificate(&service, "two");
    until("the new certificate", || {
        handshake(&service, &["-tls1_3"])
            .contains("CN = two")
            .then_some(())
    });
    assert_eq!(ours.bad(&["me"]).0, 8);
    let _ = client(&service);
    assert!(ours.good(&["me"]).contains("ines"));
    // One that cannot be used is left alone.
    std::fs::write(&pem, "nothing").unwrap();
    until("a word about it", || {
        service
            .log()
            .contains("the former certificate stays")
            .then_some(())
    });
    assert!(ours.good(&["me"]).contains("ines"));
}

#[test]
fn a_configuration_is_checked_before_it_is_used() {
    let service = Service::ready();
    let check = |extra: &[(&str, &str)]| {
        let output = Command::new(jexlin_acceptance::program("jexlind"))
            .arg("check")
            .env(
                "JEXLIN_DATABASE",
                "postgres://jexlin_service@127.0.0.1/jexlin",
            )
            .env("JEXLIN_FOLDER", &service.folder)
            .envs(extra.iter().copied())
            .output()
            .unwrap();
        let said = [output.stdout, output.stderr].concat();
        (
            output.status.success(),
            String::from_utf8_lossy(&said).into_owned(),
        )
    };
    let (good, said) = check(&[("JEXLIN_PORT", "8443")]);
    assert!(good && said.contains("http://127.0.0.1:8443"), "{said}");
    for (variables, word) in [
        (vec![("JEXLIN_PROT", "8443")], "JEXLIN_PROT"),
        (vec![("JEXLIN_PORT", "many")], "JEXLIN_PORT"),
        (vec![("JEXLIN_FOLDER", "/nowhere")], "/nowhere"),
        (vec![("JEXLIN_TLS_KEY", "/nowhere")], "together"),
        (
            vec![("JEXLIN_REDIRECT_PORT", "80")],
            "JEXLIN_TLS_CERTIFICATE",
        ),
        (
            vec![
                ("JEXLIN_TLS_CERTIFICATE", "/nowhere"),
                ("JEXLIN_TLS_KEY", "/nowhere"),
            ],
            "/nowhere",
        ),
    ] {
        let (good, said) = check(&variables);
        assert!(!good && said.contains(word), "{said}");
    }
}

//! The service's own TLS: what it speaks, whom it says it was, and a certificate that changes.

use std::collections::BTreeSet;
use std::io::Write as _;
use std::process::Command;

use jexlin_acceptance::{Client, PASSPHRASE, PASSWORD, Service, program, until};
use jexlin_standins::cluster::{Care, Cluster};

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

/// The port that a line of a log names.
fn port_in(log: &str, before: &str) -> Option<u16> {
    let (_, rest) = log.rsplit_once(before)?;
    let end = rest.find(|c: char| !c.is_ascii_digit())?;
    rest.get(..end)?.parse().ok()
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

/// The pin that `jexlind check` shows takes this service without a file of certificates, and no
/// other key; the file and the pin together both count.
fn the_pinned_key_alone_is_taken(service: &Service, ours: &Client, tls: &[(&str, &str)]) {
    let checked = Command::new(program("jexlind"))
        .arg("check")
        .env_clear()
        .env("JEXLIN_DATABASE", "postgres://nobody@127.0.0.1/none")
        .env("JEXLIN_FOLDER", &service.folder)
        .envs(tls.iter().copied().filter(|(name, _)| name.contains("TLS")))
        .output()
        .unwrap();
    let said = String::from_utf8(checked.stdout).unwrap();
    let (_, rest) = said.split_once("SHA256:").expect("a pin");
    let pin = format!("SHA256:{}", rest.split(' ').next().unwrap());
    let stranger = Client {
        folder: service.folder.join("pin-client"),
        url: service.url.clone(),
    };
    std::fs::create_dir_all(&stranger.folder).unwrap();
    let other = format!("SHA256:{}", "A".repeat(43));
    let (code, words) = stranger.bad(&["status", "--pinned-key", &other]);
    assert!(code == 8 && words.contains(&pin), "{words}");
    let _ = stranger.good(&["status", "--pinned-key", &pin]);
    let sign_in = [
        "sign-in",
        "ines",
        "--password-file",
        "-",
        "--pinned-key",
        &pin,
    ];
    let _ = stranger.good_with(&sign_in, PASSWORD);
    assert!(
        stranger.good(&["me"]).contains("ines"),
        "the session keeps the pin"
    );
    let plain = service.url.replace("https://", "http://");
    let (_, words) = stranger.bad(&["status", "--service", &plain, "--pinned-key", &pin]);
    assert!(words.contains("does not speak TLS"), "{words}");
    // A file of authorities that did not sign the certificate is not outdone by the right key.
    let strange = Command::new("openssl")
        .args([
            "req",
            "-x509",
            "-newkey",
            "ed25519",
            "-nodes",
            "-subj",
            "/CN=other",
        ])
        .arg("-keyout")
        .arg(stranger.folder.join("other.key"))
        .arg("-out")
        .arg(stranger.folder.join("other.pem"))
        .output()
        .unwrap();
    assert!(strange.status.success());
    let both = ["status", "--pinned-key", &pin, "--ca-file", "other.pem"];
    assert_eq!(stranger.bad(&both).0, 8);
    assert_eq!(ours.bad(&["status", "--pinned-key", &other]).0, 8);
    let _ = ours.good(&["status", "--pinned-key", &pin]);
}

#[test]
fn the_service_speaks_tls_itself_and_takes_a_new_certificate_without_a_restart() {
    let mut service = Service::ready();
    service.kill();
    certificate(&service, "one");
    let file = |name: &str| service.folder.join(name).to_str().unwrap().to_owned();
    let (pem, key) = (file("tls.pem"), file("tls.key"));
    let tls = [
        ("JEXLIN_REDIRECT_PORT", "0"),
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
    the_pinned_key_alone_is_taken(&service, &ours, &tls);
    // Plain HTTP is sent on, and browsers are told to come by TLS.
    let agent = ureq::Agent::config_builder()
        .max_redirects(0)
        .http_status_as_error(false)
        .build()
        .new_agent();
    let redirect = until("the redirect", || {
        port_in(&service.log(), "sent to https:// on port ")
    });
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
    // Every key is in the configuration file that is installed, and on the page about it.
    let repository = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let read = |name: &str| std::fs::read_to_string(repository.join(name)).unwrap();
    let (file, page, code) = (
        read("packaging/jexlin.conf"),
        read("docs/operations.md"),
        read("crates/service/src/main.rs"),
    );
    // Those of the client come before.
    let (_, code) = code.split_once("const KNOWN").unwrap();
    let keys: BTreeSet<&str> = code
        .split('"')
        .filter(|word| {
            word.len() > 8
                && word.starts_with("JEXLIN_")
                && word
                    .bytes()
                    .all(|byte| byte.is_ascii_uppercase() || byte == b'_')
        })
        .collect();
    assert!(keys.len() > 20, "{keys:?}");
    for key in &keys {
        let there = file
            .lines()
            .any(|line| line.trim_start_matches('#').starts_with(&format!("{key}=")));
        assert!(there && page.contains(key), "{key}");
    }
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

#[test]
fn the_units_are_taken_by_systemd_and_leave_the_service_little() {
    let repository = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../packaging");
    let folder = std::env::temp_dir().join(format!("jexlin-units-{}", std::process::id()));
    std::fs::create_dir_all(&folder).unwrap();
    let program = jexlin_acceptance::program("jexlind");
    for unit in ["jexlind.service", "jexlind.socket"] {
        let text = std::fs::read_to_string(repository.join(unit)).unwrap();
        // It is not installed here.
        let text = text.replace("/usr/bin/jexlind", &program.display().to_string());
        std::fs::write(folder.join(unit), text).unwrap();
    }
    let systemd = |arguments: &[&str]| {
        let output = Command::new("systemd-analyze")
            .args(arguments)
            .current_dir(&folder)
            .output()
            .unwrap();
        let said = [output.stdout, output.stderr].concat();
        (
            output.status.success(),
            String::from_utf8_lossy(&said).into_owned(),
        )
    };
    let (good, said) = systemd(&["verify", "./jexlind.service", "./jexlind.socket"]);
    assert!(good && said.trim().is_empty(), "{said}");
    // 0 is nothing at all and 10 everything; 20 stands for 2.0.
    let (good, said) = systemd(&[
        "security",
        "--offline=true",
        "--threshold=20",
        "./jexlind.service",
    ]);
    assert!(good, "{said}");
    std::fs::remove_dir_all(&folder).unwrap();
}

#[test]
fn a_database_is_set_up_with_an_administrators_connection_and_numbers_are_served() {
    let cluster = Cluster::temporary(Care::Fast).unwrap();
    let administrator = cluster.administrator("postgres");
    let folder = std::env::temp_dir().join(format!("jexlin-set-up-{}", std::process::id()));
    std::fs::create_dir_all(&folder).unwrap();
    let file = folder.join("addresses");
    let set_up = |file: &std::path::Path| {
        let output = Command::new(jexlin_acceptance::program("jexlind"))
            .args(["setup-database", file.to_str().unwrap()])
            .env("JEXLIN_ADMIN_DATABASE", &administrator)
            .output()
            .unwrap();
        let said = [output.stdout, output.stderr].concat();
        (
            output.status.success(),
            String::from_utf8_lossy(&said).into_owned(),
        )
    };
    let (good, said) = set_up(&file);
    assert!(good && said.contains("The database is ready"), "{said}");
    let addresses = std::fs::read_to_string(&file).unwrap();
    let mode = std::os::unix::fs::PermissionsExt::mode(&file.metadata().unwrap().permissions());
    assert_eq!(mode & 0o777, 0o600);
    // Nothing is done twice, and nothing is left of what was not done.
    let (good, said) = set_up(&file);
    assert!(!good && said.contains("exists"), "{said}");
    let (good, said) = set_up(&folder.join("again"));
    assert!(
        !good && said.contains("jexlin_owner exists already")
            || said.contains("jexlin_service exists already")
            || said.contains("jexlin exists already"),
        "{said}"
    );
    assert!(!folder.join("again").exists());
    assert_eq!(std::fs::read_to_string(&file).unwrap(), addresses);
    // The service runs on it.
    let log = std::fs::File::create(folder.join("log")).unwrap();
    let mut service = Command::new(jexlin_acceptance::program("jexlind"))
        .env("JEXLIN_FOLDER", &folder)
        .env("JEXLIN_PORT", "0")
        .env("JEXLIN_METRICS_PORT", "0")
        .env("JEXLIN_LOG_FORMAT", "json")
        .envs(addresses.lines().filter_map(|line| line.split_once('=')))
        .stdout(std::process::Stdio::null())
        .stderr(log)
        .spawn()
        .unwrap();
    let log = || std::fs::read_to_string(folder.join("log")).unwrap();
    let port = until("the port", || {
        port_in(&log(), "metrics are served on port ")
    });
    let numbers = until("the numbers", || {
        let answer = ureq::get(format!("http://127.0.0.1:{port}/metrics")).call();
        answer.ok()?.body_mut().read_to_string().ok()
    });
    service.kill().unwrap();
    let _ = service.wait().unwrap();
    for line in [
        "jexlin_database_up 1",
        "jexlin_vault_open 0",
        "jexlin_sessions 0",
        "jexlin_http_request_seconds_count",
        "# EOF",
    ] {
        assert!(numbers.contains(line), "{line}: {numbers}");
    }
    let lines = log();
    let lines = lines
        .lines()
        .map(|line| serde_json::from_str::<serde_json::Value>(line).unwrap());
    let said: Vec<String> = lines
        .map(|line| line["fields"]["message"].to_string())
        .collect();
    assert!(
        said.iter().any(|message| message.contains("set-up code")),
        "{said:?}"
    );
    std::fs::remove_dir_all(folder).unwrap();
}

#[test]
fn the_service_manager_may_hold_the_port() {
    let service = Service::bare();
    certificate(&service, "held");
    let socket = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = socket.local_addr().unwrap().port();
    let log = std::fs::File::create(service.folder.join("held.log")).unwrap();
    // The manager gives the socket as the third file, and says to whom.
    let mut held = Command::new("sh")
        .args([
            "-c",
            "LISTEN_PID=$$ LISTEN_FDS=1 exec \"$0\" 3<&0 0</dev/null",
        ])
        .arg(program("jexlind"))
        .env("JEXLIN_DATABASE", &service.database.service)
        .env("JEXLIN_FOLDER", &service.folder)
        .env("JEXLIN_PORT", "1")
        .env("JEXLIN_TLS_CERTIFICATE", service.folder.join("tls.pem"))
        .env("JEXLIN_TLS_KEY", service.folder.join("tls.key"))
        .stdin(std::process::Stdio::from(std::os::fd::OwnedFd::from(
            socket,
        )))
        .stdout(log.try_clone().unwrap())
        .stderr(log)
        .spawn()
        .unwrap();
    let said = until("the port", || {
        let text = std::fs::read_to_string(service.folder.join("held.log")).unwrap();
        text.contains("listening on").then_some(text)
    });
    held.kill().unwrap();
    let _ = held.wait().unwrap();
    assert!(
        said.contains(&format!("listening on https://127.0.0.1:{port}")),
        "{said}"
    );
}

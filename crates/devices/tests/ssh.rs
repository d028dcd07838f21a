//! The SSH connector against real OpenSSH hosts, and against devices that misbehave.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::indexing_slicing, reason = "what cannot be set up ends the test")]

use std::sync::OnceLock;
use std::time::Duration;

use jexlin_core::secret::Secret;
use jexlin_devices::ssh::{Patience, SignIn, Ssh};
use jexlin_devices::{Change, Endpoint, Probe};
use jexlin_standins::host::Host;
use jexlin_standins::odd::{self, Manner, Wire};

fn host() -> &'static Host {
    static HOST: OnceLock<Host> = OnceLock::new();
    HOST.get_or_init(|| {
        let accounts =
            [("root", "Ridge-root-1"), ("duty", "North-ridge-2019"), ("night", "Night-shift-4"), ("strict", "Strict-account-1"), ("wired", "Wired-account-1")];
        let host = Host::temporary("north-ridge-telemetry", &accounts).expect("a host");
        host.inside("sed -i 's/pam_unix.so obscure/pam_unix.so obscure minlen=30/' /etc/pam.d/common-password").expect("a stricter host");
        host
    })
}

fn endpoint(host: &Host) -> Endpoint {
    Endpoint { address: host.address().into(), port: host.port(), host_key: None }
}

fn secret(text: &str) -> Secret {
    Secret::from_text(text.into())
}

fn sign_in<'a>(user: &'a str, password: &'a Secret) -> SignIn<'a> {
    SignIn { user, password, version: 1 }
}

fn ssh() -> Ssh {
    Ssh::new(Patience { connect: Duration::from_secs(5), change: Duration::from_secs(8) })
}

#[tokio::test]
async fn a_check_tells_the_right_password_from_a_wrong_one() {
    let endpoint = endpoint(host());
    let met = ssh().probe(&endpoint, sign_in("duty", &secret("North-ridge-2019"))).await;
    assert_eq!(met.what, Probe::Opened);
    assert!(met.host_key.is_some_and(|key| key.starts_with("ssh-ed25519 ")));
    assert_eq!(ssh().probe(&endpoint, sign_in("duty", &secret("North-ridge-2020"))).await.what, Probe::Closed);
    assert_eq!(ssh().probe(&endpoint, sign_in("nobody-here", &secret("x"))).await.what, Probe::Closed);
}

#[tokio::test]
async fn the_operator_changes_another_account_over_one_connection() {
    let (ssh, root) = (ssh(), secret("Ridge-root-1"));
    let mut endpoint = endpoint(host());
    endpoint.host_key = ssh.probe(&endpoint, sign_in("root", &root)).await.host_key;
    for password in ["Night-shift-5", "Night-shift-6", "with 'quotes' and $(sub) # & \\"] {
        let met = ssh.change_as_operator(&endpoint, sign_in("root", &root), "night", &secret(password)).await;
        assert_eq!(met.what, Change::Applied);
        assert_eq!(ssh.probe(&endpoint, sign_in("night", &secret(password))).await.what, Probe::Opened);
    }
    let ssh = self::ssh();
    let met = ssh.change_as_operator(&endpoint, sign_in("root", &root), "no-such-account", &secret("Night-shift-7")).await;
    assert!(matches!(&met.what, Change::Refused(words) if !words.contains("Night-shift-7")), "{met:?}");
    let met = ssh.change_as_operator(&endpoint, sign_in("root", &root), "night:0\nroot", &secret("x")).await;
    assert!(matches!(met.what, Change::Refused(_)));
    let met = ssh.change_as_operator(&endpoint, SignIn { version: 2, ..sign_in("root", &secret("wrong")) }, "night", &secret("Night-shift-8")).await;
    assert!(matches!(met.what, Change::NotReached(_)));
}

#[tokio::test]
async fn an_account_changes_its_own_password_at_the_prompt_and_a_refusal_is_quoted() {
    let (ssh, endpoint) = (ssh(), endpoint(host()));
    let old = secret("Strict-account-1");
    let met = ssh.change_as_self(&endpoint, sign_in("strict", &old), &secret("Short-one-2")).await;
    assert!(matches!(&met.what, Change::Refused(words) if words.to_lowercase().contains("longer")), "{met:?}");
    assert_eq!(ssh.probe(&endpoint, sign_in("strict", &old)).await.what, Probe::Opened);
    let new = secret("a-very-long-password-for-a-strict-host-3");
    assert_eq!(ssh.change_as_self(&endpoint, sign_in("strict", &old), &new).await.what, Change::Applied);
    assert_eq!(ssh.probe(&endpoint, sign_in("strict", &new)).await.what, Probe::Opened);
    assert!(matches!(ssh.change_as_self(&endpoint, sign_in("strict", &old), &new).await.what, Change::NotReached(_)));
}

#[tokio::test]
async fn a_changed_host_key_stops_everything_before_a_password_is_sent() {
    let mut endpoint = endpoint(host());
    endpoint.host_key = Some("ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA".into());
    let met = ssh().probe(&endpoint, sign_in("duty", &secret("North-ridge-2019"))).await;
    assert!(matches!(&met.what, Probe::NoAnswer(why) if why.contains("host key has changed")), "{met:?}");
    let met = ssh().change_as_operator(&endpoint, sign_in("root", &secret("Ridge-root-1")), "duty", &secret("x-y-z-1")).await;
    assert!(matches!(&met.what, Change::NotReached(why) if why.contains("host key has changed")), "{met:?}");
    assert!(host().opens("duty", "North-ridge-2019").unwrap());
}

#[tokio::test]
async fn devices_that_hang_flood_babble_or_are_off_get_an_answer_in_bounded_time() {
    let ssh = Ssh::new(Patience { connect: Duration::from_secs(2), change: Duration::from_secs(2) });
    let password = secret("x-y-z-1");
    let mut ports: Vec<u16> = [Manner::Hangs, Manner::Floods, Manner::Babbles].map(|manner| odd::device(manner).unwrap()).into();
    ports.push(jexlin_standins::free_port().unwrap());
    for port in ports {
        let endpoint = Endpoint { address: "127.0.0.1".into(), port, host_key: None };
        let probe = tokio::time::timeout(Duration::from_secs(20), ssh.probe(&endpoint, sign_in("duty", &password))).await.expect("bounded");
        assert!(matches!(probe.what, Probe::NoAnswer(_)), "{probe:?}");
        let change = ssh.change_as_operator(&endpoint, sign_in("root", &password), "duty", &password).await;
        assert!(matches!(change.what, Change::NotReached(_)), "{change:?}");
    }
}

#[tokio::test]
async fn wherever_the_wire_is_cut_the_answer_is_never_wrong() {
    let host = host();
    let wire = Wire::to(host.address(), host.port()).unwrap();
    let near = Endpoint { address: "127.0.0.1".into(), port: wire.port(), host_key: None };
    let root = secret("Ridge-root-1");
    // What was lost may come to its end on the host a moment after it was looked at.
    let mut possible = vec!["Wired-account-1".to_owned()];
    for (n, bytes) in (0..14).map(|n| (n, 1200 + n * 450)) {
        wire.mend();
        wire.cut_after(bytes);
        let wanted = format!("Wired-account-cut-{n}");
        let ssh = Ssh::new(Patience { connect: Duration::from_secs(3), change: Duration::from_secs(3) });
        let change = ssh.change_as_operator(&near, sign_in("root", &root), "wired", &secret(&wanted)).await.what;
        let changed = host.opens("wired", &wanted).unwrap();
        match change {
            Change::Applied => assert!(changed, "said applied at {bytes}"),
            Change::Refused(_) | Change::NotReached(_) => assert!(!changed, "said not applied at {bytes}: {change:?}"),
            Change::Lost(_) => possible.push(wanted.clone()),
        }
        if changed {
            possible = vec![wanted];
        }
        assert!(possible.iter().any(|password| host.opens("wired", password).unwrap()), "none of what it can be, cut at {bytes}");
    }
}

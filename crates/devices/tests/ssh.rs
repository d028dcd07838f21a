//! The SSH connector against real OpenSSH hosts, and against devices that misbehave.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing,
    reason = "what cannot be set up ends the test"
)]

mod rig;

use std::sync::OnceLock;
use std::time::Duration;

use jexlin_core::upkeep::identity::Identity;
use jexlin_core::upkeep::{BoundLogin, ConnectRules, Operator};
use jexlin_devices::ssh::Ssh;
use jexlin_devices::{Change, Connector as _, Probe, TimeLimits};
use jexlin_standins::host::Host;
use jexlin_standins::misbehaving_device::{self, Manner, Wire};

use proptest::prelude::*;
use rig::watch::{Watched, watched};
use rig::{Place, answer, place, yes};

fn host() -> &'static Host {
    static HOST: OnceLock<Host> = OnceLock::new();
    HOST.get_or_init(|| {
        let accounts = [
            ("root", "Ridge-root-1"),
            ("duty", "North-ridge-2019"),
            ("night", "Night-shift-4"),
            ("strict", "Strict-account-1"),
            ("wired", "Wired-account-1"),
            ("nasty", "Nasty-account-1"),
        ];
        Host::temporary("north-ridge-telemetry", &accounts).expect("a host")
    })
}

/// A host that wants long passwords.
fn strict_host() -> &'static Host {
    static HOST: OnceLock<Host> = OnceLock::new();
    HOST.get_or_init(|| {
        let host = Host::temporary("strict-telemetry", &[("strict", "Strict-account-1")]).expect("a host");
        host.inside("sed -i 's/pam_unix.so obscure/pam_unix.so obscure minlen=30/' /etc/pam.d/common-password").expect("a stricter host");
        host
    })
}

fn at_host(host: &Host) -> Place {
    place(host.address(), host.port())
}

fn patience(connect: u64, change: u64) -> TimeLimits {
    TimeLimits {
        connect: Duration::from_secs(connect),
        change: Duration::from_secs(change),
        idle: Duration::from_secs(60),
    }
}

fn ssh() -> Watched {
    watched(Ssh::new(patience(5, 8)))
}

#[tokio::test]
async fn a_check_tells_the_right_password_from_a_wrong_one() {
    let place = at_host(host());
    let met = ssh()
        .check(&place.account("duty", "North-ridge-2019"))
        .await;
    assert_eq!(met.result, Probe::Opened);
    assert!(
        met.presented
            .is_some_and(|shown| shown.key.starts_with("ssh-ed25519 "))
    );
    assert_eq!(
        ssh()
            .check(&place.account("duty", "North-ridge-2020"))
            .await
            .result,
        Probe::Closed
    );
    assert_eq!(
        ssh().check(&place.account("nobody-here", "x")).await.result,
        Probe::Closed
    );
}

#[tokio::test]
async fn the_operator_changes_another_account_over_one_connection() {
    let ssh = ssh();
    let place = at_host(host()).confirmed(&ssh).await;
    let root = place.operator("root", "Ridge-root-1");
    for password in [
        "Night-shift-5",
        "Night-shift-6",
        "with 'quotes' and $(sub) # & \\",
    ] {
        let met = ssh
            .change_as_operator(&root, &place.account("night", password), yes())
            .await;
        assert_eq!(met.result, Change::Applied);
        assert_eq!(
            ssh.check(&place.account("night", password)).await.result,
            Probe::Opened
        );
        assert!(ssh.has_operator(&root));
    }
    let met = ssh
        .change_as_operator(
            &root,
            &place.account("no-such-account", "Night-shift-7"),
            yes(),
        )
        .await;
    assert!(
        matches!(&met.result, Change::Refused(words) if !words.contains("Night-shift-7")),
        "{met:?}"
    );
    for user in ["night:0\nroot", "-e"] {
        assert!(matches!(
            ssh.change_as_operator(&root, &place.account(user, "x"), yes())
                .await
                .result,
            Change::Refused(_)
        ));
    }
    let met = ssh
        .change_as_operator(&root, &place.account("night", "two\nroot:lines"), yes())
        .await;
    assert!(matches!(met.result, Change::Refused(_)), "{met:?}");
}

#[tokio::test]
async fn a_kept_connection_serves_one_credential_and_version_and_ends_when_idle() {
    let ssh = watched(Ssh::new(TimeLimits {
        idle: Duration::ZERO,
        ..patience(5, 8)
    }));
    let place = at_host(host()).confirmed(&ssh).await;
    let root = place.operator("root", "Ridge-root-1");
    assert_eq!(
        ssh.change_as_operator(&root, &place.account("strict", "Strict-account-1"), yes())
            .await
            .result,
        Change::Applied
    );
    assert_eq!(ssh.kept().unwrap().all().len(), 1);
    // Another credential of the same name at the same address, with the same version and a wrong
    // password.
    let other: BoundLogin<Operator> = place.login(9, "root", "wrong", 1);
    assert_eq!(
        ssh.change_as_operator(&other, &place.account("strict", "Strict-account-2"), yes())
            .await
            .result,
        Change::OperatorRefused
    );
    // A newer version of the same credential.
    let newer: BoundLogin<Operator> = place.login(8, "root", "wrong", 2);
    assert_eq!(
        ssh.change_as_operator(&newer, &place.account("strict", "Strict-account-2"), yes())
            .await
            .result,
        Change::OperatorRefused
    );
    assert!(
        !ssh.has_operator(&root),
        "the older version's connection has ended"
    );
    assert_eq!(
        ssh.change_as_operator(&root, &place.account("strict", "Strict-account-1"), yes())
            .await
            .result,
        Change::Applied
    );
    ssh.kept().unwrap().close_idle();
    assert!(ssh.kept().unwrap().all().is_empty());
}

#[tokio::test]
async fn nothing_is_sent_when_the_lease_is_over_at_the_last_moment() {
    let ssh = ssh();
    let place = at_host(host()).confirmed(&ssh).await;
    let met = ssh
        .change_as_operator(
            &place.operator("root", "Ridge-root-1"),
            &place.account("duty", "Too-late-1"),
            answer(false),
        )
        .await;
    assert_eq!(met.result, Change::LeaseLost);
    let met = ssh
        .change_as_itself(
            &place.account("duty", "North-ridge-2019"),
            &place.account("duty", "Too-late-2"),
            answer(false),
        )
        .await;
    assert_eq!(met.result, Change::LeaseLost);
    assert!(host().opens("duty", "North-ridge-2019").unwrap());
}

#[tokio::test]
async fn the_operator_lists_the_accounts_that_the_host_has() {
    let ssh = ssh();
    let place = at_host(host()).confirmed(&ssh).await;
    let met = ssh
        .list_accounts(&place.operator("root", "Ridge-root-1"))
        .await;
    let found = met.result.found().unwrap();
    let of = |login: &str| found.iter().find(|account| account.login == login).unwrap();
    assert!(
        of("root").privileged.is_some() && of("duty").signs_in && of("duty").privileged.is_none()
    );
    assert!(found.iter().any(|account| !account.signs_in));
    assert_eq!(of("duty").locked, Some(false));
    assert!(of("duty").password_set_at.is_some());
}

#[tokio::test]
async fn a_password_cannot_go_to_another_endpoint_than_the_one_it_was_opened_for() {
    let ssh = ssh();
    let place = at_host(host()).confirmed(&ssh).await;
    let elsewhere = Place {
        port: 1,
        ..at_host(host())
    };
    let met = ssh
        .change_as_operator(
            &place.operator("root", "Ridge-root-1"),
            &elsewhere.account("duty", "Elsewhere-1"),
            yes(),
        )
        .await;
    assert!(matches!(met.result, Change::NotReached(_)), "{met:?}");
}

#[tokio::test]
async fn where_the_organisation_allows_no_connection_none_is_made() {
    let place = Place {
        rules: ConnectRules::default(),
        ..at_host(host())
    };
    let met = ssh()
        .check(&place.account("duty", "North-ridge-2019"))
        .await;
    assert!(
        matches!(&met.result, Probe::NoAnswer(why) if why.contains("does not allow")),
        "{met:?}"
    );
    assert!(
        ssh()
            .identify(&place.look())
            .await
            .unwrap_err()
            .contains("does not allow")
    );
}

#[tokio::test]
async fn a_host_certificate_of_a_known_authority_proves_an_identity() {
    let mut host = Host::temporary("weir-lane-telemetry", &[("duty", "Weir-lane-2019")]).unwrap();
    let script = "cd /etc/ssh && ssh-keygen -q -t ed25519 -N '' -f osmere_ca && ssh-keygen -q -t ed25519 -N '' -f other_ca && \
        ssh-keygen -q -s osmere_ca -I weir-lane -h -n 127.0.0.1 -V -1h:+1h jexlin_host_key.pub && \
        echo 'HostCertificate /etc/ssh/jexlin_host_key-cert.pub' >> sshd_config && cat osmere_ca.pub other_ca.pub";
    let made = host.inside(script).unwrap();
    let authorities: Vec<Identity> = made
        .lines()
        .map(|key| Identity::parse(&format!("@cert-authority * {key}")).unwrap())
        .collect();
    let place = |authority: &Identity, host: &Host| Place {
        identity: authority.to_line(),
        trust: false,
        ..at_host(host)
    };
    // Without its certificate the host's bare key proves nothing.
    let met = ssh()
        .check(&place(&authorities[0], &host).account("duty", "Weir-lane-2019"))
        .await;
    assert!(
        matches!(&met.result, Probe::NoAnswer(why) if why.contains("prove its identity")),
        "{met:?}"
    );
    host.stop().unwrap();
    host.start_again().unwrap();
    assert_eq!(
        ssh()
            .check(&place(&authorities[0], &host).account("duty", "Weir-lane-2019"))
            .await
            .result,
        Probe::Opened
    );
    let met = ssh()
        .check(&place(&authorities[1], &host).account("duty", "Weir-lane-2019"))
        .await;
    assert!(
        matches!(&met.result, Probe::NoAnswer(why) if why.contains("prove its identity")),
        "{met:?}"
    );
    let shown = ssh().identify(&at_host(&host).look()).await.unwrap();
    assert_eq!(
        shown
            .iter()
            .filter(|shown| shown.authority.is_some())
            .count(),
        1,
        "{shown:?}"
    );
}

#[tokio::test]
async fn an_account_changes_its_own_password_at_the_prompt_and_a_refusal_is_quoted() {
    let (ssh, place) = (ssh(), at_host(strict_host()));
    let old = place.account("strict", "Strict-account-1");
    let met = ssh
        .change_as_itself(&old, &place.account("strict", "Short-one-2"), yes())
        .await;
    assert!(
        matches!(&met.result, Change::Refused(words) if words.to_lowercase().contains("longer")),
        "{met:?}"
    );
    assert_eq!(ssh.check(&old).await.result, Probe::Opened);
    let new = place.account("strict", "a-very-long-password-for-a-strict-host-3");
    assert_eq!(
        ssh.change_as_itself(&old, &new, yes()).await.result,
        Change::Applied
    );
    assert_eq!(ssh.check(&new).await.result, Probe::Opened);
    assert_eq!(
        ssh.change_as_itself(&old, &new, yes()).await.result,
        Change::AccountRefused
    );
}

#[tokio::test]
async fn a_changed_host_key_stops_everything_before_a_password_is_sent() {
    let other = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA";
    let place = Place {
        identity: other.into(),
        trust: false,
        ..at_host(host())
    };
    let met = ssh()
        .check(&place.account("duty", "North-ridge-2019"))
        .await;
    assert!(
        matches!(&met.result, Probe::NoAnswer(why) if why.contains("did not prove its identity")),
        "{met:?}"
    );
    let met = ssh()
        .change_as_operator(
            &place.operator("root", "Ridge-root-1"),
            &place.account("duty", "x-y-z-1"),
            yes(),
        )
        .await;
    assert!(
        matches!(&met.result, Change::NotReached(why) if why.contains("did not prove its identity")),
        "{met:?}"
    );
    assert!(host().opens("duty", "North-ridge-2019").unwrap());
}

#[tokio::test]
async fn devices_that_hang_flood_babble_or_are_off_get_an_answer_in_bounded_time() {
    let ssh = watched(Ssh::new(patience(2, 2)));
    let mut ports: Vec<u16> = [Manner::Hangs, Manner::Floods, Manner::Babbles]
        .map(|manner| misbehaving_device::device(manner).unwrap())
        .into();
    ports.push(jexlin_standins::free_port().unwrap());
    for port in ports {
        let place = place("127.0.0.1", port);
        let probe = tokio::time::timeout(
            Duration::from_secs(20),
            ssh.check(&place.account("duty", "x-y-z-1")),
        )
        .await
        .expect("bounded");
        assert!(matches!(probe.result, Probe::NoAnswer(_)), "{probe:?}");
        let change = ssh
            .change_as_operator(
                &place.operator("root", "x-y-z-1"),
                &place.account("duty", "x-y-z-2"),
                yes(),
            )
            .await;
        assert!(matches!(change.result, Change::NotReached(_)), "{change:?}");
        assert!(ssh.identify(&place.look()).await.is_err());
    }
}

#[tokio::test]
async fn wherever_the_wire_is_cut_the_answer_is_never_wrong() {
    let host = host();
    let wire = Wire::to(host.address(), host.port()).unwrap();
    let near = place("127.0.0.1", wire.port());
    // What was lost may come to its end on the host a moment after it was looked at.
    let mut possible = vec!["Wired-account-1".to_owned()];
    for (n, bytes) in (0..14).map(|n| (n, 1200 + n * 450)) {
        wire.fix();
        wire.cut_after(bytes);
        let wanted = format!("Wired-account-cut-{n}");
        let ssh = watched(Ssh::new(patience(3, 3)));
        let change = ssh
            .change_as_operator(
                &near.operator("root", "Ridge-root-1"),
                &near.account("wired", &wanted),
                yes(),
            )
            .await
            .result;
        let changed = host.opens("wired", &wanted).unwrap();
        match change {
            Change::Applied => assert!(changed, "said applied at {bytes}"),
            Change::Lost(_) => possible.push(wanted.clone()),
            _ => assert!(!changed, "said not applied at {bytes}: {change:?}"),
        }
        if changed {
            possible = vec![wanted];
        }
        assert!(
            possible
                .iter()
                .any(|password| host.opens("wired", password).unwrap()),
            "none of what it can be, cut at {bytes}"
        );
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, ..ProptestConfig::default() })]

    #[test]
    fn every_printable_password_opens_what_it_was_set_on(password in "[ -~äß€\u{2003}]{12,40}") {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let ssh = ssh();
            let place = at_host(host()).confirmed(&ssh).await;
            let root = place.operator("root", "Ridge-root-1");
            let candidate = place.login(7, "nasty", &password, 2);
            let met = ssh.change_as_operator(&root, &candidate, yes()).await;
            assert_eq!(met.result, Change::Applied);
            assert_eq!(ssh.check(&candidate).await.result, Probe::Opened);
            // And at the prompt, where it is the current one.
            let next = place.login(7, "nasty", &format!("Next {password}"), 3);
            let met = ssh.change_as_itself(&candidate, &next, yes()).await;
            assert_eq!(met.result, Change::Applied);
            assert_eq!(ssh.check(&next).await.result, Probe::Opened);
        });
    }
}

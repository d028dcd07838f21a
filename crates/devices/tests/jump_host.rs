//! Devices behind a jump host, a real OpenSSH server: whatever reaches a device directly reaches it
//! through one, and nothing else does.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing,
    reason = "what cannot be set up ends the test"
)]

mod rig;

use std::sync::{Arc, OnceLock};
use std::time::Duration;

use jexlin_core::dialogue::Instructions;
use jexlin_core::upkeep::{BoundLogin, ConnectRules, ConnectorKind, JumpHost};
use jexlin_devices::postgresql::Postgresql;
use jexlin_devices::ssh::Ssh;
use jexlin_devices::{Change, Connector, Probe, TimeLimits, jump_host};
use jexlin_standins::database_server::DatabaseServer;
use jexlin_standins::host::Host;
use jexlin_standins::misbehaving_device::Wire;
use jexlin_standins::router::Router;

use rig::watch::{watched, watched_too};
use rig::{Place, place, yes};

const TUNNEL: &str = "Gateway-tunnel-1";

fn gateway() -> &'static Host {
    static HOST: OnceLock<Host> = OnceLock::new();
    HOST.get_or_init(|| {
        let accounts = [
            ("root", "Gateway-root-1"),
            ("tunnel", TUNNEL),
            ("alone", TUNNEL),
            ("shut", TUNNEL),
            ("moved", TUNNEL),
        ];
        let mut host = Host::temporary("control-gateway", &accounts).expect("a host");
        host.stop().unwrap();
        let file = host.etc().join("ssh/sshd_config");
        let mut text = std::fs::read_to_string(&file).unwrap();
        text.push_str("Match User shut\n    AllowTcpForwarding no\n");
        std::fs::write(&file, text).unwrap();
        host.start_again().unwrap();
        host
    })
}

fn station() -> &'static Host {
    static HOST: OnceLock<Host> = OnceLock::new();
    HOST.get_or_init(|| {
        let accounts = [("root", "Ridge-root-1"), ("duty", "North-ridge-2019")];
        Host::temporary("ridge-behind", &accounts).expect("a host")
    })
}

fn ssh() -> Ssh {
    Ssh::new(TimeLimits {
        connect: Duration::from_secs(8),
        change: Duration::from_secs(8),
        idle: Duration::from_secs(60),
    })
}

/// The gateway as a confirmed jump host, and an account there.
async fn at_gateway(user: &str, password: &str, number: u8) -> (Place, BoundLogin<JumpHost>) {
    let host = place(gateway().address(), gateway().port());
    let host = host.confirmed(&ssh()).await;
    let login = host.jump_account(user, password, number);
    (host, login)
}

/// How often somebody has signed in to the gateway as this user.
fn sessions_of(user: &str) -> usize {
    let script = format!("pgrep -c -u {user} -f sshd || true");
    gateway().inside(&script).unwrap().trim().parse().unwrap()
}

#[tokio::test]
async fn a_host_behind_one_is_identified_checked_and_changed_over_one_connection() {
    let (host, tunnel) = at_gateway("alone", TUNNEL, 10).await;
    let there = place(station().address(), station().port()).behind(&host, &tunnel);
    // Before anybody has signed in to the jump host, there is no way; surely not the direct one.
    let early = ssh()
        .check(&there.account("duty", "North-ridge-2019"))
        .await;
    assert!(matches!(early.result, Probe::NoAnswer(why) if why.contains("jump host has ended")));
    let met = jump_host::open(&tunnel).await;
    assert_eq!(met.result, Probe::Opened);
    assert!(jump_host::is_open(&tunnel.connection()));
    let connector = watched(ssh());
    let there = there.confirmed(&connector).await;
    for (password, expected) in [
        ("North-ridge-2019", Probe::Opened),
        ("Wrong-tide-1", Probe::Closed),
    ] {
        let probe = connector.check(&there.account("duty", password)).await;
        assert_eq!(probe.result, expected);
    }
    let root = there.operator("root", "Ridge-root-1");
    let new = there.account("duty", "Behind-the-weir-7");
    let changed = connector.change_as_operator(&root, &new, yes()).await;
    assert_eq!(changed.result, Change::Applied);
    assert_eq!(connector.check(&new).await.result, Probe::Opened);
    assert_eq!(
        sessions_of("alone"),
        1,
        "all of it went over one connection"
    );
    jump_host::close_idle();
    assert!(jump_host::is_open(&tunnel.connection()), "just used");
}

#[tokio::test]
async fn databases_and_command_lines_are_reached_through_one_too() {
    let (host, tunnel) = at_gateway("moved", TUNNEL, 1).await;
    assert_eq!(jump_host::open(&tunnel).await.result, Probe::Opened);

    let server = DatabaseServer::temporary().expect("a server");
    server
        .sql("CREATE ROLE historian LOGIN PASSWORD 'Historian-tide-1'")
        .unwrap();
    let database = watched(Postgresql::new(TimeLimits {
        connect: Duration::from_secs(8),
        change: Duration::from_secs(8),
        ..TimeLimits::default()
    }));
    let there = place("127.0.0.1", server.port()).behind(&host, &tunnel);
    let there = there.confirmed(&database).await;
    let account = there.account("historian", "Historian-tide-1");
    assert_eq!(database.check(&account).await.result, Probe::Opened);
    let new = there.account("historian", "Behind-the-weir-8");
    let changed = database.change_as_itself(&account, &new, yes()).await;
    assert_eq!(changed.result, Change::Applied);

    let router = Router::temporary("Router2019a", None).unwrap();
    let text = include_str!("../../../demo/dialogues/frr.toml");
    let prompt = Place {
        dialogue: Some(Arc::new(Instructions::read(text).unwrap())),
        connector: ConnectorKind::Telnet,
        ..place("127.0.0.1", router.port())
    };
    let prompt = prompt.known_by("unproven").behind(&host, &tunnel);
    let line = TimeLimits {
        connect: Duration::from_secs(8),
        change: Duration::from_secs(8),
        ..TimeLimits::default()
    };
    let line = watched_too(jexlin_devices::connector(ConnectorKind::Telnet, line));
    let probe = line.check(&prompt.account("vty", "Router2019a")).await;
    assert_eq!(probe.result, Probe::Opened);
}

#[tokio::test]
async fn a_jump_host_that_refuses_or_forwards_nothing_says_so() {
    let (host, wrong) = at_gateway("tunnel", "Wrong-tide-1", 2).await;
    assert_eq!(jump_host::open(&wrong).await.result, Probe::Closed);
    assert!(!jump_host::is_open(&wrong.connection()));

    let (_, shut) = at_gateway("shut", TUNNEL, 11).await;
    assert_eq!(jump_host::open(&shut).await.result, Probe::Opened);
    let there = place(station().address(), station().port()).behind(&host, &shut);
    let probe = ssh().check(&there.account("duty", "x")).await.result;
    assert!(
        matches!(&probe, Probe::NoAnswer(why) if why.contains("AllowTcpForwarding")),
        "{probe:?}"
    );
}

#[tokio::test]
async fn a_device_behind_one_is_reached_only_where_the_organisation_allows_it() {
    let (host, tunnel) = at_gateway("root", "Gateway-root-1", 12).await;
    assert_eq!(jump_host::open(&tunnel).await.result, Probe::Opened);
    let closed = {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        listener.local_addr().unwrap().port()
    };
    let there = place("127.0.0.1", closed).behind(&host, &tunnel);
    let probe = ssh().check(&there.account("duty", "x")).await.result;
    assert!(
        matches!(&probe, Probe::NoAnswer(why) if why.contains("gets no connection to the device")),
        "{probe:?}"
    );
    // The host could connect; the organisation does not want it.
    let rules = ConnectRules::new(&["10.0.0.0/8".into()], vec![]).unwrap();
    let forbidden = Place {
        rules,
        ..place(station().address(), station().port())
    };
    let forbidden = forbidden.behind(&host, &tunnel);
    let probe = ssh().check(&forbidden.account("duty", "x")).await.result;
    assert!(
        matches!(&probe, Probe::NoAnswer(why) if why.contains("does not allow connections")),
        "{probe:?}"
    );
}

#[tokio::test]
async fn a_jump_host_with_another_key_gets_nothing() {
    let other = station();
    let (host, _) = at_gateway("tunnel", TUNNEL, 3).await;
    let moved = Place {
        port: other.port(),
        address: other.address().to_owned(),
        ..host
    };
    let met = jump_host::open(&moved.jump_account("duty", "North-ridge-2019", 3)).await;
    assert!(
        matches!(&met.result, Probe::NoAnswer(why) if why.contains("did not prove its identity")),
        "{:?}",
        met.result
    );
}

#[tokio::test]
async fn a_line_that_is_cut_ends_what_goes_through_it() {
    let line = Wire::to(gateway().address(), gateway().port()).unwrap();
    let host = place("127.0.0.1", line.port());
    let host = host.confirmed(&ssh()).await;
    let tunnel = host.jump_account("tunnel", TUNNEL, 4);
    assert_eq!(jump_host::open(&tunnel).await.result, Probe::Opened);
    let there = place(station().address(), station().port()).behind(&host, &tunnel);
    let there = there.confirmed(&ssh()).await;
    line.cut();
    let probe = ssh().check(&there.account("duty", "x")).await.result;
    assert!(
        matches!(&probe, Probe::NoAnswer(why) if why.contains("jump host")),
        "{probe:?}"
    );
}

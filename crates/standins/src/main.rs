//! Runs the world around the demo for `./start`: the cluster and the hosts, until it is ended.
//!
//! `jexlin-standins FOLDER PORT` starts the cluster, makes the database `jexlin`, starts the hosts
//! of the demo when it may, and prints what they are as JSON on one line when all is up.

use std::io::Write as _;
use std::path::Path;

use jexlin_standins::cluster::{Care, Cluster};
use jexlin_standins::host::Host;
use jexlin_standins::is_root;

/// A name, an address, and accounts with their first passwords.
type DemoHost = (
    &'static str,
    &'static str,
    &'static [(&'static str, &'static str)],
);

/// The hosts of Osmere Water: name, address, accounts. The passwords are those of the first day;
/// the demo rotates most of them.
const HOSTS: [DemoHost; 4] = [
    (
        "north-ridge-telemetry",
        "127.0.10.5",
        &[
            ("root", "Ridge-root-first-day-1"),
            ("duty", "North-ridge-2019"),
            ("telemetry", "telemetry1"),
        ],
    ),
    (
        "weir-lane-telemetry",
        "127.0.10.6",
        &[
            ("root", "Weir-root-first-day-1"),
            ("duty", "Weir-lane-2019"),
        ],
    ),
    (
        "works-historian",
        "127.0.10.7",
        &[
            ("root", "Works-root-first-day-1"),
            ("reports", "Quarterly-Report-7"),
            ("duty", "North-ridge-2019"),
        ],
    ),
    (
        "control-room-gateway",
        "127.0.10.8",
        &[
            ("root", "Control-root-first-day-1"),
            ("duty", "Control-Room-22"),
            ("contractor", "Afternoon-only-3"),
        ],
    ),
];
/// The port of the hosts' SSH servers; loopback addresses of their own keep it free.
const SSH_PORT: u16 = 22;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let mut arguments = std::env::args().skip(1);
    let (Some(folder), Some(port)) = (arguments.next(), arguments.next()) else {
        return Err("usage: jexlin-standins FOLDER PORT".into());
    };
    let folder = Path::new(&folder);
    let cluster = Cluster::start(&folder.join("postgres"), port.parse()?, Care::Durable)?;
    let database = cluster.database("jexlin")?;
    let mut hosts = vec![];
    if is_root() {
        for (name, address, accounts) in HOSTS {
            hosts.push(Host::start(
                &folder.join("hosts").join(name),
                name,
                address,
                SSH_PORT,
                accounts,
            )?);
        }
    } else {
        eprintln!(
            "Without root the demo's hosts are left out: north-ridge-telemetry, weir-lane-telemetry, works-historian, control-room-gateway."
        );
    }
    let mut out = std::io::stdout();
    writeln!(
        out,
        "{{\"owner\":\"{}\",\"service\":\"{}\",\"hosts\":{}}}",
        database.owner,
        database.service,
        hosts.len()
    )?;
    out.flush()?;
    // Ended by its parent: standard input closes.
    std::io::copy(&mut std::io::stdin(), &mut std::io::sink())?;
    drop(hosts);
    drop(cluster);
    Ok(())
}

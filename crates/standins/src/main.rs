//! Runs the world around the demo for `./start`: the cluster and the hosts, until it is ended.
//!
//! `jexlin-standins FOLDER PORT` starts the cluster, makes the database `jexlin`, starts the hosts
//! of the demo when it may, and prints what they are as JSON on one line when all is up.

use std::io::Write as _;
use std::path::Path;

use jexlin_standins::cluster::{Care, Cluster};
use jexlin_standins::{demo_hosts, is_root};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let mut arguments = std::env::args().skip(1);
    let (Some(folder), Some(port)) = (arguments.next(), arguments.next()) else {
        return Err("usage: jexlin-standins FOLDER PORT".into());
    };
    let folder = Path::new(&folder);
    let cluster = Cluster::start(&folder.join("postgres"), port.parse()?, Care::Durable)?;
    let database = cluster.database("jexlin")?;
    let mut running = None;
    if is_root() {
        running = Some(demo_hosts::start(
            &folder.join("hosts"),
            &demo_hosts::network(),
        )?);
    } else {
        eprintln!(
            "Without root the demo's hosts are left out: north-ridge-telemetry, weir-lane-telemetry, works-historian, control-room-gateway, the reports database, the alarm queue, the filter hall switch, the firewall, the inlet unit and the cloud console."
        );
    }
    let mut out = std::io::stdout();
    writeln!(
        out,
        "{{\"owner\":\"{}\",\"service\":\"{}\",\"hosts\":{}}}",
        database.owner,
        database.service,
        running.as_ref().map_or(0, |running| running.hosts.len())
    )?;
    out.flush()?;
    // Ended by its parent: standard input closes.
    std::io::copy(&mut std::io::stdin(), &mut std::io::sink())?;
    drop(running);
    drop(cluster);
    Ok(())
}

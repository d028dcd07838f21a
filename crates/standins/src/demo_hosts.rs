//! The hosts of the demo: real ones, each on a loopback address of its own.

use std::io::Result;
use std::path::Path;

use crate::cloud_console::CloudConsole;
use crate::command_line::{CHANGES, CommandLine, FITTER, KEEPER, Model, WARDEN};
use crate::database_server::DatabaseServer;
use crate::host::Host;
use crate::mariadb_server::{self, MariadbServer};
use crate::redis_server::{OPERATOR_RIGHTS, RedisServer};

/// A name, the last number of its address, and accounts with their first passwords.
type DemoHost = (&'static str, u8, &'static [(&'static str, &'static str)]);

/// The hosts of Osmere Water: name, last number of the address, accounts. The passwords are those of the first day;
/// the demo rotates most of them.
const HOSTS: [DemoHost; 4] = [
    (
        "north-ridge-telemetry",
        5,
        &[
            ("root", "Ridge-root-first-day-1"),
            ("duty", "North-ridge-2019"),
            ("telemetry", "telemetry1"),
        ],
    ),
    (
        "weir-lane-telemetry",
        6,
        &[
            ("root", "Weir-root-first-day-1"),
            ("duty", "Weir-lane-2019"),
        ],
    ),
    (
        "works-historian",
        7,
        &[
            ("root", "Works-root-first-day-1"),
            ("reports", "Quarterly-Report-7"),
            ("duty", "North-ridge-2019"),
            ("deploy", "Nobody-signs-in-with-this-1"),
            ("archive", "Archive-2018"),
            ("tunnel", "Tunnel-first-day-1"),
        ],
    ),
    (
        "control-room-gateway",
        8,
        &[
            ("root", "Control-root-first-day-1"),
            ("duty", "Control-Room-22"),
            ("contractor", "Afternoon-only-3"),
        ],
    ),
];
/// The port of the hosts' SSH servers; loopback addresses of their own keep it free.
const SSH_PORT: u16 = 22;

/// The first three numbers of the hosts' addresses. Another demo on the same machine, as that of a
/// test, has others in `JEXLIN_DEMO_NETWORK`.
#[must_use]
pub fn network() -> String {
    std::env::var("JEXLIN_DEMO_NETWORK").unwrap_or_else(|_| "127.0.10".into())
}

/// The last number of the address of the demo's database server, beside the hosts.
const DATABASE: u8 = 9;
/// Its roles, with the passwords of the first day.
const ROLES: [&str; 3] = [
    "CREATE ROLE rotator LOGIN CREATEROLE PASSWORD 'Rotator-first-day-1'",
    "CREATE ROLE reports LOGIN PASSWORD 'Quarterly-Report-7'",
    "CREATE ROLE trends LOGIN PASSWORD 'Trends-2019'",
];

/// The last number of the address of the demo's Redis server.
const ALARMS: u8 = 10;
/// Its users, with the passwords of the first day; [`OPERATOR_RIGHTS`] are those of the first.
const USERS: [(&str, &str); 2] = [
    ("rotator on >Alarms-rotator-first-day-1", OPERATOR_RIGHTS),
    ("alarms on >Alarm-queue-2019", "~alarm:* +@read +@write"),
];

/// The last number of the address of the demo's switch.
const SWITCH: u8 = 11;
/// Its accounts, with the passwords of the first day.
const SWITCH_ACCOUNTS: [(&str, &str); 3] = [
    (KEEPER, "Keeper-first-day-1"),
    ("duty", "Filter-hall-2019"),
    ("watch", "Watch-the-ports-7"),
];

/// The last number of the address of the demo's firewall.
const FIREWALL: u8 = 14;
/// Its accounts, with the passwords of the first day.
const FIREWALL_ACCOUNTS: [(&str, &str); 4] = [
    (WARDEN, "Warden-first-day-1"),
    (CHANGES, "Only-for-changes-1"),
    ("duty", "Edge-duty-2019"),
    ("reader", "Rules-to-read-4"),
];

/// The last number of the address of the demo's telemetry unit, and its port: the one of Telnet.
const UNIT: (u8, u16) = (15, 23);
/// Its accounts, with the codes of the first day.
const UNIT_ACCOUNTS: [(&str, &str); 2] = [(FITTER, "Inlet1stday"), ("duty", "Osmere2019")];

/// The last number of the address of the demo's cloud console.
const CONSOLE: u8 = 12;
/// Its accounts, with the passwords of the first day.
const CONSOLE_ACCOUNTS: [(&str, &str); 2] = [
    (crate::cloud_console::KEEPER, "Harbour-first-day-1"),
    ("backups", "Backups-2019-first"),
];

/// The last number of the address of the demo's MariaDB server.
const MAINTENANCE: u8 = 13;
/// Its users, with the passwords of the first day; the rights of the operator come with them.
const MAINTENANCE_USERS: [&str; 2] = [
    "CREATE USER rotator IDENTIFIED BY 'Maintenance-first-day-1'",
    "CREATE USER orders IDENTIFIED BY 'Work-orders-2019'",
];

/// What runs around the demo.
#[derive(Debug)]
pub struct Running {
    /// The hosts.
    pub hosts: Vec<Host>,
    /// The database server.
    pub database: DatabaseServer,
    /// The Redis server.
    pub alarms: RedisServer,
    /// The MariaDB server.
    pub maintenance: MariadbServer,
    /// The switch, which is a stand-in.
    pub switch: CommandLine,
    /// The firewall, which is a stand-in.
    pub firewall: CommandLine,
    /// The telemetry unit, which is a stand-in.
    pub unit: CommandLine,
    /// The cloud console, which is a stand-in.
    pub console: CloudConsole,
}

/// Starts all hosts and servers in a folder.
///
/// # Errors
/// When one does not start.
pub fn start(folder: &Path, network: &str) -> Result<Running> {
    let each = HOSTS.iter();
    let hosts = each
        .map(|(name, number, accounts)| {
            let address = format!("{network}.{number}");
            Host::start(&folder.join(name), name, &address, SSH_PORT, accounts)
        })
        .collect::<Result<_>>()?;
    let database = DatabaseServer::start(
        &folder.join("reports-database"),
        &format!("{network}.{DATABASE}"),
        5432,
        &ROLES,
    )?;
    let users = USERS.map(|(user, rights)| format!("{user} {rights}"));
    let alarms = RedisServer::start(
        &folder.join("alarm-queue"),
        &format!("{network}.{ALARMS}"),
        6379,
        &users.each_ref().map(String::as_str),
    )?;
    let maintenance = MariadbServer::start(
        &folder.join("maintenance-database"),
        &format!("{network}.{MAINTENANCE}"),
        3306,
        &[&MAINTENANCE_USERS[..], &mariadb_server::OPERATOR_RIGHTS].concat(),
    )?;
    let command_line = |model, name: &str, number: u8, port: u16, accounts: &[(&str, &str)]| {
        let address = format!("{network}.{number}");
        CommandLine::start(model, &folder.join(name), &address, port, accounts)
    };
    let switch = command_line(
        Model::Switch,
        "filter-hall-switch",
        SWITCH,
        SSH_PORT,
        &SWITCH_ACCOUNTS,
    )?;
    let firewall = command_line(
        Model::Firewall,
        "works-firewall",
        FIREWALL,
        SSH_PORT,
        &FIREWALL_ACCOUNTS,
    )?;
    let unit = command_line(
        Model::Telemetry,
        "inlet-unit",
        UNIT.0,
        UNIT.1,
        &UNIT_ACCOUNTS,
    )?;
    let console = CloudConsole::start(
        &folder.join("cloud-console"),
        &format!("{network}.{CONSOLE}"),
        443,
        &CONSOLE_ACCOUNTS,
    )?;
    Ok(Running {
        hosts,
        database,
        alarms,
        maintenance,
        switch,
        firewall,
        unit,
        console,
    })
}

//! Verified rotations with each connector, against a loop of the command-line tool that an administrator
//! would use, which verifies nothing.

use std::fmt::Write as _;
use std::io::Write as _;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use jexlin_acceptance::{Service, Session};
use jexlin_standins::cluster::{Care, Cluster};
use jexlin_standins::database_server::DatabaseServer;
use jexlin_standins::domain_controller::{DOMAIN, DomainController, PORT};
use jexlin_standins::host::Host;
use serde_json::json;

use crate::{figure, memory, service};

/// How many jobs, and how many commands of the loops, run at a time.
const AT_A_TIME: &str = "4";

/// Looks until there is something; a thousand jobs take minutes.
fn wait_for<T>(what: &str, mut look: impl FnMut() -> Option<T>) -> T {
    let begin = Instant::now();
    while begin.elapsed() < LONGEST_WAIT {
        if let Some(found) = look() {
            return found;
        }
        std::thread::sleep(Duration::from_millis(100));
    }
    panic!(
        "still not so after {} minutes: {what}",
        LONGEST_WAIT.as_secs() / 60
    );
}

const LONGEST_WAIT: Duration = Duration::from_secs(30 * 60);

/// A service with one device, and accounts on it.
struct Bench {
    cluster: Cluster,
    service: Service,
    folder: String,
    ids: Vec<String>,
}

/// An account: its user name, and its password.
type Login = (String, String);

impl Bench {
    fn new(
        device: (&str, &str, u16),
        kind: &str,
        operator: &Login,
        accounts: &[Login],
        at_a_time: &str,
    ) -> Self {
        let cluster = Cluster::temporary(Care::Durable).unwrap();
        let jobs = [
            ("JEXLIN_RUNNERS", at_a_time),
            ("JEXLIN_PER_DEVICE", at_a_time),
            ("JEXLIN_CONNECT_SECONDS", "25"),
        ];
        let service = service(&cluster, &jobs);
        let ines = service.sign_in("ines");
        let folder = ines.folder("Bench");
        let (connector, address, port) = device;
        let body = json!({"folder": folder, "name": "bench", "connector": connector, "address": address, "port": port});
        let on = ines.make("/api/v1/devices", &body);
        let add = |(user, password): &Login| {
            ines.make(
                "/api/v1/credentials",
                &json!({"folder": folder, "kind": kind, "name": user, "fields": {"user_name": user}, "password": password, "device": on}),
            )
        };
        let operator = add(operator);
        let ids = accounts.iter().map(add).collect();
        let body = json!({"operator": operator});
        let _ = ines
            .patch(&format!("/api/v1/devices/{on}"), 1, &body)
            .good();
        drop(ines);
        Self {
            cluster,
            service,
            folder,
            ids,
        }
    }

    fn session(&self) -> Session<'_> {
        self.service.sign_in("ines")
    }

    /// Rotates all, and gives how many a minute; none may end otherwise than done.
    fn rotate_all(&self) -> f64 {
        let ines = self.session();
        let begin = Instant::now();
        for ids in self.ids.chunks(1_000) {
            let body = json!({"task": "rotation", "credentials": ids});
            let _ = ines.post("/api/v1/jobs", &body).good();
        }
        let all = self.ids.len();
        let ended =
            "SELECT count(*) FROM job WHERE task = 'rotation' AND state IN ('done', 'failed')";
        wait_for("all jobs", || {
            let count = self
                .cluster
                .psql(&self.service.database.name, ended)
                .unwrap();
            (count == all.to_string()).then_some(())
        });
        let rate = all as f64 / begin.elapsed().as_secs_f64() * 60.0;
        let others = "SELECT outcome, message, count(*) FROM job WHERE task = 'rotation' AND outcome IS DISTINCT FROM 'done' GROUP BY 1, 2";
        let others = self
            .cluster
            .psql(&self.service.database.name, others)
            .unwrap();
        assert_eq!(others, "", "rotations that ended otherwise");
        rate
    }
}

/// Runs a line of a shell for each number, four at a time; how many a minute.
fn looped(count: usize, line: &str) -> f64 {
    let script = format!(
        "seq 0 {} | xargs -P {AT_A_TIME} -I N sh -c '{line}'",
        count - 1
    );
    let begin = Instant::now();
    let done = Command::new("sh")
        .args(["-c", &script])
        .stdout(Stdio::null())
        .status()
        .unwrap();
    assert!(done.success());
    count as f64 / begin.elapsed().as_secs_f64() * 60.0
}

fn told(what: &str, rate: f64, loop_of: &str, peer: f64) {
    figure(
        &format!("rotations of {what}"),
        rate,
        "1/min",
        &format!("a loop of {loop_of}, {AT_A_TIME} at a time, which verifies nothing"),
        peer,
        "ratio at least 1.5",
        rate / peer >= 1.5,
    );
}

/// A thousand roles of one server, against `psql`.
pub(crate) fn postgresql() {
    const COUNT: usize = 1_000;
    let server = DatabaseServer::temporary().unwrap();
    let mut roles = "CREATE ROLE rotator LOGIN CREATEROLE PASSWORD 'Rotator-tide-1';".to_owned();
    let accounts: Vec<Login> = (0..COUNT)
        .map(|n| (format!("bench{n}"), format!("Bench-2019-{n}")))
        .collect();
    for (role, password) in &accounts {
        let _ = write!(roles, "CREATE ROLE {role} LOGIN PASSWORD '{password}';");
    }
    let _ = server.sql(&roles).unwrap();
    let line = format!(
        "PGPASSWORD=Rotator-tide-1 psql -X -q -d \"host=127.0.0.1 port={} user=rotator dbname=postgres sslmode=require\" -c \"ALTER ROLE benchN PASSWORD \\$\\$Bench-2019-N\\$\\$\"",
        server.port()
    );
    let peer = looped(COUNT, &line);
    let operator = ("rotator".to_owned(), "Rotator-tide-1".to_owned());
    let device = ("postgresql", "127.0.0.1", server.port());
    let bench = Bench::new(device, "database-account", &operator, &accounts, AT_A_TIME);
    told("1,000 PostgreSQL roles", bench.rotate_all(), "psql", peer);
}

/// Starts a host with this number of accounts. Returns it with its root login and the accounts.
fn ssh_host(count: usize) -> (Host, Login, Vec<Login>) {
    let root = ("root".to_owned(), "Ridge-root-1".to_owned());
    let accounts: Vec<Login> = (0..count)
        .map(|n| (format!("bench{n}"), format!("Bench-2019-{n}")))
        .collect();
    let list: Vec<(&str, &str)> = std::iter::once(&root)
        .chain(&accounts)
        .map(|(user, password)| (user.as_str(), password.as_str()))
        .collect();
    let host = Host::temporary("bench", &list).unwrap();
    (host, root, accounts)
}

/// A thousand accounts of one host, against `ssh`.
pub(crate) fn ssh() {
    const COUNT: usize = 1_000;
    let (host, root, accounts) = ssh_host(COUNT);
    let options = "-o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null -o LogLevel=ERROR -o PreferredAuthentications=password";
    let line = format!(
        "echo benchN:Bench-2019-N | sshpass -p Ridge-root-1 ssh {options} -p {} root@127.0.0.1 chpasswd",
        host.port()
    );
    let peer = looped(COUNT, &line);
    let device = ("ssh", "127.0.0.1", host.port());
    let bench = Bench::new(device, "device-admin", &root, &accounts, AT_A_TIME);
    told(
        "1,000 accounts of one host over SSH",
        bench.rotate_all(),
        "ssh and chpasswd",
        peer,
    );
}

/// The memory of two hundred connections at once: the host takes its time to say whether a password
/// is right, so that nothing but connections is waited for. The checks come from a plan, since the
/// jobs that one person asks for run six at a time.
pub(crate) fn memory_of_connections() {
    const COUNT: usize = 600;
    let (host, root, accounts) = ssh_host(COUNT);
    let slowly = "sed -i '1i auth optional pam_exec.so quiet /bin/sleep 14' /etc/pam.d/sshd";
    let _ = host.inside(slowly).unwrap();
    let device = ("ssh", "127.0.0.1", host.port());
    let bench = Bench::new(device, "device-admin", &root, &accounts, "200");
    let sql = |statement: &str| {
        let name = &bench.service.database.name;
        bench.cluster.psql(name, statement).unwrap()
    };
    let plan = json!({"folder": bench.folder, "check": "FREQ=YEARLY", "out_of_sync": "report", "time_zone": "Europe/London"});
    let _ = bench.session().make("/api/v1/plans", &plan);
    wait_for("a time for each check", || {
        let planned = sql("SELECT count(*) FROM account WHERE next_check_at IS NOT NULL");
        (planned == (bench.ids.len() + 1).to_string()).then_some(())
    });
    let before = memory(&bench.service);
    let (mut most, mut busiest) = (before, 0_u32);
    let _ = sql("UPDATE account SET next_check_at = now()");
    wait_for("all checks", || {
        most = most.max(memory(&bench.service));
        let counts = sql(
            "SELECT count(*) FILTER (WHERE state = 'running') || ' ' || count(*) FILTER (WHERE state IN ('done', 'failed')) FROM job WHERE task = 'check'",
        );
        let (running, ended) = counts.split_once(' ').unwrap();
        busiest = busiest.max(running.parse().unwrap());
        (ended == (bench.ids.len() + 1).to_string()).then_some(())
    });
    let failed = sql("SELECT count(*) FROM job WHERE task = 'check' AND state = 'failed'");
    eprintln!("{busiest} checks at once, {failed} failed");
    figure(
        &format!("memory while up to {busiest} checks over SSH run at once"),
        most - before,
        "MiB more",
        "the service before",
        before,
        "below 200 MiB more",
        most - before < 200.0,
    );
}

/// Two thousand accounts of a domain, against `ldapmodify`.
pub(crate) fn active_directory() {
    const COUNT: usize = 2_000;
    let domain = DomainController::temporary(&[("rotator", "Rotator-tide-1")]).unwrap();
    let uri = format!("ldaps://{}:{PORT}", domain.address());
    let context = "DC=osmere,DC=example";
    let ldif: String = (0..COUNT)
        .map(|n| {
            let quoted: Vec<u8> = format!("\"Bench-2019-{n}\"")
                .encode_utf16()
                .flat_map(u16::to_le_bytes)
                .collect();
            let mut encoder = Command::new("base64")
                .arg("-w0")
                .stdin(Stdio::piped())
                .stdout(Stdio::piped())
                .spawn()
                .unwrap();
            encoder.stdin.take().unwrap().write_all(&quoted).unwrap();
            let encoded = encoder.wait_with_output().unwrap().stdout;
            let encoded = String::from_utf8_lossy(&encoded);
            format!(
                "dn: CN=bench{n},CN=Users,{context}\nchangetype: add\nobjectClass: user\nsAMAccountName: bench{n}\nuserAccountControl: 512\nunicodePwd:: {encoded}\n\n"
            )
        })
        .collect();
    let folder = std::env::temp_dir().join(format!("jexlin-bench-{}", std::process::id()));
    std::fs::create_dir_all(&folder).unwrap();
    let run = |file: &str| {
        format!(
            "LDAPTLS_REQCERT=never ldapmodify -x -H {uri} -D Administrator@{DOMAIN} -w Administrator-tide-1 -f {}/{file}",
            folder.display()
        )
    };
    std::fs::write(folder.join("all.ldif"), &ldif).unwrap();
    let added = Command::new("sh")
        .args(["-c", &run("all.ldif")])
        .stdout(Stdio::null())
        .status()
        .unwrap();
    assert!(added.success());
    // The loop sets what is set already, so that the vault stays right.
    for (n, entry) in ldif.split("\n\n").take(COUNT).enumerate() {
        let value = entry.lines().last().unwrap();
        let change = format!(
            "dn: CN=bench{n},CN=Users,{context}\nchangetype: modify\nreplace: unicodePwd\n{value}\n"
        );
        std::fs::write(folder.join(format!("{n}.ldif")), change).unwrap();
    }
    let peer = looped(COUNT, &run("N.ldif"));
    let accounts: Vec<Login> = (0..COUNT)
        .map(|n| (format!("bench{n}@{DOMAIN}"), format!("Bench-2019-{n}")))
        .collect();
    let operator = (format!("rotator@{DOMAIN}"), "Rotator-tide-1".to_owned());
    let device = ("active-directory", domain.address(), PORT);
    let bench = Bench::new(device, "directory-account", &operator, &accounts, AT_A_TIME);
    told(
        "2,000 accounts of a Samba domain",
        bench.rotate_all(),
        "ldapmodify",
        peer,
    );
    let _ = std::fs::remove_dir_all(&folder);
}

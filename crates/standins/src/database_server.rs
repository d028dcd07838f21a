//! A PostgreSQL server as a device: with TLS, roles of its own, and a log that keeps every statement.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::process::Command;

use crate::cluster::{Care, Cluster};
use crate::is_root;

/// A running server.
#[derive(Debug)]
pub struct DatabaseServer {
    cluster: Cluster,
    folder: PathBuf,
    address: String,
    remove: bool,
}

impl Drop for DatabaseServer {
    fn drop(&mut self) {
        if self.remove {
            let _ = self.cluster.stop(true);
            let _ = fs::remove_dir_all(&self.folder);
        }
    }
}

/// Runs openssl in a folder.
///
/// # Errors
/// Its own words.
pub fn openssl(folder: &Path, arguments: &[&str]) -> io::Result<()> {
    let output = Command::new("openssl")
        .args(arguments)
        .current_dir(folder)
        .output()?;
    if output.status.success() {
        Ok(())
    } else {
        Err(io::Error::other(String::from_utf8_lossy(&output.stderr)))
    }
}

/// A new key, and what signs with it.
const NEW_KEY: [&str; 5] = [
    "-newkey",
    "ec",
    "-pkeyopt",
    "ec_paramgen_curve:P-256",
    "-nodes",
];

/// Makes a certificate for a client with this name, signed by the authority of [`certificates`]:
/// `client.pem` and `client.key`.
///
/// # Errors
/// When openssl fails.
pub fn client_certificate(folder: &Path, name: &str) -> io::Result<()> {
    let subject = format!("/CN={name}");
    let request = [
        "-subj",
        &subject,
        "-keyout",
        "client.key",
        "-out",
        "client.csr",
    ];
    openssl(folder, &[&["req"][..], &NEW_KEY, &request].concat())?;
    let signed = [
        "-CA",
        "ca.pem",
        "-CAkey",
        "ca.key",
        "-CAcreateserial",
        "-days",
        "30",
    ];
    fs::write(folder.join("uses"), "extendedKeyUsage=clientAuth\n")?;
    let files = ["x509", "-req", "-in", "client.csr", "-out", "client.pem"];
    openssl(
        folder,
        &[&files[..], &signed, &["-extfile", "uses"]].concat(),
    )
}

/// Makes a certificate of an authority (`ca.pem`), and one that it signed for an address
/// (`tls.pem`, `tls.key`), in a folder.
///
/// # Errors
/// openssl's own words.
pub fn certificates(folder: &Path, address: &str) -> io::Result<()> {
    openssl(
        folder,
        &[
            &["req", "-x509"][..],
            &NEW_KEY,
            &["-days", "30", "-subj", "/CN=Osmere authority"],
            &["-keyout", "ca.key", "-out", "ca.pem"],
        ]
        .concat(),
    )?;
    fs::write(
        folder.join("names"),
        format!("subjectAltName=IP:{address}\n"),
    )?;
    openssl(
        folder,
        &[
            &["req"][..],
            &NEW_KEY,
            &["-subj", "/CN=historian"],
            &["-keyout", "tls.key", "-out", "tls.csr"],
        ]
        .concat(),
    )?;
    openssl(
        folder,
        &[
            "x509",
            "-req",
            "-in",
            "tls.csr",
            "-CA",
            "ca.pem",
            "-CAkey",
            "ca.key",
            "-CAcreateserial",
            "-days",
            "30",
            "-extfile",
            "names",
            "-out",
            "tls.pem",
        ],
    )
}

impl DatabaseServer {
    /// Starts one for a test, in a temporary folder that goes with it.
    ///
    /// # Errors
    /// PostgreSQL's or openssl's own words.
    pub fn temporary() -> io::Result<Self> {
        let port = crate::free_port()?;
        let folder =
            std::env::temp_dir().join(format!("jexlin-database-{}-{port}", std::process::id()));
        let mut server = Self::start(&folder, "127.0.0.1", port, &[])?;
        server.remove = true;
        Ok(server)
    }

    /// Starts the server of a folder, made first if it is not there yet, with roles as SQL makes
    /// them. Its certificate is signed by an authority of its own.
    ///
    /// # Errors
    /// PostgreSQL's or openssl's own words.
    pub fn start(folder: &Path, address: &str, port: u16, roles: &[&str]) -> io::Result<Self> {
        let tls = folder.join("tls");
        let new = !tls.join("tls.pem").exists();
        fs::create_dir_all(&tls)?;
        let server = Self {
            cluster: Cluster::start_at(&folder.join("cluster"), address, port, Care::Fast)?,
            folder: folder.to_owned(),
            address: address.to_owned(),
            remove: false,
        };
        if new {
            server.set_up(&tls, address, roles)?;
        }
        // The postmaster reads its settings between two connections.
        for _ in 0..100 {
            if server.sql("SHOW ssl")? == "on" {
                return Ok(server);
            }
            std::thread::sleep(std::time::Duration::from_millis(50));
        }
        Err(io::Error::other("the server does not speak TLS"))
    }

    fn set_up(&self, tls: &Path, address: &str, roles: &[&str]) -> io::Result<()> {
        certificates(tls, address)?;
        if is_root() {
            let status = Command::new("chown")
                .args(["-R", "postgres:"])
                .arg(tls)
                .status()?;
            if !status.success() {
                return Err(io::Error::other("chown failed"));
            }
        }
        for role in roles {
            self.sql(role)?;
        }
        for (name, value) in [
            ("ssl_cert_file", tls.join("tls.pem").display().to_string()),
            ("ssl_key_file", tls.join("tls.key").display().to_string()),
            ("ssl", "on".to_owned()),
            ("log_statement", "all".to_owned()),
        ] {
            self.sql(&format!("ALTER SYSTEM SET {name} = '{value}'"))?;
        }
        self.sql("SELECT pg_reload_conf()").map(|_| ())
    }

    /// Its port.
    #[must_use]
    pub const fn port(&self) -> u16 {
        self.cluster.port()
    }

    /// The certificate of its authority, in PEM.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn authority(&self) -> io::Result<String> {
        fs::read_to_string(self.folder.join("tls/ca.pem"))
    }

    /// Runs SQL as the superuser, past TLS.
    ///
    /// # Errors
    /// PostgreSQL's own words.
    pub fn sql(&self, sql: &str) -> io::Result<String> {
        self.cluster.psql("postgres", sql)
    }

    /// Whether a password opens a role, over TLS as everybody else comes.
    #[must_use]
    pub fn opens(&self, role: &str, password: &str) -> bool {
        let address = format!(
            "host={} port={} user={role} dbname=postgres sslmode=require",
            self.address,
            self.port()
        );
        Command::new("psql")
            .args(["-X", "-q", "-t", "-c", "SELECT 1", "-d", &address])
            .env("PGPASSWORD", password)
            .output()
            .is_ok_and(|output| output.status.success())
    }

    /// All that the server has logged.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn log(&self) -> io::Result<String> {
        self.cluster.log()
    }
}

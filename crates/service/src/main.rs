//! `jexlind`: the service. `jexlind migrate` brings the database up to date and ends; `jexlind`
//! alone serves. The configuration is in the environment; `docs/operations.md` lists it.

use std::io::{IsTerminal as _, Write as _};
use std::os::unix::fs::OpenOptionsExt as _;

use jexlin_app::App;
use jexlin_app::clock::Clock;
use jexlin_app::config::Config;
use jexlin_core::secret::Secret;
use jexlind::metrics::Metrics;
use jexlind::tls::{Peers, TlsFiles, TlsListener};
use rand::TryRng as _;
use rocket::figment::Figment;

fn main() -> std::process::ExitCode {
    if let Some(code) = jexlin_app::file_reader::run_if_called() {
        return code;
    }
    begin_log();
    let runtime = match tokio::runtime::Builder::new_multi_thread()
        .enable_all()
        .build()
    {
        Ok(runtime) => runtime,
        Err(error) => {
            tracing::error!("no runtime: {error}");
            return std::process::ExitCode::FAILURE;
        }
    };
    let outcome = match std::env::args().nth(1).as_deref() {
        Some("migrate") => runtime.block_on(migrate()),
        Some("unlock") => runtime.block_on(unlock()),
        Some("reset-password") => runtime.block_on(reset_password()),
        Some("new-root-key") => runtime.block_on(new_root_key()),
        Some("setup-database") => runtime.block_on(setup_database()),
        Some("check") => check(),
        Some("openapi") => say(&jexlind::http::openapi()),
        None => runtime.block_on(serve()),
        Some(other) => Err(format!(
            "`{other}` is an unknown command; use `setup-database`, `check`, `migrate`, `unlock`, `new-root-key`, `reset-password` or `openapi`, or none to serve"
        )),
    };
    match outcome {
        Ok(()) => std::process::ExitCode::SUCCESS,
        Err(why) => {
            tracing::error!("{why}");
            std::process::ExitCode::FAILURE
        }
    }
}

/// Logs to standard error: for people, or, with `JEXLIN_LOG_FORMAT=json`, one JSON object a line.
fn begin_log() {
    let log = tracing_subscriber::fmt()
        .with_env_filter(
            tracing_subscriber::EnvFilter::try_from_env("JEXLIN_LOG")
                .unwrap_or_else(|_| tracing_subscriber::EnvFilter::new("info,rocket=off")),
        )
        .with_ansi(std::io::stderr().is_terminal())
        .with_writer(std::io::stderr);
    if std::env::var("JEXLIN_LOG_FORMAT").is_ok_and(|format| format == "json") {
        log.json().init();
    } else {
        log.init();
    }
}

fn say(text: &str) -> Result<(), String> {
    writeln!(std::io::stdout(), "{text}").map_err(|error| error.to_string())
}

/// Checks the configuration, and says what it is. Nothing is started and nothing is connected.
fn check() -> Result<(), String> {
    let config = Config::from_environment()?;
    let unknown: Vec<String> = std::env::vars_os()
        .filter_map(|(name, _)| name.into_string().ok())
        .filter(|name| name.starts_with("JEXLIN_"))
        .filter(|name| !KNOWN.contains(&name.as_str()) && !OF_CLIENT.contains(&name.as_str()))
        .collect();
    if !unknown.is_empty() {
        return Err(format!("unknown variables: {}", unknown.join(", ")));
    }
    if !config.folder.is_dir() {
        return Err(format!("{} is not a folder", config.folder.display()));
    }
    if let Some(console) = &config.console
        && !console.join("index.html").is_file()
    {
        return Err(format!("{} holds no console", console.display()));
    }
    if let Some(leaked) = &config.leaked
        && !leaked.exists()
    {
        return Err(format!("{} does not exist", leaked.display()));
    }
    let (scheme, pin) = match &config.tls {
        Some((certificate, key)) => {
            let files = TlsFiles {
                certificate: certificate.clone(),
                key: key.clone(),
            };
            ("https", Some(files.pin()?))
        }
        None => ("http", None),
    };
    let (address, port) = (&config.address, config.port);
    say(&format!(
        "The configuration is valid. The service would listen on {scheme}://{address}:{port}."
    ))?;
    match pin {
        Some(pin) => say(&format!(
            "Its certificate has the public key {pin} (for --pinned-key)."
        )),
        None => Ok(()),
    }
}

/// The variables of the client, which may be set in the same shell.
const OF_CLIENT: [&str; 4] = [
    "JEXLIN_CA_FILE",
    "JEXLIN_PINNED_KEY",
    "JEXLIN_SERVICE",
    "JEXLIN_SESSION",
];

/// The variables that there are.
const KNOWN: [&str; 24] = [
    "JEXLIN_ADDRESS",
    "JEXLIN_ADMIN_DATABASE",
    "JEXLIN_CHANGE_SECONDS",
    "JEXLIN_CONNECTIONS",
    "JEXLIN_CONNECT_SECONDS",
    "JEXLIN_CONSOLE",
    "JEXLIN_DATABASE",
    "JEXLIN_FOLDER",
    "JEXLIN_IDLE_MINUTES",
    "JEXLIN_LEAKED",
    "JEXLIN_LOG",
    "JEXLIN_LOG_FORMAT",
    "JEXLIN_METRICS_ADDRESS",
    "JEXLIN_METRICS_PORT",
    "JEXLIN_OWNER_DATABASE",
    "JEXLIN_PER_DEVICE",
    "JEXLIN_PORT",
    "JEXLIN_REDIRECT_PORT",
    "JEXLIN_RUNNERS",
    "JEXLIN_SECURE_COOKIES",
    "JEXLIN_SESSION_HOURS",
    "JEXLIN_TLS_CERTIFICATE",
    "JEXLIN_TLS_KEY",
    "JEXLIN_TRUSTED_PROXIES",
];

/// Makes the roles and the database with an administrator's connection, applies the migrations, and
/// writes the addresses of both roles to a file for the service manager.
async fn setup_database() -> Result<(), String> {
    let file = std::env::args()
        .nth(2)
        .ok_or("name a file for the addresses: `jexlind setup-database FILE`")?;
    let administrator = std::env::var("JEXLIN_ADMIN_DATABASE").map_err(|_| {
        "JEXLIN_ADMIN_DATABASE is not set: it names a database, as a role that may make roles and databases"
            .to_owned()
    })?;
    let broken = |error: std::io::Error| format!("{file}: {error}");
    // First, so that no password is made that cannot be kept.
    let mut kept = std::fs::OpenOptions::new()
        .write(true)
        .create_new(true)
        .mode(0o600)
        .open(&file)
        .map_err(broken)?;
    let made = async {
        let (owner, service) = (random_hex()?, random_hex()?);
        let there = url::Url::parse(&administrator).map_err(|error| error.to_string())?;
        let mut places = vec![there.clone()];
        // Where a socket takes nobody but the system's own users by their names, as on Debian, the
        // roles come over loopback with their passwords.
        let mut loopback = there;
        if loopback
            .host_str()
            .is_some_and(|host| host.starts_with("%2F"))
        {
            let set = loopback.set_host(Some("127.0.0.1"));
            set.map_err(|error| error.to_string())?;
            places.push(loopback);
        }
        jexlin_store::set_up_database(&administrator, &owner, &service)
            .await
            .map_err(|error| error.to_string())?;
        let mut last = String::new();
        for place in places {
            let owner = address_of(&place, jexlin_store::OWNER, &owner)?;
            match jexlin_store::migrate(&owner).await {
                Ok(_) => return Ok((owner, address_of(&place, jexlin_store::SERVICE, &service)?)),
                Err(error) => last = error.to_string(),
            }
        }
        Err(format!(
            "the roles and the database are made, but jexlin_owner cannot sign in: {last}. Let it in with its password (pg_hba.conf), drop the database and both roles, and do this again"
        ))
    };
    let (owner, service) = match made.await {
        Ok(addresses) => addresses,
        Err(why) => {
            let _ = std::fs::remove_file(&file);
            return Err(why);
        }
    };
    write!(
        kept,
        "JEXLIN_DATABASE={service}\nJEXLIN_OWNER_DATABASE={owner}\n"
    )
    .map_err(broken)?;
    kept.sync_all().map_err(broken)?;
    say(&format!(
        "The database is ready. The addresses of both roles are in {file}, readable only by its owner."
    ))
}

/// The address of the database for a role.
fn address_of(place: &url::Url, role: &str, password: &str) -> Result<String, String> {
    let mut address = place.clone();
    address
        .set_username(role)
        .and_then(|()| address.set_password(Some(password)))
        .map_err(|()| "JEXLIN_ADMIN_DATABASE is not an address with a host".to_owned())?;
    address.set_path(jexlin_store::DATABASE);
    Ok(address.to_string())
}

/// A password of 256 bits.
fn random_hex() -> Result<String, String> {
    let mut bytes = [0; 32];
    rand::rngs::SysRng
        .try_fill_bytes(&mut bytes)
        .map_err(|error| error.to_string())?;
    Ok(bytes.iter().map(|byte| format!("{byte:02x}")).collect())
}

async fn migrate() -> Result<(), String> {
    let url = std::env::var("JEXLIN_OWNER_DATABASE").map_err(|_| {
        "JEXLIN_OWNER_DATABASE is not set: migrations run as the owner of the tables".to_owned()
    })?;
    let done = jexlin_store::migrate(&url)
        .await
        .map_err(|error| error.to_string())?;
    say(&format!("{} migrations applied", done.len()))
}

/// Unlocks locked vaults where the root key comes from the service manager: reading its credential
/// folder takes the place of the passphrase.
async fn unlock() -> Result<(), String> {
    let config = Config::from_environment()?;
    let app = App::new(config, Clock::of_the_machine())?;
    if !app.keyring.is_open() {
        return Err(
            "no root key in CREDENTIALS_DIRECTORY; use `jexlin unlock` with the passphrase"
                .to_owned(),
        );
    }
    jexlin_app::commands::vault_lock::open_all(&app, vec![], "the machine of the service", 0)
        .await
        .map_err(|fault| fault.detail().to_owned())?;
    say("The vault is open.")
}

/// Resets the sign-in password of somebody who has lost it, where nobody else is left who could.
/// The root key is the proof: its passphrase, or the service manager's credential folder.
async fn reset_password() -> Result<(), String> {
    let mut arguments = std::env::args().skip(2);
    let name = arguments.next().ok_or(
        "name the person by the sign-in name: `jexlind reset-password NAME [ORGANISATION]`",
    )?;
    let organisation = arguments.next();
    let app = App::new(Config::from_environment()?, Clock::of_the_machine())?;
    let words = |fault: jexlin_app::error::AppError| fault.detail().to_owned();
    if !app.keyring.is_open() {
        let passphrase = passphrase()?;
        jexlin_app::commands::recovery::open_root(&app, passphrase)
            .await
            .map_err(words)?;
    }
    // Long enough for whatever is demanded of passwords, and typed once.
    let password: String = random_hex()?.chars().take(24).collect();
    let password = Secret::from_text(password);
    let person = jexlin_app::commands::recovery::reset_password(
        &app,
        organisation.as_deref(),
        &name,
        &password,
    )
    .await
    .map_err(words)?;
    say(&format!(
        "{person} can sign in with this password, and is to change it at once (`jexlin password`):\n{}",
        password.expose_secret_text().unwrap_or_default()
    ))
}

/// The passphrase of the root key: typed at a terminal, or the first line of standard input.
fn passphrase() -> Result<Secret, String> {
    let broken = |error: std::io::Error| format!("the passphrase cannot be read: {error}");
    let text = if std::io::stdin().is_terminal() {
        rpassword::prompt_password("Passphrase of the root key: ").map_err(broken)?
    } else {
        let mut line = String::new();
        std::io::stdin().read_line(&mut line).map_err(broken)?;
        line.trim_end_matches(['\r', '\n']).to_owned()
    };
    Ok(Secret::from_text(text))
}

/// Prepares the next root key where it comes from the service manager. The running services go on;
/// each takes the new key over when it is started again with it.
async fn new_root_key() -> Result<(), String> {
    let file = std::env::args()
        .nth(2)
        .ok_or("name a file for the new root key: `jexlind new-root-key FILE`")?;
    let config = Config::from_environment()?;
    let app = App::new(config, Clock::of_the_machine())?;
    if !app.keyring.is_open() {
        return Err("no root key in CREDENTIALS_DIRECTORY; use `jexlin keys change-root` with the passphrase".to_owned());
    }
    let name = jexlin_app::commands::keys::new_root_key(&app, std::path::Path::new(&file))
        .await
        .map_err(|fault| fault.detail().to_owned())?;
    say(&format!(
        "The next root key {name} is in {file}. Give it to the service manager as jexlin-root-key, start each service again, then run: jexlin keys finish-root"
    ))
}

/// Where plain HTTP is taken: where the configuration says, or, behind TLS, on this machine alone.
fn inner_address(config: &Config) -> &str {
    if config.tls.is_some() {
        "127.0.0.1"
    } else {
        &config.address
    }
}

/// Rocket's own configuration, of which nothing is left to the environment.
fn figment(config: &Config) -> Figment {
    Figment::from(rocket::Config::release_default())
        .merge(("address", inner_address(config)))
        .merge(("port", if config.tls.is_some() { 0 } else { config.port }))
        .merge(("log_level", "off"))
        .merge(("cli_colors", false))
        .merge(("ident", false))
        .merge(("ip_header", false))
        .merge(("keep_alive", 30))
}

async fn serve() -> Result<(), String> {
    let config = Config::from_environment()?;
    std::fs::create_dir_all(&config.folder)
        .map_err(|error| format!("{}: {error}", config.folder.display()))?;
    let app = App::new(config.clone(), Clock::of_the_machine())?;
    // The database may come later than the service: wait for it, and say so.
    let mut told = false;
    let offered = loop {
        match app.offer_setup().await {
            Ok(offered) => break offered,
            Err(why) if !told => {
                tracing::warn!("waiting for the database: {why}");
                told = true;
            }
            Err(_) => {}
        }
        tokio::time::sleep(std::time::Duration::from_secs(1)).await;
    };
    if let Some(path) = offered {
        tracing::info!("not set up yet; the set-up code is in {}", path.display());
    } else if !app.keyring.is_open() {
        tracing::info!("the vault is locked; open it with `jexlin unlock` or in the console");
    }
    jexlind::workers::start(&app);
    let peers = Peers::default();
    let tls = match &config.tls {
        None => None,
        Some((certificate, key)) => {
            let files = TlsFiles {
                certificate: certificate.clone(),
                key: key.clone(),
            };
            let (address, port) = (&config.address, config.port);
            Some(TlsListener::bind(address, port, files, peers.clone()).await?)
        }
    };
    if let (Some(tls), Some(port)) = (&tls, config.redirect_port) {
        let (address, target) = (config.address.clone(), tls.port().unwrap_or(config.port));
        tokio::spawn(async move {
            if let Err(why) = jexlind::tls::redirect(&address, port, target).await {
                tracing::error!("{why}");
            }
        });
    }
    let address = config.address.clone();
    let metrics = Metrics::default();
    if let Some((address, port)) = config.metrics.clone() {
        let (app, metrics) = (app.clone(), metrics.clone());
        tokio::spawn(async move {
            if let Err(why) = jexlind::metrics::serve(app, metrics, &address, port).await {
                tracing::error!("{why}");
            }
        });
    }
    let rocket = jexlind::rocket(app, figment(&config))
        .manage(peers)
        .attach(metrics)
        .attach(rocket::fairing::AdHoc::on_liftoff(
            "address",
            move |rocket| {
                Box::pin(async move {
                    let inner = rocket.config().port;
                    let (scheme, port) = match &tls {
                        Some(tls) => ("https", tls.port().unwrap_or(0)),
                        None => ("http", inner),
                    };
                    if let Some(tls) = tls {
                        tokio::spawn(tls.serve(inner));
                    }
                    // Tests start the service on port 0 and read this line.
                    let _ = say(&format!("listening on {scheme}://{address}:{port}"));
                })
            },
        ));
    rocket
        .launch()
        .await
        .map(|_| ())
        .map_err(|error| format!("the service cannot start: {error}"))
}

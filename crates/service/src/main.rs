//! `jexlind`: the service. `jexlind migrate` brings the database up to date and ends; `jexlind`
//! alone serves. The configuration is in the environment; `docs/operations.md` lists it.

use std::io::Write as _;

use jexlin_app::App;
use jexlin_app::clock::Clock;
use jexlin_app::config::Config;
use rocket::figment::Figment;

fn main() -> std::process::ExitCode {
    if let Some(code) = jexlin_app::file_reader::run_if_called() {
        return code;
    }
    tracing_subscriber::fmt()
        .with_env_filter(
            tracing_subscriber::EnvFilter::try_from_env("JEXLIN_LOG")
                .unwrap_or_else(|_| tracing_subscriber::EnvFilter::new("info,rocket=off")),
        )
        .with_writer(std::io::stderr)
        .init();
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
        Some("new-root-key") => runtime.block_on(new_root_key()),
        Some("openapi") => say(&jexlind::http::openapi()),
        None => runtime.block_on(serve()),
        Some(other) => Err(format!(
            "`{other}` is an unknown command; use `migrate`, `unlock`, `new-root-key` or `openapi`, or none to serve"
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

fn say(text: &str) -> Result<(), String> {
    writeln!(std::io::stdout(), "{text}").map_err(|error| error.to_string())
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
    jexlin_app::commands::vault_lock::open_all(&app, "the machine of the service", 0)
        .await
        .map_err(|fault| fault.detail().to_owned())?;
    say("The vault is open.")
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

/// Rocket's own configuration, of which nothing is left to the environment.
fn figment(config: &Config) -> Figment {
    Figment::from(rocket::Config::release_default())
        .merge(("address", &config.address))
        .merge(("port", config.port))
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
    let address = config.address.clone();
    let rocket = jexlind::rocket(app, figment(&config)).attach(rocket::fairing::AdHoc::on_liftoff(
        "address",
        move |rocket| {
            Box::pin(async move {
                // Tests start the service on port 0 and read this line.
                let _ = say(&format!(
                    "listening on http://{address}:{}",
                    rocket.config().port
                ));
            })
        },
    ));
    rocket
        .launch()
        .await
        .map(|_| ())
        .map_err(|error| format!("the service cannot start: {error}"))
}

//! Numbers for monitoring, in the text format of Prometheus (OpenMetrics), on a listener of their
//! own. None of them names a person, a credential or a device.

use std::sync::Arc;
use std::time::Instant;

use jexlin_app::App;
use jexlin_core::words::Word as _;
use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::metrics::histogram::{Histogram, exponential_buckets};
use prometheus_client::registry::Registry;
use rocket::fairing::{Fairing, Info, Kind};
use rocket::{Data, Request, Response, State, get, routes};

/// What is counted as it happens.
#[derive(Clone, Debug)]
pub struct Metrics(Arc<Counted>);

#[derive(Debug)]
struct Counted {
    requests: Family<Class, Counter>,
    seconds: Histogram,
}

/// The class of an answer, such as `2xx`.
#[derive(Clone, Debug, PartialEq, Eq, Hash, EncodeLabelSet)]
struct Class {
    class: String,
}

/// The state of a job.
#[derive(Clone, Debug, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfState {
    state: String,
}

impl Default for Metrics {
    fn default() -> Self {
        // From a millisecond to about half a minute.
        Self(Arc::new(Counted {
            requests: Family::default(),
            seconds: Histogram::new(exponential_buckets(0.001, 2.0, 16)),
        }))
    }
}

/// When a request began.
struct Begun(Instant);

#[rocket::async_trait]
impl Fairing for Metrics {
    fn info(&self) -> Info {
        Info {
            name: "metrics",
            kind: Kind::Request | Kind::Response,
        }
    }

    async fn on_request(&self, request: &mut Request<'_>, _: &mut Data<'_>) {
        let _ = request.local_cache(|| Begun(Instant::now()));
    }

    async fn on_response<'r>(&self, request: &'r Request<'_>, response: &mut Response<'r>) {
        let class = format!("{}xx", response.status().code / 100);
        self.0.requests.get_or_create(&Class { class }).inc();
        let begun = request.local_cache(|| Begun(Instant::now()));
        self.0.seconds.observe(begun.0.elapsed().as_secs_f64());
    }
}

/// What is looked up when somebody asks.
async fn look(app: &App, registry: &mut Registry) {
    let gauge = |registry: &mut Registry, name: &str, help: &str, value: i64| {
        let gauge: Gauge = Gauge::default();
        gauge.set(value);
        registry.register(name, help, gauge);
    };
    let open = i64::from(app.keyring.is_open());
    gauge(
        registry,
        "vault_open",
        "1 when this service can open the vault",
        open,
    );
    let organisations = app.store.organisations().await;
    let up = i64::from(organisations.is_ok());
    gauge(registry, "database_up", "1 when the database answers", up);
    let (mut sessions, mut checkouts, mut to_sign) = (0, 0, 0);
    let jobs: Family<OfState, Gauge> = Family::default();
    for (organisation, _) in organisations.unwrap_or_default() {
        let counts = async {
            let mut tx = app.store.begin(organisation).await?;
            let counts = tx.counts(app.clock.now()).await?;
            tx.commit().await?;
            Ok::<_, jexlin_store::StoreError>(counts)
        };
        // What cannot be looked up now is missing, and not nought.
        let Ok(counts) = counts.await else { return };
        sessions += counts.sessions;
        checkouts += counts.checkouts;
        to_sign += counts.events_to_sign;
        for (state, number) in counts.jobs {
            let state = state.word().to_owned();
            jobs.get_or_create(&OfState { state }).inc_by(number);
        }
    }
    if up == 1 {
        registry.register("jobs", "Jobs that have not ended, by state", jobs);
        gauge(
            registry,
            "sessions",
            "Sessions that have not ended",
            sessions,
        );
        gauge(
            registry,
            "checkouts",
            "Checkouts that have not ended",
            checkouts,
        );
        gauge(
            registry,
            "audit_events_to_sign",
            "Events of the last day that are not in the signed log yet",
            to_sign,
        );
    }
}

#[get("/metrics")]
async fn metrics(
    app: &State<App>,
    counted: &State<Metrics>,
) -> Result<(rocket::http::ContentType, String), rocket::http::Status> {
    let mut registry = Registry::with_prefix("jexlin");
    registry.register(
        "http_requests",
        "Requests answered, by class",
        counted.0.requests.clone(),
    );
    registry.register(
        "http_request_seconds",
        "How long requests took until their answer began",
        counted.0.seconds.clone(),
    );
    look(app, &mut registry).await;
    let mut text = String::new();
    encode(&mut text, &registry).map_err(|_| rocket::http::Status::InternalServerError)?;
    let openmetrics = rocket::http::ContentType::new("application", "openmetrics-text")
        .with_params([("version", "1.0.0"), ("charset", "utf-8")]);
    Ok((openmetrics, text))
}

/// Serves the numbers.
///
/// # Errors
/// What keeps it from listening.
pub async fn serve(app: App, metrics: Metrics, address: &str, port: u16) -> Result<(), String> {
    crate::listener("metrics are served", address, port)
        .manage(app)
        .manage(metrics)
        .mount("/", routes![self::metrics])
        .launch()
        .await
        .map(|_| ())
        .map_err(|error| format!("metrics cannot be served on port {port}: {error}"))
}

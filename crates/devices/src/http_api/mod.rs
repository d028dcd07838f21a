//! HTTP APIs over TLS (RFC 9110, RFC 9112), by a recipe: the device proves its identity on each
//! connection before a request is sent, redirections are followed nowhere, and what it answers is
//! bounded in time and size.

use async_trait::async_trait;
use http_body_util::{BodyExt as _, Full, Limited};
use hyper::body::Bytes;
use hyper::header::{HeaderName, HeaderValue};
use hyper_util::rt::TokioIo;
use jexlin_core::dialogue::{Ending, Purpose, Turn, Values};
use jexlin_core::recipe::{Exchange, Next, Recipe, Request};
use jexlin_core::upkeep::identity::PresentedIdentity;
use jexlin_core::upkeep::{Account, BoundLogin, ConnectorKind, Endpoint, Operator, RoleMark};
use tokio::time::{Duration, timeout};

use crate::network::plain_words;
use crate::{Capabilities, Change, Connector, FoundAccount, MaySend, Met, Probe, tls};

/// The most of an answer that is read, in bytes.
const MOST_ANSWER: usize = 1024 * 1024;
const NO_RECIPE: &str = "the device has no recipe; a steward chooses one";

/// How long to wait for a device.
#[derive(Clone, Copy, Debug)]
pub struct Settings {
    /// For a check.
    pub connect: Duration,
    /// For the change of a password.
    pub change: Duration,
}

impl Default for Settings {
    fn default() -> Self {
        Self {
            connect: Duration::from_secs(15),
            change: Duration::from_secs(20),
        }
    }
}

/// The connector.
#[derive(Clone, Copy, Debug, Default)]
pub struct HttpApi {
    settings: Settings,
}

/// What an exchange came to.
struct Came {
    outcome: Result<Ending, Stopped>,
    is_changing: bool,
    presented: Option<PresentedIdentity>,
    transcript: Vec<Turn>,
}

/// Why an exchange broke off.
enum Stopped {
    LeaseLost,
    Connection(String),
}

impl HttpApi {
    /// A connector with these settings.
    #[must_use]
    pub const fn new(settings: Settings) -> Self {
        Self { settings }
    }

    /// Carries out a recipe. `may_send` is asked immediately before the first request that changes
    /// something.
    async fn carry_out<R: RoleMark>(
        &self,
        login: &BoundLogin<R>,
        recipe: &Recipe,
        purpose: Purpose,
        values: Values<'_>,
        may_send: MaySend<'_>,
        most: Duration,
    ) -> Came {
        let (mut exchange, first) = Exchange::begin(recipe, purpose, values);
        let mut presented = None;
        // Kept out here, so that what is known when the time is over is not lost.
        let mut sent_a_change = false;
        let talk = async {
            let (mut next, mut may_send) = (first, Some(may_send));
            loop {
                let request = match next {
                    Next::End(ending) => return Ok(ending),
                    Next::Send(request) => request,
                };
                let (stream, shown) = tls::open(login).await;
                presented = shown.or(presented.take());
                let stream = stream.map_err(Stopped::Connection)?;
                if request.changes
                    && let Some(may_send) = may_send.take()
                    && !may_send().await
                {
                    return Err(Stopped::LeaseLost);
                }
                sent_a_change |= request.changes;
                let (status, headers, body) = send(login.endpoint(), stream, &request)
                    .await
                    .map_err(Stopped::Connection)?;
                next = exchange.answered(status, &headers, &body);
            }
        };
        let outcome = match timeout(most, talk).await {
            Ok(outcome) => outcome,
            Err(_) => Err(Stopped::Connection(format!(
                "the device did not answer within {} seconds",
                most.as_secs()
            ))),
        };
        Came {
            outcome,
            is_changing: sent_a_change,
            presented,
            transcript: exchange.transcript().to_vec(),
        }
    }

    /// Changes a password, and says what that came to.
    async fn change<R: RoleMark>(
        &self,
        login: &BoundLogin<R>,
        candidate: &BoundLogin<Account>,
        purpose: Purpose,
        values: Values<'_>,
        may_send: MaySend<'_>,
        wrong: Change,
    ) -> Met<Change> {
        if login.endpoint() != candidate.endpoint() {
            let why = "the two passwords are not of the same endpoint";
            return Met::of(Change::NotReached(why.into()), None);
        }
        let Some(recipe) = login.endpoint().recipe() else {
            return Met::of(Change::NotReached(NO_RECIPE.into()), None);
        };
        let most = self.settings.change;
        let came = self
            .carry_out(login, recipe, purpose, values, may_send, most)
            .await;
        let stopped = |why: String| {
            if came.is_changing {
                Change::Lost(why)
            } else {
                Change::NotReached(why)
            }
        };
        let result = match came.outcome {
            Ok(Ending::Done) => Change::Applied,
            Ok(Ending::Refused(why)) => Change::Refused(why),
            // The request itself was refused for it: nothing was changed.
            Ok(Ending::WrongPassword) => wrong,
            Ok(Ending::Locked(why)) => stopped(format!("the account is locked: {why}")),
            Ok(Ending::GaveUp(why)) => stopped(why),
            Err(Stopped::LeaseLost) => Change::LeaseLost,
            Err(Stopped::Connection(why)) => stopped(why),
        };
        Met {
            result,
            presented: came.presented,
            transcript: came.transcript,
        }
    }
}

type Answer = (u16, Vec<(String, String)>, Bytes);

/// Sends one request over a connection that has proved whose it is, and reads the answer.
async fn send(
    endpoint: &Endpoint,
    stream: tls::DeviceStream,
    request: &Request,
) -> Result<Answer, String> {
    let words = |error: &dyn std::fmt::Display| {
        format!(
            "the connection was lost: {}",
            plain_words(&error.to_string())
        )
    };
    let (mut sender, connection) = hyper::client::conn::http1::handshake(TokioIo::new(stream))
        .await
        .map_err(|error| words(&error))?;
    let unsent = |_| "a value cannot be written in a request".to_owned();
    let target = request
        .target
        .expose_secret_text()
        .map_err(|_| unsent(()))?;
    let host = if endpoint.address().contains(':') {
        format!("[{}]:{}", endpoint.address(), endpoint.port())
    } else {
        format!("{}:{}", endpoint.address(), endpoint.port())
    };
    let mut made = hyper::Request::builder()
        .method(request.method.to_string().as_str())
        .uri(target)
        .header("host", host)
        .header("user-agent", "Jexlin")
        .header("accept", "application/json, */*;q=0.5")
        .header("connection", "close");
    for (name, value) in &request.headers {
        let name = HeaderName::from_bytes(name.as_bytes()).map_err(|_| unsent(()))?;
        let mut value = HeaderValue::from_bytes(value.expose_secret()).map_err(|_| unsent(()))?;
        value.set_sensitive(true);
        made = made.header(name, value);
    }
    let body = match &request.body {
        Some((kind, body)) => {
            made = made.header("content-type", *kind);
            Bytes::copy_from_slice(body.expose_secret())
        }
        None => Bytes::new(),
    };
    let made = made.body(Full::new(body)).map_err(|_| unsent(()))?;
    let talk = async {
        let answer = sender
            .send_request(made)
            .await
            .map_err(|error| words(&error))?;
        let (head, body) = answer.into_parts();
        let headers = head
            .headers
            .iter()
            .filter_map(|(name, value)| {
                Some((name.as_str().to_owned(), value.to_str().ok()?.to_owned()))
            })
            .collect();
        let body = Limited::new(body, MOST_ANSWER)
            .collect()
            .await
            .map_err(|error| words(&error))?
            .to_bytes();
        Ok((head.status.as_u16(), headers, body))
    };
    tokio::pin!(talk);
    tokio::select! {
        biased;
        answer = &mut talk => answer,
        // A connection that has ended has brought all that it brings: the answer, or why there is none.
        _ = connection => talk.await,
    }
}

#[async_trait]
impl Connector for HttpApi {
    fn kind(&self) -> ConnectorKind {
        ConnectorKind::HttpApi
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            changes_as_operator: true,
            changes_as_itself: true,
            lists_accounts: false,
        }
    }

    fn needed_rights(&self) -> &'static str {
        "The operator may make the requests of the device's recipe. What those need there, the recipe says."
    }

    async fn identify(&self, endpoint: &Endpoint) -> Result<Vec<PresentedIdentity>, String> {
        timeout(self.settings.connect, tls::look(endpoint))
            .await
            .map_err(|_| {
                format!(
                    "the device did not answer within {} seconds",
                    self.settings.connect.as_secs()
                )
            })?
    }

    async fn check(&self, account: &BoundLogin<Account>) -> Met<Probe> {
        let Some(recipe) = account.endpoint().recipe() else {
            return Met::of(Probe::NoAnswer(NO_RECIPE.into()), None);
        };
        let values = Values {
            account: account.login(),
            current: Some(account.password()),
            ..Values::default()
        };
        let nothing: MaySend<'_> = Box::new(|| Box::pin(async { false }));
        let most = self.settings.connect;
        let came = self
            .carry_out(account, recipe, Purpose::Check, values, nothing, most)
            .await;
        Met {
            result: match came.outcome {
                Ok(Ending::Done) => Probe::Opened,
                Ok(Ending::WrongPassword) => Probe::Closed,
                Ok(Ending::Locked(why)) => Probe::NoAnswer(format!("the account is locked: {why}")),
                Ok(Ending::Refused(why) | Ending::GaveUp(why)) | Err(Stopped::Connection(why)) => {
                    Probe::NoAnswer(why)
                }
                Err(Stopped::LeaseLost) => {
                    Probe::NoAnswer("a check would have changed something".into())
                }
            },
            presented: came.presented,
            transcript: came.transcript,
        }
    }

    async fn change_as_operator(
        &self,
        operator: &BoundLogin<Operator>,
        candidate: &BoundLogin<Account>,
        may_send: MaySend<'_>,
    ) -> Met<Change> {
        let values = Values {
            account: candidate.login(),
            operator: operator.login(),
            new: Some(candidate.password()),
            operator_password: Some(operator.password()),
            ..Values::default()
        };
        let (purpose, wrong) = (Purpose::Operator, Change::OperatorRefused);
        self.change(operator, candidate, purpose, values, may_send, wrong)
            .await
    }

    async fn change_as_itself(
        &self,
        account: &BoundLogin<Account>,
        candidate: &BoundLogin<Account>,
        may_send: MaySend<'_>,
    ) -> Met<Change> {
        let values = Values {
            account: account.login(),
            current: Some(account.password()),
            new: Some(candidate.password()),
            ..Values::default()
        };
        let (purpose, wrong) = (Purpose::Account, Change::AccountRefused);
        self.change(account, candidate, purpose, values, may_send, wrong)
            .await
    }

    async fn list_accounts(
        &self,
        _: &BoundLogin<Operator>,
    ) -> Met<Result<Vec<FoundAccount>, String>> {
        Met::of(Err("a recipe does not list accounts".into()), None)
    }
}

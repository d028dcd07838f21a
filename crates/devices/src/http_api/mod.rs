//! HTTP APIs over TLS (RFC 9110, RFC 9112), by a recipe: the device proves its identity on each
//! connection before a request is sent, redirections are followed nowhere, and what it answers is
//! bounded in time and size.

use async_trait::async_trait;
use http_body_util::{BodyExt as _, Full, Limited};
use hyper::body::Bytes;
use hyper::header::{HeaderName, HeaderValue};
use hyper_util::rt::TokioIo;
use jexlin_core::dialogue::{Ending, Purpose, Values};
use jexlin_core::recipe::{Exchange, Next, Request};
use jexlin_core::upkeep::identity::PresentedIdentity;
use jexlin_core::upkeep::{BoundLogin, ConnectorKind, Endpoint, RoleMark};
use tokio::time::timeout;

use crate::instructed::{Came, Instructed, Stopped};
use crate::network::plain_words;
use crate::time_limits::{TimeLimits, silence};
use crate::{MaySend, tls};

/// The most of an answer that is read, in bytes.
const MOST_ANSWER: usize = 1024 * 1024;

/// Carries out recipes.
#[derive(Clone, Copy, Debug)]
pub(crate) struct HttpApi {
    limits: TimeLimits,
}

#[async_trait]
impl Instructed for HttpApi {
    const KIND: ConnectorKind = ConnectorKind::HttpApi;
    const NEEDED_RIGHTS: &'static str = "The operator may make the requests of the device's recipe. What those need there, the recipe says.";
    const MISSING: &'static str = "the device has no recipe; a steward chooses one";

    fn new(limits: TimeLimits) -> Self {
        Self { limits }
    }

    async fn look(&self, endpoint: &Endpoint) -> Result<Vec<PresentedIdentity>, String> {
        let most = self.limits.connect;
        timeout(most, tls::look(endpoint))
            .await
            .map_err(|_| silence(most))?
    }

    async fn talk<R: RoleMark + Send + Sync>(
        &self,
        login: &BoundLogin<R>,
        purpose: Purpose,
        values: Values<'_>,
        may_send: MaySend<'_>,
    ) -> Option<Came> {
        let recipe = login.endpoint().recipe()?;
        let as_operator = matches!(purpose, Purpose::Operator | Purpose::List);
        if as_operator && recipe.shows_certificate() && !login.is_key() {
            let why = "the operator of this device signs in by a client certificate: make a credential of the kind Certificate with key the operator";
            return Some(Came::stopped(Stopped::Connection(why.into()), None));
        }
        let most = match purpose {
            Purpose::Check => self.limits.connect,
            Purpose::Operator | Purpose::Account | Purpose::List => self.limits.change,
        };
        let (mut exchange, first) = Exchange::begin(recipe, purpose, values);
        // Kept out here, so that what is known when the time is over is not lost.
        let (mut presented, mut is_changing, mut changed_before) = (None, false, false);
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
                    exchange.held_back();
                    return Err(Stopped::LeaseLost);
                }
                changed_before = is_changing;
                is_changing |= request.changes;
                let (status, headers, body) = send(login.endpoint(), stream, &request)
                    .await
                    .map_err(Stopped::Connection)?;
                next = exchange.answered(status, &headers, &body);
            }
        };
        let outcome = match timeout(most, talk).await {
            Ok(outcome) => outcome,
            Err(_) => Err(Stopped::Connection(silence(most))),
        };
        // A request that was turned away for its sign-in changed nothing; one before it may have.
        if matches!(outcome, Ok(Ending::WrongPassword)) {
            is_changing = changed_before;
        }
        Some(Came {
            outcome,
            is_changing,
            presented,
            transcript: exchange.transcript().to_vec(),
            found: exchange.take_found(),
        })
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

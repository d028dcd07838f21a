//! Who acts: a session, one transaction in one organisation, and what they mean to do.
//!
//! A route that names [`UnitOfWork`] cannot run without a session. It says first what it intends, so
//! that a refusal anywhere later is recorded as such; and it ends with [`UnitOfWork::commit_audited`], which
//! commits the action and its audit event together (promise 3), or with [`UnitOfWork::commit`] where
//! nothing of worth was touched.

use crate::error::last_error;
use std::collections::BTreeMap;
use std::net::{IpAddr, SocketAddr};
use std::sync::{Arc, Mutex};

use chrono::{DateTime, TimeDelta, Utc};
use jexlin_core::audit::{Event, Outcome};
use jexlin_core::names::show_foreign;
use jexlin_core::vault::readings::Readings;
use jexlin_core::vault::sign_in::read_token;
use jexlin_store::{PersonRow, Receipt, SessionRow, Tx};
use rocket::fairing::{Fairing, Info, Kind};
use rocket::http::Method;
use rocket::outcome::Outcome as Guard;
use rocket::request::{FromRequest, Request};
use rocket::{Response, State};
use uuid::Uuid;

use crate::app::App;
use crate::error::{ApiError, ApiResult};
use crate::keyring::OpenKeys;

/// The cookie of the console's session.
pub const COOKIE: &str = "jexlin_session";
/// The header that only the console's own scripts can set on a request with that cookie.
pub const CONSOLE_HEADER: &str = "Jexlin-Console";

/// What somebody means to do.
#[derive(Clone, Debug, Default)]
pub struct Intent {
    action: String,
    target_type: String,
    target: Option<Uuid>,
    target_name: String,
    detail: BTreeMap<String, String>,
}

/// Who acts, kept for the record of a refusal.
#[derive(Clone, Debug)]
struct Actor {
    organisation: Uuid,
    person: Option<Uuid>,
    name: String,
    origin: String,
}

#[derive(Debug, Default)]
struct Slot {
    actor: Option<Actor>,
    intent: Option<Intent>,
}

type SharedSlot = Arc<Mutex<Slot>>;

fn slot(request: &Request<'_>) -> SharedSlot {
    Arc::clone(request.local_cache(SharedSlot::default))
}

/// Somebody with a session.
#[derive(Debug)]
pub struct UnitOfWork {
    /// The shared parts.
    pub app: App,
    /// The open keys of their organisation.
    pub keys: Arc<OpenKeys>,
    /// Who.
    pub person: PersonRow,
    /// Their session.
    pub session: SessionRow,
    /// When the request came.
    pub now: DateTime<Utc>,
    /// The keys and certificates in its body.
    pub readings: Readings,
    origin: String,
    tx: Option<Tx>,
    slot: SharedSlot,
    gathered: Vec<Event>,
}

fn token_of(request: &Request<'_>) -> ApiResult<String> {
    if let Some(header) = request.headers().get_one("Authorization") {
        return header
            .strip_prefix("Bearer ")
            .map(str::to_owned)
            .ok_or_else(|| ApiError::signed_out("The Authorization header has no bearer token."));
    }
    let Some(cookie) = request.cookies().get(COOKIE) else {
        return Err(ApiError::signed_out("This needs a session."));
    };
    let safe = matches!(
        request.method(),
        Method::Get | Method::Head | Method::Options
    );
    if !safe && request.headers().get_one(CONSOLE_HEADER).is_none() {
        return Err(ApiError::forbidden(
            "A request with the console's cookie did not come from the console.",
            "Use the console, or a bearer token.",
        ));
    }
    Ok(cookie.value().to_owned())
}

/// From where a request comes: the other end of the connection, or, when that is a trusted proxy, the
/// nearest address in `Forwarded` (RFC 7239) or `X-Forwarded-For` that is none.
#[must_use]
pub fn origin_of(request: &Request<'_>) -> String {
    let Some(peer) = request.remote().map(|remote| remote.ip().to_canonical()) else {
        return String::new();
    };
    let Some(app) = request.rocket().state::<App>() else {
        return peer.to_string();
    };
    let trusted = |ip: IpAddr| {
        app.config
            .trusted_proxies
            .iter()
            .any(|network| network.contains(&ip))
    };
    if !trusted(peer) {
        return peer.to_string();
    }
    let mut hops: Vec<IpAddr> = vec![];
    for value in request.headers().get("Forwarded") {
        hops.extend(value.split(',').filter_map(|hop| {
            hop.split(';').find_map(|part| {
                part.trim()
                    .to_ascii_lowercase()
                    .strip_prefix("for=")
                    .and_then(read_hop)
            })
        }));
    }
    if hops.is_empty() {
        hops.extend(
            request
                .headers()
                .get("X-Forwarded-For")
                .flat_map(|value| value.split(',').filter_map(read_hop)),
        );
    }
    hops.into_iter()
        .rev()
        .find(|hop| !trusted(*hop))
        .unwrap_or(peer)
        .to_string()
}

/// An address of a `Forwarded` or `X-Forwarded-For` header, with or without a port.
fn read_hop(text: &str) -> Option<IpAddr> {
    let text = text.trim().trim_matches('"');
    let ip = text
        .parse::<IpAddr>()
        .ok()
        .or_else(|| text.parse::<SocketAddr>().ok().map(|address| address.ip()));
    let ip = ip.or_else(|| text.trim_start_matches('[').split(']').next()?.parse().ok());
    ip.map(|ip| ip.to_canonical())
}

impl UnitOfWork {
    /// Whether the request has a token at all.
    ///
    /// # Errors
    /// [`ApiError`].
    pub fn has_token(request: &Request<'_>) -> ApiResult<()> {
        read_token(&token_of(request)?)
            .map(|_| ())
            .ok_or_else(|| ApiError::signed_out("The token is not one of ours."))
    }

    /// Begins a transaction for a session that counts at this moment.
    async fn admit(
        app: &App,
        organisation: Uuid,
        hash: &[u8],
    ) -> ApiResult<(Tx, SessionRow, PersonRow, DateTime<Utc>)> {
        if !app.keyring.is_open() {
            return Err(ApiError::locked());
        }
        let now = app.clock.now();
        let (mut tx, found) = app.store.begin_with_session(organisation, hash).await?;
        let Some((session, person)) = found else {
            return Err(ApiError::signed_out("The session is unknown."));
        };
        let idle = TimeDelta::minutes(app.config.idle_minutes);
        // A program's token is short-lived instead, and a program may wait.
        let idles = session.channel != "program" && now - session.last_used_at >= idle;
        if session.ended_at.is_some() || now >= session.ends_at || idles {
            return Err(ApiError::signed_out("The session has ended."));
        }
        if person.state != "active" {
            return Err(ApiError::signed_out("The person may no longer sign in."));
        }
        tx.answer_to(Some(session.id));
        Ok((tx, session, person, now))
    }

    /// Who acts, read now.
    ///
    /// # Errors
    /// [`ApiError`] when there is no session that counts.
    pub async fn of_request(request: &Request<'_>) -> ApiResult<Self> {
        let app = request
            .guard::<&State<App>>()
            .await
            .succeeded()
            .ok_or_else(|| ApiError::internal("no app"))?
            .inner()
            .clone();
        if !app.keyring.is_open() {
            return Err(ApiError::locked());
        }
        let (organisation, hash) = read_token(&token_of(request)?)
            .ok_or_else(|| ApiError::signed_out("The token is not one of ours."))?;
        let (tx, session, person, now) = Self::admit(&app, organisation, &hash).await?;
        // Once a minute is enough to tell idleness, and spares a write on every call.
        // It is durable at once: the request's own transaction may be long, and others would wait for
        // it, or it may be taken back.
        if now - session.last_used_at >= TimeDelta::minutes(1) {
            let mut touch = app.store.begin(organisation).await?;
            touch.touch_session(session.id, now).await?;
            touch.commit().await?;
        }
        let keys = app.keyring.keys(&app.store, organisation).await?;
        let (slot, origin) = (slot(request), origin_of(request));
        if let Ok(mut slot) = slot.lock() {
            slot.actor = Some(Actor {
                organisation,
                person: Some(person.id),
                name: person.display_name.clone(),
                origin: origin.clone(),
            });
        }
        Ok(Self {
            app,
            keys,
            person,
            session,
            now,
            origin,
            tx: Some(tx),
            slot,
            readings: Readings::default(),
            gathered: vec![],
        })
    }

    /// Says what is meant to be done, before anything can refuse it.
    pub fn begin_audit(
        &mut self,
        action: &str,
        target_type: &str,
        target: Option<Uuid>,
        target_name: &str,
    ) {
        if let Ok(mut slot) = self.slot.lock() {
            slot.intent = Some(Intent {
                action: action.to_owned(),
                target_type: target_type.to_owned(),
                target,
                target_name: target_name.chars().take(200).collect(),
                detail: BTreeMap::new(),
            });
        }
    }

    /// Adds to what is recorded, also of a refusal.
    pub fn add_detail(&mut self, name: &str, value: impl Into<String>) {
        if let Ok(mut slot) = self.slot.lock()
            && let Some(intent) = &mut slot.intent
        {
            intent.detail.insert(name.to_owned(), value.into());
        }
    }

    /// The name of the target, once it is known.
    pub fn set_target(&mut self, target: Uuid, name: &str) {
        if let Ok(mut slot) = self.slot.lock()
            && let Some(intent) = &mut slot.intent
        {
            intent.target = Some(target);
            name.clone_into(&mut intent.target_name);
        }
    }

    /// What is intended to be acted on: its kind, identifier and name.
    #[must_use]
    pub fn target(&self) -> (String, Option<Uuid>, String) {
        let intent = self
            .slot
            .lock()
            .ok()
            .and_then(|slot| slot.intent.clone())
            .unwrap_or_default();
        (intent.target_type, intent.target, intent.target_name)
    }

    /// From where the request came.
    #[must_use]
    pub fn origin(&self) -> &str {
        &self.origin
    }

    /// The organisation.
    #[must_use]
    pub const fn organisation(&self) -> Uuid {
        self.person.organisation
    }

    /// The transaction.
    ///
    /// # Errors
    /// When it was committed already.
    pub fn tx(&mut self) -> ApiResult<&mut Tx> {
        self.tx
            .as_mut()
            .ok_or_else(|| ApiError::internal("the transaction is over"))
    }

    /// Demands that not too many answers have depended on values of late: each tells a little of one.
    ///
    /// # Errors
    /// [`ApiError`] with how long to wait.
    pub async fn value_may_be_asked(&mut self) -> ApiResult<()> {
        let (key, now) = (value_answers(self.person.id), self.now);
        match self
            .tx()?
            .throttle(&key)
            .await?
            .filter(|before| now - before.last_failure_at < VALUE_ANSWERS_KEPT)
        {
            Some(before) => {
                crate::throttle::wait_after(before.failures, before.last_failure_at, now)
                    .map_or(Ok(()), |seconds| Err(ApiError::asked_too_often(seconds)))
            }
            None => Ok(()),
        }
    }

    /// Demands a duty.
    ///
    /// # Errors
    /// When it is not held.
    pub fn duty(&self, duty: &str) -> ApiResult<()> {
        if self.person.duties.iter().any(|held| held == duty) {
            Ok(())
        } else {
            Err(ApiError::needs_duty(duty))
        }
    }

    /// Records what was intended so far in this transaction, which goes on with another intent: both
    /// become durable, or neither.
    ///
    /// # Errors
    /// [`ApiError`].
    pub async fn record(&mut self) -> ApiResult<()> {
        let event = self.event(Uuid::now_v7())?;
        let keys = Arc::clone(&self.keys);
        Ok(self.tx()?.record(&event, &keys.mac).await?)
    }

    /// Records another event in this transaction, on something else that the same act concerns.
    ///
    /// # Errors
    /// [`ApiError`].
    pub async fn record_beside(
        &mut self,
        action: &str,
        target_type: &str,
        target: Uuid,
        target_name: &str,
        detail: &[(&str, String)],
    ) -> ApiResult<()> {
        let actor = Actor {
            organisation: self.organisation(),
            person: Some(self.person.id),
            name: self.person.display_name.clone(),
            origin: self.origin.clone(),
        };
        let intent = Intent {
            action: action.to_owned(),
            target_type: target_type.to_owned(),
            target: Some(target),
            target_name: target_name.chars().take(200).collect(),
            detail: detail
                .iter()
                .map(|(name, value)| ((*name).to_owned(), value.clone()))
                .collect(),
        };
        let event = event_of(Uuid::now_v7(), &actor, &intent, self.now);
        let keys = Arc::clone(&self.keys);
        Ok(self.tx()?.record(&event, &keys.mac).await?)
    }

    /// Keeps what was intended so far, to be recorded together with all the rest by [`UnitOfWork::commit_audited`].
    ///
    /// # Errors
    /// [`ApiError`].
    pub fn queue_event(&mut self) -> ApiResult<()> {
        let event = self.event(Uuid::now_v7())?;
        self.gathered.push(event);
        Ok(())
    }

    fn event(&self, id: Uuid) -> ApiResult<Event> {
        let intent = self
            .slot
            .lock()
            .ok()
            .and_then(|slot| slot.intent.clone())
            .ok_or_else(|| ApiError::internal("nothing was intended"))?;
        let actor = Actor {
            organisation: self.organisation(),
            person: Some(self.person.id),
            name: self.person.display_name.clone(),
            origin: self.origin.clone(),
        };
        Ok(event_of(id, &actor, &intent, self.now))
    }

    /// Commits the action together with its event; returns the event and the receipt.
    ///
    /// # Errors
    /// [`ApiError`]; then nothing was done.
    pub async fn commit_audited(&mut self) -> ApiResult<(Uuid, Receipt)> {
        let id = Uuid::now_v7();
        let event = self.event(id)?;
        let mut tx = self
            .tx
            .take()
            .ok_or_else(|| ApiError::internal("the transaction is over"))?;
        if tx.is_examination_due() {
            crate::examination::examine(&mut tx, &self.keys.mac, self.now).await?;
        }
        for some in std::mem::take(&mut self.gathered).chunks(2000) {
            tx.record_all(some, &self.keys.mac).await?;
        }
        Ok((id, tx.commit_with(&event, &self.keys.mac).await?))
    }

    /// Ends the transaction where nothing of worth was touched.
    ///
    /// # Errors
    /// [`ApiError`].
    pub async fn commit(&mut self) -> ApiResult<()> {
        if let Some(tx) = self.tx.take() {
            tx.commit().await?;
        }
        Ok(())
    }

    /// Takes back all that was done in this transaction.
    pub fn undo(&mut self) {
        self.tx = None;
    }

    /// Begins another transaction of the same request, which counts only if the session and the
    /// person still do; both, and the clock, are read again.
    ///
    /// # Errors
    /// [`ApiError`].
    pub async fn reopen(&mut self) -> ApiResult<()> {
        let (tx, session, person, now) =
            Self::admit(&self.app, self.organisation(), &self.session.token_hash).await?;
        (self.tx, self.session, self.person, self.now) = (Some(tx), session, person, now);
        Ok(())
    }
}

fn event_of(id: Uuid, actor: &Actor, intent: &Intent, now: DateTime<Utc>) -> Event {
    let mut event = Event::new(id, actor.organisation, now, &intent.action);
    event.actor = actor.person.map(|id| id.to_string()).unwrap_or_default();
    event.actor_name.clone_from(&actor.name);
    event.origin.clone_from(&actor.origin);
    event.target = intent.target.map(|id| id.to_string()).unwrap_or_default();
    event.target_type.clone_from(&intent.target_type);
    // What others wrote is data: it makes one line of the log and no more.
    event.target_name = show_foreign(&intent.target_name);
    event.detail = intent
        .detail
        .iter()
        .map(|(name, value)| (show_foreign(name), show_foreign(value)))
        .collect();
    event
}

#[rocket::async_trait]
impl<'r> FromRequest<'r> for UnitOfWork {
    type Error = ();

    async fn from_request(
        request: &'r Request<'_>,
    ) -> Guard<Self, (rocket::http::Status, ()), rocket::http::Status> {
        match Self::of_request(request).await {
            Ok(unit) => Guard::Success(unit),
            Err(fault) => {
                // The catcher answers with this.
                *last_error(request) = Some(fault);
                Guard::Error((rocket::http::Status::Unauthorized, ()))
            }
        }
    }
}

/// Records refusals: a request that said what it intended and was answered with a refusal.
#[derive(Debug)]
pub struct Refusals;

#[rocket::async_trait]
impl Fairing for Refusals {
    fn info(&self) -> Info {
        Info {
            name: "refusals",
            kind: Kind::Response,
        }
    }

    async fn on_response<'r>(&self, request: &'r Request<'_>, response: &mut Response<'r>) {
        if response.status().code < 400 {
            return;
        }
        let Some(fault) = last_error(request)
            .clone()
            .filter(|fault| fault.is_refusal() || fault.tells_of_value())
        else {
            return;
        };
        let (actor, intent) = match slot(request).lock() {
            Ok(slot) => (slot.actor.clone(), slot.intent.clone()),
            Err(_) => return,
        };
        let (Some(actor), Some(intent), Some(app)) =
            (actor, intent, request.rocket().state::<App>())
        else {
            return;
        };
        if let Err(error) = record_refusal(app, &actor, intent, &fault).await {
            tracing::error!(request = %crate::headers::request_id(request), "a refusal could not be recorded: {}", error.detail());
        }
    }
}

/// After so long without one, answers that depend on values count from the start again.
const VALUE_ANSWERS_KEPT: TimeDelta = TimeDelta::hours(1);

fn value_answers(person: Uuid) -> String {
    format!("answers about values: {person}")
}

async fn note_value_answer(tx: &mut Tx, person: Uuid, now: DateTime<Utc>) -> ApiResult<()> {
    let key = value_answers(person);
    let before = tx
        .throttle(&key)
        .await?
        .filter(|before| now - before.last_failure_at < VALUE_ANSWERS_KEPT)
        .map_or(0, |before| before.failures);
    Ok(tx.note_failure(&key, before + 1, now).await?)
}

async fn record_refusal(
    app: &App,
    actor: &Actor,
    mut intent: Intent,
    fault: &ApiError,
) -> ApiResult<()> {
    intent
        .detail
        .insert("refused".into(), fault.code.to_owned());
    let keys = app.keyring.keys(&app.store, actor.organisation).await?;
    let mut tx = app.store.begin(actor.organisation).await?;
    // Strangers do not fill the log: the first refusal of a minute is recorded, the others are counted.
    if actor.person.is_none()
        && !tx
            .count_stranger_refusal(&intent.action, &actor.origin, app.clock.now())
            .await?
    {
        tx.commit().await?;
        return Ok(());
    }
    if let (Some(target), true) = (intent.target, intent.target_name.is_empty()) {
        intent.target_name = tx
            .name_for_event(&intent.target_type, target)
            .await?
            .unwrap_or_default();
    }
    if let (true, Some(person)) = (fault.tells_of_value(), actor.person) {
        note_value_answer(&mut tx, person, app.clock.now()).await?;
    }
    let mut event = event_of(Uuid::now_v7(), actor, &intent, app.clock.now());
    event.outcome = Outcome::Refused;
    tx.commit_with(&event, &keys.mac).await?;
    Ok(())
}

/// Notes who tries to do what before there is a session, for the record of a refusal.
pub fn begin_stranger_audit(
    request_slot: &StrangerSlot,
    organisation: Uuid,
    name: &str,
    action: &str,
) {
    if let Ok(mut slot) = request_slot.slot.lock() {
        let name: String = name.chars().filter(|c| !c.is_control()).take(200).collect();
        slot.actor = Some(Actor {
            organisation,
            person: None,
            name: String::new(),
            origin: request_slot.origin.clone(),
        });
        slot.intent = Some(Intent {
            action: action.to_owned(),
            target_type: "person".into(),
            target: None,
            target_name: name,
            detail: BTreeMap::new(),
        });
    }
}

/// A request of somebody without a session.
#[derive(Debug)]
pub struct StrangerSlot {
    slot: SharedSlot,
    /// From where it comes.
    pub origin: String,
    /// Whether the console's own scripts sent it.
    pub from_console: bool,
}

#[rocket::async_trait]
impl<'r> FromRequest<'r> for StrangerSlot {
    type Error = std::convert::Infallible;

    async fn from_request(
        request: &'r Request<'_>,
    ) -> Guard<Self, (rocket::http::Status, Self::Error), rocket::http::Status> {
        Guard::Success(Self {
            slot: slot(request),
            origin: origin_of(request),
            from_console: request.headers().get_one(CONSOLE_HEADER).is_some(),
        })
    }
}

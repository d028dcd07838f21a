//! Who acts: a session, one transaction in one organisation, and what they mean to do.
//!
//! A command that takes a [`UnitOfWork`] cannot run without a session. It says first what it
//! intends, so that a refusal anywhere later is recorded as such; and it ends with
//! [`UnitOfWork::commit_audited`], which commits the action and its audit event together (promise
//! 3), or with [`UnitOfWork::commit`] where nothing of worth was touched.

use std::collections::{BTreeMap, HashSet};
use std::sync::{Arc, Mutex};

use chrono::{DateTime, TimeDelta, Utc};
use jexlin_core::access::{Allowed, AtLeast, Denied, Level, Reach, in_force};
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::audit::{Event, Outcome};
use jexlin_core::auth::read_token;
use jexlin_core::names::show_foreign;
use jexlin_core::people::Duty;
use jexlin_core::people::PersonState;
use jexlin_core::vault::readings::Readings;
use jexlin_core::words::Word as _;
use jexlin_store::{FolderRow, GrantRow, PersonRow, Receipt, SessionRow, Tx, VisibleFolder};
use uuid::Uuid;

use crate::app::App;
use crate::error::{AppError, AppResult};
use crate::keyring::OpenKeys;

/// What somebody means to do.
#[derive(Clone, Debug)]
pub struct Intent {
    action: Action,
    target_type: TargetType,
    target: Option<Uuid>,
    target_name: String,
    detail: BTreeMap<String, String>,
}

/// What allows a change of stewardship in place of a level on its target. Each is checked where it
/// is used ([`UnitOfWork::act_by`]).
#[derive(Clone, Copy, Debug)]
pub enum Authority<'a> {
    /// The duty `access`, which repairs access without having any.
    AccessDuty,
    /// A grant of `steward` to the one who acts.
    OwnGrant(&'a GrantRow),
}

/// The folders that the one who acts is a steward of, as the records say in this transaction:
/// evidence for changes in many folders. Only [`UnitOfWork::stewardship`] fills it.
#[derive(Clone, Debug, Default)]
pub struct Stewardship(HashSet<Uuid>);

impl Stewardship {
    /// Adds a folder that this transaction has added to a place where that was allowed.
    pub fn add_new(&mut self, folder: &FolderRow) {
        self.0.insert(folder.id);
    }
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

/// What a request means to do, kept beside it until it has ended, so that a refusal anywhere is
/// recorded as such.
#[derive(Clone, Debug, Default)]
pub struct PendingAudit(Arc<Mutex<Slot>>);

/// Somebody without a session.
#[derive(Clone, Debug)]
pub struct Stranger {
    /// What they mean to do.
    pub audit: PendingAudit,
    /// From where they come.
    pub origin: String,
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
    audit: PendingAudit,
    gathered: Vec<Event>,
    /// The highest level that was demanded, and held, in this transaction.
    demanded: Option<Level>,
}

impl UnitOfWork {
    /// Begins a transaction for a session that counts at this moment.
    async fn admit(
        app: &App,
        organisation: Uuid,
        hash: &[u8],
    ) -> AppResult<(Tx, SessionRow, PersonRow, DateTime<Utc>)> {
        if !app.keyring.is_open() {
            return Err(AppError::locked());
        }
        let now = app.clock.now();
        let (mut tx, found) = app.store.begin_with_session(organisation, hash).await?;
        let Some((session, person)) = found else {
            return Err(AppError::signed_out("The session is unknown."));
        };
        let idle = TimeDelta::minutes(app.config.idle_minutes);
        // A program's token is short-lived instead, and a program may wait.
        let idles = session.channel.0.ends_when_idle() && now - session.last_used_at >= idle;
        if session.ended_at.is_some() || now >= session.ends_at || idles {
            return Err(AppError::signed_out("The session has ended."));
        }
        if person.state != PersonState::Active {
            return Err(AppError::signed_out("The person may no longer sign in."));
        }
        tx.answer_to(Some(session.id));
        Ok((tx, session, person, now))
    }

    /// Who acts, read now: whoever holds a token. `audit` keeps what they mean to do.
    ///
    /// # Errors
    /// [`AppError`] when there is no session that counts.
    pub async fn of_token(
        app: &App,
        token: &str,
        origin: &str,
        audit: PendingAudit,
    ) -> AppResult<Self> {
        if !app.keyring.is_open() {
            return Err(AppError::locked());
        }
        let (organisation, hash) =
            read_token(token).ok_or_else(|| AppError::signed_out("The token is not valid."))?;
        let (tx, session, person, now) = Self::admit(app, organisation, &hash).await?;
        // Once a minute is enough to tell idleness, and spares a write on every call. It is durable
        // at once: the request's own transaction may be long, and others would wait for it, or it
        // may be taken back.
        if now - session.last_used_at >= TimeDelta::minutes(1) {
            let mut touch = app.store.begin(organisation).await?;
            touch.touch_session(session.id, now).await?;
            touch.commit().await?;
        }
        let keys = app.keyring.keys(&app.store, organisation).await?;
        if let Ok(mut slot) = audit.0.lock() {
            slot.actor = Some(Actor {
                organisation,
                person: Some(person.id),
                name: person.display_name.clone(),
                origin: origin.to_owned(),
            });
        }
        Ok(Self {
            app: app.clone(),
            keys,
            person,
            session,
            now,
            origin: origin.to_owned(),
            tx: Some(tx),
            audit,
            readings: Readings::default(),
            gathered: vec![],
            demanded: None,
        })
    }

    /// Says what is meant to be done, before anything can refuse it.
    pub fn begin_audit(
        &mut self,
        action: Action,
        target_type: TargetType,
        target: Option<Uuid>,
        target_name: &str,
    ) {
        if let Ok(mut slot) = self.audit.0.lock() {
            slot.intent = Some(Intent {
                action,
                target_type,
                target,
                target_name: target_name.chars().take(200).collect(),
                detail: BTreeMap::new(),
            });
        }
    }

    /// Says what is meant to be done, and demands the duty that it takes ([`Action::needed_duty`]).
    ///
    /// # Errors
    /// When the duty is not held.
    pub fn begin(
        &mut self,
        action: Action,
        target_type: TargetType,
        target: Option<Uuid>,
        target_name: &str,
    ) -> AppResult<()> {
        self.begin_audit(action, target_type, target, target_name);
        action.needed_duty().map_or(Ok(()), |duty| self.duty(duty))
    }

    /// Demands a level of what reaches the one who acts. What takes a level
    /// ([`Action::needed_level`]) is not recorded, and so not done, in a transaction where it was
    /// not demanded.
    ///
    /// # Errors
    /// [`Denied`] when less is held.
    pub fn demand<L: AtLeast>(&mut self, reach: Reach) -> Result<Allowed<L>, Denied> {
        let allowed = reach.allow::<L>()?;
        self.demanded = self.demanded.max(Some(L::LEVEL));
        Ok(allowed)
    }

    /// Allows a change of stewardship by something else than a level on its target.
    ///
    /// # Errors
    /// When the duty is not held, or the grant is not one of `steward`, in force, to the one who acts.
    pub fn act_by(&mut self, authority: Authority<'_>) -> AppResult<()> {
        match authority {
            Authority::AccessDuty => self.duty(Duty::Access)?,
            Authority::OwnGrant(grant) => {
                let own = grant.person_id == Some(self.person.id)
                    && grant.held == Level::Steward.number()
                    && in_force(grant.ends_at, self.now);
                if !own {
                    return Err(AppError::unknown("grant"));
                }
            }
        }
        self.demanded = Some(Level::Steward);
        Ok(())
    }

    /// The folders that the one who acts sees, and which of them they are a steward of.
    ///
    /// # Errors
    /// [`AppError`].
    pub async fn stewardship(&mut self) -> AppResult<(Vec<VisibleFolder>, Stewardship)> {
        let (person, now) = (self.person.id, self.now);
        let folders = self.tx()?.visible_folders(person, now).await?;
        let stewarded = folders
            .iter()
            .filter(|row| row.held == Some(Level::Steward.number()))
            .map(|row| row.id);
        let stewardship = Stewardship(stewarded.collect());
        Ok((folders, stewardship))
    }

    /// Demands that the one who acts is a steward of a folder.
    ///
    /// # Errors
    /// When they are not.
    pub fn demand_stewardship(&mut self, of: &Stewardship, folder: Uuid) -> AppResult<()> {
        if !of.0.contains(&folder) {
            return Err(AppError::unknown("folder that you are a steward of"));
        }
        self.demanded = Some(Level::Steward);
        Ok(())
    }

    /// Adds to what is recorded, also of a refusal.
    pub fn add_detail(&mut self, name: &str, value: impl Into<String>) {
        if let Ok(mut slot) = self.audit.0.lock()
            && let Some(intent) = &mut slot.intent
        {
            intent.detail.insert(name.to_owned(), value.into());
        }
    }

    /// The name of the target, once it is known.
    pub fn set_target(&mut self, target: Uuid, name: &str) {
        if let Ok(mut slot) = self.audit.0.lock()
            && let Some(intent) = &mut slot.intent
        {
            intent.target = Some(target);
            name.clone_into(&mut intent.target_name);
        }
    }

    /// What is intended to be acted on: its kind, identifier and name.
    #[must_use]
    pub fn target(&self) -> Option<(TargetType, Option<Uuid>, String)> {
        let intent = self.audit.0.lock().ok()?.intent.clone()?;
        Some((intent.target_type, intent.target, intent.target_name))
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
    pub fn tx(&mut self) -> AppResult<&mut Tx> {
        self.tx
            .as_mut()
            .ok_or_else(|| AppError::internal("the transaction is over"))
    }

    /// Demands that not too many answers have depended on values of late: each tells a little of
    /// one.
    ///
    /// # Errors
    /// [`AppError`] with how long to wait.
    pub async fn value_may_be_asked(&mut self) -> AppResult<()> {
        let (key, now) = (value_answers(self.person.id), self.now);
        match self
            .tx()?
            .throttle(&key)
            .await?
            .filter(|before| now - before.last_failure_at < VALUE_ANSWERS_KEPT)
        {
            Some(before) => {
                crate::throttle::wait_after(before.failures, before.last_failure_at, now)
                    .map_or(Ok(()), |seconds| Err(AppError::asked_too_often(seconds)))
            }
            None => Ok(()),
        }
    }

    /// Demands a duty.
    ///
    /// # Errors
    /// When it is not held.
    pub fn duty(&self, duty: Duty) -> AppResult<()> {
        if self.person.duties.iter().any(|held| *held == duty) {
            Ok(())
        } else {
            Err(AppError::needs_duty(duty))
        }
    }

    /// Records what was intended so far in this transaction, which goes on with another intent:
    /// both become durable, or neither.
    ///
    /// # Errors
    /// [`AppError`].
    pub async fn record(&mut self) -> AppResult<()> {
        let event = self.event(Uuid::now_v7())?;
        let keys = Arc::clone(&self.keys);
        Ok(self.tx()?.record(&event, &keys.mac).await?)
    }

    /// Records another event in this transaction, on something else that the same act concerns.
    ///
    /// # Errors
    /// [`AppError`].
    pub async fn record_beside(
        &mut self,
        action: Action,
        target_type: TargetType,
        target: Uuid,
        target_name: &str,
        detail: &[(&str, String)],
    ) -> AppResult<()> {
        let intent = Intent {
            action,
            target_type,
            target: Some(target),
            target_name: target_name.chars().take(200).collect(),
            detail: detail
                .iter()
                .map(|(name, value)| ((*name).to_owned(), value.clone()))
                .collect(),
        };
        let event = event_of(Uuid::now_v7(), &self.actor(), &intent, self.now);
        let keys = Arc::clone(&self.keys);
        Ok(self.tx()?.record(&event, &keys.mac).await?)
    }

    /// Keeps what was intended so far, to be recorded together with all the rest by
    /// [`UnitOfWork::commit_audited`].
    ///
    /// # Errors
    /// [`AppError`].
    pub fn queue_event(&mut self) -> AppResult<()> {
        let event = self.event(Uuid::now_v7())?;
        self.gathered.push(event);
        Ok(())
    }

    /// Queues an event that the intended action was refused, if the refusal is worth one.
    /// [`UnitOfWork::commit_audited`] and [`UnitOfWork::commit_queued`] record it.
    ///
    /// # Errors
    /// [`AppError`].
    pub async fn queue_refusal(&mut self, error: &AppError) -> AppResult<()> {
        if !error.is_refusal() {
            return Ok(());
        }
        let (intent, actor, now) = (self.intent()?, self.actor(), self.now);
        let event = refusal_of(self.tx()?, &actor, intent, error, now).await?;
        self.gathered.push(event);
        Ok(())
    }

    fn intent(&self) -> AppResult<Intent> {
        let slot = self.audit.0.lock().ok();
        slot.and_then(|slot| slot.intent.clone())
            .ok_or_else(|| AppError::internal("nothing was intended"))
    }

    fn actor(&self) -> Actor {
        Actor {
            organisation: self.organisation(),
            person: Some(self.person.id),
            name: self.person.display_name.clone(),
            origin: self.origin.clone(),
        }
    }

    fn event(&self, id: Uuid) -> AppResult<Event> {
        let intent = self.intent()?;
        if intent.action.needed_level() > self.demanded {
            return Err(AppError::internal(format!(
                "`{}` was about to be done without the level that it takes",
                intent.action
            )));
        }
        Ok(event_of(id, &self.actor(), &intent, self.now))
    }

    /// Commits the action together with its event; returns the event and the receipt.
    ///
    /// # Errors
    /// [`AppError`]; then nothing was done.
    pub async fn commit_audited(&mut self) -> AppResult<(Uuid, Receipt)> {
        let id = Uuid::now_v7();
        let event = self.event(id)?;
        Ok((id, self.commit_event(&event).await?))
    }

    /// Commits the actions together with the queued events.
    ///
    /// # Errors
    /// [`AppError`]; then nothing was done.
    pub async fn commit_queued(&mut self) -> AppResult<()> {
        match self.gathered.pop() {
            Some(last) => self.commit_event(&last).await.map(drop),
            None => self.commit().await,
        }
    }

    async fn commit_event(&mut self, event: &Event) -> AppResult<Receipt> {
        let mut tx = self
            .tx
            .take()
            .ok_or_else(|| AppError::internal("the transaction is over"))?;
        if tx.is_revalidation_due() {
            crate::revalidation::revalidate(&mut tx, &self.keys.mac, self.now).await?;
        }
        for chunk in std::mem::take(&mut self.gathered).chunks(2000) {
            tx.record_all(chunk, &self.keys.mac).await?;
        }
        Ok(tx.commit_with(event, &self.keys.mac).await?)
    }

    /// Ends the transaction where nothing of worth was touched.
    ///
    /// # Errors
    /// [`AppError`].
    pub async fn commit(&mut self) -> AppResult<()> {
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
    /// [`AppError`].
    pub async fn reopen(&mut self) -> AppResult<()> {
        let (tx, session, person, now) =
            Self::admit(&self.app, self.organisation(), &self.session.token_hash).await?;
        (self.tx, self.session, self.person, self.now) = (Some(tx), session, person, now);
        self.demanded = None;
        Ok(())
    }
}

fn event_of(id: Uuid, actor: &Actor, intent: &Intent, now: DateTime<Utc>) -> Event {
    let mut event = Event::new(id, actor.organisation, now, intent.action);
    event.actor = actor.person.map(|id| id.to_string()).unwrap_or_default();
    event.actor_name.clone_from(&actor.name);
    event.origin.clone_from(&actor.origin);
    event.target = intent.target.map(|id| id.to_string()).unwrap_or_default();
    event.target_type = intent.target_type.word().to_owned();
    // What others wrote is data: it makes one line of the log and no more.
    event.target_name = show_foreign(&intent.target_name);
    event.detail = intent
        .detail
        .iter()
        .map(|(name, value)| (show_foreign(name), show_foreign(value)))
        .collect();
    event
}

impl PendingAudit {
    /// Notes who tries to do what before there is a session.
    pub fn begin_stranger(&self, organisation: Uuid, name: &str, action: Action, origin: &str) {
        if let Ok(mut slot) = self.0.lock() {
            let name: String = name.chars().filter(|c| !c.is_control()).take(200).collect();
            slot.actor = Some(Actor {
                organisation,
                person: None,
                name: String::new(),
                origin: origin.to_owned(),
            });
            slot.intent = Some(Intent {
                action,
                target_type: TargetType::Person,
                target: None,
                target_name: name,
                detail: BTreeMap::new(),
            });
        }
    }

    /// Records that a command was refused, if it said what it means to do and the refusal is worth
    /// an event.
    ///
    /// # Errors
    /// [`AppError`] when it cannot be recorded.
    pub async fn record_refusal(&self, app: &App, error: &AppError) -> AppResult<()> {
        if !error.is_refusal() && !error.tells_of_value() {
            return Ok(());
        }
        let (actor, intent) = match self.0.lock() {
            Ok(slot) => (slot.actor.clone(), slot.intent.clone()),
            Err(_) => return Ok(()),
        };
        match (actor, intent) {
            (Some(actor), Some(intent)) => record_refusal(app, &actor, intent, error).await,
            _ => Ok(()),
        }
    }
}

/// After so long without one, answers that depend on values count from the start again.
const VALUE_ANSWERS_KEPT: TimeDelta = TimeDelta::hours(1);

fn value_answers(person: Uuid) -> String {
    format!("answers about values: {person}")
}

async fn note_value_answer(tx: &mut Tx, person: Uuid, now: DateTime<Utc>) -> AppResult<()> {
    let key = value_answers(person);
    let before = tx
        .throttle(&key)
        .await?
        .filter(|before| now - before.last_failure_at < VALUE_ANSWERS_KEPT)
        .map_or(0, |before| before.failures);
    Ok(tx.note_failure(&key, before + 1, now).await?)
}

/// The event of a refused action. The name of the target is read here when the command had no right to
/// read it.
async fn refusal_of(
    tx: &mut Tx,
    actor: &Actor,
    mut intent: Intent,
    error: &AppError,
    now: DateTime<Utc>,
) -> AppResult<Event> {
    intent
        .detail
        .insert("refused".into(), error.code.word().to_owned());
    if let (Some(target), true) = (intent.target, intent.target_name.is_empty()) {
        intent.target_name = tx
            .name_for_event(intent.target_type, target)
            .await?
            .unwrap_or_default();
    }
    let mut event = event_of(Uuid::now_v7(), actor, &intent, now);
    event.outcome = Outcome::Refused;
    Ok(event)
}

async fn record_refusal(
    app: &App,
    actor: &Actor,
    intent: Intent,
    fault: &AppError,
) -> AppResult<()> {
    let keys = app.keyring.keys(&app.store, actor.organisation).await?;
    let mut tx = app.store.begin(actor.organisation).await?;
    // Strangers do not fill the log: the first refusal of a minute is recorded, the others are
    // counted.
    if actor.person.is_none()
        && !tx
            .count_stranger_refusal(intent.action, &actor.origin, app.clock.now())
            .await?
    {
        tx.commit().await?;
        return Ok(());
    }
    if let (true, Some(person)) = (fault.tells_of_value(), actor.person) {
        note_value_answer(&mut tx, person, app.clock.now()).await?;
    }
    let event = refusal_of(&mut tx, actor, intent, fault, app.clock.now()).await?;
    tx.commit_with(&event, &keys.mac).await?;
    Ok(())
}

//! Sessions of operators that are kept open, so that only the first of many changes signs in.

use std::collections::HashMap;
use std::future::Future;
use std::ops::Deref;
use std::sync::{Arc, Mutex as StdMutex};
use std::time::{Duration, Instant};

use jexlin_core::upkeep::identity::PresentedIdentity;
use jexlin_core::upkeep::{BoundLogin, Operator};
use tokio::sync::Mutex;

use crate::OperatorConnection;
use crate::connector::KeptOperators;

/// A session is used so often, and so long, before its operator must sign in again: an operator that
/// the device no longer lets in is noticed then.
const MOST_USES: usize = 500;
const LONGEST_LIFE: Duration = Duration::from_secs(600);

/// A session with a device.
pub(crate) trait Lasting: Send + Sync + 'static {
    /// Whether it has ended.
    fn is_closed(&self) -> bool;
}

/// A session that is kept, with the identity that the device showed.
pub(crate) struct KeptSession<S> {
    session: S,
    pub(crate) presented: Option<PresentedIdentity>,
    opened: Instant,
    /// When it was last used, and how often.
    used: StdMutex<(Instant, usize)>,
}

impl<S> Deref for KeptSession<S> {
    type Target = S;

    fn deref(&self) -> &S {
        &self.session
    }
}

impl<S: Lasting> KeptSession<S> {
    fn new(session: S, presented: Option<PresentedIdentity>) -> Self {
        let now = Instant::now();
        Self {
            session,
            presented,
            opened: now,
            used: StdMutex::new((now, 1)),
        }
    }

    /// Notes one more use.
    fn use_again(&self) {
        if let Ok(mut used) = self.used.lock() {
            *used = (Instant::now(), used.1 + 1);
        }
    }

    fn is_usable(&self) -> bool {
        !self.session.is_closed()
            && self.opened.elapsed() < LONGEST_LIFE
            && self.used.lock().is_ok_and(|used| used.1 < MOST_USES)
    }
}

type Slot<S> = Arc<Mutex<Option<Arc<KeptSession<S>>>>>;

/// The kept sessions of a connector.
pub(crate) struct Kept<S> {
    slots: StdMutex<HashMap<OperatorConnection, Slot<S>>>,
    idle: Duration,
}

impl<S: Lasting> Kept<S> {
    /// Sessions that end after so long without use.
    pub(crate) fn new(idle: Duration) -> Self {
        Self {
            slots: StdMutex::default(),
            idle,
        }
    }

    /// The kept session of an operator, or a new one. Each has a lock of its own: jobs that begin
    /// together open one session, and a device that does not answer keeps nobody else waiting.
    pub(crate) async fn session<E>(
        &self,
        operator: &BoundLogin<Operator>,
        open: impl Future<Output = (Result<S, E>, Option<PresentedIdentity>)>,
    ) -> Result<Arc<KeptSession<S>>, (E, Option<PresentedIdentity>)> {
        let key = OperatorConnection::of(operator);
        let slot = match self.slots.lock() {
            Ok(mut slots) => {
                // A newer version of the password: the older sessions of this operator end.
                slots.retain(|other, _| {
                    (other.organisation, other.device, other.credential)
                        != (key.organisation, key.device, key.credential)
                        || *other == key
                });
                Arc::clone(slots.entry(key.clone()).or_default())
            }
            Err(_) => Slot::default(),
        };
        let mut kept = slot.lock().await;
        if let Some(session) = kept.as_ref().filter(|session| session.is_usable()) {
            session.use_again();
            return Ok(Arc::clone(session));
        }
        *kept = None;
        let (session, presented) = open.await;
        let session = match session {
            Ok(session) => Arc::new(KeptSession::new(session, presented)),
            Err(why) => return Err((why, presented)),
        };
        // Only a device that has an identity is kept: at first contact the next job must prove it.
        if operator.trusts_first_contact() {
            self.close(&key);
        } else {
            *kept = Some(Arc::clone(&session));
        }
        Ok(session)
    }
}

impl<S: Lasting> KeptOperators for Kept<S> {
    fn all(&self) -> Vec<OperatorConnection> {
        self.slots
            .lock()
            .map(|slots| slots.keys().cloned().collect())
            .unwrap_or_default()
    }

    fn close(&self, which: &OperatorConnection) {
        if let Ok(mut slots) = self.slots.lock() {
            slots.remove(which);
        }
    }

    fn close_idle(&self) {
        let Ok(mut slots) = self.slots.lock() else {
            return;
        };
        slots.retain(|_, slot| {
            // A slot that is locked is being opened.
            let Ok(session) = slot.try_lock() else {
                return true;
            };
            session.as_ref().is_some_and(|session| {
                let recent = session
                    .used
                    .lock()
                    .is_ok_and(|used| used.0.elapsed() < self.idle);
                recent && session.is_usable()
            })
        });
    }

    fn has(&self, which: &OperatorConnection) -> bool {
        let slot = self
            .slots
            .lock()
            .ok()
            .and_then(|slots| slots.get(which).cloned());
        slot.is_some_and(|slot| {
            slot.try_lock()
                .is_ok_and(|session| session.as_ref().is_some_and(|session| session.is_usable()))
        })
    }
}

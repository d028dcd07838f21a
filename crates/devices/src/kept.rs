//! Sessions of operators that are kept open, so that only the first of many changes signs in.

use std::collections::HashMap;
use std::future::Future;
use std::ops::Deref;
use std::sync::{Arc, Mutex as StdMutex};
use std::time::{Duration, Instant};

use jexlin_core::upkeep::identity::PresentedIdentity;
use jexlin_core::upkeep::{BoundLogin, Operator};
use tokio::sync::Mutex;
use tokio::time::timeout;

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

    /// Asks the device for a sign of life. A protocol that tells a change that was not sent from one
    /// that was lost needs none.
    fn answers(&self) -> impl Future<Output = bool> + Send {
        std::future::ready(true)
    }
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

/// Where the session of one operator is kept.
struct Slot<S> {
    /// Held by whoever opens one.
    opening: Mutex<()>,
    session: StdMutex<Option<Arc<KeptSession<S>>>>,
}

impl<S> Default for Slot<S> {
    fn default() -> Self {
        Self {
            opening: Mutex::default(),
            session: StdMutex::new(None),
        }
    }
}

impl<S: Lasting> Slot<S> {
    /// The session, if it can be used.
    fn usable(&self) -> Option<Arc<KeptSession<S>>> {
        let session = self.session.lock().ok()?.clone();
        session.filter(|session| session.is_usable())
    }

    fn keep(&self, session: Option<Arc<KeptSession<S>>>) {
        if let Ok(mut slot) = self.session.lock() {
            *slot = session;
        }
    }
}

/// The kept sessions of a connector.
pub(crate) struct Kept<S> {
    slots: StdMutex<HashMap<OperatorConnection, Arc<Slot<S>>>>,
    idle: Duration,
}

impl<S> std::fmt::Debug for Kept<S> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Kept")
    }
}

impl<S: Lasting> Kept<S> {
    /// Sessions that end after so long without use.
    pub(crate) fn new(idle: Duration) -> Self {
        Self {
            slots: StdMutex::default(),
            idle,
        }
    }

    /// The kept session of an operator, or a new one. One that is kept must answer within this time, so
    /// that a change is not sent to a device that is gone. Jobs that begin together open one session,
    /// and a device that does not answer holds up no other device.
    pub(crate) async fn session<E, F>(
        &self,
        operator: &BoundLogin<Operator>,
        within: Duration,
        open: impl Fn() -> F,
    ) -> Result<Arc<KeptSession<S>>, (E, Option<PresentedIdentity>)>
    where
        F: Future<Output = (Result<S, E>, Option<PresentedIdentity>)>,
    {
        let session = self.usable_or_new(operator, open()).await?;
        if matches!(timeout(within, session.answers()).await, Ok(true)) {
            return Ok(session);
        }
        self.close(&OperatorConnection::of(operator));
        self.usable_or_new(operator, open()).await
    }

    async fn usable_or_new<E>(
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
            Err(_) => Arc::default(),
        };
        if let Some(session) = slot.usable() {
            session.use_again();
            return Ok(session);
        }
        let _opening = slot.opening.lock().await;
        if let Some(session) = slot.usable() {
            session.use_again();
            return Ok(session);
        }
        slot.keep(None);
        let (session, presented) = open.await;
        let session = match session {
            Ok(session) => Arc::new(KeptSession::new(session, presented)),
            Err(why) => return Err((why, presented)),
        };
        // Only a device that has an identity is kept: at first contact the next job must prove it.
        if operator.trusts_first_contact() {
            self.close(&key);
        } else {
            slot.keep(Some(Arc::clone(&session)));
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
            if slot.opening.try_lock().is_err() {
                return true;
            }
            slot.usable().is_some_and(|session| {
                session
                    .used
                    .lock()
                    .is_ok_and(|used| used.0.elapsed() < self.idle)
            })
        });
    }

    fn has(&self, which: &OperatorConnection) -> bool {
        let slot = self
            .slots
            .lock()
            .ok()
            .and_then(|slots| slots.get(which).cloned());
        slot.is_some_and(|slot| slot.usable().is_some())
    }
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicBool, Ordering};

    use super::*;

    struct Line(AtomicBool);

    impl Lasting for Line {
        fn is_closed(&self) -> bool {
            self.0.load(Ordering::SeqCst)
        }
    }

    fn slot() -> (Arc<Slot<Line>>, Arc<KeptSession<Line>>) {
        let slot = Arc::new(Slot::default());
        let session = Arc::new(KeptSession::new(Line(AtomicBool::new(false)), None));
        slot.keep(Some(Arc::clone(&session)));
        (slot, session)
    }

    #[test]
    fn a_session_that_somebody_uses_is_there_for_all_others() {
        let (slot, session) = slot();
        let _opening = slot.opening.try_lock().unwrap();
        assert!(
            slot.usable().is_some(),
            "whoever opens a new one hides none"
        );
        session.session.0.store(true, Ordering::SeqCst);
        assert!(slot.usable().is_none());
    }

    #[test]
    fn a_session_is_used_so_often_and_no_more() {
        let (slot, session) = slot();
        let mut uses = 1;
        while slot.usable().is_some() {
            session.use_again();
            uses += 1;
        }
        assert_eq!(uses, MOST_USES);
    }
}

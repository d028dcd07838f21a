//! Connections to OpenSSH hosts, and those of operators that are kept open.

use std::sync::{Arc, Mutex as StdMutex};
use std::time::Instant;

use jexlin_core::upkeep::identity::PresentedIdentity;
use jexlin_core::upkeep::{BoundLogin, Operator, RoleMark};
use russh::client::Handle;

use super::Ssh;
use super::sign_in::{self, IdentityWatch, NoSession};
use crate::{OperatorConnection, reach};

/// What was said to somebody who asked for a session, and the identity that was shown.
pub(super) type Opened = (Result<Session, NoSession>, Option<PresentedIdentity>);

pub(super) struct Session {
    pub(super) handle: Handle<IdentityWatch>,
    pub(super) presented: Option<PresentedIdentity>,
    pub(super) last_used: StdMutex<Instant>,
}

impl Ssh {
    pub(super) fn silence(&self) -> String {
        sign_in::silence(self.settings.connect)
    }

    /// The kept connection of an operator, or a new one. Each has a lock of its own: jobs that
    /// begin together open one connection, and a device that does not answer keeps nobody else
    /// waiting.
    pub(super) async fn operator_session(
        &self,
        operator: &BoundLogin<Operator>,
    ) -> Result<Arc<Session>, (NoSession, Option<PresentedIdentity>)> {
        let key = OperatorConnection::of(operator);
        let slot = match self.operators.lock() {
            Ok(mut kept) => {
                // A newer version of the password: the older connections of this operator end.
                kept.retain(|other, _| {
                    (other.organisation, other.device, other.credential)
                        != (key.organisation, key.device, key.credential)
                        || *other == key
                });
                Arc::clone(kept.entry(key.clone()).or_default())
            }
            Err(_) => super::Slot::default(),
        };
        let mut kept = slot.lock().await;
        if let Some(session) = kept.as_ref().filter(|session| !session.handle.is_closed()) {
            return Ok(Arc::clone(session));
        }
        *kept = None;
        let (session, presented) = self.open(operator).await;
        let session = Arc::new(session.map_err(|why| (why, presented))?);
        // Only a device that has an identity is kept: at first contact the next job must prove it.
        if operator.trusts_first_contact() {
            self.close_kept(&key);
        } else {
            *kept = Some(Arc::clone(&session));
        }
        Ok(session)
    }

    pub(super) async fn open<R: RoleMark>(&self, account: &BoundLogin<R>) -> Opened {
        let connecting = reach::connect(account.endpoint());
        let (opened, shown) = sign_in::open(connecting, account, self.settings.connect).await;
        let session = opened.map(|handle| Session {
            handle,
            presented: shown.clone(),
            last_used: StdMutex::new(Instant::now()),
        });
        (session, shown)
    }
}

//! Connections to OpenSSH hosts, and those of operators that are kept open.

use std::sync::Arc;

use jexlin_core::upkeep::identity::PresentedIdentity;
use jexlin_core::upkeep::{BoundLogin, Operator, RoleMark};
use russh::client::Handle;

use super::Ssh;
use super::sign_in::{self, IdentityWatch, NoSession};
use crate::kept::{KeptSession, Lasting};
use crate::reach;
use crate::time_limits::silence;

/// What was said to somebody who asked for a session, and the identity that was shown.
pub(super) type Opened = (Result<Session, NoSession>, Option<PresentedIdentity>);

pub(super) struct Session {
    pub(super) handle: Handle<IdentityWatch>,
}

impl Lasting for Session {
    fn is_closed(&self) -> bool {
        self.handle.is_closed()
    }
}

impl Ssh {
    pub(super) fn silence(&self) -> String {
        silence(self.limits.connect)
    }

    /// The kept connection of an operator, or a new one.
    pub(super) async fn operator_session(
        &self,
        operator: &BoundLogin<Operator>,
    ) -> Result<Arc<KeptSession<Session>>, (NoSession, Option<PresentedIdentity>)> {
        self.operators
            .session(operator, self.limits.connect, || self.open(operator))
            .await
    }

    pub(super) async fn open<R: RoleMark>(&self, account: &BoundLogin<R>) -> Opened {
        let connecting = reach::connect(account.endpoint());
        let (opened, shown) = sign_in::open(connecting, account, self.limits.connect).await;
        (opened.map(|handle| Session { handle }), shown)
    }
}

//! The sealer's rounds.

use std::collections::HashMap;
use std::time::Duration;

use jexlin_app::app::App;
use jexlin_app::error::AppResult;
use jexlin_store::Sealer;
use uuid::Uuid;

/// Between rounds; well under the second within which a checkpoint is promised.
const PAUSE: Duration = Duration::from_millis(200);

/// What the sealer of each organisation remembers.
#[derive(Debug, Default)]
pub struct Seals(HashMap<Uuid, Sealer>);

impl Seals {
    /// One round over all organisations. How many events got a place.
    ///
    /// # Errors
    /// [`jexlin_app::error::AppError`] of the last organisation that could not be sealed.
    pub async fn once(&mut self, app: &App) -> AppResult<usize> {
        let (mut sealed, mut last) = (0, None);
        for organisation in super::organisations(app).await {
            // One organisation's trouble is no other's.
            match self.seal_one(app, organisation).await {
                Ok(count) => sealed += count,
                Err(fault) => {
                    tracing::warn!(%organisation, "sealing goes on with the next organisation: {}", fault.for_log());
                    last = Some(fault);
                }
            }
        }
        last.map_or(Ok(sealed), Err)
    }

    async fn seal_one(&mut self, app: &App, organisation: Uuid) -> AppResult<usize> {
        let keys = app.keyring.keys(&app.store, organisation).await?;
        let tx = app.store.begin(organisation).await?;
        let outcome = self
            .0
            .entry(organisation)
            .or_default()
            .seal(tx, &keys.mac, &keys.signer, app.clock.now())
            .await?;
        for stray in &outcome.strays {
            tracing::error!(%organisation, event = %stray, "an event was put into the audit log past the service; it gets no place in the tree");
        }
        Ok(outcome.sealed)
    }
}

pub(super) async fn forever(app: App) {
    let mut seals = Seals::default();
    loop {
        if let Err(fault) = seals.once(&app).await {
            tracing::warn!("sealing waits: {}", fault.for_log());
            tokio::time::sleep(Duration::from_secs(1)).await;
        }
        tokio::time::sleep(PAUSE).await;
    }
}

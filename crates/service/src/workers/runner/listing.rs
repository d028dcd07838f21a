//! Reading the accounts of a device, as its operator.

use jexlin_core::audit::{Action, TargetType};
use jexlin_core::upkeep::JobOutcome;
use jexlin_core::upkeep::found::bounded;
use jexlin_core::words::Word as _;
use jexlin_devices::Listing;

use super::opening::NO_BUDGET;
use super::rotation::OPERATOR_REFUSED;
use super::{Runner, Step};

impl Runner {
    pub(super) async fn list(&mut self) -> Step<()> {
        let operator = match self
            .open_operator("reading the accounts of the device")
            .await?
        {
            Ok(operator) => operator,
            Err(why) => return self.end_listing(JobOutcome::Unreachable, &why).await,
        };
        // As for a change: one sign-in of the operator at a time.
        let _signing_in = if self.connector()?.has_operator(&operator) {
            None
        } else {
            let turn = self.app.sign_ins.on(self.device).lock_owned().await;
            (!self.connector()?.has_operator(&operator)).then_some(turn)
        };
        let signs_in = !self.connector()?.has_operator(&operator);
        if signs_in && !self.spend_login(self.account.id).await? {
            return self.end_listing(JobOutcome::LockedOut, NO_BUDGET).await;
        }
        let met = self.connector()?.list_accounts(&operator).await;
        let listing = self
            .note_identity(operator.trusts_first_contact(), met)
            .await?;
        if signs_in && listing != Listing::OperatorRefused {
            self.forgive_login(self.account.id).await?;
        }
        match listing {
            Listing::Found(found) => {
                let found = bounded(found);
                let mut tx = self.begin_held("writing down what was found").await?;
                tx.set_found_accounts(self.device, &found).await?;
                tx.commit().await?;
                let words = match found.len() {
                    1 => "1 account".to_owned(),
                    count => format!("{count} accounts"),
                };
                self.end_listing(JobOutcome::Done, &words).await
            }
            Listing::OperatorRefused => {
                self.pause_device().await?;
                self.end_listing(JobOutcome::Refused, OPERATOR_REFUSED)
                    .await
            }
            Listing::NoAnswer(why) => self.end_listing(JobOutcome::Unreachable, &why).await,
        }
    }

    async fn end_listing(&mut self, outcome: JobOutcome, message: &str) -> Step<()> {
        let mut event = self.event(Action::UpkeepListed);
        event.target = self.device.to_string();
        event.target_type = TargetType::Device.word().into();
        event.target_name.clone_from(&self.device_name);
        self.end_with(event, outcome, message).await
    }
}

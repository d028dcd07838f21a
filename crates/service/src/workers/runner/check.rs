//! A check: whether the password in the vault is the one on the device.

use jexlin_app::jobs::queue;
use jexlin_app::plans::parse_plan;
use jexlin_core::audit::Action;
use jexlin_core::audit::Outcome;
use jexlin_core::upkeep::CheckOutcome;
use jexlin_core::upkeep::JobCause;
use jexlin_core::upkeep::JobState;
use jexlin_core::upkeep::Task;
use jexlin_core::vault::kinds::PASSWORD;
use jexlin_core::words::Word as _;

use super::opening::{NO_BUDGET, Probed};
use super::{Runner, Step};

impl Runner {
    pub(super) async fn check(&mut self) -> Step<()> {
        let probe = self
            .probe("signing in with the stored password", None)
            .await?;
        let mut adopted = None;
        if matches!(probe, Probed::Closed) {
            adopted = self.try_suspects().await?;
        }
        let (outcome, message) = match probe {
            Probed::Opened => (CheckOutcome::InSync, String::new()),
            Probed::Closed if adopted.is_some() => {
                (CheckOutcome::InSync, "the device has another stored password, whose change was never answered; that one is now current".to_owned())
            }
            Probed::Closed => (CheckOutcome::OutOfSync, "the device answered, and the stored password does not open the account".to_owned()),
            Probed::NoBudget => (CheckOutcome::LockedOut, NO_BUDGET.to_owned()),
            Probed::NoAnswer(why) => (CheckOutcome::Unreachable, why),
        };
        let now = self.now();
        let mut tx = self.begin_held("writing down what was found").await?;
        self.forgive_in(&mut tx).await?;
        if let Some(number) = adopted {
            tx.credential_held(self.credential.id).await?;
            tx.promote_version(self.credential.id, PASSWORD, number)
                .await?;
            tx.reassess(self.credential.id).await?;
        }
        let state = if outcome == CheckOutcome::InSync {
            JobState::Done
        } else {
            JobState::Failed
        };
        tx.finish_job(&self.lease, state, outcome.into(), &message, now)
            .await?;
        tx.note_check(self.account.id, now, outcome).await?;
        let follows = match tx.plan_of(self.account.id).await? {
            Some(row) => {
                outcome == CheckOutcome::OutOfSync
                    && tx.operator_of(self.device).await?.is_some()
                    && parse_plan(&row).is_ok_and(|plan| plan.out_of_sync.rotates())
            }
            None => false,
        };
        if follows {
            queue(
                &mut tx,
                &self.account,
                Task::Rotation,
                JobCause::OutOfSync,
                now,
            )
            .await?;
        }
        let mut event = self.event(Action::UpkeepChecked);
        event.outcome = if outcome == CheckOutcome::InSync {
            Outcome::Done
        } else {
            Outcome::Failed
        };
        event.detail.insert("found".into(), outcome.word().into());
        if let Some(number) = adopted {
            event
                .detail
                .insert("adopted_version".into(), number.to_string());
        }
        if !message.is_empty() {
            event.detail.insert("message".into(), message);
        }
        tx.commit_with(&event, &self.keys.mac).await?;
        if follows {
            self.app.wake.notify_one();
        }
        Ok(())
    }
}

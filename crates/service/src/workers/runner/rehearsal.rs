//! A rehearsal: a rotation up to the change, without changing anything. The transcript stays with the
//! job.

use jexlin_app::error::AppError;
use jexlin_core::audit::{Action, Outcome};
use jexlin_core::upkeep::{Account, BoundLogin, ChangeMethod, JobOutcome, JobState};
use jexlin_core::vault::stand_in;
use jexlin_devices::{Change, MaySend};

use super::opening::{NO_BUDGET, plain_fields};
use super::rotation::{OPERATOR_REFUSED, former_key};
use super::{Runner, Step, refusal};

const STEP: &str = "rehearsing a rotation";

impl Runner {
    pub(super) async fn rehearse(&mut self) -> Step<()> {
        let candidate = match self.stand_in().await? {
            Ok(candidate) => candidate,
            Err(why) => return self.end_rehearsal(JobOutcome::Unreachable, &why).await,
        };
        // Nothing that changes the device may be sent.
        let never: MaySend<'_> = Box::new(|| Box::pin(async { false }));
        let mut message = String::new();
        let met = if self.job.method == ChangeMethod::Own {
            let opened = match self.open(STEP, &[None], false).await? {
                Ok(opened) => opened,
                Err(why) => return self.end_rehearsal(JobOutcome::Unreachable, &why).await,
            };
            let Some(current) = opened.account.first() else {
                return Err(AppError::internal("nothing was opened").into());
            };
            if !self.spend_login(self.account.id).await? {
                return self.end_rehearsal(JobOutcome::LockedOut, NO_BUDGET).await;
            }
            let met = self
                .connector()?
                .change_as_itself(current, &candidate, never)
                .await;
            if met.result != Change::AccountRefused {
                self.forgive_login(self.account.id).await?;
            }
            met
        } else {
            let operator = match self.open_operator(STEP).await? {
                Ok(operator) => operator,
                Err(why) => return self.end_rehearsal(JobOutcome::Unreachable, &why).await,
            };
            self.change_as_operator(&operator, &candidate, never, &mut message)
                .await?
        };
        let heard = self
            .note_identity(candidate.trusts_first_contact(), met)
            .await?;
        let (outcome, words) = match heard {
            // The connector was ready to send, and was told not to.
            Change::LeaseLost => (
                JobOutcome::Done,
                "everything went well up to the change, which was left out".to_owned(),
            ),
            Change::Refused(why) => (JobOutcome::Refused, why),
            Change::NotReached(why) | Change::Lost(why) => (JobOutcome::Unreachable, why),
            Change::OperatorRefused => (JobOutcome::Refused, OPERATOR_REFUSED.to_owned()),
            Change::AccountRefused => (
                JobOutcome::Refused,
                "the stored password does not open the account".to_owned(),
            ),
            Change::Applied => {
                return Err(AppError::internal("a connector changed what it may not").into());
            }
        };
        self.end_rehearsal(outcome, &words).await
    }

    /// A stand-in for the new password: generated like one, but neither stored nor sent.
    async fn stand_in(&mut self) -> Step<Result<BoundLogin<Account>, String>> {
        let mut tx = self.begin_held(STEP).await?;
        let facts = self.device_facts(&mut tx).await?;
        let Some(own) = tx
            .binding_of_account(self.device, self.credential.id)
            .await?
        else {
            return Ok(Err(
                "no binding lets this password be sent to the device".into()
            ));
        };
        let permit = match self
            .lease
            .permit::<Account>(&own.binding, &facts, self.now())
        {
            Ok(permit) => permit,
            Err(no) => return refusal(no).map(Err),
        };
        let former = if self.is_key() {
            let known = former_key(&tx.versions(self.credential.id).await?);
            let line = known.get("public_key").and_then(serde_json::Value::as_str);
            line.map(ToOwned::to_owned)
        } else {
            None
        };
        let made = self.generate(&mut tx, self.credential.folder_id).await?;
        tx.commit().await?;
        let password = match made {
            Ok((password, _)) => password,
            Err(why) => return Ok(Err(why)),
        };
        let login = stand_in(&permit, &self.account.login, password)?;
        let login = login.with_fields(plain_fields(&self.credential.fields));
        Ok(Ok(login.replacing(former)))
    }

    async fn end_rehearsal(&mut self, outcome: JobOutcome, message: &str) -> Step<()> {
        let mut tx = self.begin_held("ending").await?;
        let state = if outcome == JobOutcome::Done {
            JobState::Done
        } else {
            JobState::Failed
        };
        tx.finish_job(&self.lease, state, outcome, message, self.now())
            .await?;
        let mut event = self.event(Action::UpkeepRehearsed);
        if state == JobState::Failed {
            event.outcome = Outcome::Failed;
        }
        event.detail.insert("message".into(), message.to_owned());
        tx.commit_with(&event, &self.keys.mac).await?;
        Ok(())
    }
}

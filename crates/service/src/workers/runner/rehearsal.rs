//! A rehearsal: a rotation up to the change, without changing anything. The transcript stays with the
//! job.

use jexlin_app::error::AppError;
use jexlin_core::audit::Action;
use jexlin_core::upkeep::{Account, BoundLogin, ChangeMethod, JobOutcome};
use jexlin_core::vault::stand_in;
use jexlin_devices::{Change, MaySend};

use super::opening::{NO_BUDGET, plain_fields};
use super::rotation::OPERATOR_REFUSED;
use super::{Runner, Step};

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
        let trusts_first_contact = candidate.trusts_first_contact();
        let met = if self.job.method == ChangeMethod::Own {
            if !self.spend_login(self.account.id).await? {
                return self.end_rehearsal(JobOutcome::LockedOut, NO_BUDGET).await;
            }
            let opened = match self.open(STEP, &[None], false).await? {
                Ok(opened) => opened,
                Err(why) => {
                    self.forgive_login(self.account.id).await?;
                    return self.end_rehearsal(JobOutcome::Unreachable, &why).await;
                }
            };
            let Some(current) = opened.account.first() else {
                return Err(AppError::internal("nothing was opened").into());
            };
            let candidate = candidate.through(current.endpoint().connection());
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
            let candidate = candidate.through(operator.endpoint().connection());
            self.change_as_operator(&operator, &candidate, never, &mut message)
                .await?
        };
        let heard = self.note_identity(trusts_first_contact, met).await?;
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
        let permit = match self.account_permit(&mut tx, &facts).await? {
            Ok(permit) => permit,
            Err(why) => return Ok(Err(why)),
        };
        let former = self.former_public_key(&mut tx).await?;
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
        let event = self.event(Action::UpkeepRehearsed);
        self.end_with(event, outcome, message).await
    }
}

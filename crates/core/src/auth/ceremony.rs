//! Signing in is a ceremony: it starts for one account on one channel, takes its steps in order,
//! and ends in [`SignedIn`], which nothing else makes and without which there is no session.
//!
//! Today every account has one step. A second factor is one more [`Step`] and a higher
//! [`Assurance`]; a single sign-on is a step that stands for the password. Neither is another way
//! in beside this one.
//!
//! ```text
//! Ceremony::start ─► Step::Password ─► Progress::Next(…) ─► … ─► Progress::Done(SignedIn)
//!       └─ refused: not active, or of another type than the channel is for
//! ```

use subtle::ConstantTimeEq as _;
use uuid::Uuid;

use super::passwords::verify_password;
use crate::people::{PersonState, PersonType};
use crate::secret::Secret;
use crate::words::word_enum;

word_enum! {
    /// By what somebody signs in.
    pub enum Channel {
        /// The console.
        Console,
        /// The command line.
        Client,
        /// A program, with a short-lived token.
        Program,
    }
}

impl Channel {
    /// Whether a session ends when it is not used for a while. A program may wait; its token is
    /// short-lived instead.
    #[must_use]
    pub const fn ends_when_idle(self) -> bool {
        !matches!(self, Self::Program)
    }
}

word_enum! {
    /// How sure it is that a session is of who it says.
    pub enum Assurance {
        /// One secret was proved.
        OneFactor,
        /// Two independent secrets were proved.
        TwoFactors,
    }
}

word_enum! {
    /// What has to be proved next.
    pub enum Step {
        /// The sign-in password.
        Password,
        /// The secret of a client.
        ClientSecret,
    }
}

/// Signing in is refused. Whatever is wrong, it says no more than that.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Refused;

/// Somebody who is signing in: which steps are still to be taken.
#[derive(Debug)]
pub struct Ceremony {
    person: Uuid,
    channel: Channel,
    left: Vec<Step>,
    proved: u8,
}

/// What comes after a step.
#[derive(Debug)]
pub enum Progress {
    /// Another step.
    Next(Ceremony),
    /// The end.
    Done(SignedIn),
}

/// A ceremony that ended well: who, by what, and how surely. Only [`Ceremony`] makes it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct SignedIn {
    person: Uuid,
    channel: Channel,
    assurance: Assurance,
}

impl SignedIn {
    /// Who.
    #[must_use]
    pub const fn person(&self) -> Uuid {
        self.person
    }

    /// By what.
    #[must_use]
    pub const fn channel(&self) -> Channel {
        self.channel
    }

    /// How surely.
    #[must_use]
    pub const fn assurance(&self) -> Assurance {
        self.assurance
    }
}

impl Ceremony {
    /// Starts for an account.
    ///
    /// # Errors
    /// When it may not sign in at all, or not on this channel.
    pub fn start(
        person: Uuid,
        person_type: PersonType,
        state: PersonState,
        channel: Channel,
    ) -> Result<Self, Refused> {
        let step = match (person_type, channel) {
            (PersonType::Person, Channel::Console | Channel::Client) => Step::Password,
            (PersonType::Client, Channel::Program) => Step::ClientSecret,
            _ => return Err(Refused),
        };
        if state != PersonState::Active {
            return Err(Refused);
        }
        Ok(Self {
            person,
            channel,
            left: vec![step],
            proved: 0,
        })
    }

    /// The step that comes now.
    #[must_use]
    pub fn step(&self) -> Option<Step> {
        self.left.first().copied()
    }

    /// Takes the step [`Step::Password`]; `phc` is the hash that is kept.
    ///
    /// # Errors
    /// When another step is due, or the password is wrong.
    pub fn password(self, phc: &str, password: &Secret) -> Result<Progress, Refused> {
        let right = verify_password(phc, password);
        self.take(Step::Password, right)
    }

    /// Takes the step [`Step::ClientSecret`]: the hash of the secret that was sent, and the one
    /// that is kept.
    ///
    /// # Errors
    /// When another step is due, or the secret is wrong.
    pub fn client_secret(self, kept: Option<&[u8]>, sent: &[u8]) -> Result<Progress, Refused> {
        let right = kept.is_some_and(|kept| bool::from(kept.ct_eq(sent)));
        self.take(Step::ClientSecret, right)
    }

    fn take(mut self, step: Step, right: bool) -> Result<Progress, Refused> {
        if !right || self.step() != Some(step) {
            return Err(Refused);
        }
        self.left.remove(0);
        self.proved += 1;
        if !self.left.is_empty() {
            return Ok(Progress::Next(self));
        }
        Ok(Progress::Done(SignedIn {
            person: self.person,
            channel: self.channel,
            assurance: if self.proved > 1 {
                Assurance::TwoFactors
            } else {
                Assurance::OneFactor
            },
        }))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::auth::hash_password;
    use strum::VariantArray as _;

    const PERSON: Uuid = Uuid::from_u128(7);

    fn start(
        person_type: PersonType,
        state: PersonState,
        channel: Channel,
    ) -> Result<Ceremony, Refused> {
        Ceremony::start(PERSON, person_type, state, channel)
    }

    #[test]
    fn the_right_password_ends_the_ceremony_and_a_wrong_one_refuses() {
        let password = Secret::from_text("nine pumps and a weir".into());
        let phc = hash_password(&mut rand::rng(), &password).unwrap();
        let begun = || start(PersonType::Person, PersonState::Active, Channel::Console).unwrap();
        assert_eq!(begun().step(), Some(Step::Password));
        let Ok(Progress::Done(signed_in)) = begun().password(&phc, &password) else {
            panic!("it goes on");
        };
        assert_eq!(
            (
                signed_in.person(),
                signed_in.channel(),
                signed_in.assurance()
            ),
            (PERSON, Channel::Console, Assurance::OneFactor)
        );
        let wrong = Secret::from_text("nine pumps and a wier".into());
        assert!(begun().password(&phc, &wrong).is_err());
        assert!(
            begun().client_secret(Some(b"x"), b"x").is_err(),
            "another step is due"
        );
    }

    #[test]
    fn only_active_accounts_start_and_only_on_their_channels() {
        for person_type in PersonType::VARIANTS {
            for state in PersonState::VARIANTS {
                for channel in Channel::VARIANTS {
                    let suits =
                        (*person_type == PersonType::Client) == (*channel == Channel::Program);
                    let starts = suits && *state == PersonState::Active;
                    assert_eq!(start(*person_type, *state, *channel).is_ok(), starts);
                }
            }
        }
    }

    #[test]
    fn a_client_without_a_secret_never_ends_the_ceremony() {
        let begun = || start(PersonType::Client, PersonState::Active, Channel::Program).unwrap();
        assert!(begun().client_secret(None, b"").is_err());
        assert!(begun().client_secret(Some(b"one"), b"two").is_err());
        assert!(matches!(
            begun().client_secret(Some(b"one"), b"one"),
            Ok(Progress::Done(_))
        ));
    }
}

//! The rotation state machine.
//!
//! ```text
//! Make ─► Apply ─► Verify ─► Promote            the good way
//!           │        │
//!           ▼        ▼
//!      TryCandidate ─► TryCurrent ─► Discard    in doubt: what works wins
//!           │             │
//!           └─► Promote   └─► KeepBoth          and if neither answers, both are kept
//! ```
//!
//! The machine can be entered afresh at any time with nothing but the fact that a candidate is
//! stored: then it does not know whether the device has it, and asks.

use super::RotationOutcome;

/// What the worker does next.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Next {
    /// Generate a candidate and make it durable, with its audit event.
    Make,
    /// Change the password on the device.
    Apply,
    /// Log in afresh with the candidate.
    TryCandidate,
    /// Log in afresh with the current password.
    TryCurrent,
    /// Candidate becomes current, current becomes previous.
    Promote,
    /// The candidate is not on the device: discard it, and say why.
    Discard {
        /// The device's own words, without the secret; empty when it did not refuse in words.
        why: String,
        /// What the rotation comes to.
        outcome: RotationOutcome,
    },
    /// Nothing is certain: keep both, tell stewards, try again later.
    KeepBoth,
    /// Nothing was stored or tried.
    Stop {
        /// What the rotation comes to.
        outcome: RotationOutcome,
    },
}

/// What the worker tells the machine.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Heard {
    /// The candidate is durable.
    Kept,
    /// The device could not be reached, and surely nothing was sent to it.
    NotReached,
    /// The device says that the password is changed.
    Applied,
    /// The device clearly refused, in these words.
    Refused(String),
    /// The connection was lost after something may have been sent.
    Lost,
    /// The login opened the account.
    Opened,
    /// The device answered, and the login did not open the account.
    Closed,
    /// The login could not be tried: no answer, or the budget of failed logins is spent.
    NoAnswer,
}

/// Where a rotation stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Rotation(State);

#[derive(Clone, Debug, PartialEq, Eq)]
enum State {
    Making,
    Applying,
    /// The device said yes, or may have. Whether a refusal was heard, and what it said.
    TryingCandidate {
        refusal: Option<String>,
    },
    /// The candidate did not open the account; `answered`: by the device's own word.
    TryingCurrent {
        refusal: Option<String>,
        answered: bool,
    },
    Ended(Next),
}

impl Rotation {
    /// Begins, or takes over from a worker that is gone: `candidate_kept` says whether a candidate
    /// is stored.
    #[must_use]
    pub const fn begin(candidate_kept: bool) -> Self {
        if candidate_kept { Self(State::TryingCandidate { refusal: None }) } else { Self(State::Making) }
    }

    /// What to do now.
    #[must_use]
    pub fn next(&self) -> Next {
        match &self.0 {
            State::Making => Next::Make,
            State::Applying => Next::Apply,
            State::TryingCandidate { .. } => Next::TryCandidate,
            State::TryingCurrent { .. } => Next::TryCurrent,
            State::Ended(next) => next.clone(),
        }
    }

    /// Takes in what happened. Anything unexpected is treated as an answer that was lost, since
    /// that is the case in which nothing is thrown away.
    #[must_use]
    pub fn heard(self, heard: Heard) -> Self {
        use RotationOutcome as Out;
        let ended = |next| State::Ended(next);
        Self(match (self.0, heard) {
            (State::Making, Heard::Kept) => State::Applying,
            (State::Making, _) => ended(Next::Stop { outcome: Out::Unreachable }),
            (State::Applying, Heard::Applied) => State::TryingCandidate { refusal: None },
            (State::Applying, Heard::NotReached) => ended(Next::Discard { why: String::new(), outcome: Out::Unreachable }),
            // A refusal is checked like a doubt: some devices refuse half of a change.
            (State::Applying, Heard::Refused(why)) => State::TryingCurrent { refusal: Some(why), answered: false },
            (State::Applying, _) => State::TryingCandidate { refusal: None },
            (State::TryingCandidate { .. }, Heard::Opened) => ended(Next::Promote),
            // Refused in words, and by the device's own answer not there: surely not applied.
            (State::TryingCandidate { refusal: Some(why) }, Heard::Closed) => ended(Next::Discard { why, outcome: Out::Refused }),
            (State::TryingCandidate { refusal: Some(_) }, _) => ended(Next::KeepBoth),
            (State::TryingCandidate { refusal: None }, heard) => State::TryingCurrent { refusal: None, answered: heard == Heard::Closed },
            (State::TryingCurrent { refusal: Some(why), .. }, Heard::Opened) => ended(Next::Discard { why, outcome: Out::Refused }),
            // Current opens, but a directory may accept an old password for a while: only when the
            // device itself said no to the candidate is the candidate surely not there.
            (State::TryingCurrent { refusal: None, answered: true, .. }, Heard::Opened) => {
                ended(Next::Discard { why: String::new(), outcome: Out::Unreachable })
            }
            (State::TryingCurrent { refusal: Some(why), .. }, _) => State::TryingCandidate { refusal: Some(why) },
            (State::TryingCurrent { .. }, _) => ended(Next::KeepBoth),
            (State::Ended(next), _) => State::Ended(next),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn run(start: Rotation, heard: &[Heard]) -> Next {
        heard.iter().cloned().fold(start, Rotation::heard).next()
    }

    #[test]
    fn the_good_way() {
        let start = Rotation::begin(false);
        assert_eq!(start.next(), Next::Make);
        assert_eq!(run(start.clone(), &[Heard::Kept]), Next::Apply);
        assert_eq!(run(start.clone(), &[Heard::Kept, Heard::Applied]), Next::TryCandidate);
        assert_eq!(run(start, &[Heard::Kept, Heard::Applied, Heard::Opened]), Next::Promote);
    }

    #[test]
    fn a_clear_refusal_discards_and_keeps_the_words() {
        let next = run(Rotation::begin(false), &[Heard::Kept, Heard::Refused("too short".into()), Heard::Opened]);
        assert_eq!(next, Next::Discard { why: "too short".into(), outcome: RotationOutcome::Refused });
    }

    #[test]
    fn a_refusal_that_was_half_a_change_is_found_out() {
        let start = [Heard::Kept, Heard::Refused("disk full".into()), Heard::Closed];
        assert_eq!(run(Rotation::begin(false), &start), Next::TryCandidate);
        assert_eq!(run(Rotation::begin(false), &[&start[..], &[Heard::Opened]].concat()), Next::Promote);
        assert!(matches!(run(Rotation::begin(false), &[&start[..], &[Heard::Closed]].concat()), Next::Discard { outcome: RotationOutcome::Refused, .. }));
        assert_eq!(run(Rotation::begin(false), &[&start[..], &[Heard::NoAnswer]].concat()), Next::KeepBoth);
    }

    #[test]
    fn in_doubt_what_works_wins_and_silence_keeps_both() {
        let doubt = Rotation::begin(true);
        assert_eq!(run(doubt.clone(), &[Heard::Opened]), Next::Promote);
        assert!(matches!(run(doubt.clone(), &[Heard::Closed, Heard::Opened]), Next::Discard { .. }));
        assert_eq!(run(doubt.clone(), &[Heard::NoAnswer, Heard::Opened]), Next::KeepBoth);
        assert_eq!(run(doubt, &[Heard::NoAnswer, Heard::NoAnswer]), Next::KeepBoth);
    }

    /// A device and a vault, and a worker that dies and loses connections as the numbers say.
    struct World {
        device: u32,
        current: u32,
        candidate: Option<u32>,
    }

    impl World {
        /// One worker's run; false when it died.
        fn work(&mut self, faults: &mut impl Iterator<Item = u8>, fresh: &mut u32) -> bool {
            let mut rotation = Rotation::begin(self.candidate.is_some());
            for _ in 0..20 {
                let fault = faults.next().unwrap_or(0) % 6;
                if fault == 1 {
                    return false;
                }
                let try_login = |password: Option<u32>, device: u32| match (fault, password) {
                    (2, _) => Heard::NoAnswer,
                    (_, Some(password)) if password == device => Heard::Opened,
                    _ => Heard::Closed,
                };
                let heard = match rotation.next() {
                    Next::Make => {
                        *fresh += 1;
                        self.candidate = Some(*fresh);
                        Heard::Kept
                    }
                    Next::Apply => match fault {
                        2 => Heard::NotReached,
                        3 => Heard::Lost,
                        4 => Heard::Refused("no".into()),
                        5 => {
                            self.device = self.candidate.unwrap();
                            Heard::Lost
                        }
                        _ => {
                            self.device = self.candidate.unwrap();
                            Heard::Applied
                        }
                    },
                    Next::TryCandidate => try_login(self.candidate, self.device),
                    Next::TryCurrent => try_login(Some(self.current), self.device),
                    Next::Promote => {
                        self.current = self.candidate.take().unwrap();
                        return true;
                    }
                    Next::Discard { .. } => {
                        self.candidate = None;
                        return true;
                    }
                    Next::KeepBoth | Next::Stop { .. } => return true,
                };
                rotation = rotation.heard(heard);
            }
            panic!("a rotation does not end");
        }
    }

    proptest! {
        #[test]
        fn whatever_fails_and_whoever_dies_the_vault_holds_the_devices_password(faults in prop::collection::vec(any::<u8>(), 0..60)) {
            let mut world = World { device: 1, current: 1, candidate: None };
            let mut fresh = 1;
            let mut faults = faults.into_iter();
            for _ in 0..12 {
                world.work(&mut faults, &mut fresh);
                prop_assert!(world.device == world.current || Some(world.device) == world.candidate);
            }
            // With no more faults, one run settles it.
            world.work(&mut std::iter::empty(), &mut fresh);
            prop_assert_eq!(world.device, world.current);
        }
    }
}

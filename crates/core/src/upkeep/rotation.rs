//! The rotation state machine.
//!
//! ```text
//! Make ─► Apply ─► TryCandidate ─► Promote               the good way
//!           ▲            │ closed
//!           │            ▼
//!           └────── TryCurrent ─► Discard | KeepBoth     in doubt
//! ```
//!
//! A candidate that was sent and whose sending was never answered may still be applied by the
//! device: by a slow command that ends after its time limit, or by a worker that was taken for
//! dead. So it is never discarded because the current password opens the account. The same
//! candidate is applied again instead: whichever of the two applications comes last, the device has
//! the same password. A candidate is discarded when it surely never was sent, when the device
//! refused it in words and no other sending is unanswered, or a day after the last unanswered
//! sending; and even then it stays in the vault, marked, and a check that finds the account closed
//! tries it ([`Suspects`]).
//!
//! Worked example: candidate 2 is sent, the connection breaks. The machine tries 2 (closed) and 1
//! (opens), and applies 2 again; the device says done, 2 opens, 2 is promoted. Had the first
//! command ended only now, the device would have taken 2 again, which changes nothing.
//!
//! The machine can be entered afresh at any time with nothing but what is stored about the
//! candidate: then it does not know whether the device has it, and asks.

use chrono::{DateTime, TimeDelta, Utc};

use super::RotationOutcome;

/// So long after the last sending that was not answered, a candidate that does not open the account
/// is discarded.
pub const LATE_APPLY: TimeDelta = TimeDelta::hours(24);

/// So long after the last sending that was not answered, a password that is not the current one is
/// tried by a check that finds the account closed.
pub const SUSPECT_FOR: TimeDelta = TimeDelta::days(30);

/// What is stored when a worker begins.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Stored {
    /// No candidate.
    Nothing,
    /// A candidate that was never sent.
    Candidate,
    /// A candidate that was sent at this time, with an answer that was lost or not yet acted on.
    Unanswered(DateTime<Utc>),
}

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
        /// The outcome of the rotation.
        outcome: RotationOutcome,
    },
    /// Nothing is certain: keep both, tell stewards, try again later.
    KeepBoth,
    /// Nothing was stored or tried.
    Stop {
        /// The outcome of the rotation.
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
pub struct Rotation {
    state: State,
    /// Whether a sending of the candidate was never answered.
    unanswered: bool,
    /// Whether that was so long ago that the device will not apply it any more.
    long_ago: bool,
    /// Whether this run may still send the candidate.
    may_apply: bool,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum State {
    Making,
    Applying,
    /// The device said yes, or no in these words, or nothing.
    TryingCandidate(Option<String>),
    /// The candidate did not open the account, by the device's own word.
    TryingCurrent(Option<String>),
    Ended(Next),
}

impl Rotation {
    /// Begins, or takes over from a worker that is gone.
    #[must_use]
    pub fn begin(stored: Stored, now: DateTime<Utc>) -> Self {
        let start = |state, unanswered, long_ago| Self {
            state,
            unanswered,
            long_ago,
            may_apply: true,
        };
        match stored {
            Stored::Nothing => start(State::Making, false, false),
            Stored::Candidate => start(State::Applying, false, false),
            Stored::Unanswered(since) => start(
                State::TryingCandidate(None),
                true,
                now - since >= LATE_APPLY,
            ),
        }
    }

    /// Whether a sending of the candidate was never answered. The mark that is made before each
    /// sending is taken off by the transaction that ends the rotation, and only when this is false:
    /// a worker that dies between the device's answer and that transaction leaves it.
    #[must_use]
    pub const fn is_unanswered(&self) -> bool {
        self.unanswered
    }

    /// What to do now.
    #[must_use]
    pub fn next(&self) -> Next {
        match &self.state {
            State::Making => Next::Make,
            State::Applying => Next::Apply,
            State::TryingCandidate(_) => Next::TryCandidate,
            State::TryingCurrent(_) => Next::TryCurrent,
            State::Ended(next) => next.clone(),
        }
    }

    /// Takes in what happened. Anything unexpected is treated as an answer that was lost, since
    /// that is the case in which nothing is thrown away.
    #[must_use]
    pub fn heard(mut self, heard: Heard) -> Self {
        use RotationOutcome as Out;
        let applying = self.state == State::Applying;
        self.state = match (self.state, heard) {
            (State::Making, Heard::Kept) => State::Applying,
            (State::Making, _) => State::Ended(Next::Stop {
                outcome: Out::Unreachable,
            }),
            (State::Applying, Heard::NotReached) if self.unanswered => State::Ended(Next::KeepBoth),
            (State::Applying, Heard::NotReached) => State::Ended(Next::Discard {
                why: String::new(),
                outcome: Out::Unreachable,
            }),
            (State::Applying, Heard::Applied) => State::TryingCandidate(None),
            // A refusal is checked like a doubt: some devices refuse half of a change.
            (State::Applying, Heard::Refused(why)) => State::TryingCandidate(Some(why)),
            (State::Applying, _) => {
                self.unanswered = true;
                State::TryingCandidate(None)
            }
            (State::TryingCandidate(_), Heard::Opened) => State::Ended(Next::Promote),
            // Refused in words, and by the device's own answer not there: surely not applied.
            (State::TryingCandidate(Some(why)), Heard::Closed) if !self.unanswered => {
                State::Ended(Next::Discard {
                    why,
                    outcome: Out::Refused,
                })
            }
            (State::TryingCandidate(refusal), Heard::Closed) => State::TryingCurrent(refusal),
            (State::TryingCandidate(_), _) => State::Ended(Next::KeepBoth),
            (State::TryingCurrent(refusal), Heard::Opened) => {
                let outcome = if refusal.is_some() {
                    Out::Refused
                } else {
                    Out::Unreachable
                };
                match refusal {
                    Some(why) if self.long_ago => State::Ended(Next::Discard { why, outcome }),
                    None if self.long_ago && self.may_apply => State::Ended(Next::Discard {
                        why: String::new(),
                        outcome,
                    }),
                    None if self.may_apply => State::Applying,
                    // A device that says done and keeps the old password may be slow.
                    _ => State::Ended(Next::KeepBoth),
                }
            }
            (State::TryingCurrent(_), _) => State::Ended(Next::KeepBoth),
            (State::Ended(next), _) => State::Ended(next),
        };
        self.may_apply = self.may_apply && !applying;
        self
    }
}

/// Which stored passwords, other than the current one, the device could have: those with an
/// unanswered sending within [`SUSPECT_FOR`], newest first. A check that finds the account closed
/// tries them, as far as the lockout budget goes.
#[must_use]
pub fn suspects(mut unanswered: Vec<(i32, DateTime<Utc>)>, now: DateTime<Utc>) -> Vec<i32> {
    unanswered.retain(|(_, since)| now - *since < SUSPECT_FOR);
    unanswered.sort_by_key(|(number, _)| std::cmp::Reverse(*number));
    unanswered.into_iter().map(|(number, _)| number).collect()
}

#[cfg(test)]
mod tests {
    use std::collections::{BTreeMap, BTreeSet, VecDeque};

    use super::*;

    fn at(hours: i64) -> DateTime<Utc> {
        DateTime::from_timestamp(hours * 3600, 0).unwrap()
    }

    fn start(stored: Stored) -> Rotation {
        Rotation::begin(stored, at(0))
    }

    fn run(start: Rotation, heard: &[Heard]) -> Next {
        heard.iter().cloned().fold(start, Rotation::heard).next()
    }

    #[test]
    fn the_good_way() {
        let begin = start(Stored::Nothing);
        assert_eq!(begin.next(), Next::Make);
        assert_eq!(run(begin.clone(), &[Heard::Kept]), Next::Apply);
        assert_eq!(
            run(begin.clone(), &[Heard::Kept, Heard::Applied]),
            Next::TryCandidate
        );
        assert_eq!(
            run(begin, &[Heard::Kept, Heard::Applied, Heard::Opened]),
            Next::Promote
        );
    }

    #[test]
    fn a_clear_refusal_discards_and_keeps_the_words() {
        let next = run(
            start(Stored::Nothing),
            &[
                Heard::Kept,
                Heard::Refused("too short".into()),
                Heard::Closed,
            ],
        );
        assert_eq!(
            next,
            Next::Discard {
                why: "too short".into(),
                outcome: RotationOutcome::Refused
            }
        );
    }

    #[test]
    fn a_refusal_that_was_half_a_change_is_found_out() {
        let half = [Heard::Kept, Heard::Refused("disk full".into())];
        assert_eq!(run(start(Stored::Nothing), &half), Next::TryCandidate);
        assert_eq!(
            run(
                start(Stored::Nothing),
                &[&half[..], &[Heard::Opened]].concat()
            ),
            Next::Promote
        );
        assert_eq!(
            run(
                start(Stored::Nothing),
                &[&half[..], &[Heard::NoAnswer]].concat()
            ),
            Next::KeepBoth
        );
        assert!(matches!(
            run(
                start(Stored::Nothing),
                &[&half[..], &[Heard::Closed]].concat()
            ),
            Next::Discard {
                outcome: RotationOutcome::Refused,
                ..
            }
        ));
    }

    #[test]
    fn an_unanswered_candidate_is_applied_again_and_not_discarded() {
        let doubt = start(Stored::Unanswered(at(0)));
        assert_eq!(doubt.next(), Next::TryCandidate);
        assert_eq!(run(doubt.clone(), &[Heard::Opened]), Next::Promote);
        assert_eq!(run(doubt.clone(), &[Heard::NoAnswer]), Next::KeepBoth);
        assert_eq!(
            run(doubt.clone(), &[Heard::Closed, Heard::Opened]),
            Next::Apply
        );
        assert_eq!(
            run(
                doubt.clone(),
                &[Heard::Closed, Heard::Opened, Heard::NotReached]
            ),
            Next::KeepBoth
        );
        let refused = [
            Heard::Closed,
            Heard::Opened,
            Heard::Refused("too short".into()),
            Heard::Closed,
            Heard::Opened,
        ];
        assert_eq!(
            run(doubt, &refused),
            Next::KeepBoth,
            "an earlier sending is still unanswered"
        );
        let old = Rotation::begin(Stored::Unanswered(at(0)), at(24));
        assert!(matches!(
            run(old, &[Heard::Closed, Heard::Opened]),
            Next::Discard { .. }
        ));
    }

    #[test]
    fn a_device_that_says_done_and_keeps_the_old_password_keeps_both() {
        let next = run(
            start(Stored::Nothing),
            &[Heard::Kept, Heard::Applied, Heard::Closed, Heard::Opened],
        );
        assert_eq!(next, Next::KeepBoth);
    }

    #[test]
    fn suspects_are_recent_and_newest_first() {
        assert_eq!(
            suspects(vec![(2, at(0)), (5, at(10)), (1, at(-24 * 31))], at(11)),
            [5, 2]
        );
    }

    // The model: a device and a vault, two workers, and every order of events within bounds.

    /// What is known of one stored password.
    #[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
    struct Version {
        state: &'static str,
        unanswered: bool,
    }

    /// A worker that holds, or believes to hold, the lease.
    #[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
    struct Worker {
        fence: u8,
        heard: Vec<u8>,
        stored: u8,
        /// The candidate that it marked as sent and is about to send.
        sending: Option<u8>,
    }

    #[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
    struct World {
        device: u8,
        /// Passwords that commands on the device may still apply.
        late: BTreeSet<u8>,
        versions: BTreeMap<u8, Version>,
        fence: u8,
        workers: [Option<Worker>; 2],
    }

    const HEARD: [Heard; 7] = [
        Heard::Kept,
        Heard::NotReached,
        Heard::Applied,
        Heard::Lost,
        Heard::Opened,
        Heard::Closed,
        Heard::NoAnswer,
    ];
    const REFUSED: u8 = 7;

    fn word(number: u8) -> Heard {
        HEARD
            .get(usize::from(number))
            .cloned()
            .unwrap_or(Heard::Refused("no".into()))
    }

    fn number(heard: &Heard) -> u8 {
        HEARD
            .iter()
            .position(|known| known == heard)
            .map_or(REFUSED, |index| u8::try_from(index).unwrap())
    }

    impl World {
        fn new() -> Self {
            let first = Version {
                state: "current",
                unanswered: false,
            };
            Self {
                device: 1,
                late: BTreeSet::new(),
                versions: [(1, first)].into(),
                fence: 0,
                workers: [None, None],
            }
        }

        fn with(&self, state: &str) -> Option<u8> {
            self.versions
                .iter()
                .find(|(_, version)| version.state == state)
                .map(|(number, _)| *number)
        }

        fn set(&mut self, number: u8, state: &'static str) {
            self.versions.get_mut(&number).unwrap().state = state;
        }

        fn promote(&mut self, number: u8) {
            let current = self.with("current").unwrap();
            self.set(current, "previous");
            self.set(number, "current");
        }

        fn rotation(worker: &Worker) -> Rotation {
            let stored = [
                Stored::Nothing,
                Stored::Candidate,
                Stored::Unanswered(at(0)),
            ][usize::from(worker.stored)];
            worker
                .heard
                .iter()
                .map(|heard| word(*heard))
                .fold(start(stored), Rotation::heard)
        }

        /// What the store knows when a worker begins.
        fn stored(&self) -> u8 {
            match self
                .with("candidate")
                .map(|number| self.versions[&number].unanswered)
            {
                None => 0,
                Some(false) => 1,
                Some(true) => 2,
            }
        }

        /// Every state that can follow.
        fn next(&self, most_versions: u8, most_fences: u8) -> Vec<Self> {
            let mut out = vec![];
            // A late command ends on the device.
            for late in &self.late {
                let mut world = self.clone();
                world.device = *late;
                world.late.remove(late);
                out.push(world);
            }
            for index in 0..2 {
                match &self.workers[index] {
                    // A lease is taken, perhaps over a worker that is only slow.
                    None if self.fence < most_fences => {
                        let mut world = self.clone();
                        world.fence += 1;
                        world.workers[index] = Some(Worker {
                            fence: world.fence,
                            heard: vec![],
                            stored: self.stored(),
                            sending: None,
                        });
                        out.push(world);
                    }
                    None => {}
                    Some(worker) => {
                        // It dies.
                        let mut dead = self.clone();
                        dead.workers[index] = None;
                        out.push(dead);
                        out.extend(self.step(index, worker, most_versions));
                    }
                }
            }
            out
        }

        /// One step of a worker. Whatever it writes is refused when its fence is not the last one.
        fn step(&self, index: usize, worker: &Worker, most_versions: u8) -> Vec<Self> {
            let fenced = worker.fence == self.fence;
            let mut out = vec![];
            let mut heard = |mut world: Self, heard: Heard| {
                let worker = world.workers[index].as_mut().unwrap();
                worker.heard.push(number(&heard));
                worker.sending = None;
                out.push(world);
            };
            let mut ended = vec![];
            let unanswered = Self::rotation(worker).is_unanswered();
            match Self::rotation(worker).next() {
                Next::Make
                    if fenced && u8::try_from(self.versions.len()).unwrap() < most_versions =>
                {
                    let mut world = self.clone();
                    let number = u8::try_from(self.versions.len()).unwrap() + 1;
                    world.versions.insert(
                        number,
                        Version {
                            state: "candidate",
                            unanswered: false,
                        },
                    );
                    heard(world, Heard::Kept);
                }
                Next::Apply => match worker.sending {
                    // First the mark, in a transaction that checks the fence; then the sending,
                    // which can come at any later time.
                    None if fenced => {
                        heard(self.clone(), Heard::NotReached);
                        let mut world = self.clone();
                        let candidate = self.with("candidate").unwrap();
                        world.versions.get_mut(&candidate).unwrap().unanswered = true;
                        world.workers[index].as_mut().unwrap().sending = Some(candidate);
                        out.push(world);
                    }
                    None => {}
                    Some(candidate) => {
                        let mut applied = self.clone();
                        applied.device = candidate;
                        // Done, or half of a change that ends in a refusal.
                        heard(applied.clone(), Heard::Applied);
                        heard(applied.clone(), Heard::Refused("no".into()));
                        heard(self.clone(), Heard::Refused("no".into()));
                        // Lost: applied already, or late, or twice, or never.
                        heard(applied.clone(), Heard::Lost);
                        heard(self.clone(), Heard::Lost);
                        for mut late in [applied, self.clone()] {
                            late.late.insert(candidate);
                            heard(late, Heard::Lost);
                        }
                    }
                },
                Next::TryCandidate | Next::TryCurrent => {
                    let state = if Self::rotation(worker).next() == Next::TryCandidate {
                        "candidate"
                    } else {
                        "current"
                    };
                    heard(self.clone(), Heard::NoAnswer);
                    // A worker that was taken over may still hold what it opened before.
                    if let Some(number) = self.with(state) {
                        heard(
                            self.clone(),
                            if number == self.device {
                                Heard::Opened
                            } else {
                                Heard::Closed
                            },
                        );
                        // A directory may accept the former password for a while.
                        if state == "current" {
                            heard(self.clone(), Heard::Opened);
                        }
                    }
                }
                Next::Promote if fenced => {
                    let mut world = self.clone();
                    let candidate = self.with("candidate").unwrap();
                    world.versions.get_mut(&candidate).unwrap().unanswered = unanswered;
                    world.promote(candidate);
                    ended.push(world);
                }
                Next::Discard { .. } if fenced => {
                    let mut world = self.clone();
                    let candidate = self.with("candidate").unwrap();
                    world.versions.get_mut(&candidate).unwrap().unanswered = unanswered;
                    world.set(candidate, "discarded");
                    ended.push(world);
                }
                Next::KeepBoth | Next::Stop { .. } => ended.push(self.clone()),
                // Refused by the fence, or at the bound of the model.
                Next::Make | Next::Promote | Next::Discard { .. } => ended.push(self.clone()),
            }
            for mut world in ended {
                world.workers[index] = None;
                out.push(world);
            }
            out
        }

        /// Whether the vault keeps what the device has, where a check or a rotation looks for it.
        fn kept(&self) -> bool {
            let version = self.versions.get(&self.device);
            version.is_some_and(|version| {
                matches!(version.state, "current" | "candidate") || version.unanswered
            })
        }

        /// With no more faults, one worker settles it.
        fn settles(&self) -> bool {
            let mut world = self.clone();
            world.late.clear();
            world.workers = [None, None];
            if world.with("candidate") == Some(world.device) {
                world.promote(world.device);
            } else if world.with("current") != Some(world.device) {
                let found = world
                    .versions
                    .iter()
                    .filter(|(_, version)| version.unanswered)
                    .any(|(number, _)| *number == world.device);
                if !found {
                    return false;
                }
                world.promote(world.device);
            }
            world.with("current") == Some(world.device)
        }
    }

    /// Explores every order of two workers, dying, slow and taken over, with a device that applies
    /// at once, late, twice or never and answers wrongly.
    #[test]
    fn in_no_reachable_state_does_the_device_hold_a_password_that_the_vault_does_not_keep() {
        let (most_versions, most_fences) = (3, 3);
        let mut seen = BTreeSet::from([World::new()]);
        let mut queue = VecDeque::from([World::new()]);
        while let Some(world) = queue.pop_front() {
            assert!(world.kept(), "{world:?}");
            assert!(world.settles(), "{world:?}");
            for next in world.next(most_versions, most_fences) {
                if seen.insert(next.clone()) {
                    queue.push_back(next);
                }
            }
        }
        assert!(
            seen.len() > 10_000,
            "the model explored only {} states",
            seen.len()
        );
    }
}

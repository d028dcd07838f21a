//! Upkeep plans: when to check, when to rotate, inside which hours (RFC 5545 RRULE, IANA zones).

use chrono::{
    DateTime, Datelike as _, NaiveDate, NaiveTime, TimeDelta, TimeZone as _, Timelike as _, Utc,
};
use sha2::{Digest, Sha256};
use uuid::Uuid;

use crate::words::word_enum;

/// The most often that a rule may fire.
const LEAST_GAP: TimeDelta = TimeDelta::minutes(5);
/// So many times a day are as many as that allows.
const MOST_A_DAY: usize = 24 * 60 / 5;
/// Checks that fall due together are spread over this long.
const CHECK_SPREAD: TimeDelta = TimeDelta::minutes(10);
/// How far ahead a rule is searched for its next time: a leap day that is a Sunday may be 40 years
/// away.
const HORIZON_YEARS: i64 = 100;

word_enum! {
    /// What to do when a check finds a password out of sync.
    pub enum OutOfSync {
        /// Say so.
        Report,
        /// Rotate it, with the operator.
        Rotate,
        /// Both.
        Both,
    }
}

impl OutOfSync {
    /// Whether a rotation follows.
    #[must_use]
    pub const fn rotates(self) -> bool {
        !matches!(self, Self::Report)
    }
}

/// The hours of the day in which rotations may run, local to the plan; may go over midnight.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Hours {
    /// From this time on.
    pub from: NaiveTime,
    /// Until before this time. Equal to `from`: the whole day.
    pub to: NaiveTime,
}

/// When something happens again and again.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Recurrence {
    /// By an RFC 5545 recurrence rule.
    Rule(String),
    /// So many days after the last time.
    EveryDays(u16),
}

/// An upkeep plan, parsed and checked.
#[derive(Clone, Debug)]
pub struct Plan {
    /// When to check.
    pub check: Option<String>,
    /// What to do when out of sync.
    pub out_of_sync: OutOfSync,
    /// When to rotate.
    pub rotate: Option<Recurrence>,
    /// Inside which hours.
    pub hours: Option<Hours>,
    /// In which time zone.
    pub zone: chrono_tz::Tz,
    /// The day from which the rules count.
    pub anchor: NaiveDate,
}

/// Why a plan cannot be used.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum PlanProblem {
    /// No such zone.
    #[error("`{0}` is not a time zone; write one such as Europe/London")]
    Zone(String),
    /// Not RFC 5545.
    #[error("this is not a recurrence rule: {0}; write one such as FREQ=WEEKLY;BYDAY=MO;BYHOUR=2")]
    Rule(String),
    /// Never happens.
    #[error(
        "this rule never happens within the next {HORIZON_YEARS} years, or too rarely to be found by counting so finely; begin it with FREQ=YEARLY, FREQ=MONTHLY or FREQ=DAILY"
    )]
    Never,
    /// Happens all the time.
    #[error("this rule happens more often than every 5 minutes")]
    TooOften,
    /// Days out of bounds.
    #[error("the interval must be 1 to 3650 days, not {0}")]
    Days(u16),
    /// Not a time of day.
    #[error("`{0}` is not a time of day; write one such as 01:30")]
    Time(String),
    /// Nothing to do.
    #[error("the plan neither checks nor rotates")]
    Empty,
}

/// When a plan's rules come next.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct NextTimes {
    /// The next checks.
    pub checks: Vec<DateTime<Utc>>,
    /// The next rotations.
    pub rotations: Vec<DateTime<Utc>>,
}

impl Hours {
    /// Reads two times such as `22:00` and `04:30`.
    ///
    /// # Errors
    /// [`PlanProblem::Time`].
    pub fn parse(from: &str, to: &str) -> Result<Self, PlanProblem> {
        let time = |text: &str| {
            NaiveTime::parse_from_str(text, "%H:%M")
                .map_err(|_| PlanProblem::Time(text.chars().take(40).collect()))
        };
        Ok(Self {
            from: time(from)?,
            to: time(to)?,
        })
    }

    fn seconds(&self) -> i64 {
        let span = (self.to - self.from).num_seconds();
        if span <= 0 { span + 86_400 } else { span }
    }
}

/// Reads the name of a time zone.
fn zone(name: &str) -> Result<chrono_tz::Tz, PlanProblem> {
    name.parse()
        .map_err(|_| PlanProblem::Zone(name.chars().take(60).collect()))
}

impl Plan {
    /// Checks a plan as written and parses it.
    ///
    /// # Errors
    /// [`PlanProblem`].
    pub fn parse(
        check: Option<&str>,
        out_of_sync: OutOfSync,
        rotate: Option<Recurrence>,
        hours: Option<Hours>,
        zone_name: &str,
        anchor: NaiveDate,
    ) -> Result<Self, PlanProblem> {
        let plan = Self {
            check: check.map(str::to_owned),
            out_of_sync,
            rotate,
            hours,
            zone: zone(zone_name)?,
            anchor,
        };
        if plan.check.is_none() && plan.rotate.is_none() {
            return Err(PlanProblem::Empty);
        }
        let start = plan.local(anchor, NaiveTime::MIN);
        if let Some(rule) = &plan.check {
            plan.examine(rule, start)?;
        }
        match &plan.rotate {
            Some(Recurrence::Rule(rule)) => plan.examine(rule, start)?,
            Some(Recurrence::EveryDays(days)) if !(1..=3650).contains(days) => {
                return Err(PlanProblem::Days(*days));
            }
            _ => {}
        }
        Ok(plan)
    }

    /// A rule must happen, and not all the time.
    fn examine(&self, rule: &str, from: DateTime<Utc>) -> Result<(), PlanProblem> {
        let mut times = self.occurrences(rule, from, 60)?.into_iter();
        let mut before = times.next().ok_or(PlanProblem::Never)?;
        for time in times {
            if time - before < LEAST_GAP {
                return Err(PlanProblem::TooOften);
            }
            before = time;
        }
        Ok(())
    }

    /// The next times of a rule strictly after `after`.
    fn occurrences(
        &self,
        rule: &str,
        after: DateTime<Utc>,
        limit: u16,
    ) -> Result<Vec<DateTime<Utc>>, PlanProblem> {
        let shorten = |error: rrule::RRuleError| {
            PlanProblem::Rule(
                error
                    .to_string()
                    .chars()
                    .filter(|c| !c.is_control())
                    .take(160)
                    .collect(),
            )
        };
        if rule.len() > 500 || rule.chars().any(char::is_control) {
            return Err(PlanProblem::Rule(
                "it is too long or contains a line break".into(),
            ));
        }
        let parsed: rrule::RRule<rrule::Unvalidated> = rule.parse().map_err(shorten)?;
        let times_a_day = [
            parsed.get_by_hour().len(),
            parsed.get_by_minute().len(),
            parsed.get_by_second().len(),
        ];
        let times_a_day: usize = times_a_day.iter().map(|times| (*times).max(1)).product();
        if matches!(parsed.get_freq(), rrule::Frequency::Secondly) || times_a_day > MOST_A_DAY {
            return Err(PlanProblem::TooOften);
        }
        let zone = rrule::Tz::Tz(self.zone);
        let anchor = self.anchor_near(&parsed, after);
        let start = self.local(anchor, NaiveTime::MIN).with_timezone(&zone);
        if parsed.get_until().is_some_and(|until| *until < start) {
            return Err(PlanProblem::Never);
        }
        // Instants, not days of the calendar: the same clock time so many days on may be one that a
        // clock change skips or repeats.
        let from = after
            .checked_add_signed(TimeDelta::seconds(1))
            .unwrap_or(after);
        let horizon = from
            .checked_add_signed(TimeDelta::days(366 * HORIZON_YEARS))
            .unwrap_or(from)
            .with_timezone(&zone);
        let after = from.with_timezone(&zone);
        let set = parsed
            .build(start)
            .map_err(shorten)?
            .after(after)
            .before(horizon);
        let mut times: Vec<DateTime<Utc>> = set
            .all(limit)
            .dates
            .into_iter()
            .map(|time| time.with_timezone(&Utc))
            .collect();
        // A time that a clock change skips moves on, perhaps to where the rule has one anyway.
        times.sort_unstable();
        times.dedup();
        Ok(times)
    }

    /// A day from which a rule has the same times as from the plan's own, but later: whole
    /// intervals on. A rule that counts its times is counted from its beginning.
    ///
    /// ```text
    /// anchor 5 January, every 3 days, after 20 January:  17 January  (4 intervals on)
    /// anchor 5 January, every 36 hours:                  moves on by 3 days, 2 intervals, at a time
    /// ```
    fn anchor_near(
        &self,
        rule: &rrule::RRule<rrule::Unvalidated>,
        after: DateTime<Utc>,
    ) -> NaiveDate {
        use rrule::Frequency;
        if rule.get_count().is_some() {
            return self.anchor;
        }
        let interval = u64::from(rule.get_interval().max(1));
        // In how many days the intervals of a part of a day are whole days again.
        let whole_days = |parts: u64| {
            let (mut one, mut other) = (interval, parts);
            while other != 0 {
                (one, other) = (other, one % other);
            }
            interval / one.max(1)
        };
        let step = match rule.get_freq() {
            Frequency::Weekly => 7 * interval,
            Frequency::Daily => interval,
            Frequency::Hourly => whole_days(24),
            Frequency::Minutely => whole_days(24 * 60),
            // These have few times, and none of them is far.
            Frequency::Yearly | Frequency::Monthly | Frequency::Secondly => return self.anchor,
        };
        let day = after.with_timezone(&self.zone).date_naive();
        // A week earlier, since a week of the rule may have begun before the day.
        let passed = (day - self.anchor).num_days() - 7;
        let step = i64::try_from(step).unwrap_or(i64::MAX);
        if passed < step {
            return self.anchor;
        }
        let on = u64::try_from(passed / step * step).unwrap_or(0);
        self.anchor
            .checked_add_days(chrono::Days::new(on))
            .unwrap_or(self.anchor)
    }

    /// The next times of the plan's rules, so many of each at most, for whoever writes them. Each
    /// credential has its own moment shortly after, or inside the hours.
    ///
    /// # Errors
    /// [`PlanProblem`], as [`Plan::parse`].
    pub fn next_times(&self, now: DateTime<Utc>, count: u16) -> Result<NextTimes, PlanProblem> {
        let mut next = NextTimes::default();
        if let Some(rule) = &self.check {
            next.checks = self.occurrences(rule, now, count)?;
        }
        match &self.rotate {
            None => {}
            Some(Recurrence::Rule(rule)) => next.rotations = self.occurrences(rule, now, count)?,
            Some(Recurrence::EveryDays(days)) => {
                let days = TimeDelta::days(i64::from(*days));
                let due = (1..=i32::from(count)).map(|number| now + days * number);
                next.rotations = due.map(|due| self.first_hour(due)).collect();
            }
        }
        Ok(next)
    }

    /// A local day and time as an instant. A time that a clock change skips moves one hour on; one
    /// that happens twice is the first.
    fn local(&self, day: NaiveDate, time: NaiveTime) -> DateTime<Utc> {
        let naive = day.and_time(time);
        let found = self
            .zone
            .from_local_datetime(&naive)
            .earliest()
            .or_else(|| {
                self.zone
                    .from_local_datetime(&(naive + TimeDelta::hours(1)))
                    .earliest()
            });
        found.map_or_else(|| naive.and_utc(), |time| time.with_timezone(&Utc))
    }

    /// When to check a credential next, after `now`.
    #[must_use]
    pub fn next_check(&self, credential: Uuid, now: DateTime<Utc>) -> Option<DateTime<Utc>> {
        let shift = spread(credential, CHECK_SPREAD.num_seconds());
        // An occurrence just past whose spread time is still to come counts.
        let next = self
            .occurrences(self.check.as_ref()?, now - shift, 1)
            .ok()?;
        next.first().map(|time| *time + shift)
    }

    /// When to rotate a credential next, after `now`, given when it last was.
    #[must_use]
    pub fn next_rotation(
        &self,
        credential: Uuid,
        last: DateTime<Utc>,
        now: DateTime<Utc>,
    ) -> Option<DateTime<Utc>> {
        match self.rotate.as_ref()? {
            Recurrence::Rule(rule) => {
                let shift = self.hours.map_or_else(
                    || spread(credential, CHECK_SPREAD.num_seconds()),
                    |_| TimeDelta::zero(),
                );
                let next = *self.occurrences(rule, now - shift, 1).ok()?.first()?;
                Some(self.within_hours(credential, next + shift))
            }
            Recurrence::EveryDays(days) => {
                // A last time in the future is a clock that jumped; it must not put rotation off
                // for years.
                let due = last.min(now) + TimeDelta::days(i64::from(*days));
                Some(self.within_hours(credential, due.max(now)))
            }
        }
    }

    /// When the hours begin in which something is done that is due at a time; that time itself
    /// without hours.
    fn first_hour(&self, due: DateTime<Utc>) -> DateTime<Utc> {
        let Some(hours) = self.hours else { return due };
        let day = due.with_timezone(&self.zone).date_naive();
        let days = [Some(day), day.succ_opt()];
        let mut begins = days
            .into_iter()
            .flatten()
            .map(|day| self.local(day, hours.from));
        begins.find(|begin| *begin >= due).unwrap_or(due)
    }

    /// The credential's own moment inside the hours, at or after `due`.
    fn within_hours(&self, credential: Uuid, due: DateTime<Utc>) -> DateTime<Utc> {
        let Some(hours) = self.hours else { return due };
        let shift = spread(credential, hours.seconds());
        let mut day = due
            .with_timezone(&self.zone)
            .date_naive()
            .pred_opt()
            .unwrap_or(self.anchor);
        for _ in 0..4 {
            let own = self.local(day, hours.from) + shift;
            if own >= due {
                return own;
            }
            day = day.succ_opt().unwrap_or(day);
        }
        due
    }

    /// Whether rotations may run at `now`.
    #[must_use]
    pub fn open_at(&self, now: DateTime<Utc>) -> bool {
        let Some(hours) = self.hours else { return true };
        let local = now.with_timezone(&self.zone);
        let Some(time) = NaiveTime::from_hms_opt(local.hour(), local.minute(), local.second())
        else {
            return false;
        };
        if hours.from < hours.to {
            hours.from <= time && time < hours.to
        } else {
            time >= hours.from || time < hours.to
        }
    }
}

/// A stable shift between zero and `span` seconds, so that ten thousand things do not fall due in
/// the same second and each keeps its own moment.
#[must_use]
pub fn spread(credential: Uuid, span: i64) -> TimeDelta {
    let hash = Sha256::digest(credential.as_bytes());
    let number = hash
        .iter()
        .take(8)
        .fold(0_u64, |sum, byte| sum << 8 | u64::from(*byte));
    let span = u64::try_from(span.max(1)).unwrap_or(1);
    TimeDelta::seconds(i64::try_from(number % span).unwrap_or(0))
}

/// The day of a moment in UTC, as an anchor.
#[must_use]
pub fn day_of(now: DateTime<Utc>) -> NaiveDate {
    NaiveDate::from_ymd_opt(now.year(), now.month(), now.day()).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn at(text: &str) -> DateTime<Utc> {
        text.parse().unwrap()
    }

    fn plan(
        check: Option<&str>,
        rotate: Option<Recurrence>,
        hours: Option<(&str, &str)>,
    ) -> Result<Plan, PlanProblem> {
        let hours = hours.map(|(from, to)| Hours::parse(from, to).unwrap());
        Plan::parse(
            check,
            OutOfSync::Report,
            rotate,
            hours,
            "Europe/London",
            NaiveDate::from_ymd_opt(2026, 1, 5).unwrap(),
        )
    }

    #[test]
    fn a_rule_fires_at_its_local_time_before_and_after_the_clocks_change() {
        let plan = plan(
            Some("FREQ=DAILY;BYHOUR=2;BYMINUTE=0;BYSECOND=0"),
            None,
            None,
        )
        .unwrap();
        let shift = spread(Uuid::nil(), 600);
        assert_eq!(
            plan.next_check(Uuid::nil(), at("2026-01-10T12:00:00Z")),
            Some(at("2026-01-11T02:00:00Z") + shift)
        );
        assert_eq!(
            plan.next_check(Uuid::nil(), at("2026-07-10T12:00:00Z")),
            Some(at("2026-07-11T01:00:00Z") + shift)
        );
    }

    #[test]
    fn no_moment_is_one_from_which_the_search_ends_in_a_gap_or_a_fold_of_the_clock() {
        // The end of the search lies so many days on, at a clock time that may not exist or exist
        // twice.
        let plan = plan(
            Some("FREQ=DAILY;BYHOUR=2;BYMINUTE=0;BYSECOND=0"),
            None,
            None,
        )
        .unwrap();
        for change in [
            "2036-03-30T01:00:00Z",
            "2036-10-26T01:00:00Z",
            "2026-03-29T01:00:00Z",
            "2026-10-25T01:00:00Z",
        ] {
            for back in [0, 366 * HORIZON_YEARS] {
                for quarter in -12..12 {
                    let now = at(change) - TimeDelta::days(back) + TimeDelta::minutes(15 * quarter);
                    let next = plan.next_check(Uuid::nil(), now);
                    assert!(
                        next.is_some_and(|next| next > now || now < at("2026-01-05T00:00:00Z")),
                        "{now}"
                    );
                }
            }
        }
    }

    #[test]
    fn rules_that_never_or_always_fire_are_refused() {
        assert_eq!(
            plan(Some("FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30"), None, None).unwrap_err(),
            PlanProblem::Never
        );
        assert_eq!(
            plan(Some("FREQ=SECONDLY"), None, None).unwrap_err(),
            PlanProblem::TooOften
        );
        assert_eq!(
            plan(Some("FREQ=MINUTELY"), None, None).unwrap_err(),
            PlanProblem::TooOften
        );
        assert_eq!(
            plan(Some("FREQ=DAILY;BYMINUTE=0,1,2"), None, None).unwrap_err(),
            PlanProblem::TooOften
        );
        assert_eq!(
            plan(Some("FREQ=DAILY;UNTIL=20200101T000000Z"), None, None).unwrap_err(),
            PlanProblem::Never
        );
        assert!(matches!(
            plan(Some("every day"), None, None),
            Err(PlanProblem::Rule(_))
        ));
        assert!(matches!(
            plan(Some("FREQ=DAILY\nRRULE:FREQ=SECONDLY"), None, None),
            Err(PlanProblem::Rule(_))
        ));
        assert_eq!(plan(None, None, None).unwrap_err(), PlanProblem::Empty);
        assert_eq!(
            plan(None, Some(Recurrence::EveryDays(0)), None).unwrap_err(),
            PlanProblem::Days(0)
        );
    }

    #[test]
    fn rotations_by_days_are_shown_at_the_beginning_of_their_hours() {
        let every = Some(Recurrence::EveryDays(30));
        let plan = plan(None, every, Some(("22:00", "04:00"))).unwrap();
        let next = plan.next_times(at("2026-01-10T23:00:00Z"), 2).unwrap();
        assert_eq!(
            next.rotations,
            [at("2026-02-10T22:00:00Z"), at("2026-03-12T22:00:00Z")]
        );
    }

    #[test]
    fn two_times_that_a_clock_change_brings_together_are_one() {
        // On 29 March 2026 there is no 01:30 in London: it is 02:30, when the rule has a time
        // anyway.
        let plan = plan(
            Some("FREQ=DAILY;BYHOUR=1,2;BYMINUTE=30;BYSECOND=0"),
            None,
            None,
        )
        .unwrap();
        let next = plan
            .next_times(at("2026-03-28T12:00:00Z"), 5)
            .unwrap()
            .checks;
        assert!(
            next.windows(2)
                .all(|pair| pair[1] - pair[0] >= TimeDelta::minutes(30)),
            "{next:?}"
        );
        let near = Plan::parse(
            Some("FREQ=DAILY;BYHOUR=1,2;BYMINUTE=30;BYSECOND=0"),
            OutOfSync::Report,
            None,
            None,
            "Europe/London",
            NaiveDate::from_ymd_opt(2026, 3, 27).unwrap(),
        );
        assert!(near.is_ok(), "{near:?}");
    }

    #[test]
    fn a_rule_goes_on_for_years_and_may_come_next_in_many() {
        // Every five minutes there are a hundred thousand times a year.
        let often = plan(Some("FREQ=MINUTELY;INTERVAL=5"), None, None).unwrap();
        let now = at("2031-06-01T12:02:00Z");
        assert_eq!(
            often.next_times(now, 1).unwrap().checks,
            [at("2031-06-01T12:05:00Z")]
        );
        let leap = plan(
            Some("FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=29;BYDAY=SU;BYHOUR=3;BYMINUTE=0;BYSECOND=0"),
            None,
            None,
        )
        .unwrap();
        assert_eq!(
            leap.next_times(at("2032-03-01T00:00:00Z"), 1)
                .unwrap()
                .checks,
            [at("2060-02-29T03:00:00Z")]
        );
        let rare = plan(Some("FREQ=YEARLY;INTERVAL=30"), None, None).unwrap();
        assert_eq!(
            rare.next_times(at("2027-01-01T00:00:00Z"), 1)
                .unwrap()
                .checks,
            [at("2056-01-05T00:00:00Z")]
        );
        let never = plan(Some("FREQ=MINUTELY;INTERVAL=60;BYMINUTE=30"), None, None);
        assert_eq!(never.unwrap_err(), PlanProblem::Never);
    }

    #[test]
    fn a_rule_that_names_more_times_than_there_may_be_is_not_counted_out() {
        // Thirty million times a year, which would be put into a list before the first is looked at.
        let list = |count: u32| {
            (0..count)
                .map(|n| n.to_string())
                .collect::<Vec<_>>()
                .join(",")
        };
        let all = format!(
            "BYHOUR={};BYMINUTE={};BYSECOND={}",
            list(24),
            list(60),
            list(60)
        );
        for rule in [
            format!("FREQ=YEARLY;BYDAY=MO,TU,WE,TH,FR,SA,SU;{all}"),
            format!("FREQ=MONTHLY;BYMONTHDAY=1;{all};BYSETPOS=-1"),
            format!("FREQ=DAILY;BYMINUTE={};BYSECOND={}", list(60), list(5)),
        ] {
            assert_eq!(
                plan(Some(&rule), None, None).unwrap_err(),
                PlanProblem::TooOften
            );
        }
        let fives = (0..12)
            .map(|n| (n * 5).to_string())
            .collect::<Vec<_>>()
            .join(",");
        let allowed = format!("FREQ=DAILY;BYHOUR={};BYMINUTE={fives};BYSECOND=0", list(24));
        assert!(plan(Some(&allowed), None, None).is_ok());
    }

    #[test]
    fn hours_may_go_over_midnight() {
        let plan = plan(
            None,
            Some(Recurrence::EveryDays(30)),
            Some(("22:00", "04:00")),
        )
        .unwrap();
        assert!(plan.open_at(at("2026-01-10T23:00:00Z")));
        assert!(plan.open_at(at("2026-01-10T03:59:00Z")));
        assert!(!plan.open_at(at("2026-01-10T04:00:00Z")));
        assert!(!plan.open_at(at("2026-01-10T12:00:00Z")));
    }

    #[test]
    fn a_clock_that_jumped_forward_and_back_does_not_put_a_rotation_off() {
        let plan = plan(None, Some(Recurrence::EveryDays(30)), None).unwrap();
        let next = plan
            .next_rotation(
                Uuid::nil(),
                at("2099-01-01T00:00:00Z"),
                at("2026-01-10T00:00:00Z"),
            )
            .unwrap();
        assert_eq!(next, at("2026-02-09T00:00:00Z"));
    }

    #[test]
    fn words_for_bad_times_and_zones() {
        assert!(Hours::parse("25:00", "04:00").is_err());
        let bad = Plan::parse(
            None,
            OutOfSync::Report,
            Some(Recurrence::EveryDays(3)),
            None,
            "Atlantis/Centre",
            NaiveDate::default(),
        );
        assert_eq!(
            bad.unwrap_err(),
            PlanProblem::Zone("Atlantis/Centre".into())
        );
    }

    proptest! {
        #[test]
        fn a_rotation_falls_after_now_and_inside_its_hours(credential in any::<u128>(), days in 1u16..90, from in 0u32..24, to in 0u32..24, last in -4_000_000i64..0, now in 0i64..40_000_000) {
            let hours = Hours { from: NaiveTime::from_hms_opt(from, 0, 0).unwrap(), to: NaiveTime::from_hms_opt(to, 30, 0).unwrap() };
            let plan = Plan { hours: Some(hours), ..plan(None, Some(Recurrence::EveryDays(days)), None).unwrap() };
            let now = at("2026-01-05T00:00:00Z") + TimeDelta::seconds(now);
            let next = plan.next_rotation(Uuid::from_u128(credential), now + TimeDelta::seconds(last), now).unwrap();
            prop_assert!(next >= now);
            // Around a clock change the moment may be an hour off; the worker asks `open_at` again
            // before it starts.
            let change = [at("2026-03-29T01:00:00Z"), at("2026-10-25T01:00:00Z"), at("2027-03-28T01:00:00Z")].iter().any(|c| (next - *c).abs() < TimeDelta::hours(26));
            prop_assert!(change || plan.open_at(next), "{}", next);
        }

        #[test]
        fn a_rule_has_the_same_times_from_wherever_it_is_counted(
            freq in prop::sample::select(vec!["WEEKLY", "DAILY", "HOURLY", "MINUTELY"]),
            interval in 1_u32..40,
            days in 0_i64..60,
            minutes in 0_i64..1440,
        ) {
            let interval = if freq == "MINUTELY" { interval * 7 } else { interval };
            let rule = format!("FREQ={freq};INTERVAL={interval}");
            let plan = Plan { zone: chrono_tz::UTC, ..plan(Some(&rule), None, None).unwrap() };
            let now = at("2026-01-05T00:00:00Z") + TimeDelta::days(days) + TimeDelta::minutes(minutes);
            let near = plan.occurrences(&rule, now, 3).unwrap();
            // As counted from the very beginning, where no day is moved on.
            let whole = plan.occurrences(&rule, at("2026-01-04T00:00:00Z"), 20_000).unwrap();
            let counted: Vec<_> = whole.into_iter().filter(|time| *time > now).take(3).collect();
            prop_assert_eq!(near, counted);
        }

        #[test]
        fn a_spread_is_stable_and_bounded(credential in any::<u128>(), span in 1i64..100_000) {
            let shift = spread(Uuid::from_u128(credential), span);
            prop_assert_eq!(shift, spread(Uuid::from_u128(credential), span));
            prop_assert!(shift >= TimeDelta::zero() && shift < TimeDelta::seconds(span));
        }
    }
}

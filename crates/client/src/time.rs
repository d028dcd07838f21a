//! Times as people write them: `2026-12-24`, `2026-12-24 18:00`, `18:00`, `7d`.

use chrono::{
    DateTime, Days, Local, NaiveDate, NaiveDateTime, NaiveTime, TimeDelta, TimeZone, Utc,
};

/// Which way `7d` and `18:00` are meant.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Direction {
    Ahead,
    Back,
}

/// A time that is still to come: `7d` is in seven days, `18:00` the next one.
///
/// # Errors
/// What is expected instead.
pub fn ahead(text: &str) -> Result<DateTime<Utc>, String> {
    read(text, Local::now(), Direction::Ahead)
}

/// A time that has been: `7d` is seven days ago, `18:00` the last one.
///
/// # Errors
/// What is expected instead.
pub fn back(text: &str) -> Result<DateTime<Utc>, String> {
    read(text, Local::now(), Direction::Back)
}

/// How a time is shown in a table: in the time zone of this computer.
pub fn shown(time: DateTime<Utc>) -> String {
    time.with_timezone(&Local)
        .format("%Y-%m-%d %H:%M")
        .to_string()
}

fn read<Z: TimeZone>(
    text: &str,
    now: DateTime<Z>,
    direction: Direction,
) -> Result<DateTime<Utc>, String> {
    let text = text.trim();
    if let Ok(time) = text.parse::<DateTime<Utc>>() {
        return Ok(time);
    }
    if let Some(span) = span(text) {
        let time = match direction {
            Direction::Ahead => now.with_timezone(&Utc).checked_add_signed(span),
            Direction::Back => now.with_timezone(&Utc).checked_sub_signed(span),
        };
        return time.ok_or_else(expected);
    }
    let local = |time: NaiveDateTime| {
        // A clock change takes an hour away: what follows it is meant. Of a doubled hour, the first.
        let hour_later = time + TimeDelta::hours(1);
        now.timezone()
            .from_local_datetime(&time)
            .earliest()
            .or_else(|| now.timezone().from_local_datetime(&hour_later).earliest())
            .map(|time| time.with_timezone(&Utc))
            .ok_or_else(expected)
    };
    if let Ok(date) = NaiveDate::parse_from_str(text, "%Y-%m-%d") {
        return local(date.and_time(NaiveTime::MIN));
    }
    for form in ["%Y-%m-%d %H:%M", "%Y-%m-%dT%H:%M", "%Y-%m-%d %H:%M:%S"] {
        if let Ok(time) = NaiveDateTime::parse_from_str(text, form) {
            return local(time);
        }
    }
    let clock = NaiveTime::parse_from_str(text, "%H:%M").map_err(|_| expected())?;
    let (today, now_there) = (now.date_naive(), now.time());
    let day = match direction {
        Direction::Ahead if clock <= now_there => today.checked_add_days(Days::new(1)),
        Direction::Back if clock > now_there => today.checked_sub_days(Days::new(1)),
        Direction::Ahead | Direction::Back => Some(today),
    };
    local(day.ok_or_else(expected)?.and_time(clock))
}

/// A number with its unit: `30m`, `12h`, `7d`, `2w`.
fn span(text: &str) -> Option<TimeDelta> {
    let unit = text.chars().last()?;
    let number: i64 = text
        .strip_suffix(unit)?
        .parse()
        .ok()
        .filter(|number| *number >= 0)?;
    match unit {
        'm' => TimeDelta::try_minutes(number),
        'h' => TimeDelta::try_hours(number),
        'd' => TimeDelta::try_days(number),
        'w' => TimeDelta::try_weeks(number),
        _ => None,
    }
}

fn expected() -> String {
    "expected a time such as 2026-12-24, \"2026-12-24 18:00\", 18:00, 90m, 12h or 7d".into()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_are_read_as_people_write_them() {
        let now = DateTime::parse_from_rfc3339("2026-11-29T12:30:00+01:00").unwrap();
        let ahead = |text| read(text, now, Direction::Ahead).map(|time| time.to_rfc3339());
        let back = |text| read(text, now, Direction::Back).map(|time| time.to_rfc3339());
        for (text, wanted) in [
            ("2026-12-24", "2026-12-23T23:00:00+00:00"),
            ("2026-12-24 18:00", "2026-12-24T17:00:00+00:00"),
            ("2026-12-24T18:00:00Z", "2026-12-24T18:00:00+00:00"),
            ("18:00", "2026-11-29T17:00:00+00:00"),
            ("12:00", "2026-11-30T11:00:00+00:00"),
            ("7d", "2026-12-06T11:30:00+00:00"),
            ("90m", "2026-11-29T13:00:00+00:00"),
        ] {
            assert_eq!(ahead(text).as_deref(), Ok(wanted), "{text}");
        }
        assert_eq!(back("12:00").as_deref(), Ok("2026-11-29T11:00:00+00:00"));
        assert_eq!(back("18:00").as_deref(), Ok("2026-11-28T17:00:00+00:00"));
        assert_eq!(back("1w").as_deref(), Ok("2026-11-22T11:30:00+00:00"));
        for text in [
            "",
            "soon",
            "25:00",
            "2026-13-01",
            "-3d",
            "99999999999999999999d",
            "7x",
        ] {
            assert!(ahead(text).is_err(), "{text}");
        }
    }
}

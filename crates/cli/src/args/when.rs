//! Moments as people write them.

use chrono::{DateTime, Local, NaiveDate, NaiveDateTime, NaiveTime, TimeZone};
use merismos_core::time::Wall;
use merismos_core::units::Span;

/// A moment: so long ago (`2h`), a time of today (`07:30`), a day and a time of this machine's time zone, a day, or as in RFC 3339.
///
/// # Errors
/// What a moment looks like.
pub(super) fn moment(text: &str) -> Result<Wall, String> {
    at(text, Local::now()).ok_or_else(|| {
        "wanted so long ago (2h), a time of today (07:30), a day (2026-11-28), both (\"2026-11-28 07:30\"), or a moment as in RFC 3339"
            .to_owned()
    })
}

/// A moment that lies ahead: in so long (`2h`), or as with [`moment`]; a time of today that has passed is meant for tomorrow.
///
/// # Errors
/// What a moment looks like, or that it has passed.
pub(super) fn coming(text: &str) -> Result<Wall, String> {
    ahead(text, Local::now())
}

fn ahead(text: &str, now: DateTime<Local>) -> Result<Wall, String> {
    let this_moment = Wall(now.timestamp_millis());
    if let Ok(span) = text.parse::<Span>() {
        return Ok(this_moment.plus(span.get()));
    }
    let wanted = "wanted a time that lies ahead: in so long (2h), a time (18:00), or a day and a time (\"2026-11-28 18:00\")";
    let found = at(text, now).ok_or(wanted)?;
    if found > this_moment {
        return Ok(found);
    }
    let tomorrow = now.checked_add_days(chrono::Days::new(1)).and_then(|tomorrow| at(text, tomorrow));
    tomorrow.filter(|moment| *moment > this_moment).ok_or_else(|| wanted.to_owned())
}

fn at(text: &str, now: DateTime<Local>) -> Option<Wall> {
    if let Ok(span) = text.parse::<Span>() {
        return Some(Wall(now.timestamp_millis() - i64::try_from(span.get().as_millis()).ok()?));
    }
    if let Ok(wall) = Wall::try_from(text.to_owned()) {
        return Some(wall);
    }
    let time = |text: &str| {
        NaiveTime::parse_from_str(text, "%H:%M:%S").or_else(|_| NaiveTime::parse_from_str(text, "%H:%M")).ok()
    };
    let day = |text: &str| NaiveDate::parse_from_str(text, "%Y-%m-%d").ok();
    let whole = match text.split_once([' ', 'T']) {
        Some((date, clock)) => NaiveDateTime::new(day(date)?, time(clock)?),
        None => match time(text) {
            Some(time) => NaiveDateTime::new(now.date_naive(), time),
            None => NaiveDateTime::new(day(text)?, NaiveTime::MIN),
        },
    };
    // Where the clocks are set back the earlier of the two is meant.
    Local.from_local_datetime(&whole).earliest().map(|moment| Wall(moment.timestamp_millis()))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::in_so_long("2h", Some("2026-11-28 09:30:10"))]
    #[case::later_today("18:00", Some("2026-11-28 18:00:00"))]
    #[case::tomorrow_morning("07:15", Some("2026-11-29 07:15:00"))]
    #[case::a_day_and_a_time("2026-12-01 06:00", Some("2026-12-01 06:00:00"))]
    #[case::past("2026-11-27 22:10:05", None)]
    #[case::nonsense("soon", None)]
    fn moments_ahead_are_read(#[case] text: &str, #[case] expected: Option<&str>) {
        let local = |text: &str| {
            let naive = NaiveDateTime::parse_from_str(text, "%Y-%m-%d %H:%M:%S").unwrap();
            Local.from_local_datetime(&naive).unwrap()
        };
        let found = ahead(text, local("2026-11-28 07:30:10"));
        assert_eq!(found.ok(), expected.map(|expected| Wall(local(expected).timestamp_millis())));
    }

    #[rstest]
    #[case::so_long_ago("2h", Some("2026-11-28 05:30:10"))]
    #[case::a_time_of_today("07:15", Some("2026-11-28 07:15:00"))]
    #[case::a_day("2026-11-27", Some("2026-11-27 00:00:00"))]
    #[case::both("2026-11-27 22:10:05", Some("2026-11-27 22:10:05"))]
    #[case::nonsense("yesterday", None)]
    #[case::no_such_day("2026-02-30", None)]
    fn moments_are_read(#[case] text: &str, #[case] expected: Option<&str>) {
        let local = |text: &str| {
            let naive = NaiveDateTime::parse_from_str(text, "%Y-%m-%d %H:%M:%S").unwrap();
            Local.from_local_datetime(&naive).unwrap()
        };
        let found = at(text, local("2026-11-28 07:30:10"));
        assert_eq!(found, expected.map(|expected| Wall(local(expected).timestamp_millis())));
    }
}

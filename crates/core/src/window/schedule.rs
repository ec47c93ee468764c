//! When a window is: once, or again and again by a recurrence rule of RFC 5545, in a named time zone.

use std::time::Duration;

use chrono::{DateTime, Datelike, NaiveDateTime, TimeZone, Timelike};
use rrule::{Frequency, RRule, RRuleSet, Unvalidated};
use serde::{Deserialize, Serialize};

use crate::time::Wall;
use crate::units::{Span, humane};

/// The shortest window.
const SHORTEST: Duration = Duration::from_secs(60);
/// The longest window: a server that is out for longer is no matter of a calendar.
const LONGEST: Duration = Duration::from_secs(7 * 86_400);
/// How many times of a rule are looked at for times that overlap each other.
const LOOKED_AT: u16 = 60;

/// When a window is.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Schedule {
    /// Date and time of the first start, as clocks in `zone` show them.
    #[cfg_attr(feature = "schema", schema(value_type = String, example = "2026-12-01T22:00:00", pattern = "^[0-9]{4}-[0-9]{2}-[0-9]{2}T[0-9]{2}:[0-9]{2}:[0-9]{2}$"))]
    pub start: NaiveDateTime,
    /// Time zone by its name in the IANA database, such as Europe/Oslo.
    #[cfg_attr(feature = "schema", schema(example = "Europe/Oslo"))]
    pub zone: String,
    /// How long the window is open, 1 minute to 7 days. It is a length of time: a window of 2 hours has 2 hours also when the clocks are
    /// changed within it.
    #[cfg_attr(feature = "schema", schema(value_type = String, example = "2h"))]
    pub length: Span,
    /// Recurrence rule (RFC 5545, 3.3.10), such as `FREQ=WEEKLY;BYDAY=TU`: daily, weekly, monthly or yearly, with INTERVAL, COUNT, UNTIL,
    /// BYDAY, BYMONTHDAY, BYMONTH, BYSETPOS and WKST. Absent: the window is once.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(nullable = false, example = "FREQ=WEEKLY;BYDAY=TU"))]
    pub repeat: Option<String>,
}

/// One time at which a window is open.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Occurrence {
    /// When it opens.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub start: Wall,
    /// When it closes.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub end: Wall,
}

impl Occurrence {
    /// Whether the two are open at the same time.
    #[must_use]
    pub fn overlaps(self, other: Self) -> bool {
        self.start < other.end && other.start < self.end
    }
}

/// What is wrong with a schedule.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum ScheduleError {
    /// A zone that the database of time zones does not have.
    #[error("there is no time zone {0:?}; expected a name such as Europe/Oslo or UTC")]
    Zone(String),
    /// A time that the clocks of the zone skip.
    #[error("clocks in {zone} never show {start}: they are set forward over it")]
    Skipped {
        /// Name of the zone.
        zone: String,
        /// The time that is skipped.
        start: NaiveDateTime,
    },
    /// A length out of range.
    #[error("a window of {0} is out of range; expected 1m to 7d")]
    Length(Span),
    /// A rule that can't be read, or is not supported.
    #[error(
        "the recurrence rule {rule:?} can't be used: {why}. Expected a rule of RFC 5545, such as FREQ=WEEKLY;BYDAY=TU"
    )]
    Rule {
        /// The rule.
        rule: String,
        /// What is wrong with it.
        why: String,
    },
    /// A rule that no day follows.
    #[error("the recurrence rule {0:?} has no time at all")]
    Never(String),
    /// A window that opens again before it closes.
    #[error("the window is {length} long, and opens again {} after its start", humane(*.apart))]
    OverlapsItself {
        /// Its length.
        length: Span,
        /// How far two of its starts are apart.
        apart: Duration,
    },
}

impl Schedule {
    /// Checks it.
    ///
    /// # Errors
    /// What is wrong with it, and what would be right.
    pub fn check(&self) -> Result<(), ScheduleError> {
        if !(SHORTEST..=LONGEST).contains(&self.length.get()) {
            return Err(ScheduleError::Length(self.length));
        }
        let set = self.set()?;
        let Some(rule) = &self.repeat else { return Ok(()) };
        let times = set.all(LOOKED_AT).dates;
        if times.is_empty() {
            return Err(ScheduleError::Never(rule.clone()));
        }
        let apart = times.windows(2).filter_map(|pair| (pair[1] - pair[0]).to_std().ok()).min();
        match apart {
            Some(apart) if apart < self.length.get() => {
                Err(ScheduleError::OverlapsItself { length: self.length, apart })
            }
            _ => Ok(()),
        }
    }

    /// Its times that are open within `from` and `to`, at most `limit`, in their order. A schedule that can't be used has none.
    #[must_use]
    pub fn occurrences(&self, from: Wall, to: Wall, limit: u16) -> Vec<Occurrence> {
        let Ok(set) = self.set() else { return Vec::new() };
        let zone = set.get_dt_start().timezone();
        let moment = |at: Wall| zone.timestamp_millis_opt(at.0).single();
        let length = i64::try_from(self.length.get().as_millis()).unwrap_or(i64::MAX);
        let (Some(after), Some(before)) = (moment(Wall(from.0.saturating_sub(length))), moment(to)) else {
            return Vec::new();
        };
        // One more than is wanted: the first may have closed at `from`.
        let found = set.after(after).before(before).all(limit.saturating_add(1)).dates;
        let mut open: Vec<Occurrence> = found.into_iter().map(|start| self.occurrence(start)).collect();
        open.retain(|occurrence| occurrence.end > from && occurrence.start < to);
        open.truncate(limit.into());
        open
    }

    /// The time that is open at `now`, or else the next one.
    #[must_use]
    pub fn next(&self, now: Wall) -> Option<Occurrence> {
        // Far moments are beyond what calendars hold.
        let century = Duration::from_secs(100 * 366 * 86_400);
        self.occurrences(now, now.plus(century), 1).first().copied()
    }

    /// The start as a date and time of an iCalendar object (RFC 5545, 3.3.5), without its zone.
    #[must_use]
    pub fn start_in_calendar(&self) -> String {
        self.start.format("%Y%m%dT%H%M%S").to_string()
    }

    fn occurrence(&self, start: DateTime<rrule::Tz>) -> Occurrence {
        let start = Wall(start.timestamp_millis());
        Occurrence { start, end: start.plus(self.length.get()) }
    }

    fn set(&self) -> Result<RRuleSet, ScheduleError> {
        let zone: chrono_tz::Tz = self.zone.parse().map_err(|_| ScheduleError::Zone(self.zone.clone()))?;
        // Where the clocks are set back the earlier of the two is meant.
        let start = rrule::Tz::from(zone).from_local_datetime(&self.start).earliest();
        let start =
            start.ok_or_else(|| ScheduleError::Skipped { zone: self.zone.clone(), start: self.start })?;
        let Some(text) = &self.repeat else { return Ok(RRuleSet::new(start).rdate(start)) };
        let wrong = |why: String| ScheduleError::Rule { rule: text.clone(), why };
        let rule: RRule<Unvalidated> =
            text.parse().map_err(|error: rrule::RRuleError| wrong(error.to_string()))?;
        match rule.get_freq() {
            Frequency::Daily | Frequency::Weekly | Frequency::Monthly | Frequency::Yearly => {}
            Frequency::Hourly | Frequency::Minutely | Frequency::Secondly => {
                return Err(wrong("FREQ is DAILY, WEEKLY, MONTHLY or YEARLY".to_owned()));
            }
        }
        let times_of_day = [rule.get_by_hour(), rule.get_by_minute(), rule.get_by_second()]
            .iter()
            .any(|times| !times.is_empty());
        if times_of_day {
            return Err(wrong("the time of day is that of the start".to_owned()));
        }
        rule.build(start).map_err(|error| wrong(error.to_string()))
    }
}

/// Whether a date and time has whole seconds, and a year of four digits: so it can be written in a calendar.
pub(super) fn is_plain(start: &NaiveDateTime) -> bool {
    start.nanosecond() == 0 && (1970..=9999).contains(&start.year())
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn schedule(start: &str, repeat: Option<&str>) -> Schedule {
        Schedule {
            start: start.parse().unwrap(),
            zone: "Europe/Oslo".to_owned(),
            length: "2h".parse().unwrap(),
            repeat: repeat.map(str::to_owned),
        }
    }

    fn at(text: &str) -> Wall {
        Wall::try_from(text.to_owned()).unwrap()
    }

    fn starts(schedule: &Schedule, from: &str, limit: u16) -> Vec<String> {
        let found = schedule.occurrences(at(from), at("2030-01-01T00:00:00Z"), limit);
        found.iter().map(|occurrence| occurrence.start.to_string()).collect()
    }

    #[rstest]
    #[case::once("2026-12-01T22:00:00", None, &["2026-12-01T21:00:00.000Z"])]
    #[case::weekly("2026-12-01T22:00:00", Some("FREQ=WEEKLY;BYDAY=TU,TH;COUNT=3"), &["2026-12-01T21:00:00.000Z", "2026-12-03T21:00:00.000Z", "2026-12-08T21:00:00.000Z"])]
    #[case::last_friday_of_the_month("2026-11-01T06:30:00", Some("FREQ=MONTHLY;BYDAY=-1FR;UNTIL=20261231T000000Z"), &["2026-11-27T05:30:00.000Z", "2026-12-25T05:30:00.000Z"])]
    #[case::the_clocks_are_set_back("2026-10-24T22:00:00", Some("FREQ=DAILY;COUNT=2"), &["2026-10-24T20:00:00.000Z", "2026-10-25T21:00:00.000Z"])]
    #[case::a_time_that_clocks_skip_is_an_hour_later("2026-03-28T02:30:00", Some("FREQ=DAILY;COUNT=2"), &["2026-03-28T01:30:00.000Z", "2026-03-29T01:30:00.000Z"])]
    #[case::a_time_that_comes_twice_is_the_first("2026-10-25T02:30:00", None, &["2026-10-25T00:30:00.000Z"])]
    fn windows_open(#[case] start: &str, #[case] repeat: Option<&str>, #[case] expected: &[&str]) {
        let schedule = schedule(start, repeat);
        schedule.check().unwrap();
        assert_eq!(starts(&schedule, "2026-01-01T00:00:00Z", 9), expected);
    }

    #[test]
    fn a_window_that_is_open_counts_until_it_closes() {
        let daily = schedule("2026-12-01T22:00:00", Some("FREQ=DAILY"));
        assert_eq!(daily.next(at("2026-12-01T22:59:59Z")).unwrap().start, at("2026-12-01T21:00:00Z"));
        assert_eq!(daily.next(at("2026-12-01T23:00:00Z")).unwrap().start, at("2026-12-02T21:00:00Z"));
        let once = schedule("2026-12-01T22:00:00", None);
        assert_eq!(once.next(at("2026-12-01T22:59:59Z")).unwrap().end, at("2026-12-01T23:00:00Z"));
        assert_eq!(once.next(at("2026-12-01T23:00:00Z")), None);
    }

    #[test]
    fn two_hours_are_two_hours_also_when_the_clocks_are_set_back() {
        let night = schedule("2026-10-25T01:30:00", None);
        let open = night.next(at("2026-10-24T00:00:00Z")).unwrap();
        assert_eq!((open.start, open.end), (at("2026-10-24T23:30:00Z"), at("2026-10-25T01:30:00Z")));
    }

    #[rstest]
    #[case::hourly("FREQ=HOURLY", "FREQ is DAILY")]
    #[case::hours_of_the_day("FREQ=DAILY;BYHOUR=3", "the time of day is that of the start")]
    #[case::nonsense("every Tuesday", "RFC 5545")]
    #[case::never("FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30;UNTIL=20301231T000000Z", "has no time at all")]
    fn rules_that_do_not_fit_are_refused(#[case] rule: &str, #[case] expected: &str) {
        let error = schedule("2026-12-01T22:00:00", Some(rule)).check().unwrap_err().to_string();
        assert!(error.contains(expected), "{error}");
    }

    #[test]
    fn what_no_calendar_has_is_refused() {
        let fine = schedule("2026-12-01T22:00:00", Some("FREQ=DAILY"));
        let long = Schedule { length: "25h".parse().unwrap(), ..fine.clone() };
        assert!(matches!(long.check(), Err(ScheduleError::OverlapsItself { .. })));
        let nowhere = Schedule { zone: "Skerry/Pier".to_owned(), ..fine.clone() };
        assert!(matches!(nowhere.check(), Err(ScheduleError::Zone(_))));
        let short = Schedule { length: "59s".parse().unwrap(), ..fine };
        assert!(matches!(short.check(), Err(ScheduleError::Length(_))));
        let skipped = schedule("2026-03-29T02:30:00", None);
        assert!(matches!(skipped.check(), Err(ScheduleError::Skipped { .. })));
    }
}

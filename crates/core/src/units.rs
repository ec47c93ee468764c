//! Durations and sizes as text, each with one parser and one printer.

use std::fmt;
use std::str::FromStr;
use std::time::Duration;

use serde::{Deserialize, Serialize};

/// A length of time as it is written in a document: a whole number and one unit (`250ms`, `2s`, `5m`, `1h`).
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Span(Duration);

/// A number of bytes as it is written in a document: a whole number and one unit (`512B`, `64KiB`, `10MiB`).
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Size(u64);

/// Why a text is neither a [`Span`] nor a [`Size`].
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("expected {expected}; found {found:?}")]
pub struct UnitError {
    /// The text that was given.
    pub found: String,
    /// What a right one looks like.
    pub expected: &'static str,
}

const SPAN_UNITS: [(&str, u64); 4] = [("ms", 1), ("s", 1_000), ("m", 60_000), ("h", 3_600_000)];
const SIZE_UNITS: [(&str, u64); 4] = [("B", 1), ("KiB", 1 << 10), ("MiB", 1 << 20), ("GiB", 1 << 30)];
const SPAN_WANTED: &str = "a duration such as 250ms, 2s, 5m or 1h";
const SIZE_WANTED: &str = "a size such as 512B, 64KiB or 10MiB";

fn parse(text: &str, units: &[(&str, u64)], wanted: &'static str) -> Result<u64, UnitError> {
    let wrong = || UnitError { found: text.to_owned(), expected: wanted };
    let digits = text.bytes().take_while(u8::is_ascii_digit).count();
    let (number, unit) = text.split_at(digits);
    let number: u64 = number.parse().map_err(|_| wrong())?;
    let (_, factor) = units.iter().find(|(name, _)| *name == unit).ok_or_else(wrong)?;
    number.checked_mul(*factor).ok_or_else(wrong)
}

/// Prints with the largest unit that divides the amount, so that equal amounts print alike.
fn print(amount: u64, units: &[(&str, u64)], f: &mut fmt::Formatter<'_>) -> fmt::Result {
    let fitting = units.iter().rev().find(|(_, factor)| amount.is_multiple_of(*factor) && amount >= *factor);
    let (unit, factor) = fitting.unwrap_or(&units[0]);
    f.pad(&format!("{}{unit}", amount / factor))
}

impl Span {
    /// A span of whole milliseconds.
    #[must_use]
    pub const fn from_millis(millis: u64) -> Self {
        Self(Duration::from_millis(millis))
    }

    /// The length of time.
    #[must_use]
    pub const fn get(self) -> Duration {
        self.0
    }
}

impl Size {
    /// A number of bytes.
    #[must_use]
    pub const fn from_bytes(bytes: u64) -> Self {
        Self(bytes)
    }

    /// The number of bytes.
    #[must_use]
    pub const fn bytes(self) -> u64 {
        self.0
    }
}

impl FromStr for Span {
    type Err = UnitError;

    fn from_str(text: &str) -> Result<Self, UnitError> {
        Ok(Self(Duration::from_millis(parse(text, &SPAN_UNITS, SPAN_WANTED)?)))
    }
}

impl FromStr for Size {
    type Err = UnitError;

    fn from_str(text: &str) -> Result<Self, UnitError> {
        Ok(Self(parse(text, &SIZE_UNITS, SIZE_WANTED)?))
    }
}

impl fmt::Display for Span {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        print(u64::try_from(self.0.as_millis()).unwrap_or(u64::MAX), &SPAN_UNITS, f)
    }
}

impl fmt::Display for Size {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        print(self.0, &SIZE_UNITS, f)
    }
}

macro_rules! text_form {
    ($type:ty) => {
        impl TryFrom<String> for $type {
            type Error = UnitError;

            fn try_from(text: String) -> Result<Self, UnitError> {
                text.parse()
            }
        }

        impl From<$type> for String {
            fn from(value: $type) -> Self {
                value.to_string()
            }
        }
    };
}
text_form!(Span);
text_form!(Size);

/// A length of time for people: `340 ms`, `4.2 s`, `12 s`, `3 min`, `2 h 5 min`, `3 d`.
#[must_use]
pub fn humane(length: Duration) -> String {
    let millis = length.as_millis();
    match millis {
        0 => format!("{} µs", length.as_micros()),
        1..1_000 => format!("{millis} ms"),
        1_000..10_000 => format!("{:.1} s", length.as_secs_f64()),
        10_000..120_000 => format!("{} s", millis / 1_000),
        120_000..7_200_000 => format!("{} min", millis / 60_000),
        7_200_000..172_800_000 => format!("{} h {} min", millis / 3_600_000, millis / 60_000 % 60),
        _ => format!("{} d", millis / 86_400_000),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::millis("250ms", 250, "250ms")]
    #[case::seconds("2s", 2_000, "2s")]
    #[case::carried_up("120s", 120_000, "2m")]
    #[case::hour("1h", 3_600_000, "1h")]
    #[case::zero("0s", 0, "0ms")]
    fn spans(#[case] text: &str, #[case] millis: u64, #[case] printed: &str) {
        let span: Span = text.parse().unwrap();
        assert_eq!(span.get(), Duration::from_millis(millis));
        assert_eq!(span.to_string(), printed);
    }

    #[rstest]
    #[case::bare_number("2")]
    #[case::unknown_unit("2d")]
    #[case::fraction("1.5s")]
    #[case::negative("-1s")]
    #[case::space("2 s")]
    #[case::empty("")]
    #[case::overflow("99999999999999999999s")]
    fn what_is_no_span(#[case] text: &str) {
        assert_eq!(text.parse::<Span>().unwrap_err().found, text);
    }

    #[test]
    fn sizes_round_trip() {
        assert_eq!("64KiB".parse::<Size>().unwrap().bytes(), 65_536);
        assert_eq!(Size::from_bytes(10 << 20).to_string(), "10MiB");
        assert_eq!(Size::from_bytes(1_500).to_string(), "1500B");
        assert!("64kb".parse::<Size>().is_err());
    }

    proptest::proptest! {
        /// What is printed is read as the same amount, and printed alike again.
        #[test]
        fn amounts_come_back_from_their_text(number in 0..1_u64 << 40, unit in 0..4_usize) {
            let millis = number.saturating_mul(SPAN_UNITS[unit].1);
            let span = Span::from_millis(millis);
            proptest::prop_assert_eq!(span.to_string().parse(), Ok(span));
            let size = Size::from_bytes(number.saturating_mul(SIZE_UNITS[unit].1));
            proptest::prop_assert_eq!(size.to_string().parse(), Ok(size));
        }

        /// Any text is either refused, naming it, or means the same as what it is printed as.
        #[test]
        fn any_text_is_read_or_refused(text in "[0-9]{0,22} ?[a-zA-Z]{0,3}") {
            match text.parse::<Span>() {
                Ok(span) => proptest::prop_assert_eq!(span.to_string().parse(), Ok(span)),
                Err(error) => proptest::prop_assert_eq!(error.found, text),
            }
        }
    }

    #[rstest]
    #[case::microseconds(Duration::from_micros(80), "80 µs")]
    #[case::milliseconds(Duration::from_millis(340), "340 ms")]
    #[case::seconds(Duration::from_millis(4_240), "4.2 s")]
    #[case::minutes(Duration::from_secs(125), "2 min")]
    #[case::hours(Duration::from_secs(7_500), "2 h 5 min")]
    fn for_people(#[case] length: Duration, #[case] text: &str) {
        assert_eq!(humane(length), text);
    }
}

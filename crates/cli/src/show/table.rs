//! Tables and the small pieces in them.

use std::time::Duration;

use comfy_table::{Cell, CellAlignment, Color, ContentArrangement, Table, presets};
use merismos_core::units::humane;

/// A table with a head, without lines, as wide as the terminal at most.
pub(super) fn table(head: &[&str]) -> Table {
    let mut table = Table::new();
    table.load_style(presets::NOTHING).set_content_arrangement(ContentArrangement::Dynamic);
    table.set_header(head.iter().map(|text| Cell::new(text.to_uppercase()).fg(Color::DarkGrey)));
    table
}

/// A cell with a number.
pub(super) fn number(text: impl ToString) -> Cell {
    Cell::new(text.to_string()).set_alignment(CellAlignment::Right)
}

/// A count that is worth a look when it is not zero.
pub(super) fn count(count: u64) -> Cell {
    let cell = number(count);
    if count > 0 { cell.fg(Color::Yellow) } else { cell }
}

/// A count of bytes in the largest unit of which it has one.
pub(super) fn bytes(count: u64) -> Cell {
    const UNITS: [&str; 6] = ["B", "KiB", "MiB", "GiB", "TiB", "PiB"];
    let step = count.checked_ilog2().unwrap_or(0) as usize / 10;
    let step = step.min(UNITS.len() - 1);
    let amount = count as f64 / f64::powi(1024.0, step as i32);
    number(if step == 0 { format!("{count} B") } else { format!("{amount:.1} {}", UNITS[step]) })
}

/// A share in percent.
pub(super) fn percent(share: f64) -> String {
    format!("{:.1} %", share * 100.0)
}

/// A difference of shares in points of percent, with its sign; nothing is plain 0.0.
pub(super) fn points(difference: f64) -> String {
    let tenths = (difference * 1_000.0).round();
    if tenths == 0.0 { "0.0".to_owned() } else { format!("{:+.1}", tenths / 10.0) }
}

/// A share as a bar of eighths, `width` columns long.
pub(super) fn bar(share: f64, width: usize) -> String {
    const EIGHTHS: [&str; 8] = ["", "▏", "▎", "▍", "▌", "▋", "▊", "▉"];
    let eighths = (share.clamp(0.0, 1.0) * width as f64 * 8.0).round() as usize;
    let text = "█".repeat(eighths / 8) + EIGHTHS[eighths % 8];
    format!("{text:width$}")
}

/// A time in microseconds.
pub(super) fn micros(micros: Option<u64>) -> String {
    micros.map_or_else(
        || "-".to_owned(),
        |micros| {
            if micros < 10_000 {
                format!("{:.1} ms", micros as f64 / 1e3)
            } else {
                humane(Duration::from_micros(micros))
            }
        },
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bars_are_exact_to_an_eighth_and_always_as_wide() {
        assert_eq!(bar(0.5, 4), "██  ");
        assert_eq!(bar(0.53, 4), "██▏ ");
        assert_eq!(bar(0.0, 2), "  ");
        assert_eq!(bar(1.7, 2), "██");
    }

    #[test]
    fn a_difference_has_a_sign_only_when_there_is_one() {
        assert_eq!(points(0.0613), "+6.1");
        assert_eq!(points(-0.082), "-8.2");
        assert_eq!(points(-0.0001), "0.0");
    }

    #[test]
    fn times_fit_their_size() {
        assert_eq!(micros(Some(420)), "0.4 ms");
        assert_eq!(micros(Some(2_345_000)), "2.3 s");
        assert_eq!(micros(None), "-");
    }
}

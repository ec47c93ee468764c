//! Pins of clients.

use chrono::Utc;
use comfy_table::Cell;
use merismos_api::{PinKeyTimes, Pins};
use merismos_core::name::Name;
use merismos_core::time::Wall;
use merismos_core::units::humane;

use super::table::table;
use super::{moment, text};

/// Prints pins, and how full their table is; with the name of their pool where there are several.
pub(crate) fn list(pins: &Pins, of: Option<&Name>) {
    if let Some(pool) = of {
        text(&format!("pool {pool}\n"));
    }
    if pins.limit == 0 {
        text(
            "The pool keeps no pins: its clients are not tied, or by the cookie of the service, which they keep themselves.\n",
        );
        text(&refused_cookies(pins.refused_cookies));
        return;
    }
    let now = Wall(Utc::now().timestamp_millis());
    let mut shown = table(&["client", "kind", "server", "since", "last used", "ends in"]);
    for pin in &pins.pins {
        let ago =
            |at: Option<Wall>| at.map_or_else(String::new, |at| format!("{} ago", humane(now.since(at))));
        let ends = pin.until.map_or_else(String::new, |until| humane(until.since(now)));
        shown.add_row([
            Cell::new(pin.client.as_deref().unwrap_or_default()),
            Cell::new(&pin.kind),
            Cell::new(pin.server.as_deref().unwrap_or("(removed)")),
            Cell::new(pin.made.map(moment).unwrap_or_default()),
            Cell::new(ago(pin.used)),
            Cell::new(ends),
        ]);
    }
    if !pins.pins.is_empty() {
        text(&format!("{shown}\n"));
    }
    let evicted = match pins.evicted {
        0 => String::new(),
        evicted => {
            format!("; {evicted} were forgotten before their time, because there were as many as allowed")
        }
    };
    text(&format!(
        "{} of {} shown; {} {} kept of {} at most, in {}{evicted}\n",
        pins.pins.len(),
        pins.matching,
        pins.kept,
        if pins.kept == 1 { "pin is" } else { "pins are" },
        pins.limit,
        humane_bytes(pins.bytes)
    ));
    text(&refused_cookies(pins.refused_cookies));
}

/// Prints since when pins are signed with which key.
pub(crate) fn key(times: &PinKeyTimes) {
    text(&format!(
        "Cookies of the service are signed with a key that was drawn at {}.\n",
        moment(times.drawn)
    ));
    text(&match times.before {
        Some(before) => format!(
            "Those of the key before it, which it replaced at {}, hold until the next one is drawn.\n",
            moment(before)
        ),
        None => "There was none before it.\n".to_owned(),
    });
}

/// How many cookies were not taken.
fn refused_cookies(count: u64) -> String {
    match count {
        0 => String::new(),
        1 => {
            "1 cookie of the service's name was taken for none: forged, over, or another pool's\n".to_owned()
        }
        count => format!(
            "{count} cookies of the service's name were taken for none: forged, over, or another pool's\n"
        ),
    }
}

/// Prints how many pins were removed.
pub(crate) fn removed(removed: u64) {
    let pins = if removed == 1 { "1 pin was" } else { &format!("{removed} pins were") };
    text(&format!("{pins} removed. Their clients are distributed anew when they come again.\n"));
}

fn humane_bytes(bytes: u64) -> String {
    match bytes {
        0..=0xf_ffff => format!("{} KiB", bytes.div_ceil(1 << 10)),
        _ => format!("{:.1} MiB", bytes as f64 / f64::from(1 << 20)),
    }
}

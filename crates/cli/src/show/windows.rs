//! Windows and their times.

use comfy_table::Cell;
use merismos_api::{WindowResponse, WindowState, WindowView, Windows};
use merismos_core::time::Wall;

use super::table::table;
use super::{moment, note, text};

/// Prints windows, and the times of all of them in their order.
pub(crate) fn list(windows: &Windows, days: u16) {
    if windows.windows.is_empty() {
        text("There are no windows. `merismos window add` plans one.\n");
        return;
    }
    let mut shown = table(&["window", "state", "servers", "first start", "length", "repeats", "reason"]);
    for window in &windows.windows {
        let plan = &window.plan;
        shown.add_row([
            Cell::new(&window.name),
            Cell::new(state(window)),
            Cell::new(servers(window)),
            Cell::new(format!("{} {}", plan.schedule.start, plan.schedule.zone)),
            Cell::new(plan.schedule.length.to_string()),
            Cell::new(plan.schedule.repeat.as_deref().unwrap_or("once")),
            Cell::new(format!("{} (by {})", plan.reason, window.who)),
        ]);
    }
    text(&format!("{shown}\n"));
    let mut times: Vec<(Wall, Wall, &str)> = windows
        .windows
        .iter()
        .flat_map(|window| window.times.iter().map(|time| (time.start, time.end, window.name.as_str())))
        .collect();
    times.sort();
    if times.is_empty() {
        text(&format!("None of them opens within {days} days.\n"));
        return;
    }
    text(&format!("Within {days} days, in the time zone of this machine:\n"));
    for (start, end, name) in times {
        text(&format!("  {} to {}  {name}\n", moment(start), moment(end)));
    }
}

/// Prints a window that was planned.
pub(crate) fn planned(put: &WindowResponse) {
    let window = &put.window;
    let verb = if put.changed { "is planned" } else { "was planned so before" };
    text(&format!("Window {} {verb}, for {}.\n", window.name, servers(window)));
    if let (Some(drains_at), Some(next)) = (window.drains_at, window.times.first()) {
        text(&format!(
            "Its servers drain from {}; it is open from {} to {} (time zone of this machine).\n",
            moment(drains_at),
            moment(next.start),
            moment(next.end)
        ));
    }
    if !put.overridden.is_empty() {
        note(&format!("Planned although {}.", put.overridden.join("; ")));
    }
    if !put.recorded {
        note("The database is away; the window is in the state file, and follows when the database is back.");
    }
}

fn state(window: &WindowView) -> String {
    match (window.state, &window.kept_in) {
        (_, Some(why)) => format!("not begun: {why}"),
        (WindowState::Ahead, None) => window
            .drains_at
            .map_or_else(|| "ahead".to_owned(), |at| format!("ahead, drains from {}", moment(at))),
        (WindowState::Draining, None) => "draining".to_owned(),
        (WindowState::Open, None) => "open".to_owned(),
        (WindowState::Over, None) => "over".to_owned(),
    }
}

fn servers(window: &WindowView) -> String {
    let plan = &window.plan;
    let of = plan
        .host
        .as_ref()
        .map(|host| format!("host {host}"))
        .or_else(|| plan.label.as_ref().map(|label| format!("label {label}")));
    match (of, window.servers.len()) {
        (Some(of), 1) => format!("{of} (1 server)"),
        (Some(of), many) => format!("{of} ({many} servers)"),
        (None, 0..=3) => plan.servers.join(", "),
        (None, many) => format!("{} and {} more", plan.servers[..3].join(", "), many - 3),
    }
}

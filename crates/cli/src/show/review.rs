//! What a change did, or would do, for people.

use std::time::Duration;

use comfy_table::Cell;
use merismos_api::{AcceptedWarning, NamedChange, Review};
use merismos_core::config::WarningLevel;
use merismos_core::config::impact::Impact;
use merismos_core::config::replay::{RequestMove, RequestReplay};
use merismos_core::health::timing::{DetectionDelay, DetectionTiming};
use merismos_core::units::humane;

use super::table::{bar, number, percent, points, table};
use super::{bad, good, note, strong, text};

/// Prints a change: what it is, what it touches, and the warnings.
pub(crate) fn print(review: &Review, preview: bool) {
    if review.changes.is_empty() && !review.made {
        text(&format!("Nothing changes: revision {} has this content already.\n", review.revision));
    } else {
        text(&format!("{}\n", strong(if preview { "Would change" } else { "Changed" })));
        changes(&review.changes);
    }
    impact(review);
    warnings(&review.warnings);
    if review.made {
        let took = &review.took;
        let whole = took.check_us + took.compare_us + took.try_us + took.commit_us + took.run_us;
        text(&format!(
            "Revision {} runs now: made in {}, on every worker {} after its commit.\n",
            review.revision,
            micros(whole),
            micros(took.run_us)
        ));
        if review.saved == Some(false) {
            note(
                "The node's state file could not be written: the database has the revision, but a restart while the database is \
                 away would run the one before. `merismos status` says why.",
            );
        }
    } else if preview && !review.changes.is_empty() {
        text(&format!("This was a preview: revision {} runs on, nothing was changed.\n", review.revision));
    }
}

fn micros(us: u64) -> String {
    format!("{:.1} ms", us as f64 / 1e3)
}

/// Prints changes, one a line.
pub(crate) fn changes(changes: &[NamedChange]) {
    const SHOWN: usize = 200;
    for change in changes.iter().take(SHOWN) {
        let sign = match (&change.change.old, &change.change.new) {
            (None, _) => good("+"),
            (Some(_), None) => bad("-"),
            (Some(_), Some(_)) => "~".to_owned(),
        };
        text(&format!("  {sign} {}\n", change.description));
    }
    if changes.len() > SHOWN {
        text(&format!("  and {} more; --json has them all\n", changes.len() - SHOWN));
    }
}

/// Prints what a change touches and moves.
pub(crate) fn impact(review: &Review) {
    let Impact { frontends, pools, moves, pool_moves, rooms, timings, certificates, requests } =
        &review.impact;
    if !frontends.is_empty() || !pools.is_empty() {
        let list = |names: &[merismos_core::name::Name]| {
            let shown: Vec<_> = names.iter().take(8).map(ToString::to_string).collect();
            let more = names.len() - shown.len();
            match (shown.is_empty(), more) {
                (true, _) => "none".to_owned(),
                (false, 0) => shown.join(", "),
                (false, more) => format!("{} and {more} more", shown.join(", ")),
            }
        };
        text(&format!("{} frontends {}; pools {}\n", strong("Touches"), list(frontends), list(pools)));
    }
    for touched in &review.touched {
        text(&format!("  {} {}, {}\n", touched.count, touched.whose, touched.message));
    }
    if !moves.is_empty() {
        const SHOWN: usize = 50;
        text(&format!("{}\n", strong("Shares")));
        let mut table = table(&["server", "before", "after", "", "points", ""]);
        for share_change in moves.iter().take(SHOWN) {
            let moved = share_change.after.unwrap_or(0.0) - share_change.before.unwrap_or(0.0);
            let share = |share: Option<f64>| share.map_or_else(|| "-".to_owned(), percent);
            table.add_row(vec![
                Cell::new(&share_change.server),
                number(share(share_change.before)),
                number(share(share_change.after)),
                Cell::new(bar(share_change.after.unwrap_or(0.0), 12)),
                number(points(moved)),
                Cell::new(share_change.why_none.as_deref().unwrap_or("")),
            ]);
        }
        text(&format!("{table}\n"));
        if moves.len() > SHOWN {
            text(&format!("  and {} more servers\n", moves.len() - SHOWN));
        }
    }
    if !pool_moves.is_empty() {
        text(&format!("{}\n", strong("Parts of pools")));
        let mut table = table(&["frontend", "pool", "before", "after", "points"]);
        for pool_change in pool_moves {
            let part = |part: Option<f64>| part.map_or_else(|| "-".to_owned(), percent);
            table.add_row(vec![
                Cell::new(&pool_change.frontend),
                Cell::new(&pool_change.pool),
                number(part(pool_change.before)),
                number(part(pool_change.after)),
                number(points(pool_change.after.unwrap_or(0.0) - pool_change.before.unwrap_or(0.0))),
            ]);
        }
        text(&format!("{table}\n"));
    }
    for capacity_change in rooms {
        let room = |room: Option<u64>| room.map_or_else(|| "no limit".to_owned(), |room| room.to_string());
        let (before, after, words) =
            (room(capacity_change.before), room(capacity_change.after), capacity_change.room.words());
        text(&format!("{} pool {}, {words}: {before} to {after}\n", strong("Room"), capacity_change.pool));
    }
    for timing_change in timings {
        let whose = match &timing_change.pool {
            Some(pool) => format!("pool {pool} (check {})", timing_change.check),
            None => format!("check {}", timing_change.check),
        };
        let says = match (&timing_change.before, &timing_change.after) {
            (Some(before), Some(after)) => format!("was: {}\n    now: {}", timing(before), timing(after)),
            (None, Some(after)) => timing(after),
            (Some(_), None) => "failures are not noticed any more".to_owned(),
            (None, None) => continue,
        };
        text(&format!("{} {whose}\n    {says}\n", strong("Noticing")));
    }
    if !certificates.is_empty() {
        const SHOWN: usize = 30;
        text(&format!("{}\n", strong("Certificates that clients are shown")));
        let mut table = table(&["frontend", "host", "before", "after"]);
        for change in certificates.iter().take(SHOWN) {
            let name = |name: &Option<merismos_core::name::Name>| {
                name.as_ref().map_or_else(|| "none for it".to_owned(), ToString::to_string)
            };
            table.add_row(vec![
                Cell::new(&change.frontend),
                Cell::new(&change.host),
                Cell::new(name(&change.before)),
                Cell::new(name(&change.after)),
            ]);
        }
        text(&format!("{table}\n"));
        if certificates.len() > SHOWN {
            text(&format!("  and {} more hosts\n", certificates.len() - SHOWN));
        }
    }
    if let Some(requests) = requests {
        replayed(requests);
    }
}

/// Prints where requests of the last hour would go.
fn replayed(replay: &RequestReplay) {
    let RequestReplay { requests, elsewhere, undecided, moves } = replay;
    let unknown = if *undecided == 0 {
        String::new()
    } else {
        format!(
            "; of {undecided} nothing can be said, for a rule looks at their header fields, which are not kept"
        )
    };
    text(&format!(
        "{} sampled in the last hour: {elsewhere} of {requests} would go elsewhere{unknown}\n",
        strong("Requests")
    ));
    if moves.is_empty() {
        return;
    }
    let mut table = table(&["frontend", "request", "sampled", "before", "after"]);
    for change in moves {
        let RequestMove { frontend, method, host, path, requests, before, after } = change;
        let host = host.as_deref().unwrap_or_default();
        table.add_row(vec![
            Cell::new(frontend),
            Cell::new(format!("{method} {host}{path}")),
            Cell::new(requests),
            Cell::new(before),
            Cell::new(after),
        ]);
    }
    text(&format!("{table}\n"));
}

pub(super) fn timing(timing: &DetectionTiming) -> String {
    let delay = |delay: &DetectionDelay| {
        let span = |millis: u64| humane(Duration::from_millis(millis));
        format!(
            "{} at best, {} on average, {} at worst",
            span(delay.best_ms),
            span(delay.average_ms),
            span(delay.worst_ms)
        )
    };
    format!(
        "noticed after {}; back after {} on average; {} probes a minute for each server",
        delay(&timing.noticed),
        humane(Duration::from_millis(timing.back.average_ms)),
        timing.probes_per_minute
    )
}

/// Prints the warnings. What was so before is no news unless the change touches it; of the rest that clients feel it is only said how
/// much there is.
pub(crate) fn warnings(warnings: &[AcceptedWarning]) {
    let is_felt = |warning: &&AcceptedWarning| warning.warning.level == WarningLevel::Warning;
    warnings
        .iter()
        .filter(|warning| !warning.known || (warning.touched && is_felt(warning)))
        .for_each(warning);
    match warnings.iter().filter(is_felt).filter(|warning| warning.stands()).count() {
        0 => {}
        1 => text("1 accepted warning stands.\n"),
        count => text(&format!("{count} accepted warnings stand.\n")),
    }
}

/// Prints a warning with what to do, and its key where it has to be accepted.
fn warning(warned: &AcceptedWarning) {
    let warning = &warned.warning;
    let line = warning.line.map_or(String::new(), |line| format!("line {line}, "));
    let what = match warning.level {
        WarningLevel::Warning => bad("warning"),
        WarningLevel::Notice => "notice".to_owned(),
    };
    let more = match &warned.accepted {
        Some(accepted) => format!(" Accepted by {}.", accepted.who),
        None if warned.needs_word() => format!(" If it is meant to be so: --accept-warning {}", warning.key),
        None => String::new(),
    };
    text(&format!("{what} {line}{}: {}. {}{more}\n", warning.path, warning.message, capital(&warning.help)));
}

/// A sentence that begins with a capital letter, or, where a key of a document begins it, with words that may stand before that.
fn capital(sentence: &str) -> String {
    if sentence.split_once(' ').is_some_and(|(_, rest)| rest.starts_with("= ")) {
        return format!("Right would be {sentence}.");
    }
    let mut letters = sentence.chars();
    let first = letters.next().map(|first| first.to_uppercase().to_string()).unwrap_or_default();
    format!("{first}{}.", letters.as_str())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_keep_their_letters_at_the_start_of_a_sentence() {
        assert_eq!(capital("name a check"), "Name a check.");
        assert_eq!(capital("tls = \"verified\""), "Right would be tls = \"verified\".");
    }
}

//! A trial for people.

use std::time::Duration;

use comfy_table::{Cell, Color};
use merismos_api::{Trial, TrialState};
use merismos_core::proof::{Tally, Verdict};
use merismos_core::units::humane;

use super::table::{bar, count, micros, number, percent, points, table};
use super::{bad, good, moment, strong, text};

/// Prints a trial's table, test and verdict.
pub(crate) fn print(trial: &Trial) {
    let took = humane(Duration::from_millis(trial.took_ms));
    let request = &trial.request;
    let head = format!(
        "trial {} · frontend {} · {} requests for {} over {} connections in {took}",
        trial.id, request.frontend, request.requests, request.path, request.concurrency
    );
    text(&format!("{}\n", strong(&head)));
    let Some(tally) = &trial.tally else {
        text(&format!("It is running: {} of {} requests have ended.\n", trial.ended, request.requests));
        return;
    };
    rows(tally);
    if !trial.happened.is_empty() {
        text(&format!("{}\n", strong("What happened meanwhile")));
        for it in &trial.happened {
            let after = Duration::from_millis(it.after_ms).as_secs_f64();
            text(&format!("  +{after:5.1} s  {}  {}\n", it.subject, it.says));
        }
    }
    match &tally.test {
        Some(test) => text(&format!(
            "chi-square {:.2} with {} degrees of freedom, {}: {}\n",
            test.statistic,
            test.freedom,
            test.p_words(),
            test.words()
        )),
        None => text("chi-square: there is nothing to compare\n"),
    }
    let because = tally.because.join("; ");
    match tally.verdict {
        Verdict::AsExpected => text(&format!("{}: {because}\n", good("✓ As expected"))),
        Verdict::NotAsExpected => text(&format!("{}: {because}\n", bad("✗ Not as expected"))),
        Verdict::TooFew => text(&format!("{}: {because}\n", bad("? Can't be judged"))),
    }
}

fn rows(tally: &Tally) {
    let mut table = table(&[
        "server",
        "requests",
        "expected",
        "observed",
        "",
        "difference",
        "failed",
        "retried",
        "median",
        "99th pct.",
    ]);
    for row in &tally.rows {
        table.add_row(vec![
            Cell::new(&row.server),
            number(row.requests),
            number(percent(row.expected)),
            number(percent(row.observed)),
            Cell::new(bar(row.observed, 12)),
            number(points(row.observed - row.expected)),
            count(row.failed),
            count(row.retried),
            number(micros(row.median_us)),
            number(micros(row.p99_us)),
        ]);
    }
    if tally.without_server > 0 {
        let share = tally.without_server as f64 / tally.requests as f64;
        table.add_row(vec![
            Cell::new("no server").fg(Color::Red),
            number(tally.without_server),
            number("-"),
            number(percent(share)),
            Cell::new(bar(share, 12)),
            number(points(share)),
            count(tally.without_server),
            number("-"),
            number("-"),
            number("-"),
        ]);
    }
    text(&format!("{table}\n"));
    text(&format!(
        "{} requests, {} failed, {} answered by another server after one failed\n",
        tally.requests, tally.failed, tally.retried
    ));
}

/// Prints a line for each trial.
pub(crate) fn list(trials: &[Trial]) {
    if trials.is_empty() {
        text("No trials yet. Begin one: merismos trial FRONTEND --requests 600\n");
        return;
    }
    let mut table = table(&["trial", "when", "frontend", "requests", "failed", "verdict"]);
    for trial in trials {
        let verdict = match (trial.state, trial.tally.as_ref().map(|tally| tally.verdict)) {
            (TrialState::Running, _) => Cell::new("running"),
            (TrialState::Done, Some(Verdict::AsExpected)) => Cell::new("as expected").fg(Color::Green),
            (TrialState::Done, Some(Verdict::TooFew)) => Cell::new("can't be judged").fg(Color::Yellow),
            (TrialState::Done, Some(Verdict::NotAsExpected) | None) => {
                Cell::new("not as expected").fg(Color::Red)
            }
        };
        table.add_row(vec![
            Cell::new(trial.id),
            Cell::new(moment(trial.at)),
            Cell::new(&trial.request.frontend),
            number(trial.request.requests),
            count(trial.tally.as_ref().map_or(0, |tally| tally.failed)),
            verdict,
        ]);
    }
    text(&format!("{table}\n"));
}

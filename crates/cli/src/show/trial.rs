//! A trial for people.

use std::time::Duration;

use comfy_table::{Cell, Color};
use merismos_api::{Trial, TrialRequest, TrialState};
use merismos_core::proof::{RequestResults, Tally, TrialVerdict};
use merismos_core::units::humane;

use super::table::{bar, count, micros, number, percent, points, table};
use super::{bad, good, moment, strong, text};

/// Prints a trial's table, test and verdict.
pub(crate) fn print(trial: &Trial) {
    let took = humane(Duration::from_millis(trial.took_ms));
    let request = &trial.request;
    let head = format!(
        "trial {} · frontend {} · {} {} in {took}, {}",
        trial.id,
        request.frontend,
        request.requests,
        sent(trial),
        by(request)
    );
    text(&format!("{}\n", strong(&head)));
    let Some(tally) = &trial.tally else {
        let (ended, all, many) = (trial.ended, request.requests, trial.sends.many());
        text(&format!("It is running: {ended} of {all} {many} have ended.\n"));
        return;
    };
    rows(tally, trial.sends);
    if !trial.happened.is_empty() {
        text(&format!("{}\n", strong("Events meanwhile")));
        for happening in &trial.happened {
            let after = Duration::from_millis(happening.after_ms).as_secs_f64();
            text(&format!("  +{after:5.1} s  {}  {}\n", happening.subject, happening.message));
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
        TrialVerdict::AsExpected => text(&format!("{}: {because}\n", good("✓ As expected"))),
        TrialVerdict::NotAsExpected => text(&format!("{}: {because}\n", bad("✗ Not as expected"))),
        TrialVerdict::TooFew => text(&format!("{}: {because}\n", bad("? Can't be judged"))),
    }
}

fn rows(tally: &Tally, sends: RequestResults) {
    let mut table = table(&[
        "server",
        sends.many(),
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
    if tally.limited > 0 {
        text(&format!(
            "{} refused by a limit of clients (429): merismos limit counts shows which\n",
            tally.limited
        ));
    }
    let (many, done) = (sends.many(), sends.done());
    text(&format!(
        "{} {many}, {} failed, {} {done} by another server after one failed",
        tally.requests, tally.failed, tally.retried
    ));
    if tally.tied > 0 {
        text(&format!("; {} of one server alone, {} of them went elsewhere", tally.tied, tally.strayed));
    }
    text("\n");
    for moved in &tally.moves {
        let clients =
            if moved.clients == 1 { "1 client".to_owned() } else { format!("{} clients", moved.clients) };
        let was = if moved.clients == 1 { "was" } else { "were" };
        let why = moved.reason.as_deref().unwrap_or("without a reason");
        text(&format!("{clients} {was} moved from {}: {why}\n", moved.from));
    }
}

/// What was sent, in words.
fn sent(trial: &Trial) -> String {
    match (trial.sends, &trial.request.say) {
        (RequestResults::Requests, _) => format!("requests for {}", trial.request.path),
        (other, Some(say)) => format!("{} that say \"{say}\"", other.many()),
        (other, None) => other.many().to_owned(),
    }
}

/// By whom, in words.
fn by(request: &TrialRequest) -> String {
    let at_once = request.concurrency.min(request.requests);
    let mut words = format!("{at_once} at the same time");
    if let Some(clients) = request.clients {
        words += &format!(", by {clients} clients");
    }
    if let Some(from) = &request.from {
        words += &format!(" from {from}");
    }
    if request.keep_cookies {
        words += " that keep their cookies";
    }
    if let Some(percent) = request.new_percent {
        words += &format!(", {percent} % of them new");
    }
    if let Some(server) = &request.server {
        words += &format!(", all for {server}");
    }
    words
}

/// Prints a line for each trial.
pub(crate) fn list(trials: &[Trial]) {
    if trials.is_empty() {
        text("No trials yet. Begin one: merismos trial FRONTEND --requests 600\n");
        return;
    }
    let mut table = table(&["trial", "when", "frontend", "sent", "failed", "verdict"]);
    for trial in trials {
        let verdict = match (trial.state, trial.tally.as_ref().map(|tally| tally.verdict)) {
            (TrialState::Running, _) => Cell::new("running"),
            (TrialState::Done, Some(TrialVerdict::AsExpected)) => Cell::new("as expected").fg(Color::Green),
            (TrialState::Done, Some(TrialVerdict::TooFew)) => Cell::new("can't be judged").fg(Color::Yellow),
            (TrialState::Done, Some(TrialVerdict::NotAsExpected) | None) => {
                Cell::new("not as expected").fg(Color::Red)
            }
        };
        table.add_row(vec![
            Cell::new(trial.id),
            Cell::new(moment(trial.at)),
            Cell::new(&trial.request.frontend),
            number(format!("{} {}", trial.request.requests, trial.sends.many())),
            count(trial.tally.as_ref().map_or(0, |tally| tally.failed)),
            verdict,
        ]);
    }
    text(&format!("{table}\n"));
}

//! All printing. Tables and bars for people; JSON for programs. Colour is never the only sign, and is left out
//! where the output is not a terminal.

pub(crate) mod addresses;
pub(crate) mod announcements;
pub(crate) mod certificates;
pub(crate) mod decision;
pub(crate) mod doctor;
pub(crate) mod drafts;
pub(crate) mod duty;
pub(crate) mod explain;
pub(crate) mod keys;
pub(crate) mod limits;
pub(crate) mod nodes;
pub(crate) mod notifications;
pub(crate) mod objects;
pub(crate) mod pins;
pub(crate) mod probe;
pub(crate) mod refusals;
pub(crate) mod review;
pub(crate) mod rolls;
pub(crate) mod rules;
pub(crate) mod status;
mod table;
pub(crate) mod tokens;
pub(crate) mod trial;
pub(crate) mod windows;

use std::io::Write;

use chrono::{DateTime, Local};
use indicatif::{ProgressBar, ProgressStyle};
use merismos_api::Event;
use merismos_client::ClientError;
use merismos_core::time::Wall;
use owo_colors::{OwoColorize, Stream};
use serde::Serialize;

use crate::exit::CliError;

/// Prints a text. A reader that went away wants to hear no more.
pub(crate) fn text(text: &str) {
    let _ = anstream::stdout().lock().write_all(text.as_bytes());
}

/// Makes the terminal empty, for what is drawn anew.
pub(crate) fn clear() {
    text("\u{1b}[H\u{1b}[2J");
}

/// Prints a value as JSON.
pub(crate) fn json(value: &impl Serialize) {
    text(&(serde_json::to_string_pretty(value).expect("API types have text keys") + "\n"));
}

/// Says something beside the output, on standard error.
pub(crate) fn note(says: &str) {
    let _ = writeln!(anstream::stderr(), "{says}");
}

/// Says why a command did not do it, and what to do next.
pub(crate) fn error(error: &CliError) {
    match error {
        CliError::Client(client) if client.wants_token() => {
            note("merismos: the service does not know this token")
        }
        _ => note(&format!("merismos: {error}")),
    }
    if let CliError::Client(ClientError::Refused(problem)) = error {
        for mistake in &problem.problems {
            note(&format!("  {mistake}"));
        }
        for warned in &problem.warnings {
            note(&format!(
                "  {}. To accept it: --accept-warning {}",
                warned.warning.message, warned.warning.key
            ));
        }
        if let Some(between) = &problem.between {
            note(&format!("From revision {} to {}:", between.from, between.to));
            for change in &between.changes {
                note(&format!("  {}", change.description));
            }
        }
    }
    if let Some(advice) = error.advice() {
        note(&advice);
    }
}

/// A moment in the reader's own time zone.
pub(crate) fn moment(wall: Wall) -> String {
    let utc = DateTime::from_timestamp_millis(wall.0).unwrap_or_default();
    utc.with_timezone(&Local).format("%Y-%m-%d %H:%M:%S").to_string()
}

/// The time of day alone, to the millisecond.
fn clock(wall: Wall) -> String {
    let utc = DateTime::from_timestamp_millis(wall.0).unwrap_or_default();
    utc.with_timezone(&Local).format("%H:%M:%S%.3f").to_string()
}

/// Good news and bad news in colour, where there is a terminal.
fn good(text: &str) -> String {
    text.if_supports_color(Stream::Stdout, |text| text.green()).to_string()
}

fn bad(text: &str) -> String {
    text.if_supports_color(Stream::Stdout, |text| text.red()).to_string()
}

fn strong(text: &str) -> String {
    text.if_supports_color(Stream::Stdout, |text| text.bold()).to_string()
}

/// Prints an event: one line, or one JSON object on a line.
/// Prints an event, a line each; with the name of its node where there are several.
pub(crate) fn event(event: &Event, json: bool, with_node: bool) {
    if json {
        text(&(serde_json::to_string(event).expect("API types have text keys") + "\n"));
        return;
    }
    let kind = event.kind.word();
    let node = if with_node { format!("{:10}  ", event.node) } else { String::new() };
    text(&format!("{}  {node}{kind:8}  {:18}  {}\n", moment(event.at), event.subject, event.message));
}

/// A bar for work that takes a while; drawn on standard error when that is a terminal.
pub(crate) struct ProgressLine(ProgressBar);

impl ProgressLine {
    pub(crate) fn new(total: u64) -> Self {
        let bar = ProgressBar::new(total);
        let style = ProgressStyle::with_template("{bar:40} {pos} of {len} requests, {elapsed}");
        bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_bar()));
        Self(bar)
    }

    pub(crate) fn at(&self, done: u64) {
        self.0.set_position(done);
    }

    pub(crate) fn end(&self) {
        self.0.finish_and_clear();
    }
}

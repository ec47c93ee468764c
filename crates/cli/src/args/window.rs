//! `merismos window list|add|remove`

use chrono::NaiveDateTime;
use merismos_api::WindowQuery;
use merismos_core::duty::DrainPins;
use merismos_core::name::{Name, PoolServer};
use merismos_core::units::Span;
use merismos_core::window::{Schedule, WindowPlan};

use super::CommandContext;
use crate::exit::{CliError, ExitStatus};
use crate::show;

/// What can be done with windows.
#[derive(Debug, clap::Subcommand)]
pub(super) enum WindowCommand {
    /// List windows with their coming times
    List {
        /// Number of days to look ahead
        #[arg(long, default_value_t = 30, value_parser = clap::value_parser!(u16).range(1..=400))]
        days: u16,
        /// Print a calendar (iCalendar, RFC 5545) instead of a table
        #[arg(long, conflicts_with = "json")]
        calendar: bool,
    },
    /// Plan a window: its servers drain in time for it, and return when it ends if they are healthy. A window of this name is replaced
    Add(Box<WindowArgs>),
    /// Remove a window; servers that it holds stay out until the end of its time
    Remove {
        /// Window, such as tuesday-night
        window: Name,
    },
}

/// Which servers a window is for.
#[derive(Debug, clap::Args)]
#[group(id = "for_servers", required = true, multiple = true)]
struct WindowServers {
    /// Servers, such as booking/gull
    #[arg(value_name = "POOL/SERVER", group = "for_servers", conflicts_with_all = ["host", "label"])]
    servers: Vec<PoolServer>,
    /// Host by name or address: every server on it, in all pools
    #[arg(long, value_name = "HOST", group = "for_servers", conflicts_with = "label")]
    host: Option<String>,
    /// Label: every server that has it, or whose host has, when the window opens
    #[arg(long, value_name = "KEY=VALUE", group = "for_servers")]
    label: Option<String>,
}

/// What `merismos window add` takes.
#[derive(Debug, clap::Args)]
pub(super) struct WindowArgs {
    /// Name for the window, such as tuesday-night
    window: Name,
    #[command(flatten)]
    servers: WindowServers,
    /// Date and time of the first start, as clocks in the zone show them: "2026-12-01 22:00"
    #[arg(long, value_name = "DATE TIME", value_parser = start)]
    start: NaiveDateTime,
    /// Time zone by its name in the IANA database, such as Europe/Oslo
    #[arg(long, value_name = "ZONE", default_value = "UTC")]
    zone: String,
    /// Length of the window: 1m to 7d
    #[arg(long, value_name = "DURATION")]
    length: Span,
    /// Recurrence rule of RFC 5545, such as "FREQ=WEEKLY;BYDAY=TU" [default: once]
    #[arg(long, value_name = "RULE")]
    repeat: Option<String>,
    /// Time before each start at which the servers begin to drain [default: the longest drain_timeout of their pools, or 10m]
    #[arg(long, value_name = "DURATION")]
    within: Option<Span>,
    /// What becomes of pinned clients: honour (they go on until the start or their pins end) or move (they go elsewhere at once)
    #[arg(long, value_name = "honour|move", default_value_t)]
    pins: DrainPins,
    /// Reason, shown wherever the servers are shown
    #[arg(long, value_name = "TEXT")]
    reason: String,
    /// Plan and open it although too little would be left
    #[arg(long)]
    anyway: bool,
}

fn start(text: &str) -> Result<NaiveDateTime, String> {
    let text = text.trim().replacen(' ', "T", 1);
    let with_seconds = || format!("{text}:00").parse();
    text.parse().or_else(|_| with_seconds()).map_err(|_| {
        "wanted a date and a time as clocks in the zone show them, such as \"2026-12-01 22:00\"".to_owned()
    })
}

impl WindowArgs {
    fn plan(self) -> (Name, WindowPlan) {
        let WindowServers { servers, host, label } = self.servers;
        let plan = WindowPlan {
            servers: servers.iter().map(ToString::to_string).collect(),
            host,
            label,
            schedule: Schedule {
                start: self.start,
                zone: self.zone,
                length: self.length,
                repeat: self.repeat,
            },
            within: self.within,
            pins: self.pins,
            reason: self.reason,
            anyway: self.anyway,
        };
        (self.window, plan)
    }
}

impl WindowCommand {
    pub(super) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        let client = context.target.client()?;
        match self {
            Self::List { days, calendar } => {
                let query = WindowQuery { days: Some(days) };
                if calendar {
                    show::text(&client.windows_calendar(&query).await?);
                    return Ok(ExitStatus::Done);
                }
                let windows = client.windows(&query).await?;
                if context.json {
                    show::json(&windows);
                } else {
                    show::windows::list(&windows, days);
                }
            }
            Self::Add(args) => {
                let (name, plan) = args.plan();
                let put = client.put_window(&name, &plan).await?;
                if context.json {
                    show::json(&put);
                } else {
                    show::windows::planned(&put);
                }
            }
            Self::Remove { window } => {
                client.remove_window(&window).await?;
                if !context.json {
                    show::text(&format!(
                        "Window {window} is removed. Servers that it holds stay out until the end of its time.\n"
                    ));
                }
            }
        }
        Ok(ExitStatus::Done)
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::without_seconds("2026-12-01 22:00", Some("2026-12-01T22:00:00"))]
    #[case::whole("2026-12-01T22:00:30", Some("2026-12-01T22:00:30"))]
    #[case::a_day_alone("2026-12-01", None)]
    #[case::no_such_day("2026-02-30 22:00", None)]
    fn starts_are_read(#[case] text: &str, #[case] expected: Option<&str>) {
        assert_eq!(start(text).ok(), expected.map(|expected| expected.parse().unwrap()));
    }
}

//! `merismos events [--follow]`

use merismos_api::{EventFilter, EventKind, StreamMessage};
use merismos_client::Client;
use merismos_core::time::Wall;

use super::{CommandContext, when};
use crate::exit::{CliError, ExitStatus};
use crate::show;

/// The most events that the service gives at once.
const PAGE: u32 = 1_000;

#[derive(Debug, clap::Args)]
pub(super) struct EventsArgs {
    /// Number of events, the latest ones
    #[arg(long, default_value_t = 20, value_parser = clap::value_parser!(u32).range(1..=1_000_000))]
    limit: u32,
    /// Continue with new events as they happen
    #[arg(long)]
    follow: bool,
    /// Show only these kinds, with commas between: health, duty, revision, draft, lookup, tier, traffic, node, trial, notification, token
    #[arg(long, value_name = "KIND", value_delimiter = ',', value_parser = kind)]
    kind: Vec<EventKind>,
    /// Show only events about this object: a pool with its servers, POOL/SERVER, a frontend, or "revision 7"
    #[arg(long, value_name = "NAME")]
    object: Option<String>,
    /// Show only events caused by this token
    #[arg(long, value_name = "NAME")]
    by: Option<String>,
    /// Show only events since this time: 2h (ago), 07:30, 2026-11-28 or "2026-11-28 07:30"
    #[arg(long, value_name = "WHEN", value_parser = when::moment)]
    since: Option<Wall>,
    /// Show only events before this time, written as for --since
    #[arg(long, value_name = "WHEN", value_parser = when::moment, conflicts_with = "follow")]
    until: Option<Wall>,
    /// Show only events with numbers below this one; --json shows numbers
    #[arg(long, value_name = "NUMBER", conflicts_with = "follow")]
    before: Option<u64>,
}

fn kind(word: &str) -> Result<EventKind, String> {
    EventKind::of(word).ok_or_else(|| {
        let words: Vec<_> = EventKind::ALL.iter().map(|(_, word)| *word).collect();
        format!("wanted one of {}", words.join(", "))
    })
}

/// How events are printed.
#[derive(Clone, Copy)]
struct EventOutput {
    json: bool,
    /// Whether each line names its node.
    with_node: bool,
}

impl EventsArgs {
    pub(super) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        let client = context.target.client()?;
        // Watching begins before the look back, so that nothing falls between the two.
        let stream = if self.follow { Some(client.stream().await?) } else { None };
        let Self { kind: kinds, object, by, since, until, before, limit, .. } = self;
        let filter = EventFilter { before, kinds, object, by, since, until };
        // Events of several nodes are distinguished.
        let several = client.short_status(None).await?.node.nodes > 1;
        let output = EventOutput { json: context.json, with_node: several };
        let newest = look_back(&client, &filter, limit, output).await?;
        let Some(mut stream) = stream else { return Ok(ExitStatus::Done) };
        while let Some(message) = stream.next().await {
            match message? {
                StreamMessage::Event(event) if event.id > newest && filter.wants(&event) => {
                    show::event(&event, output.json, output.with_node);
                }
                StreamMessage::Event(_) | StreamMessage::Status(_) | StreamMessage::Trial(_) => {}
            }
        }
        show::note("the service has ended the stream");
        Ok(ExitStatus::Refused)
    }
}

/// Prints what happened, the oldest first, page after page; gives the number of the newest.
async fn look_back(
    client: &Client,
    filter: &EventFilter,
    limit: u32,
    output: EventOutput,
) -> Result<u64, CliError> {
    let (mut filter, mut events, mut complete) = (filter.clone(), Vec::new(), true);
    loop {
        let wanted = (limit - events.len() as u32).min(PAGE);
        let page = client.events_like(&filter, wanted).await?;
        complete &= page.complete;
        filter.before = page.events.last().map(|oldest| oldest.id);
        let is_last = (page.events.len() as u32) < wanted;
        events.extend(page.events);
        if is_last || events.len() as u32 >= limit {
            break;
        }
    }
    for event in events.iter().rev() {
        show::event(event, output.json, output.with_node);
    }
    if !complete {
        show::note("the database does not answer: these are only the last events that the service remembers");
    }
    Ok(events.first().map_or(0, |newest| newest.id))
}

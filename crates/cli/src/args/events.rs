//! `merismos events [--follow]`

use merismos_api::StreamMessage;

use super::Context;
use crate::exit::{CliError, Exit};
use crate::show;

#[derive(Debug, clap::Args)]
pub(super) struct Args {
    /// How many of the last events
    #[arg(long, default_value_t = 20, value_parser = clap::value_parser!(u32).range(1..=1000))]
    limit: u32,
    /// Go on with events as they happen
    #[arg(long)]
    follow: bool,
}

impl Args {
    pub(super) async fn run(self, context: &Context) -> Result<Exit, CliError> {
        let client = context.target.client()?;
        // Watching begins before the look back, so that nothing falls between the two.
        let stream = if self.follow { Some(client.stream().await?) } else { None };
        let mut events = client.events(self.limit).await?;
        events.events.reverse();
        let mut newest = 0;
        for event in &events.events {
            newest = newest.max(event.id);
            show::event(event, context.json);
        }
        if !events.complete {
            show::note(
                "the database does not answer: these are only the last events that the service remembers",
            );
        }
        let Some(mut stream) = stream else { return Ok(Exit::Done) };
        while let Some(message) = stream.next().await {
            match message? {
                StreamMessage::Event(event) if event.id > newest => show::event(&event, context.json),
                StreamMessage::Event(_) | StreamMessage::Status(_) | StreamMessage::Trial(_) => {}
            }
        }
        show::note("the service has ended the stream");
        Ok(Exit::Refused)
    }
}

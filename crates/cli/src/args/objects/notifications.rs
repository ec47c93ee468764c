//! `merismos notification VERB`: the verbs of every object, to try one, and to see what was sent.

use clap::Subcommand;
use merismos_core::name::Name;

use super::ObjectCommand;
use super::kinds::NotificationFlags;
use crate::args::CommandContext;
use crate::exit::{CliError, ExitStatus};
use crate::show;

/// What can be done with messages.
#[derive(Debug, Subcommand)]
pub(crate) enum NotificationCommand {
    #[command(flatten)]
    Object(ObjectCommand<NotificationFlags>),
    /// Send a test message now and show the result
    Try {
        /// Name of the notification
        name: Name,
    },
    /// List messages and their delivery
    Sent {
        /// Number of messages, the latest ones
        #[arg(long, default_value_t = 20, value_parser = clap::value_parser!(u32).range(1..=500))]
        limit: u32,
    },
}

impl NotificationCommand {
    pub(crate) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        let (sent, tried) = match self {
            Self::Object(verb) => return verb.run(context).await,
            Self::Try { name } => (context.target.client()?.try_message(&name).await?, true),
            Self::Sent { limit } => (context.target.client()?.messages(limit).await?, false),
        };
        if context.json {
            show::json(&sent);
        } else {
            show::notifications::sent(&sent.messages);
        }
        let lost = tried && sent.messages.iter().any(|message| message.delivered.is_none());
        Ok(if lost { ExitStatus::No } else { ExitStatus::Done })
    }
}

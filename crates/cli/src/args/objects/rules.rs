//! `merismos rule VERB`: the verbs of every object, what rules make of a request, and what they counted.

use clap::Subcommand;
use merismos_core::name::Name;

use super::ObjectCommand;
use super::kinds::RuleFlags;
use crate::args::CommandContext;
use crate::args::explain::ExplainArgs;
use crate::exit::{CliError, ExitStatus};
use crate::show;

/// What can be done with rules.
#[derive(Debug, Subcommand)]
pub(crate) enum RuleCommand {
    #[command(flatten)]
    Object(ObjectCommand<RuleFlags>),
    /// Show which rule of a frontend a request would meet, why, and what would become of it; nothing is sent
    Try(Box<ExplainArgs>),
    /// Show the rules of a frontend in order, with how many requests met each first and when the last one did
    Counts {
        /// Name of the frontend
        frontend: Name,
    },
}

impl RuleCommand {
    pub(crate) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        match self {
            Self::Object(verb) => verb.run(context).await,
            Self::Try(request) => request.run(context).await,
            Self::Counts { frontend } => {
                let counts = context.target.client()?.rule_counts(&frontend).await?;
                if context.json {
                    show::json(&counts);
                } else {
                    show::rules::counts(&counts);
                }
                Ok(ExitStatus::Done)
            }
        }
    }
}

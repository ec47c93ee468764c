//! `merismos frontend VERB`: the verbs of every object, and whom a frontend refused.

use clap::Subcommand;
use merismos_core::name::Name;

use super::ObjectCommand;
use super::kinds::FrontendFlags;
use crate::args::CommandContext;
use crate::exit::{CliError, ExitStatus};
use crate::show;

/// What can be done with frontends.
#[derive(Debug, Subcommand)]
pub(crate) enum FrontendCommand {
    #[command(flatten)]
    Object(ObjectCommand<FrontendFlags>),
    /// Show whom a frontend refused since the node started: for each reason how often, and which clients most
    Refusals {
        /// Name of the frontend
        frontend: Name,
    },
}

impl FrontendCommand {
    pub(crate) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        match self {
            Self::Object(verb) => verb.run(context).await,
            Self::Refusals { frontend } => {
                let refusals = context.target.client()?.refusals(&frontend).await?;
                if context.json {
                    show::json(&refusals);
                } else {
                    show::refusals::print(&refusals);
                }
                Ok(ExitStatus::Done)
            }
        }
    }
}

//! `merismos limit VERB`: the verbs of every object, and what limits did.

use clap::Subcommand;
use merismos_core::name::Name;

use super::ObjectCommand;
use super::kinds::LimitFlags;
use crate::args::CommandContext;
use crate::exit::{CliError, ExitStatus};
use crate::show;

/// What can be done with limits.
#[derive(Debug, Subcommand)]
pub(crate) enum LimitCommand {
    #[command(flatten)]
    Object(ObjectCommand<LimitFlags>),
    /// Show what limits let pass, refused, delayed or only observed, and which clients they held off most
    Counts {
        /// Name of the limit; all without it
        limit: Option<Name>,
    },
}

impl LimitCommand {
    pub(crate) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        match self {
            Self::Object(verb) => verb.run(context).await,
            Self::Counts { limit } => {
                let mut limits = context.target.client()?.limits().await?;
                if let Some(wanted) = &limit {
                    limits.limits.retain(|known| known.name == wanted.as_str());
                    if limits.limits.is_empty() {
                        return Err(CliError::Call(format!(
                            "there is no limit named {wanted}: merismos limit list shows them"
                        )));
                    }
                }
                if context.json {
                    show::json(&limits);
                } else {
                    show::limits::counts(&limits);
                }
                Ok(ExitStatus::Done)
            }
        }
    }
}

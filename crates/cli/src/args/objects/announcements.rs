//! `merismos announcement VERB`: the verbs of every object, and which node announces what.

use clap::Subcommand;
use merismos_core::name::Name;

use super::ObjectCommand;
use super::kinds::AnnouncementFlags;
use crate::args::CommandContext;
use crate::exit::{CliError, ExitStatus};
use crate::show;

/// What can be done with addresses that nodes announce to routers.
#[derive(Debug, Subcommand)]
pub(crate) enum AnnouncementCommand {
    #[command(flatten)]
    Object(ObjectCommand<AnnouncementFlags>),
    /// Show which node announces what, and its sessions with routers; exit code 1 when an address is not announced as it should be, or a session is missing
    Status {
        /// Only this one, with the sessions of the node that answers
        name: Option<Name>,
    },
}

impl AnnouncementCommand {
    pub(crate) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        let is_well = match self {
            Self::Object(verb) => return verb.run(context).await,
            Self::Status { name: None } => {
                let found = context.target.client()?.announcements().await?;
                if context.json {
                    show::json(&found);
                } else {
                    show::announcements::list(&found);
                }
                found.announcements.iter().all(show::announcements::is_well) && !found.database_away
            }
            Self::Status { name: Some(name) } => {
                let found = context.target.client()?.announcement(&name).await?;
                if context.json {
                    show::json(&found);
                } else {
                    show::announcements::one(&found);
                }
                show::announcements::is_well(&found.announcement)
            }
        };
        Ok(if is_well { ExitStatus::Done } else { ExitStatus::No })
    }
}

//! `merismos maintenance on|off FRONTEND`

use clap::{Args, Subcommand};
use merismos_core::config::ObjectPath;
use merismos_core::config::edit::Edit;
use merismos_core::name::Name;
use merismos_core::units::Span;
use serde_json::{Map, Value, json};

use super::CommandContext;
use super::apply_options::ChangeTargetArgs;
use super::input;
use crate::exit::{CliError, ExitStatus};

/// What can be done about the maintenance of frontends.
#[derive(Debug, Subcommand)]
pub(super) enum MaintenanceCommand {
    /// Give clients of a frontend a page instead of the application: 503 with Retry-After
    On(Box<MaintenanceArgs>),
    /// Give clients the application again
    Off {
        /// Name of the frontend
        frontend: Name,
        #[command(flatten)]
        going: ChangeTargetArgs,
    },
}

#[derive(Debug, Args)]
pub(super) struct MaintenanceArgs {
    /// Name of the frontend
    frontend: Name,
    /// Why, for the events and the status
    #[arg(long, value_name = "TEXT")]
    reason: String,
    /// List of networks whose clients get the application all the same; may be given several times
    #[arg(long, value_name = "NETWORK")]
    except_network: Vec<Name>,
    /// Page that clients get; one that begins with < is sent as HTML; @FILE is what stands in a file
    #[arg(long, value_name = "TEXT", value_parser = input::page)]
    page: Option<String>,
    /// When clients may come again [default: 5m]
    #[arg(long, value_name = "DURATION")]
    retry_after: Option<Span>,
    #[command(flatten)]
    going: ChangeTargetArgs,
}

/// A change of the keys of a frontend; a key that is null is reset.
fn change(frontend: Name, keys: Vec<(&str, Value)>) -> Vec<Edit> {
    let keys: Map<String, Value> = keys.into_iter().map(|(key, value)| (key.to_owned(), value)).collect();
    vec![Edit::Change { object: ObjectPath::Frontend(frontend), keys }]
}

impl MaintenanceCommand {
    pub(super) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        match self {
            Self::On(args) => {
                let MaintenanceArgs { frontend, reason, except_network, page, retry_after, going } = *args;
                let mut keys =
                    vec![("maintenance", json!(reason)), ("maintenance_except", json!(except_network))];
                // What was said of an earlier maintenance stays where nothing is said now.
                keys.extend(page.map(|page| ("maintenance_page", json!(page))));
                keys.extend(retry_after.map(|after| ("maintenance_retry_after", json!(after.to_string()))));
                going.make(context, change(frontend, keys)).await
            }
            Self::Off { frontend, going } => {
                going.make(context, change(frontend, vec![("maintenance", Value::Null)])).await
            }
        }
    }
}

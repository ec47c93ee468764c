//! `merismos address VERB`: the verbs of every object, who holds addresses, and orders for them.

use std::time::Duration;

use clap::{Args, Subcommand};
use merismos_api::{AddressOrderRequest, AddressVerb};
use merismos_core::name::Name;

use super::ObjectCommand;
use super::kinds::AddressFlags;
use crate::args::CommandContext;
use crate::exit::{CliError, ExitStatus};
use crate::show;

/// How often advertisements are asked for.
const WATCHED_EVERY: Duration = Duration::from_millis(500);

/// What can be done with addresses that move between nodes.
#[derive(Debug, Subcommand)]
pub(crate) enum AddressCommand {
    #[command(flatten)]
    Object(ObjectCommand<AddressFlags>),
    /// Show which node holds what, and what each is worth; exit code 1 when not exactly one holds it, or a node is in trouble
    Status {
        /// Only this one, with what the node that answers counted
        name: Option<Name>,
    },
    /// Move addresses to a node, where they stay until `address return`
    Move(MoveArgs),
    /// Hold addresses where they are: no node takes them from one that can hold them, until `address return`
    Hold(OrderArgs),
    /// End an order: the nodes choose again
    Return(OrderArgs),
    /// Watch advertisements as the node that answers sends and hears them
    Watch {
        /// Name of the object
        name: Name,
        /// Stop after so many
        #[arg(long, value_name = "NUMBER")]
        count: Option<usize>,
    },
}

/// Where to move addresses.
#[derive(Debug, Args)]
pub(crate) struct MoveArgs {
    /// Name of the object
    name: Name,
    /// Node that holds them from now on
    #[arg(long, value_name = "NODE")]
    to: Name,
    /// Why: it stands in every status and event
    #[arg(long, default_value = "")]
    reason: String,
    /// Do it although the node can't hold them now: it gets them when it can
    #[arg(long)]
    anyway: bool,
}

/// What to order, and why.
#[derive(Debug, Args)]
pub(crate) struct OrderArgs {
    /// Name of the object
    name: Name,
    /// Why: it stands in every status and event
    #[arg(long, default_value = "")]
    reason: String,
}

impl AddressCommand {
    pub(crate) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        match self {
            Self::Object(verb) => verb.run(context).await,
            Self::Status { name: None } => {
                let found = context.target.client()?.addresses().await?;
                if context.json {
                    show::json(&found);
                } else {
                    show::addresses::list(&found);
                }
                let all_well = found.addresses.iter().all(show::addresses::is_well) && !found.database_away;
                Ok(if all_well { ExitStatus::Done } else { ExitStatus::No })
            }
            Self::Status { name: Some(name) } => {
                let found = context.target.client()?.address(&name).await?;
                if context.json {
                    show::json(&found);
                } else {
                    show::addresses::one(&found);
                }
                let is_well = show::addresses::is_well(&found.address);
                Ok(if is_well { ExitStatus::Done } else { ExitStatus::No })
            }
            Self::Move(MoveArgs { name, to, reason, anyway }) => {
                let to = Some(to);
                order(&name, AddressOrderRequest { order: AddressVerb::Move, to, reason, anyway }, context)
                    .await
            }
            Self::Hold(OrderArgs { name, reason }) => {
                let request =
                    AddressOrderRequest { order: AddressVerb::Hold, to: None, reason, anyway: false };
                order(&name, request, context).await
            }
            Self::Return(OrderArgs { name, reason }) => {
                let request =
                    AddressOrderRequest { order: AddressVerb::Return, to: None, reason, anyway: false };
                order(&name, request, context).await
            }
            Self::Watch { name, count } => watch(&name, count, context).await,
        }
    }
}

async fn order(
    name: &Name,
    request: AddressOrderRequest,
    context: &CommandContext,
) -> Result<ExitStatus, CliError> {
    let done = context.target.client()?.order_address(name, &request).await?;
    if context.json {
        show::json(&done);
    } else {
        show::addresses::ordered(&done.address);
    }
    Ok(ExitStatus::Done)
}

async fn watch(name: &Name, count: Option<usize>, context: &CommandContext) -> Result<ExitStatus, CliError> {
    let client = context.target.client()?;
    let (mut last, mut left) = (0, count.unwrap_or(usize::MAX));
    loop {
        let found = client.address(name).await?;
        let known = last;
        let new = found.advertisements.iter().filter(|seen| seen.number > known);
        for seen in new.take(left) {
            if context.json {
                show::json(seen);
            } else {
                show::addresses::advertisement(seen);
            }
            last = seen.number;
            left -= 1;
        }
        if left == 0 {
            return Ok(ExitStatus::Done);
        }
        tokio::time::sleep(WATCHED_EVERY).await;
    }
}

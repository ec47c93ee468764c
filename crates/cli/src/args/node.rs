//! `merismos node list|show|drain|return|remove`

use std::time::Duration;

use merismos_api::{Addresses, NodeOrderRequest, NodeVerb, NodeView, Nodes};
use merismos_core::name::Name;

use super::CommandContext;
use crate::exit::{CliError, ExitStatus};
use crate::show;

#[derive(Debug, clap::Subcommand)]
pub(super) enum NodeCommand {
    /// List nodes: which live, what each runs, and which of them leads; exit code 1 when one is gone, behind or in trouble
    List,
    /// Show one node, with the servers that are down as seen from there
    Show {
        /// Its name, or the first digits of its identity
        node: String,
    },
    /// Drain a node: its addresses move to other nodes, and it takes none until `node return`
    Drain {
        /// Its name
        node: Name,
        /// Why: it stands in every status and event
        #[arg(long, default_value = "")]
        reason: String,
        /// Do it although no other node can hold its addresses
        #[arg(long)]
        anyway: bool,
        /// Wait until it holds none
        #[arg(long)]
        wait: bool,
    },
    /// Return a node: it takes part in addresses again
    Return {
        /// Its name
        node: Name,
    },
    /// Forget a node that is gone for good
    Remove {
        /// Its name, or the first digits of its identity
        node: String,
    },
}

impl NodeCommand {
    pub(super) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        let client = context.target.client()?;
        match self {
            Self::List => {
                let nodes = client.nodes().await?;
                if context.json {
                    show::json(&nodes)
                } else {
                    show::nodes::list(&nodes)
                }
                let is_well = |node: &NodeView| is_well(node, &nodes);
                let all_well = nodes.nodes.iter().all(is_well) && !nodes.database_away;
                Ok(if all_well { ExitStatus::Done } else { ExitStatus::No })
            }
            Self::Show { node } => {
                let nodes = client.nodes().await?;
                let mut found = nodes.nodes.iter().filter(|known| known.name == node || known.id == node);
                let Some(found) = found.next() else {
                    return Err(CliError::Call(format!(
                        "there is no node {node}: merismos node list shows them"
                    )));
                };
                if context.json {
                    show::json(found)
                } else {
                    show::nodes::one(found, &nodes)
                }
                Ok(if is_well(found, &nodes) { ExitStatus::Done } else { ExitStatus::No })
            }
            Self::Drain { node, reason, anyway, wait } => {
                let request = NodeOrderRequest { order: NodeVerb::Drain, reason, anyway };
                let mut found = client.order_node(&node, &request).await?;
                while wait && holds_any(&found, &node) {
                    tokio::time::sleep(LOOKED_AT_EVERY).await;
                    found = client.addresses().await?;
                }
                if context.json {
                    show::json(&found)
                } else {
                    show::nodes::drained(&node, &found)
                }
                Ok(ExitStatus::Done)
            }
            Self::Return { node } => {
                let request =
                    NodeOrderRequest { order: NodeVerb::Return, reason: String::new(), anyway: false };
                let found = client.order_node(&node, &request).await?;
                if context.json {
                    show::json(&found)
                } else {
                    show::nodes::returned(&node)
                }
                Ok(ExitStatus::Done)
            }
            Self::Remove { node } => {
                let removed = client.remove_node(&node).await?;
                if context.json {
                    show::json(&removed)
                } else {
                    show::nodes::removed(&removed)
                }
                Ok(ExitStatus::Done)
            }
        }
    }
}

/// How often it is looked whether a node has given up its addresses.
const LOOKED_AT_EVERY: Duration = Duration::from_millis(200);

/// Whether a node holds an address.
fn holds_any(found: &Addresses, node: &Name) -> bool {
    found.addresses.iter().any(|address| address.holders.iter().any(|holder| holder == node.as_str()))
}

/// Whether a node lives and runs what the others run.
fn is_well(node: &NodeView, nodes: &Nodes) -> bool {
    node.is_alive && node.trouble.is_none() && node.revision.is_none_or(|revision| revision == nodes.revision)
}

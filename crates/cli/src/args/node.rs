//! `merismos node list|show|remove`

use merismos_api::{NodeView, Nodes};

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

/// Whether a node lives and runs what the others run.
fn is_well(node: &NodeView, nodes: &Nodes) -> bool {
    node.is_alive && node.trouble.is_none() && node.revision.is_none_or(|revision| revision == nodes.revision)
}

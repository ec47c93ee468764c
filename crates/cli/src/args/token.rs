//! `merismos token list|create|revoke`

use merismos_core::name::Name;

use super::CommandContext;
use crate::exit::{CliError, ExitStatus};
use crate::show;

#[derive(Debug, clap::Subcommand)]
pub(super) enum TokenCommand {
    /// Show every token: its name, when it was made, used last and taken back
    List,
    /// Make a token and print it; it can't be shown again
    Create {
        /// Who or what uses it
        name: Name,
    },
    /// Take a token back; it and its sessions of the console end at once
    Revoke {
        /// The token's name
        name: Name,
    },
}

impl TokenCommand {
    pub(super) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        let client = context.target.client()?;
        match self {
            Self::List => {
                let tokens = client.tokens().await?;
                if context.json { show::json(&tokens) } else { show::tokens::list(&tokens) }
            }
            Self::Create { name } => {
                let made = client.create_token(&name).await?;
                if context.json { show::json(&made) } else { show::tokens::made(&made) }
            }
            Self::Revoke { name } => {
                let answer = client.revoke_token(&name).await?;
                if context.json { show::json(&answer) } else { show::tokens::revoked(&answer) }
            }
        }
        Ok(ExitStatus::Done)
    }
}

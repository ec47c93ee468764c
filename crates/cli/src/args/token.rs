//! `merismos token list|create|revoke`

use merismos_core::name::Name;

use super::CommandContext;
use crate::exit::{CliError, ExitStatus};
use crate::show;

#[derive(Debug, clap::Subcommand)]
pub(super) enum TokenCommand {
    /// List tokens: when each was created, last used and revoked
    List,
    /// Create a token and print it once; it can't be shown again
    Create {
        /// Name of the person or program that uses the token
        name: Name,
    },
    /// Revoke a token; it and its console sessions end at once
    Revoke {
        /// Name of the token
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

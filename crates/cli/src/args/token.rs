//! `merismos token list|create|revoke`

use merismos_core::name::Name;

use super::Context;
use crate::exit::{CliError, Exit};
use crate::show;

#[derive(Debug, clap::Subcommand)]
pub(super) enum Verb {
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

impl Verb {
    pub(super) async fn run(self, context: &Context) -> Result<Exit, CliError> {
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
        Ok(Exit::Done)
    }
}

//! `merismos check VERB`: the verbs of every object, and to try one.

use clap::Subcommand;
use merismos_api::TryRequest;
use merismos_core::name::{Name, PoolServer};

use super::ObjectCommand;
use super::flags::KeyFlags;
use super::kinds::CheckFlags;
use crate::args::CommandContext;
use crate::exit::{CliError, ExitStatus};
use crate::show;

/// What can be done with checks.
#[derive(Debug, Subcommand)]
pub(crate) enum CheckCommand {
    #[command(flatten)]
    Object(ObjectCommand<CheckFlags>),
    /// Run a check once on some servers and show every step; their health does not change
    Try(Box<CheckTryArgs>),
}

/// What to try on which servers.
#[derive(Debug, clap::Args)]
pub(crate) struct CheckTryArgs {
    /// Name of the check; with flags for its keys it need not exist
    check: Name,
    /// Servers to probe, such as booking/gull
    #[arg(required = true, value_name = "POOL/SERVER")]
    servers: Vec<PoolServer>,
    #[command(flatten)]
    keys: KeyFlags<CheckFlags>,
}

impl CheckCommand {
    pub(crate) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        match self {
            Self::Object(verb) => verb.run(context).await,
            Self::Try(wanted) => wanted.run(context).await,
        }
    }
}

impl CheckTryArgs {
    async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        let client = context.target.client()?;
        let keys = self.keys.into_keys();
        let keys = if keys.is_empty() {
            None
        } else if keys.contains_key("kind") {
            Some(keys)
        } else {
            // Some keys of a check that there is are to be others.
            let object = merismos_core::config::ObjectPath::Check(self.check.clone());
            let serde_json::Value::Object(mut all) = client.object(&object, None).await?.keys else {
                unreachable!("a check is a table of keys");
            };
            all.extend(keys);
            Some(all)
        };
        let servers = self.servers.iter().map(ToString::to_string).collect();
        let answer = client.try_check(&self.check, &TryRequest { servers, keys }).await?;
        if context.json {
            show::json(&answer);
        } else {
            show::probe::tries(&self.check, &answer);
        }
        Ok(if answer.tries.iter().all(|tried| tried.passed) { ExitStatus::Done } else { ExitStatus::No })
    }
}

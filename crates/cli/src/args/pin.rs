//! `merismos pin list|remove FRONTEND|POOL`, `merismos pin key`

use merismos_api::{PinClient, PinQuery, PinsRemoved};
use merismos_client::Client;
use merismos_core::name::{Name, PoolServer};

use super::CommandContext;
use crate::exit::{CliError, ExitStatus};
use crate::show;

/// What can be done with pins.
#[derive(Debug, clap::Subcommand)]
pub(super) enum PinCommand {
    /// List clients that are tied to servers of a pool, by pins that the service keeps
    List {
        #[command(flatten)]
        which: WhichPins,
        /// Largest number of pins to list, those that were used last
        #[arg(long, default_value_t = 50, value_parser = clap::value_parser!(u32).range(1..=1_000))]
        limit: u32,
    },
    /// Remove pins: their clients are distributed anew when they come again
    Remove {
        #[command(flatten)]
        which: WhichPins,
        /// Remove all pins of the pool, or of every pool of the frontend
        #[arg(long)]
        all: bool,
    },
    /// Tell since when the cookies of the service are signed with which key, or draw a new one
    Key {
        /// Draw a new key: what the last one signed holds until the next, and its clients get a new cookie when they come
        #[arg(long)]
        new: bool,
    },
}

/// Which pins are meant.
#[derive(Debug, clap::Args)]
pub(super) struct WhichPins {
    /// Pool, such as booking, or frontend whose pools are meant
    #[arg(value_name = "FRONTEND|POOL")]
    of: Name,
    /// Only those of clients from this address or network
    #[arg(long, value_name = "NETWORK")]
    client: Option<PinClient>,
    /// Only those of this server, such as booking/gull
    #[arg(long, value_name = "POOL/SERVER")]
    server: Option<PoolServer>,
}

impl WhichPins {
    /// The pool that is meant, or every pool of the frontend, where no pool has that name. Those of `--server` alone, where it is given.
    async fn pools(&self, client: &Client) -> Result<Vec<Name>, CliError> {
        let status = client.status().await?;
        let pools = if status.pools.iter().any(|pool| pool.name == self.of.as_str()) {
            vec![self.of.clone()]
        } else {
            let frontend = status.frontends.into_iter().find(|frontend| frontend.name == self.of.as_str());
            let frontend = frontend
                .ok_or_else(|| CliError::Call(format!("there is no pool and no frontend {}", self.of)))?;
            let others =
                frontend.pools.iter().map(|share| &share.pool).filter(|name| **name != frontend.pool);
            std::iter::once(&frontend.pool).chain(others).filter_map(|name| name.parse().ok()).collect()
        };
        let Some(server) = &self.server else { return Ok(pools) };
        if !pools.contains(&server.pool) {
            return Err(CliError::Call(format!("{server} is no server of {}", self.of)));
        }
        Ok(vec![server.pool.clone()])
    }

    fn query(&self, limit: Option<u32>) -> PinQuery {
        let server = self.server.as_ref().map(|server| server.server.to_string());
        PinQuery { client: self.client, server, limit }
    }
}

impl PinCommand {
    pub(super) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        let client = context.target.client()?;
        match self {
            Self::List { which, limit } => {
                let pools = which.pools(&client).await?;
                for pool in &pools {
                    let pins = client.pins(pool, &which.query(Some(limit))).await?;
                    if context.json {
                        show::json(&pins);
                    } else {
                        show::pins::list(&pins, (pools.len() > 1).then_some(pool));
                    }
                }
            }
            Self::Remove { which, all } => {
                if !all && which.client.is_none() && which.server.is_none() {
                    let says = "say which pins: --client NETWORK, --server POOL/SERVER or --all".to_owned();
                    return Err(CliError::Call(says));
                }
                let mut removed = PinsRemoved { removed: 0 };
                for pool in which.pools(&client).await? {
                    removed.removed += client.remove_pins(&pool, &which.query(None)).await?.removed;
                }
                if context.json {
                    show::json(&removed);
                } else {
                    show::pins::removed(removed.removed);
                }
            }
            Self::Key { new } => {
                let times = if new { client.renew_pin_key().await? } else { client.pin_key().await? };
                if context.json {
                    show::json(&times);
                } else {
                    show::pins::key(&times);
                }
            }
        }
        Ok(ExitStatus::Done)
    }
}

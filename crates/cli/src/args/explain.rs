//! `merismos explain FRONTEND`

use std::net::IpAddr;

use merismos_core::name::{Name, PoolServer};

use super::CommandContext;
use crate::exit::{CliError, ExitStatus};
use crate::show;

#[derive(Debug, clap::Args)]
pub(super) struct ExplainArgs {
    /// Frontend that the request would arrive at
    frontend: Name,
    /// Address of the client [default: 127.0.0.1]
    #[arg(long, value_name = "ADDRESS")]
    client: Option<IpAddr>,
    /// Path with its query, such as /ferry?day=3
    #[arg(long)]
    path: Option<String>,
    /// Host of the request
    #[arg(long, value_name = "NAME")]
    host: Option<String>,
    /// Server name of the TLS ClientHello
    #[arg(long, value_name = "NAME")]
    sni: Option<String>,
    /// Text that a TCP client sends first, such as $'LOGIN anna\r\n'
    #[arg(long, value_name = "TEXT")]
    first_bytes: Option<String>,
    /// Header field of the request; may be given several times
    #[arg(long, value_name = "NAME: VALUE")]
    header: Vec<String>,
    /// Cookie of the request; may be given several times
    #[arg(long, value_name = "NAME=VALUE")]
    cookie: Vec<String>,
    /// Server that the connection of the request has already, such as booking/gull
    #[arg(long, value_name = "POOL/SERVER")]
    connection: Option<PoolServer>,
}

impl ExplainArgs {
    /// What is imagined, as the call's parameters.
    fn facts(&self) -> Vec<(&'static str, String)> {
        let given = [
            ("client", self.client.map(|client| client.to_string())),
            ("path", self.path.clone()),
            ("host", self.host.clone()),
            ("sni", self.sni.clone()),
            ("first_bytes", self.first_bytes.clone()),
            ("header", (!self.header.is_empty()).then(|| self.header.join("\n"))),
            ("cookie", (!self.cookie.is_empty()).then(|| self.cookie.join("; "))),
            ("connection", self.connection.as_ref().map(ToString::to_string)),
        ];
        given.into_iter().filter_map(|(name, value)| Some((name, value?))).collect()
    }

    pub(super) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        let answer = context.target.client()?.explain(&self.frontend, &self.facts()).await?;
        if context.json {
            show::json(&answer);
        } else {
            show::explain::print(&answer);
        }
        Ok(if answer.server.is_some() { ExitStatus::Done } else { ExitStatus::No })
    }
}

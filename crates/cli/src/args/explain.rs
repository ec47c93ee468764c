//! `merismos explain FRONTEND`

use std::net::IpAddr;

use merismos_core::name::{Name, PoolServer};

use super::CommandContext;
use crate::exit::{CliError, ExitStatus};
use crate::show;

#[derive(Debug, clap::Args)]
pub(crate) struct ExplainArgs {
    /// Frontend that the request would arrive at
    frontend: Name,
    /// Address of the client [default: 127.0.0.1]
    #[arg(long, value_name = "ADDRESS")]
    client: Option<IpAddr>,
    /// Method of the request [default: GET]
    #[arg(long)]
    method: Option<String>,
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
            ("method", self.method.clone()),
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

    pub(crate) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        let answer = context.target.client()?.explain(&self.frontend, &self.facts()).await?;
        if context.json {
            show::json(&answer);
        } else {
            show::explain::print(&answer);
        }
        // A response of a rule is what was asked for; that no server can have the request is not.
        let is_answered = answer.rules.as_ref().is_some_and(|rules| rules.status.is_some());
        Ok(if answer.server.is_some() || is_answered { ExitStatus::Done } else { ExitStatus::No })
    }
}

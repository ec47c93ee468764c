//! `merismos certificate VERB`: the verbs of every object, and what clients are shown.

use std::time::Duration;

use clap::{Args, Subcommand};
use merismos_api::{CertificateOrder, HandshakeQuery};
use merismos_core::name::Name;

use super::ObjectCommand;
use super::kinds::CertificateFlags;
use crate::args::CommandContext;
use crate::exit::{CliError, ExitStatus};
use crate::show;

/// What can be done with certificates.
#[derive(Debug, Subcommand)]
pub(crate) enum CertificateCommand {
    #[command(flatten)]
    Object(ObjectCommand<CertificateFlags>),
    /// Show what clients are shown: names, ends, frontends and problems
    Status,
    /// Order a certificate from its authority now, and wait for it
    Order(OrderedCertificate),
    /// Renew a certificate now, although the one that there is holds
    Renew(OrderedCertificate),
    /// Make a handshake as a client would that asks for a host: chain, version, and each reason why it would warn
    Try(HandshakeArgs),
}

/// A certificate that has an authority.
#[derive(Debug, Args)]
pub(crate) struct OrderedCertificate {
    /// Its name
    name: Name,
}

impl OrderedCertificate {
    async fn order(self, renew: bool, context: &CommandContext) -> Result<ExitStatus, CliError> {
        let client = context.target.client()?;
        let mut view = client.order_certificate(&self.name, CertificateOrder { renew }).await?;
        // The service gives an order up by itself after some minutes.
        while view.is_being_ordered {
            tokio::time::sleep(LOOKED_AT_EVERY).await;
            let all = client.certificates().await?.certificates;
            let Some(now) = all.into_iter().find(|view| view.name == self.name.as_str()) else { break };
            view = now;
        }
        let has_failed = view.order_failure.is_some();
        if context.json {
            show::json(&view);
        } else {
            show::certificates::ordered(&view);
        }
        Ok(if has_failed { ExitStatus::No } else { ExitStatus::Done })
    }
}

/// How often an order is looked at that takes long.
const LOOKED_AT_EVERY: Duration = Duration::from_secs(2);

/// Whom a client would ask for.
#[derive(Debug, Args)]
pub(crate) struct HandshakeArgs {
    /// Host that is asked for, such as booking.skerry.example
    host: String,
    /// Only this frontend [default: each that speaks TLS]
    #[arg(long, value_name = "FRONTEND")]
    frontend: Option<Name>,
}

impl CertificateCommand {
    pub(crate) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        match self {
            Self::Object(verb) => verb.run(context).await,
            Self::Try(HandshakeArgs { host, frontend }) => {
                let query = HandshakeQuery { host, frontend: frontend.map(|name| name.to_string()) };
                let found = context.target.client()?.handshakes(&query).await?;
                if context.json {
                    show::json(&found);
                } else {
                    show::certificates::handshakes(&found);
                }
                let all_well = found.handshakes.iter().all(|handshake| handshake.reasons.is_empty());
                let is_well = all_well && !found.handshakes.is_empty();
                Ok(if is_well { ExitStatus::Done } else { ExitStatus::No })
            }
            Self::Order(certificate) => certificate.order(false, context).await,
            Self::Renew(certificate) => certificate.order(true, context).await,
            Self::Status => {
                let found = context.target.client()?.certificates().await?;
                if context.json {
                    show::json(&found);
                } else {
                    show::certificates::status(&found.certificates);
                }
                let is_wrong = found
                    .certificates
                    .iter()
                    .any(|certificate| certificate.problem.is_some() || certificate.order_failure.is_some());
                Ok(if is_wrong { ExitStatus::No } else { ExitStatus::Done })
            }
        }
    }
}

//! `merismos login`

use std::io::BufRead;
use std::path::PathBuf;

use super::CommandContext;
use crate::exit::{CliError, ExitStatus};
use crate::login::{self, Login, ServiceTarget};
use crate::show;

#[derive(Debug, clap::Args)]
pub(super) struct LoginArgs {
    /// File with the token [default: --token, else standard input]
    #[arg(long, value_name = "FILE")]
    token_file: Option<PathBuf>,
}

impl LoginArgs {
    pub(super) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        let token = match (&self.token_file, &context.target.token) {
            (Some(path), _) => std::fs::read_to_string(path)
                .map_err(|source| CliError::File { path: path.clone(), source })?,
            (None, Some(token)) => token.clone(),
            (None, None) => {
                show::note("token (the first one is in the file first-token in the service's state folder):");
                let mut line = String::new();
                let read = std::io::stdin().lock().read_line(&mut line);
                read.map_err(|source| CliError::File { path: "standard input".into(), source })?;
                line
            }
        };
        let token = token.trim().to_owned();
        let client = ServiceTarget { token: Some(token.clone()), ..context.target.clone() }.client()?;
        // A log-in that does not work is not kept.
        let status = client.status().await?;
        let path = login::write(&Login { url: client.url().to_owned(), token })?;
        if context.json {
            show::json(
                &serde_json::json!({ "url": client.url(), "kept_in": path, "version": status.node.version }),
            );
        } else {
            show::text(&format!(
                "Logged in to {} (Merismos {}, revision {}). Kept in {}.\n",
                client.url(),
                status.node.version,
                status.revision.number,
                path.display()
            ));
        }
        Ok(ExitStatus::Done)
    }
}

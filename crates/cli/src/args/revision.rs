//! `merismos revision <verb>`

use clap::Subcommand;

use super::CommandContext;
use super::apply_options::{self, ChangeArgs};
use crate::exit::{CliError, ExitStatus};
use crate::show;

#[derive(Debug, Subcommand)]
pub(super) enum RevisionCommand {
    /// List revisions, the newest first
    List {
        /// Largest number of revisions
        #[arg(long, default_value_t = 20, value_parser = clap::value_parser!(u32).range(1..=1000))]
        limit: u32,
        /// List only revisions before this one
        #[arg(long, value_name = "REVISION")]
        before: Option<u64>,
    },
    /// Show what a revision changed
    Show {
        /// Number of the revision
        number: u64,
        /// Print the document of the revision instead
        #[arg(long)]
        document: bool,
    },
    /// Compare two revisions
    Compare {
        /// Older revision; 0 is the empty document before the first
        from: u64,
        /// Newer revision
        to: u64,
    },
    /// Roll back: the content of an older revision becomes the newest revision
    Revert {
        /// Revision to roll back to
        number: u64,
        #[command(flatten)]
        going: ChangeArgs,
    },
}

impl RevisionCommand {
    pub(super) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        let client = context.target.client()?;
        match self {
            Self::List { limit, before } => {
                let revisions = client.revisions(before, limit).await?;
                if context.json {
                    show::json(&revisions);
                } else {
                    show::drafts::revisions(&revisions);
                }
            }
            Self::Show { number, document } => {
                let answer = client.revision(number).await?;
                match (context.json, document) {
                    (true, _) => show::json(&answer),
                    (false, true) => show::text(&answer.document),
                    (false, false) => show::drafts::revision(&answer),
                }
            }
            Self::Compare { from, to } => {
                let between = client.compare(from, to).await?;
                if context.json {
                    show::json(&between);
                } else {
                    show::drafts::between(&between);
                }
            }
            Self::Revert { number, going } => {
                let preview = going.preview;
                let review = client.revert(number, going.into()).await?;
                apply_options::print(context, &review, preview);
            }
        }
        Ok(ExitStatus::Done)
    }
}

//! `merismos draft <verb>`

use clap::Subcommand;
use merismos_api::{AcceptedWarning, ApplyOptions, DraftEdits, NewDraft};
use merismos_core::name::Name;

use super::CommandContext;
use super::apply_options;
use crate::exit::{CliError, ExitStatus};
use crate::show;

#[derive(Debug, Subcommand)]
pub(super) enum DraftCommand {
    /// List the drafts
    List,
    /// Begin one from what runs; other commands add to it with --draft
    Create {
        /// Its name
        name: Name,
        /// What it is for; becomes the revision's note
        #[arg(long, default_value = "", value_name = "TEXT")]
        note: String,
    },
    /// Review one: what it changes, what that does, and what is wrong with it
    Review {
        /// Its name
        name: Name,
    },
    /// Accept warnings in it
    Accept {
        /// Its name
        name: Name,
        /// The warnings' keys
        #[arg(required = true, value_parser = apply_options::warning_key)]
        keys: Vec<String>,
    },
    /// Make it the running revision
    Deploy {
        /// Its name
        name: Name,
        /// Why; the draft's own note when nothing is said
        #[arg(long, default_value = "", value_name = "TEXT")]
        revision_note: String,
        /// Accept the warning with this key; may be given several times
        #[arg(long, value_name = "KEY", value_parser = apply_options::warning_key)]
        accept_warning: Vec<String>,
    },
    /// Let it begin from what runs now
    Rebase {
        /// Its name
        name: Name,
    },
    /// Throw it away
    Discard {
        /// Its name
        name: Name,
    },
}

impl DraftCommand {
    pub(super) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        let client = context.target.client()?;
        let review = match self {
            Self::List => {
                let drafts = client.drafts().await?;
                if context.json {
                    show::json(&drafts);
                } else {
                    show::drafts::list(&drafts);
                }
                return Ok(ExitStatus::Done);
            }
            Self::Create { name, note } => {
                let draft = client.begin_draft(&NewDraft { name, note }).await?;
                if context.json {
                    show::json(&draft);
                } else {
                    show::drafts::begun(&draft);
                }
                return Ok(ExitStatus::Done);
            }
            Self::Deploy { name, revision_note, accept_warning } => {
                let going =
                    ApplyOptions { note: revision_note, accept: accept_warning, ..ApplyOptions::default() };
                let review = client.deploy_draft(&name, going).await?;
                apply_options::print(context, &review, false);
                return Ok(ExitStatus::Done);
            }
            Self::Discard { name } => {
                client.discard_draft(&name).await?;
                if !context.json {
                    show::text(&format!("Draft {name} is thrown away.\n"));
                }
                return Ok(ExitStatus::Done);
            }
            Self::Review { name } => client.draft(&name).await?,
            Self::Accept { name, keys } => {
                client.edit_draft(&name, &DraftEdits { accept: keys, ..DraftEdits::default() }).await?
            }
            Self::Rebase { name } => client.rebase_draft(&name).await?,
        };
        if context.json {
            show::json(&review);
        } else {
            show::drafts::review(&review);
        }
        let needs_word = review
            .review
            .as_ref()
            .is_some_and(|review| review.warnings.iter().any(AcceptedWarning::needs_word));
        let is_ready = review.mistakes.is_empty() && !review.draft.stale && !needs_word;
        Ok(if is_ready { ExitStatus::Done } else { ExitStatus::No })
    }
}

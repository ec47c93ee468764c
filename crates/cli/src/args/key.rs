//! `merismos key`: what the keys of a document mean.

use merismos_core::config::ObjectKind;
use merismos_core::config::key_help::{self, KeyHelp};
use merismos_core::config::keys::HOMES;
use serde::Serialize;

use super::CommandContext;
use crate::exit::{CliError, ExitStatus};
use crate::show;

#[derive(Debug, clap::Args)]
pub(super) struct KeyArgs {
    /// Kind such as pool, key such as ramp, or both: pool.ramp [default: a list of all kinds]
    #[arg(value_name = "KIND.KEY")]
    name: Option<String>,
}

/// A key and the kind of object that has it.
#[derive(Serialize)]
pub(crate) struct KindKey {
    pub(crate) kind: String,
    #[serde(flatten)]
    pub(crate) key: KeyHelp,
}

impl KeyArgs {
    pub(super) fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        let name = self.name.as_deref().unwrap_or_default();
        let kinds = || HOMES.iter().map(|(kind, _)| *kind);
        let kind = kinds().find(|kind| kind.to_string() == name);
        let found: Vec<KindKey> = match kind {
            _ if name.is_empty() => kinds().flat_map(keys).collect(),
            Some(kind) => keys(kind).collect(),
            None => kinds().flat_map(keys).filter(|found| found.is_called(name)).collect(),
        };
        if found.is_empty() {
            return Err(unknown(name));
        }
        match (context.json, kind) {
            (true, _) => show::json(&found),
            (false, None) if name.is_empty() => show::keys::kinds(&found),
            (false, Some(_)) => show::keys::list(&found),
            (false, None) => found.iter().for_each(show::keys::one),
        }
        Ok(ExitStatus::Done)
    }
}

impl KindKey {
    /// Whether a text names it: its name, its path, or either with its kind before it.
    fn is_called(&self, name: &str) -> bool {
        let of_kind = name.strip_prefix(&self.kind).and_then(|rest| rest.strip_prefix('.'));
        [Some(name), of_kind]
            .into_iter()
            .flatten()
            .any(|name| self.key.key == name || self.key.key.rsplit('.').next() == Some(name))
    }
}

fn keys(kind: ObjectKind) -> impl Iterator<Item = KindKey> {
    key_help::of(kind).into_iter().map(move |key| KindKey { kind: kind.to_string(), key })
}

fn unknown(name: &str) -> CliError {
    let wanted = name.rsplit('.').next().unwrap_or(name);
    let mut near: Vec<(f64, String)> = HOMES
        .iter()
        .flat_map(|(kind, _)| keys(*kind))
        .map(|found| {
            (strsim::jaro_winkler(&found.key.key, wanted), format!("{}.{}", found.kind, found.key.key))
        })
        .collect();
    near.sort_by(|(a, _), (b, _)| b.total_cmp(a));
    let near: Vec<String> = near.into_iter().take(4).map(|(_, name)| name).collect();
    CliError::Call(format!(
        "no key is called {name:?}. The nearest are {}; `merismos key` lists the kinds",
        near.join(", ")
    ))
}

//! `merismos <object> <verb>`: the same verbs for every kind of object.

mod checks;
mod keys;
mod notifications;

use std::path::{Path, PathBuf};

use clap::{Subcommand, ValueEnum};
use merismos_client::EventFilterQuery;
use merismos_core::config::ObjectPath;
use merismos_core::config::edit::Edit;
use merismos_core::config::hosts::HostsFormat;
use merismos_core::name::{Name, PoolServer};
use serde_json::{Map, Value};

pub(super) use checks::CheckCommand;
pub(super) use keys::{
    CheckKeys, FrontendKeys, HostKeys, LookupKeys, NetworkKeys, NotificationKeys, PoolKeys, RangeKeys,
    ServerKeys,
};
use keys::{ObjectKeys, ObjectName};
pub(super) use notifications::NotificationCommand;

use super::apply_options::ChangeTargetArgs;
use super::{CommandContext, input};
use crate::exit::{CliError, ExitStatus};
use crate::show;

/// What can be done with every kind of object.
#[derive(Debug, Subcommand)]
pub(super) enum ObjectCommand<K: ObjectKeys> {
    /// List them
    List(ListFilter),
    /// Show one
    Show {
        /// Its name
        #[arg(value_name = "NAME")]
        named: K::Name,
        /// As it stands in this draft
        #[arg(long, value_name = "DRAFT")]
        draft: Option<Name>,
    },
    /// Add one
    Create {
        /// Its name
        #[arg(value_name = "NAME")]
        named: K::Name,
        #[command(flatten)]
        keys: Box<K>,
        #[command(flatten)]
        about: CommonKeys,
        #[command(flatten)]
        going: ChangeTargetArgs,
    },
    /// Change some of its keys
    Change {
        /// Its name
        #[arg(value_name = "NAME")]
        named: K::Name,
        #[command(flatten)]
        keys: Box<K>,
        #[command(flatten)]
        about: CommonKeys,
        /// Put a key back to its default; may be given several times
        #[arg(long, value_name = "KEY")]
        reset: Vec<String>,
        #[command(flatten)]
        going: ChangeTargetArgs,
    },
    /// Give it another name; whatever names it follows
    Rename {
        /// Its name
        #[arg(value_name = "NAME")]
        named: K::Name,
        /// Its new name
        to: Name,
        #[command(flatten)]
        going: ChangeTargetArgs,
    },
    /// Copy it, with the keys in which the copy differs
    Copy {
        /// Its name
        #[arg(value_name = "NAME")]
        named: K::Name,
        /// The copy's name
        to: Name,
        #[command(flatten)]
        keys: Box<K>,
        #[command(flatten)]
        about: CommonKeys,
        #[command(flatten)]
        going: ChangeTargetArgs,
    },
    /// Remove it; says by what it is used when it is
    Remove {
        /// Its name
        #[arg(value_name = "NAME")]
        named: K::Name,
        #[command(flatten)]
        going: ChangeTargetArgs,
    },
}

/// Which objects to list.
#[derive(Debug, clap::Args)]
pub(super) struct ListFilter {
    /// Only those inside this pool or range
    #[arg(value_name = "POOL")]
    inside: Option<Name>,
    /// Only those with this in their name, keys, note or labels
    #[arg(long, value_name = "TEXT")]
    search: Option<String>,
    /// Only those with this label; may be given several times
    #[arg(long, value_name = "KEY[=VALUE]")]
    label: Vec<String>,
    /// As they stand in this draft
    #[arg(long, value_name = "DRAFT")]
    draft: Option<Name>,
    /// How many at most
    #[arg(long, default_value_t = 200, value_parser = clap::value_parser!(u32).range(1..=1000))]
    limit: u32,
    /// How many to pass over
    #[arg(long, default_value_t = 0)]
    offset: u32,
}

impl ListFilter {
    fn wanted(self) -> EventFilterQuery {
        EventFilterQuery {
            kind: None,
            inside: self.inside.map(|name| name.to_string()),
            search: self.search,
            labels: (!self.label.is_empty()).then(|| self.label.join(",")),
            draft: self.draft.map(|name| name.to_string()),
            offset: Some(self.offset),
            limit: Some(self.limit),
        }
    }
}

/// What every object may have beside its own keys.
#[derive(Debug, clap::Args)]
pub(super) struct CommonKeys {
    /// A label, `KEY=VALUE`; `KEY=` takes it away; may be given several times
    #[arg(long, value_name = "KEY=VALUE")]
    label: Vec<String>,
    /// What it is for
    #[arg(long, value_name = "TEXT")]
    note: Option<String>,
}

impl CommonKeys {
    fn add_to(self, keys: &mut Map<String, Value>) -> Result<(), CliError> {
        let mut labels = Map::new();
        for label in self.label {
            let (key, value) = label
                .split_once('=')
                .ok_or_else(|| CliError::Call(format!("a label is written KEY=VALUE; found {label:?}")))?;
            let value = if value.is_empty() { Value::Null } else { value.into() };
            labels.insert(key.to_owned(), value);
        }
        if !labels.is_empty() {
            keys.insert("labels".to_owned(), Value::Object(labels));
        }
        if let Some(note) = self.note {
            keys.insert("note".to_owned(), note.into());
        }
        Ok(())
    }
}

/// The keys that were given as flags, without labels and note.
fn given_keys<K: ObjectKeys>(keys: &K) -> Map<String, Value> {
    let Ok(Value::Object(mut map)) = serde_json::to_value(keys) else {
        unreachable!("flags are a table of texts and numbers");
    };
    // A flag that was not given says nothing of its key.
    map.retain(|_, value| !value.is_null());
    map
}

/// The keys that were given as flags.
fn given<K: ObjectKeys>(keys: &K, about: CommonKeys) -> Result<Map<String, Value>, CliError> {
    let mut map = given_keys(keys);
    about.add_to(&mut map)?;
    Ok(map)
}

impl<K: ObjectKeys> ObjectCommand<K> {
    pub(super) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        match self {
            Self::List(filter) => {
                let wanted = EventFilterQuery { kind: Some(K::KIND), ..filter.wanted() };
                let objects = context.target.client()?.objects(&wanted).await?;
                if context.json {
                    show::json(&objects);
                } else {
                    show::objects::list(&objects, K::KIND);
                }
                Ok(ExitStatus::Done)
            }
            Self::Show { named, draft } => {
                let view = context.target.client()?.object(&named.object::<K>(), draft.as_ref()).await?;
                if context.json {
                    show::json(&view);
                } else {
                    show::objects::one(&view);
                }
                Ok(ExitStatus::Done)
            }
            Self::Create { named, keys, about, going } => {
                let object = named.object::<K>();
                let mut map = given(&*keys, about)?;
                K::defaults(&mut map);
                let mut edits = keys.before(&object, &mut map)?;
                edits.push(Edit::Add { object, keys: map });
                going.make(context, edits).await
            }
            Self::Change { named, keys, about, reset, going } => {
                let object = named.object::<K>();
                let mut map = given(&*keys, about)?;
                let mut edits = keys.before(&object, &mut map)?;
                map.extend(reset.into_iter().map(|key| (key, Value::Null)));
                if map.is_empty() {
                    return Err(CliError::Call(
                        "nothing to change was named; --help lists the keys".to_owned(),
                    ));
                }
                edits.push(Edit::Change { object, keys: map });
                going.make(context, edits).await
            }
            Self::Rename { named, to, going } => {
                going.make(context, vec![Edit::Rename { object: named.object::<K>(), to }]).await
            }
            Self::Copy { named, to, keys, about, going } => {
                let object = named.object::<K>();
                let mut map = given(&*keys, about)?;
                let mut edits = keys.before(&object.renamed(to.clone()), &mut map)?;
                edits.push(Edit::Copy { object, to, keys: map });
                going.make(context, edits).await
            }
            Self::Remove { named, going } => {
                going.make(context, vec![Edit::Remove { object: named.object::<K>() }]).await
            }
        }
    }
}

/// What can be done with servers.
#[derive(Debug, Subcommand)]
pub(super) enum ServerCommand {
    /// Add several to a pool: of hosts, from a range of addresses, or from pasted lines
    Add {
        /// The pool
        pool: Name,
        /// `NAME=ADDRESS:PORT`, `ADDRESS:PORT`, `HOST:PORT` or `FIRST-LAST:PORT`, each perhaps with a weight behind it;
        /// - reads lines from standard input
        #[arg(value_name = "NAME=ADDRESS:PORT [WEIGHT]")]
        lines: Vec<String>,
        /// These hosts, with commas between; needs --port
        #[arg(long, value_name = "HOST,HOST", value_delimiter = ',', requires = "port")]
        hosts: Vec<Name>,
        /// The port on each of the hosts
        #[arg(long)]
        port: Option<u16>,
        /// The weight of those whose line has none
        #[arg(long)]
        weight: Option<u16>,
        /// Their tier
        #[arg(long)]
        tier: Option<u8>,
        #[command(flatten)]
        going: ChangeTargetArgs,
    },
    /// Show its last probes, and where it stands between two verdicts
    Probes {
        /// The server, such as booking/gull
        server: PoolServer,
    },
    #[command(flatten)]
    Any(ObjectCommand<ServerKeys>),
}

impl ServerCommand {
    pub(super) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        match self {
            Self::Any(verb) => verb.run(context).await,
            Self::Probes { server } => {
                let probes = context.target.client()?.probes(&server).await?;
                if context.json {
                    show::json(&probes);
                } else {
                    show::probe::probes(&probes);
                }
                Ok(ExitStatus::Done)
            }
            Self::Add { pool, lines, hosts, port, weight, tier, going } => {
                let mut text = lines_of(lines)?;
                for host in hosts {
                    text += &format!("{host}:{}\n", port.unwrap_or_default());
                }
                if text.trim().is_empty() {
                    let says = "no servers were named: give ADDRESS:PORT, or --hosts and --port".to_owned();
                    return Err(CliError::Call(says));
                }
                going.make(context, vec![Edit::AddServers { pool, lines: text, weight, tier }]).await
            }
        }
    }
}

/// One line an argument; an argument that is only a weight belongs to the one before it.
fn lines_of(arguments: Vec<String>) -> Result<String, CliError> {
    if arguments == ["-"] {
        return input::read(Path::new("-"));
    }
    let mut text = String::new();
    for argument in arguments {
        let is_weight = !argument.is_empty() && argument.bytes().all(|byte| byte.is_ascii_digit());
        text += if is_weight || text.is_empty() { " " } else { "\n" };
        text += &argument;
    }
    Ok(if text.is_empty() { text } else { text + "\n" })
}

/// What can be done with hosts.
#[derive(Debug, Subcommand)]
pub(super) enum HostCommand {
    /// Add the hosts of a list; those that are known take the list's address
    Import {
        /// The list; - reads standard input
        file: PathBuf,
        /// How it is written; a name that ends with .csv says it
        #[arg(long)]
        format: Option<ListFormat>,
        #[command(flatten)]
        going: ChangeTargetArgs,
    },
    #[command(flatten)]
    Any(ObjectCommand<HostKeys>),
}

/// How a list of hosts is written.
#[derive(Clone, Copy, Debug, ValueEnum)]
pub(super) enum ListFormat {
    /// An address and its names on a line
    Hosts,
    /// Comma-separated values with a head line
    Csv,
}

impl HostCommand {
    pub(super) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        match self {
            // Machines that were only seen in pools are worth a line too.
            Self::Any(ObjectCommand::List(filter)) => {
                let wanted = EventFilterQuery { inside: None, draft: None, ..filter.wanted() };
                let hosts = context.target.client()?.hosts(&wanted).await?;
                if context.json {
                    show::json(&hosts);
                } else {
                    show::objects::hosts(&hosts);
                }
                Ok(ExitStatus::Done)
            }
            Self::Import { file, format, going } => {
                let text = input::read(&file)?;
                let is_csv = file.extension().is_some_and(|extension| extension.eq_ignore_ascii_case("csv"));
                let format = match format {
                    Some(ListFormat::Csv) => HostsFormat::Csv,
                    None if is_csv => HostsFormat::Csv,
                    Some(ListFormat::Hosts) | None => HostsFormat::Hosts,
                };
                going.make(context, vec![Edit::ImportHosts { format, text }]).await
            }
            Self::Any(verb) => verb.run(context).await,
        }
    }
}

/// What can be done with ranges of service addresses.
#[derive(Debug, Subcommand)]
pub(super) enum RangeCommand {
    /// Reserve an address: the next free one, or the one that is named
    Reserve {
        /// The range
        range: Name,
        /// The name under which it is reserved
        name: Name,
        /// The address; the next free one without it
        #[arg(long)]
        address: Option<std::net::IpAddr>,
        #[command(flatten)]
        going: ChangeTargetArgs,
    },
    /// Release an address that no frontend uses any more
    Release {
        /// The range
        range: Name,
        /// The name under which it is reserved
        name: Name,
        #[command(flatten)]
        going: ChangeTargetArgs,
    },
    #[command(flatten)]
    Any(ObjectCommand<RangeKeys>),
}

impl RangeCommand {
    pub(super) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        match self {
            Self::Any(verb) => verb.run(context).await,
            Self::Reserve { range, name, address, going } => {
                going.make(context, vec![Edit::Reserve { range, name, address }]).await
            }
            Self::Release { range, name, going } => {
                going.make(context, vec![Edit::Remove { object: ObjectPath::Reserved(range, name) }]).await
            }
        }
    }
}

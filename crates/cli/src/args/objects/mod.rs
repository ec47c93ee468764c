//! `merismos <object> <verb>`: the same verbs for every kind of object.

mod addresses;
mod announcements;
mod certificates;
mod checks;
mod flags;
mod frontends;
mod kinds;
mod limits;
mod notifications;
mod rules;

use std::path::{Path, PathBuf};

use clap::{Subcommand, ValueEnum};
use merismos_client::EventFilterQuery;
use merismos_core::config::ObjectPath;
use merismos_core::config::edit::Edit;
use merismos_core::config::hosts::HostsFormat;
use merismos_core::name::{Name, PoolServer};
use serde_json::Value;

pub(super) use addresses::AddressCommand;
pub(super) use announcements::AnnouncementCommand;
pub(super) use certificates::CertificateCommand;
pub(super) use checks::CheckCommand;
use flags::KeyFlags;
pub(super) use frontends::FrontendCommand;
pub(super) use kinds::{AuthorityFlags, ExampleFlags, LookupFlags, NetworkFlags, PoolFlags};
use kinds::{HostFlags, MoreFlags, ObjectFlags, ObjectName, RangeFlags, ServerFlags};
pub(super) use limits::LimitCommand;
pub(super) use notifications::NotificationCommand;
pub(super) use rules::RuleCommand;

use super::apply_options::ChangeTargetArgs;
use super::{CommandContext, input};
use crate::exit::{CliError, ExitStatus};
use crate::show;

/// What can be done with every kind of object.
#[derive(Debug, Subcommand)]
pub(super) enum ObjectCommand<K: ObjectFlags> {
    /// List objects of this kind
    List(ListFilter),
    /// Show an object with all its keys
    Show {
        /// Name of the object
        #[arg(value_name = "NAME")]
        named: K::Name,
        /// Show the object as it is in this draft
        #[arg(long, value_name = "DRAFT")]
        draft: Option<Name>,
    },
    /// Create an object
    Create {
        /// Name of the object
        #[arg(value_name = "NAME")]
        named: K::Name,
        #[command(flatten)]
        keys: Box<KeyFlags<K>>,
        #[command(flatten)]
        more: K::More,
        #[command(flatten)]
        going: ChangeTargetArgs,
    },
    /// Change keys of an object
    Change {
        /// Name of the object
        #[arg(value_name = "NAME")]
        named: K::Name,
        #[command(flatten)]
        keys: Box<KeyFlags<K>>,
        #[command(flatten)]
        more: K::More,
        /// Reset a key to its default; may be given several times
        #[arg(long, value_name = "KEY")]
        reset: Vec<String>,
        #[command(flatten)]
        going: ChangeTargetArgs,
    },
    /// Rename an object; objects that refer to it follow
    Rename {
        /// Name of the object
        #[arg(value_name = "NAME")]
        named: K::Name,
        /// New name of the object
        to: Name,
        #[command(flatten)]
        going: ChangeTargetArgs,
    },
    /// Copy an object, with flags for the keys in which the copy differs
    Copy {
        /// Name of the object
        #[arg(value_name = "NAME")]
        named: K::Name,
        /// Name of the copy
        to: Name,
        #[command(flatten)]
        keys: Box<KeyFlags<K>>,
        #[command(flatten)]
        more: K::More,
        #[command(flatten)]
        going: ChangeTargetArgs,
    },
    /// Remove an object; an object in use is refused with the list of its users
    Remove {
        /// Name of the object
        #[arg(value_name = "NAME")]
        named: K::Name,
        #[command(flatten)]
        going: ChangeTargetArgs,
    },
}

/// Which objects to list.
#[derive(Debug, clap::Args)]
pub(super) struct ListFilter {
    /// List only objects inside this pool or range
    #[arg(value_name = "POOL")]
    inside: Option<Name>,
    /// List only objects with this text in their name, keys, note or labels
    #[arg(long, value_name = "TEXT")]
    search: Option<String>,
    /// List only objects with this label; may be given several times
    #[arg(long, value_name = "KEY[=VALUE]")]
    label: Vec<String>,
    /// List objects as they are in this draft
    #[arg(long, value_name = "DRAFT")]
    draft: Option<Name>,
    /// Largest number of objects
    #[arg(long, default_value_t = 200, value_parser = clap::value_parser!(u32).range(1..=1000))]
    limit: u32,
    /// Number of objects to skip
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

impl<K: ObjectFlags> ObjectCommand<K> {
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
                let view = context.target.client()?.object(&named.object(K::KIND), draft.as_ref()).await?;
                if context.json {
                    show::json(&view);
                } else {
                    show::objects::one(&view);
                }
                Ok(ExitStatus::Done)
            }
            Self::Create { named, keys, more, going } => {
                let object = named.object(K::KIND);
                let mut map = keys.into_keys();
                K::defaults(&mut map);
                let mut edits = more.before(&object, &mut map);
                edits.push(Edit::Add { object, keys: map });
                going.make(context, edits).await
            }
            Self::Change { named, keys, more, reset, going } => {
                let object = named.object(K::KIND);
                let mut map = keys.into_keys();
                let mut edits = more.before(&object, &mut map);
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
                going.make(context, vec![Edit::Rename { object: named.object(K::KIND), to }]).await
            }
            Self::Copy { named, to, keys, more, going } => {
                let object = named.object(K::KIND);
                let mut map = keys.into_keys();
                let mut edits = more.before(&object.renamed(to.clone()), &mut map);
                edits.push(Edit::Copy { object, to, keys: map });
                going.make(context, edits).await
            }
            Self::Remove { named, going } => {
                going.make(context, vec![Edit::Remove { object: named.object(K::KIND) }]).await
            }
        }
    }
}

/// What can be done with servers.
#[derive(Debug, Subcommand)]
pub(super) enum ServerCommand {
    /// Add several servers to a pool: of hosts, from a range of addresses, or from pasted lines
    Add {
        /// Pool that gets the servers
        pool: Name,
        /// `NAME=ADDRESS:PORT`, `ADDRESS:PORT`, `HOST:PORT` or `FIRST-LAST:PORT`, each with an optional weight after it;
        /// - reads lines from standard input
        #[arg(value_name = "NAME=ADDRESS:PORT [WEIGHT]")]
        lines: Vec<String>,
        /// Hosts to add as servers, with commas between; needs --port
        #[arg(long, value_name = "HOST,HOST", value_delimiter = ',', requires = "port")]
        hosts: Vec<Name>,
        /// Port on each of the hosts
        #[arg(long)]
        port: Option<u16>,
        /// Weight of servers whose line has none
        #[arg(long)]
        weight: Option<u16>,
        /// Tier of the servers
        #[arg(long)]
        tier: Option<u8>,
        #[command(flatten)]
        going: ChangeTargetArgs,
    },
    /// Show the last probes of a server, and how many more would change its health
    Probes {
        /// Server, such as booking/gull
        server: PoolServer,
    },
    #[command(flatten)]
    Any(ObjectCommand<ServerFlags>),
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
    /// Import hosts from a list; known hosts get the address of the list
    Import {
        /// File with the list; - reads standard input
        file: PathBuf,
        /// Format of the list [default: csv for a name that ends with .csv, else hosts]
        #[arg(long)]
        format: Option<ListFormat>,
        #[command(flatten)]
        going: ChangeTargetArgs,
    },
    #[command(flatten)]
    Any(ObjectCommand<HostFlags>),
}

/// How a list of hosts is written.
#[derive(Clone, Copy, Debug, ValueEnum)]
pub(super) enum ListFormat {
    /// Lines with an address and its names
    Hosts,
    /// Comma-separated values with a header line
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
    /// Reserve an address: the next free one, or a given one
    Reserve {
        /// Range of the address
        range: Name,
        /// Name of the reserved address
        name: Name,
        /// Address to reserve [default: the next free one]
        #[arg(long)]
        address: Option<std::net::IpAddr>,
        #[command(flatten)]
        going: ChangeTargetArgs,
    },
    /// Release a reserved address that no frontend uses
    Release {
        /// Range of the address
        range: Name,
        /// Name of the reserved address
        name: Name,
        #[command(flatten)]
        going: ChangeTargetArgs,
    },
    #[command(flatten)]
    Any(ObjectCommand<RangeFlags>),
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

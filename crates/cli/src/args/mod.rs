//! The commands, one file each.

mod apply;
mod apply_options;
mod decisions;
mod diagnose;
mod draft;
mod duty;
mod events;
mod explain;
mod export;
mod failback;
mod input;
mod login;
mod objects;
mod revision;
mod service;
mod status;
mod token;
mod trial;
mod when;

use clap::{Parser, Subcommand};

use crate::exit::{CliError, ExitStatus};
use crate::login::{EVERYWHERE, ServiceTarget};

const AFTER_HELP: &str = "Exit codes: 0 done; 1 the answer is no (a trial is not as expected, a document is refused); \
                          2 the call was wrong, or names what is not there; 3 the service refused or could not be reached.";

/// Deal traffic out to servers, watch them, and prove where it goes
#[derive(Debug, Parser)]
#[command(name = "merismos", version, after_help = AFTER_HELP)]
pub(crate) struct CommandLine {
    #[command(subcommand)]
    command: TopCommand,
    #[command(flatten)]
    target: ServiceTarget,
    /// Print JSON for programs instead of tables for people
    #[arg(long, global = true, help_heading = EVERYWHERE)]
    json: bool,
}

#[derive(Debug, Subcommand)]
enum TopCommand {
    /// Show frontends, pools and servers: configuration, duty and health beside what was observed
    Status(status::StatusArgs),
    /// Say which server a given client would get, and why no other
    Explain(explain::ExplainArgs),
    /// Show some decisions about real traffic as they are made: which server, and why no other
    Decisions(decisions::DecisionsArgs),
    /// Find the step at which a server fails, beside one that works, and say what that means
    Diagnose(diagnose::DiagnoseArgs),
    /// Show what happened
    Events(events::EventsArgs),
    /// Services: a frontend with its pool, servers and check, made or removed in one step
    #[command(subcommand)]
    Service(service::ServiceCommand),
    /// Frontends: where clients connect
    #[command(subcommand)]
    Frontend(objects::ObjectCommand<objects::FrontendKeys>),
    /// Pools: servers that can do the same work
    #[command(subcommand)]
    Pool(objects::ObjectCommand<objects::PoolKeys>),
    /// Servers of pools, written POOL/SERVER
    #[command(subcommand)]
    Server(objects::ServerCommand),
    /// DNS names whose answers are servers of pools, written POOL/LOOKUP
    #[command(subcommand)]
    Lookup(objects::ObjectCommand<objects::LookupKeys>),
    /// Health checks
    #[command(subcommand)]
    Check(objects::CheckCommand),
    /// Known machines
    #[command(subcommand)]
    Host(objects::HostCommand),
    /// Ranges of service addresses
    #[command(subcommand)]
    Range(objects::RangeCommand),
    /// Lists of clients' networks, by which frontends may choose pools
    #[command(subcommand)]
    Network(objects::ObjectCommand<objects::NetworkKeys>),
    /// Notifications: messages to people about changes, by webhook and e-mail
    #[command(subcommand)]
    Notification(objects::NotificationCommand),
    /// Drafts: several changes that become one revision
    #[command(subcommand)]
    Draft(draft::DraftCommand),
    /// Revisions: what ran before, and the way back
    #[command(subcommand)]
    Revision(revision::RevisionCommand),
    /// Make a document, whole or in parts, the running revision
    Apply(apply::ApplyArgs),
    /// Print the running document
    Export(export::ExportArgs),
    /// Give a server no new clients; those it has may finish
    Drain(duty::DutyArgs),
    /// Give a server nothing more, at once
    Withdraw(duty::DutyArgs),
    /// Put a server back in service
    Return(duty::ReturnArgs),
    /// Send the work of a pool back to its lowest tier that can do it
    Failback(failback::FailbackArgs),
    /// Send real requests through a frontend, count where they went, and judge it
    Trial(trial::TrialArgs),
    /// Tokens: who may use the API
    #[command(subcommand)]
    Token(token::TokenCommand),
    /// Keep the service's address and token for later calls
    Login(login::LoginArgs),
}

/// What every command gets.
struct CommandContext {
    target: ServiceTarget,
    json: bool,
}

impl CommandLine {
    pub(crate) async fn run(self) -> Result<ExitStatus, CliError> {
        use merismos_core::duty::Duty;

        let target = ServiceTarget { for_people: !self.json, ..self.target };
        let context = CommandContext { target, json: self.json };
        match self.command {
            TopCommand::Status(args) => args.run(&context).await,
            TopCommand::Explain(args) => args.run(&context).await,
            TopCommand::Decisions(args) => args.run(&context).await,
            TopCommand::Diagnose(args) => args.run(&context).await,
            TopCommand::Events(args) => args.run(&context).await,
            TopCommand::Service(verb) => verb.run(&context).await,
            TopCommand::Frontend(verb) => verb.run(&context).await,
            TopCommand::Pool(verb) => verb.run(&context).await,
            TopCommand::Server(verb) => verb.run(&context).await,
            TopCommand::Lookup(verb) => verb.run(&context).await,
            TopCommand::Check(verb) => verb.run(&context).await,
            TopCommand::Host(verb) => verb.run(&context).await,
            TopCommand::Range(verb) => verb.run(&context).await,
            TopCommand::Network(verb) => verb.run(&context).await,
            TopCommand::Notification(verb) => verb.run(&context).await,
            TopCommand::Draft(verb) => verb.run(&context).await,
            TopCommand::Revision(verb) => verb.run(&context).await,
            TopCommand::Apply(args) => args.run(&context).await,
            TopCommand::Export(args) => args.run(&context).await,
            TopCommand::Drain(args) => args.run(&context, Duty::Draining).await,
            TopCommand::Withdraw(args) => args.run(&context, Duty::Withdrawn).await,
            TopCommand::Return(args) => args.run(&context).await,
            TopCommand::Failback(args) => args.run(&context).await,
            TopCommand::Trial(args) => args.run(&context).await,
            TopCommand::Token(verb) => verb.run(&context).await,
            TopCommand::Login(args) => args.run(&context).await,
        }
    }
}

#[cfg(test)]
mod golden_tests;

#[cfg(test)]
mod tests {
    use clap::CommandFactory;
    use merismos_core::config::Document;
    use merismos_core::config::edit::{Edit, EditError, edit};
    use serde_json::Map;

    #[test]
    fn the_commands_are_well_formed() {
        super::CommandLine::command().debug_assert();
    }

    /// Flags that are no keys: how a change goes live, and what takes an address first.
    const NO_KEYS: [&str; 8] =
        ["label", "preview", "revision-note", "based-on", "accept-warning", "draft", "from", "help"];
    /// Those that are none for one kind: the port of an address that is taken first, and a note, which lists lack.
    const IN_ONE: [(&str, &str); 2] = [("frontend", "port"), ("network", "note")];

    #[test]
    fn flags_of_objects_are_named_as_the_keys_of_the_document() {
        let commands = super::CommandLine::command();
        let objects = [
            ("frontend", "frontends.a", &["http", "tcp", "udp"][..]),
            ("pool", "pools.a", &[]),
            ("server", "pools.a.servers.b", &[]),
            ("lookup", "pools.a.lookups.b", &[]),
            ("check", "checks.a", &["tcp", "http", "udp", "dns", "tls", "sql", "grpc", "command"]),
            ("host", "hosts.a", &[]),
            ("range", "ranges.a", &[]),
            ("network", "networks.a", &[]),
            ("notification", "notifications.a", &[]),
        ];
        for (name, object, kinds) in objects {
            let create =
                commands.find_subcommand(name).and_then(|command| command.find_subcommand("create")).unwrap();
            let flags: Vec<_> = create.get_arguments().filter_map(|argument| argument.get_long()).collect();
            assert!(!flags.is_empty(), "{name}");
            for flag in
                flags.into_iter().filter(|flag| !NO_KEYS.contains(flag) && !IN_ONE.contains(&(name, flag)))
            {
                // What begins with the name of a table is a key inside it.
                let key = flag.replace('-', "_");
                let key = if key.starts_with("passive_check_") { "passive_check".to_owned() } else { key };
                let wrong = |key: &str, kind: &str| {
                    let keys = serde_json::json!({"kind": kind, "protocol": kind, "records": "address", key: {"no": "value"}});
                    let keys = keys.as_object().unwrap().clone();
                    let pool = Edit::Add { object: "pools.a".parse().unwrap(), keys: Map::new() };
                    let around = if object.starts_with("pools.a.") { vec![pool] } else { Vec::new() };
                    let add = Edit::Add { object: object.parse().unwrap(), keys };
                    match edit(&Document::default(), &[around, vec![add]].concat()) {
                        Err(EditError::Keys(problems)) => format!("{problems:?}"),
                        other => panic!("{name} --{flag}: {other:?}"),
                    }
                };
                let is_key = |key: &str| {
                    let says = format!("there is no key {key:?}").escape_debug().to_string();
                    kinds
                        .iter()
                        .chain(kinds.is_empty().then_some(&""))
                        .any(|kind| !wrong(key, kind).contains(&says))
                };
                assert!(
                    !is_key("no_such_key"),
                    "{name}: {}",
                    wrong("no_such_key", kinds.first().unwrap_or(&""))
                );
                assert!(is_key(&key), "{name} --{flag}");
            }
        }
    }
}

//! The commands, one file each.

mod apply;
mod apply_options;
mod decisions;
mod diagnose;
mod doctor;
mod draft;
mod duty;
mod events;
mod explain;
mod export;
mod failback;
mod input;
mod key;
mod login;
mod maintenance;
mod node;
mod objects;
mod pin;
mod revision;
mod roll;
mod service;
mod status;
mod token;
mod trial;
mod when;
mod window;

use clap::{Parser, Subcommand};

pub(crate) use key::KindKey;

use crate::exit::{CliError, ExitStatus};
use crate::login::{EVERYWHERE, ServiceTarget};

const AFTER_HELP: &str = "Exit codes: 0 success; 1 negative result (a trial is not as expected, a document is refused); \
                          2 wrong call, or a name that does not exist; 3 the service refused or could not be reached.";

/// Balance traffic over servers, check their health, and verify where requests go
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
    /// Show frontends, pools and servers: configuration, duty, health and traffic
    Status(status::StatusArgs),
    /// Predict which server a given request would get, and why no other
    Explain(explain::ExplainArgs),
    /// Sample decisions about real traffic: which server was picked, and why no other
    Decisions(decisions::DecisionsArgs),
    /// Find the step at which a server fails, compared with a server that works
    Diagnose(diagnose::DiagnoseArgs),
    /// Show events: what happened, when, and who caused it
    Events(events::EventsArgs),
    /// Create or remove a frontend with its pool, servers and check in one step
    #[command(subcommand)]
    Service(service::ServiceCommand),
    /// Manage frontends: the addresses where clients connect
    #[command(subcommand)]
    Frontend(objects::FrontendCommand),
    /// Manage pools: sets of servers that can do the same work
    #[command(subcommand)]
    Pool(objects::ObjectCommand<objects::PoolFlags>),
    /// Manage servers of pools, written POOL/SERVER
    #[command(subcommand)]
    Server(objects::ServerCommand),
    /// Manage DNS names whose addresses are servers of a pool, written POOL/LOOKUP
    #[command(subcommand)]
    Lookup(objects::ObjectCommand<objects::LookupFlags>),
    /// Manage active health checks
    #[command(subcommand)]
    Check(objects::CheckCommand),
    /// Manage hosts: known machines that servers may name
    #[command(subcommand)]
    Host(objects::HostCommand),
    /// Manage ranges of service addresses and their reserved addresses
    #[command(subcommand)]
    Range(objects::RangeCommand),
    /// Manage lists of client networks, by which frontends may choose pools
    #[command(subcommand)]
    Network(objects::ObjectCommand<objects::NetworkFlags>),
    /// Manage rules: which requests go to which pool, are redirected, answered or refused
    #[command(subcommand)]
    Rule(objects::RuleCommand),
    /// Manage limits: how much each client may ask for
    #[command(subcommand)]
    Limit(objects::LimitCommand),
    /// Manage examples: requests, and what has to become of them, checked with every change
    #[command(subcommand)]
    Example(objects::ObjectCommand<objects::ExampleFlags>),
    /// Manage certificates that frontends show clients who speak TLS
    #[command(subcommand)]
    Certificate(objects::CertificateCommand),
    /// Manage addresses that move between nodes, and who holds them
    #[command(subcommand)]
    Address(objects::AddressCommand),
    /// Manage addresses that nodes announce to routers, and which node announces what
    #[command(subcommand)]
    Announcement(objects::AnnouncementCommand),
    /// Manage authorities that certificates are ordered from
    #[command(subcommand)]
    Authority(objects::ObjectCommand<objects::AuthorityFlags>),
    /// Manage notifications of changes by webhook and e-mail
    #[command(subcommand)]
    Notification(objects::NotificationCommand),
    /// Manage drafts: several changes that become one revision
    #[command(subcommand)]
    Draft(draft::DraftCommand),
    /// Show revisions, and roll back to one
    #[command(subcommand)]
    Revision(revision::RevisionCommand),
    /// Apply a document, whole or in parts
    Apply(apply::ApplyArgs),
    /// Export the running configuration as a document
    Export(export::ExportArgs),
    /// Drain servers: they get no new clients, and open work finishes until the deadline
    Drain(duty::DrainArgs),
    /// Withdraw servers at once: they get no work at all
    Withdraw(duty::WithdrawArgs),
    /// Return servers to service, when their check has passed
    Return(duty::ReturnArgs),
    /// Give clients of a frontend a maintenance page, or the application again
    #[command(subcommand)]
    Maintenance(maintenance::MaintenanceCommand),
    /// Manage pins: clients that are tied to servers
    #[command(subcommand)]
    Pin(pin::PinCommand),
    /// Roll maintenance over servers: drain, work, return and watch each before the next
    Roll(Box<roll::RollArgs>),
    /// Manage windows: planned times of maintenance, once or repeated
    #[command(subcommand)]
    Window(window::WindowCommand),
    /// Return the work of a pool to its lowest tier that can do it
    Failback(failback::FailbackArgs),
    /// Run a trial: send requests through a frontend, count which servers got them, and judge the distribution
    Trial(trial::TrialArgs),
    /// Show the nodes that share the database, and forget those that are gone
    #[command(subcommand)]
    Node(node::NodeCommand),
    /// Look at the machine of the node that answers: what runs short, what could be better, and what helps; exit code 1 when something runs short
    Doctor,
    /// Manage tokens of the API
    #[command(subcommand)]
    Token(token::TokenCommand),
    /// Explain the keys of a document: meaning, type, default and range
    Key(key::KeyArgs),
    /// Log in: store the service's URL and token for later calls
    Login(login::LoginArgs),
}

/// What every command gets.
struct CommandContext {
    target: ServiceTarget,
    json: bool,
}

impl CommandLine {
    pub(crate) async fn run(self) -> Result<ExitStatus, CliError> {
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
            TopCommand::Certificate(verb) => verb.run(&context).await,
            TopCommand::Maintenance(verb) => verb.run(&context).await,
            TopCommand::Rule(verb) => verb.run(&context).await,
            TopCommand::Limit(verb) => verb.run(&context).await,
            TopCommand::Example(verb) => verb.run(&context).await,
            TopCommand::Address(verb) => verb.run(&context).await,
            TopCommand::Announcement(verb) => verb.run(&context).await,
            TopCommand::Authority(verb) => verb.run(&context).await,
            TopCommand::Notification(verb) => verb.run(&context).await,
            TopCommand::Draft(verb) => verb.run(&context).await,
            TopCommand::Revision(verb) => verb.run(&context).await,
            TopCommand::Apply(args) => args.run(&context).await,
            TopCommand::Export(args) => args.run(&context).await,
            TopCommand::Drain(args) => args.run(&context).await,
            TopCommand::Withdraw(args) => args.run(&context).await,
            TopCommand::Return(args) => args.run(&context).await,
            TopCommand::Pin(verb) => verb.run(&context).await,
            TopCommand::Roll(args) => args.run(&context).await,
            TopCommand::Window(verb) => verb.run(&context).await,
            TopCommand::Failback(args) => args.run(&context).await,
            TopCommand::Trial(args) => args.run(&context).await,
            TopCommand::Node(verb) => verb.run(&context).await,
            TopCommand::Doctor => doctor::run(&context).await,
            TopCommand::Token(verb) => verb.run(&context).await,
            TopCommand::Key(args) => args.run(&context),
            TopCommand::Login(args) => args.run(&context).await,
        }
    }
}

#[cfg(test)]
mod golden_tests;

#[cfg(test)]
mod tests {
    use clap::CommandFactory;
    use merismos_core::config::key_help;
    use merismos_core::config::keys::HOMES;

    #[test]
    fn the_commands_are_well_formed() {
        super::CommandLine::command().debug_assert();
    }

    #[test]
    fn every_key_is_a_flag() {
        let commands = super::CommandLine::command();
        for (kind, _) in HOMES {
            let create = commands
                .find_subcommand(kind.to_string())
                .and_then(|command| command.find_subcommand("create"));
            let flags: Vec<_> =
                create.unwrap().get_arguments().filter_map(|argument| argument.get_long()).collect();
            for key in key_help::of(kind) {
                let flag =
                    if key.key == "labels" { "label".to_owned() } else { key.key.replace(['_', '.'], "-") };
                assert!(flags.contains(&flag.as_str()), "{kind} {}", key.key);
            }
        }
    }
}

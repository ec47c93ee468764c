//! `merismos-lab`: stand-ins, their faults, and the bare relay.

use std::net::SocketAddr;
use std::path::PathBuf;
use std::process::ExitCode;
use std::time::Duration;

use clap::{Parser, Subcommand, ValueEnum};
use merismos_lab::control::{self, LabError, StandInFile};
use merismos_lab::stand_in::{Fault, ReceivedMail};
use merismos_lab::tls_relay::{self, HandshakeLoad, TlsEnds};
use merismos_lab::visitors::ShownVisitors;
use merismos_lab::{datagrams, health_server, relay};

/// Stand-in servers with faults, for trying Merismos out
#[derive(Debug, Parser)]
#[command(name = "merismos-lab", version)]
struct LabArgs {
    #[command(subcommand)]
    command: LabCommand,
}

#[derive(Debug, Subcommand)]
enum LabCommand {
    /// Run every stand-in of a file until interrupted
    Run {
        /// A TOML file: control = "address:port", [servers] with name = "address:port", [authorities.NAME], and [visitors.NAME]
        file: PathBuf,
        /// Where stand-ins for authorities keep their roots
        #[arg(long, default_value = ".")]
        folder: PathBuf,
    },
    /// Show the stand-ins of a running lab and how they fail
    List {
        #[command(flatten)]
        at: ControlAddress,
    },
    /// Make a stand-in fail
    Break {
        /// Its name
        name: String,
        /// How it fails
        how: RelayMethod,
        /// For slow: how much later it answers, in milliseconds
        #[arg(long, default_value_t = 3_000)]
        delay_ms: u64,
        /// For error: the status it answers with
        #[arg(long, default_value_t = 500, value_parser = clap::value_parser!(u16).range(400..=599))]
        status: u16,
        /// For flap: how long each turn is, in milliseconds
        #[arg(long, default_value_t = 5_000, value_parser = clap::value_parser!(u64).range(1..))]
        period_ms: u64,
        /// For ask-for-share: the part, in percent
        #[arg(long, default_value_t = 50, value_parser = clap::value_parser!(u8).range(1..100))]
        percent: u8,
        #[command(flatten)]
        at: ControlAddress,
    },
    /// Make a stand-in recover
    Restore {
        /// Its name
        name: String,
        #[command(flatten)]
        at: ControlAddress,
    },
    /// Show the messages that a stand-in for mail or posts took
    Inbox {
        /// Its name
        name: String,
        #[command(flatten)]
        at: ControlAddress,
    },
    /// Show the visitors of a running lab, stop them, or let them come again
    Visitors {
        /// Which; all of them without a name
        name: Option<String>,
        /// They come no more
        #[arg(long, conflicts_with = "come")]
        stop: bool,
        /// They come again
        #[arg(long)]
        come: bool,
        #[command(flatten)]
        at: ControlAddress,
    },
    /// Run the bare byte relay that the benchmark measures against
    Relay {
        /// Where it listens
        #[arg(long)]
        listen: SocketAddr,
        /// Where it relays to
        #[arg(long)]
        to: SocketAddr,
        /// Threads
        #[arg(long, default_value_t = 2)]
        workers: usize,
        /// The size of the buffer that each direction is copied through, in KiB
        #[arg(long, value_name = "KIB", default_value_t = 64, value_parser = clap::value_parser!(u16).range(1..=1024))]
        buffer: u16,
        /// Move pages through a pipe instead of copying bytes through a buffer
        #[arg(long, conflicts_with = "buffer")]
        splice: bool,
        /// Relay datagrams, not connections
        #[arg(long, conflicts_with_all = ["splice", "buffer"])]
        datagrams: bool,
    },
    /// Run the bare TLS relay, or acceptor, that the benchmark measures against
    TlsRelay {
        /// Where it listens
        #[arg(long)]
        listen: SocketAddr,
        /// Where it relays to; without it clients are only accepted
        #[arg(long)]
        to: Option<SocketAddr>,
        /// Threads
        #[arg(long, default_value_t = 2)]
        workers: usize,
        /// Take clients in plain text
        #[arg(long)]
        plain_clients: bool,
        /// Speak TLS to the server
        #[arg(long)]
        to_tls: bool,
    },
    /// Write certificates of their own making with their keys, for c0.skerry.example and so on
    Certificates {
        /// Where they are written
        #[arg(long)]
        folder: PathBuf,
        /// How many
        #[arg(long)]
        count: usize,
    },
    /// Do TLS handshakes for a while and count them, or hold connections
    Shake {
        /// With whom
        #[arg(long)]
        to: SocketAddr,
        /// For how long
        #[arg(long, default_value_t = 2)]
        seconds: u64,
        /// How many at once
        #[arg(long, default_value_t = 16)]
        at_once: usize,
        /// Take up the session before each
        #[arg(long)]
        resume: bool,
        /// How many names are asked for in turn
        #[arg(long, default_value_t = 0)]
        names: u64,
        /// Hold so many connections instead, until the input ends
        #[arg(long)]
        hold: Option<usize>,
    },
    /// Run the bare loop that probing is measured against: a connection to each of many servers in each interval
    Knock {
        /// How many servers, from 127.64.0.1 on
        #[arg(long, default_value_t = 10_000)]
        servers: usize,
        /// Their port
        #[arg(long)]
        port: u16,
        /// The interval, in milliseconds
        #[arg(long, default_value_t = 5_000)]
        interval_ms: u64,
        /// Keep the connections, and send a request each time
        #[arg(long)]
        keep: bool,
    },
    /// Send every datagram back to where it came from, many at a time
    Echo {
        /// Where it listens
        #[arg(long)]
        listen: SocketAddr,
    },
    /// Send datagrams for a while and count the answers
    Ask {
        /// Where they go
        #[arg(long)]
        to: SocketAddr,
        /// How many ask at once, each from a port of its own
        #[arg(long, default_value_t = 64)]
        flows: usize,
        /// How many datagrams each sends before it waits for the answers
        #[arg(long, default_value_t = 16)]
        burst: usize,
        /// The size of a datagram
        #[arg(long, default_value_t = 64)]
        size: usize,
        /// For how long
        #[arg(long, default_value_t = 2)]
        seconds: u64,
    },
}

#[derive(Debug, clap::Args)]
struct ControlAddress {
    /// Where the lab's control endpoints listen
    #[arg(long, env = "MERISMOS_LAB", default_value = "127.0.0.1:7489")]
    control: SocketAddr,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
enum RelayMethod {
    /// Nothing listens any more
    Refuse,
    /// Takes requests and never answers
    Hang,
    /// Answers late
    Slow,
    /// Answers with an error status
    Error,
    /// Answers with the right status and a wrong body
    WrongBody,
    /// Its answers break off in the middle
    Half,
    /// Redirects to another address
    Redirect,
    /// Answers as it should and with 503 in turns
    Flap,
    /// Answers as it should, and asks to be drained
    AskToDrain,
    /// Answers as it should, and asks for a part of its share
    AskForShare,
}

#[tokio::main(flavor = "current_thread")]
async fn main() -> ExitCode {
    match run(LabArgs::parse().command).await {
        Ok(text) => {
            print(&text);
            ExitCode::SUCCESS
        }
        Err(error) => {
            use std::io::Write;
            let _ = writeln!(std::io::stderr(), "merismos-lab: {error}");
            ExitCode::FAILURE
        }
    }
}

fn print(text: &str) {
    use std::io::Write;
    // A reader that went away wants to hear no more.
    let _ = std::io::stdout().write_all(text.as_bytes());
}

async fn run(command: LabCommand) -> Result<String, LabError> {
    let words = |shown: &control::StandInView| {
        format!("{:12} {:22} {}\n", shown.name, shown.address, describe(shown.fault))
    };
    match command {
        LabCommand::Run { file, folder } => {
            let cast = StandInFile::read(&file)?.within(&folder);
            tokio::select! {
                served = control::serve(cast) => served.map(|()| String::new()),
                () = interrupted() => Ok(String::new()),
            }
        }
        LabCommand::List { at } => Ok(control::stand_ins(at.control).await?.iter().map(words).collect()),
        LabCommand::Break { name, how, delay_ms, status, period_ms, percent, at } => {
            let fault = match how {
                RelayMethod::Refuse => Fault::Refuse,
                RelayMethod::Hang => Fault::Hang,
                RelayMethod::Slow => Fault::Slow { delay_ms },
                RelayMethod::Error => Fault::Error { status },
                RelayMethod::WrongBody => Fault::WrongBody,
                RelayMethod::Half => Fault::Half,
                RelayMethod::Redirect => Fault::Redirect,
                RelayMethod::Flap => Fault::Flap { period_ms },
                RelayMethod::AskToDrain => Fault::AskToDrain,
                RelayMethod::AskForShare => Fault::AskForShare { percent },
            };
            Ok(words(&control::set_fault(at.control, &name, fault).await?))
        }
        LabCommand::Restore { name, at } => {
            Ok(words(&control::set_fault(at.control, &name, Fault::None).await?))
        }
        LabCommand::Inbox { name, at } => {
            let received = control::inbox_of(at.control, &name).await?;
            Ok(received.iter().map(received_text).collect())
        }
        LabCommand::Visitors { name, stop, come, at } => {
            let wanted = (stop || come).then_some(come);
            let shown = control::visitors(at.control, name.as_deref(), wanted).await?;
            let of_name =
                shown.into_iter().filter(|visitors| name.as_ref().is_none_or(|name| *name == visitors.name));
            Ok(of_name.map(|visitors| visitors_words(&visitors)).collect())
        }
        LabCommand::Relay { listen, to, workers, buffer, splice, datagrams } => {
            let copying = relay::CopyMethod::Copying { buffer: usize::from(buffer) << 10 };
            let relayed = if datagrams {
                datagrams::relay(listen, to, workers)
            } else {
                relay::run(listen, to, workers, if splice { relay::CopyMethod::Splicing } else { copying })
            };
            relayed.map(|()| String::new()).map_err(|source| LabError::Listen {
                what: "the relay".to_owned(),
                address: listen,
                source,
            })
        }
        LabCommand::TlsRelay { listen, to, workers, plain_clients, to_tls } => {
            let relayed = tls_relay::run(listen, workers, &TlsEnds { to, plain_clients, to_tls });
            relayed.map(|()| String::new()).map_err(|source| LabError::Listen {
                what: "the TLS relay".to_owned(),
                address: listen,
                source,
            })
        }
        LabCommand::Certificates { folder, count } => {
            let written = tls_relay::write_certificates(&folder, count);
            written.map(|()| String::new()).map_err(|source| LabError::File { path: folder, source })
        }
        LabCommand::Shake { to, seconds, at_once, resume, names, hold } => {
            let load = HandshakeLoad { time: Duration::from_secs(seconds), at_once, resume, names };
            let shaken = match hold {
                Some(clients) => tls_relay::hold(to, clients).await.map(|()| String::new()),
                None => tls_relay::shake(to, load).await,
            };
            shaken.map_err(|source| LabError::Listen { what: "a client".to_owned(), address: to, source })
        }
        LabCommand::Knock { servers, port, interval_ms, keep } => {
            health_server::run(servers, port, Duration::from_millis(interval_ms), keep).await;
            Ok(String::new())
        }
        LabCommand::Echo { listen } => datagrams::echo(listen)
            .map(|()| String::new())
            .map_err(|source| LabError::Listen { what: "the echo".to_owned(), address: listen, source }),
        LabCommand::Ask { to, flows, burst, size, seconds } => {
            let asking = datagrams::DatagramLoad { flows, burst, size, time: Duration::from_secs(seconds) };
            let counted = datagrams::ask(to, asking);
            counted.map(|counts| counts + "\n").map_err(|source| LabError::Listen {
                what: "a client".to_owned(),
                address: to,
                source,
            })
        }
    }
}

fn received_text(mail: &ReceivedMail) -> String {
    let fields: String = mail.fields.iter().map(|(name, value)| format!("{name}: {value}\n")).collect();
    format!("{fields}\n{}\n\n", mail.text.trim_end())
}

fn visitors_words(shown: &ShownVisitors) -> String {
    let ShownVisitors { name, address, come, sent, well } = shown;
    let come = if *come { "come" } else { "are stopped" };
    format!("{name:12} {:22} {come}; sent {sent}, answered well {well}\n", address.to_string())
}

fn describe(fault: Fault) -> String {
    match fault {
        Fault::None => "answers".to_owned(),
        Fault::Refuse => "refuses connections".to_owned(),
        Fault::Hang => "takes requests and never answers".to_owned(),
        Fault::Slow { delay_ms } => format!("answers {delay_ms} ms late"),
        Fault::Error { status } => format!("answers everything with {status}"),
        Fault::WrongBody => "answers with another site's body".to_owned(),
        Fault::Half => "breaks its answers off in the middle".to_owned(),
        Fault::Redirect => "redirects to another address".to_owned(),
        Fault::Flap { period_ms } => format!("answers well and with 503 in turns of {period_ms} ms"),
        Fault::AskToDrain => "answers, and asks to be drained".to_owned(),
        Fault::AskForShare { percent } => format!("answers, and asks for {percent} % of its share"),
    }
}

async fn interrupted() {
    use tokio::signal::unix::{SignalKind, signal};
    let (Ok(mut terminate), Ok(mut interrupt)) =
        (signal(SignalKind::terminate()), signal(SignalKind::interrupt()))
    else {
        return;
    };
    tokio::select! {
        _ = terminate.recv() => {}
        _ = interrupt.recv() => {}
    }
}

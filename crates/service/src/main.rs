//! `merismosd`, the Merismos service.
#![deny(unsafe_code)]

mod access;
mod addresses;
mod announcements;
mod api;
mod certificates;
mod clock;
mod console;
mod controller;
mod deploy;
mod diagnose;
mod diagnose_frontend;
mod drafts;
mod journal;
mod lock;
mod log;
mod machine;
mod memory;
mod nodes;
mod notifications;
mod pin_keeper;
mod preflight;
mod recent_requests;
mod root_cause;
mod rule_uses;
mod run;
mod settings;
mod shortages;
mod state_file;
mod trials;
mod troubles;
mod upgrade;

use std::io::IsTerminal;
use std::process::ExitCode;

use clap::Parser;
use merismos_connector::descriptors::DescriptorBudget;
use tracing_subscriber::EnvFilter;

use crate::settings::{Flags, LogFormat, Settings};

/// Takes as many descriptors as the system allows: clients, servers and probes hold one each.
fn take_descriptors() -> DescriptorBudget {
    use rustix::process::{Resource, getrlimit, setrlimit};

    let mut limit = getrlimit(Resource::Nofile);
    limit.current = limit.maximum;
    if let Err(error) = setrlimit(Resource::Nofile, limit) {
        tracing::warn!(%error, "the limit of descriptors stays as it is");
    }
    let allotment = DescriptorBudget::of(getrlimit(Resource::Nofile).current.unwrap_or(u64::MAX));
    allotment.apply();
    allotment
}

/// Keeps what is in memory, private keys among it, out of core dumps and from other processes of the same user.
fn keep_memory_private() {
    use rustix::process::{DumpableBehavior, set_dumpable_behavior};

    if let Err(error) = set_dumpable_behavior(DumpableBehavior::NotDumpable) {
        tracing::warn!(%error, "core dumps of the service may hold private keys");
    }
}

fn main() -> ExitCode {
    let settings = match Settings::from_flags(Flags::parse()) {
        Ok(settings) => settings,
        Err(error) => return complain(&error),
    };
    // The database's library repeats in its own words what the service says in the user's.
    let filter = EnvFilter::new(format!("sqlx=error,{}", settings.log));
    let log = tracing_subscriber::fmt().with_env_filter(filter).with_writer(log::PlainLines);
    let log = log.with_ansi(std::io::stderr().is_terminal());
    match settings.log_format {
        LogFormat::Text => log.with_target(false).init(),
        LogFormat::Json => log.json().flatten_event(true).init(),
    }
    keep_memory_private();
    let allotment = take_descriptors();
    if let Err(error) = memory::watch() {
        tracing::warn!(%error, "freed memory stays with the service");
    }
    let runtime = tokio::runtime::Builder::new_multi_thread()
        .worker_threads(2)
        .thread_name("control")
        .enable_all()
        .build()
        .expect("a runtime needs only threads and an epoll descriptor");
    match runtime.block_on(run::run(settings.within(allotment), allotment)) {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => complain(&error),
    }
}

/// Says on standard error why the service ends, with every cause.
fn complain(error: &dyn std::error::Error) -> ExitCode {
    use std::io::Write;

    let mut text = format!("merismosd: {error}");
    let mut cause = error.source();
    while let Some(error) = cause {
        text.push_str(&format!("\n  because: {error}"));
        cause = error.source();
    }
    // Where standard error is gone no reader is left.
    let _ = writeln!(std::io::stderr(), "{text}");
    ExitCode::FAILURE
}

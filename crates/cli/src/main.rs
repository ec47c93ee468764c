//! `merismos`, the command line of Merismos.
#![forbid(unsafe_code)]

mod args;
mod exit;
mod login;
mod show;

use std::process::ExitCode;

use clap::Parser;

use crate::args::CommandLine;

#[tokio::main(flavor = "current_thread")]
async fn main() -> ExitCode {
    let args = CommandLine::parse();
    match args.run().await {
        Ok(exit) => exit.into(),
        Err(error) => {
            show::error(&error);
            error.exit().into()
        }
    }
}

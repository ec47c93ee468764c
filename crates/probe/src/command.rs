//! `command`: a program of this machine, without a shell. Its exit code is the verdict and its first line the evidence.

use std::process::Stdio;

use merismos_core::config::document::CommandProbe;
use merismos_core::health::ProbeStep;
use tokio::io::{AsyncBufReadExt, AsyncReadExt, BufReader};
use tokio::process::{Child, Command};

use crate::run::{ProbeFailure, ProbeOutcome, ProbeRun, Trace};

/// How much of its first line is kept.
const LONGEST_LINE: u64 = 200;

/// A program that ends, with all that it started, when it is not waited for any more.
struct ProcessGroup(Child);

impl Drop for ProcessGroup {
    fn drop(&mut self) {
        let group =
            self.0.id().and_then(|id| i32::try_from(id).ok()).and_then(rustix::process::Pid::from_raw);
        if let Some(group) = group {
            // It may have ended by itself meanwhile.
            let _ = rustix::process::kill_process_group(group, rustix::process::Signal::KILL);
        }
    }
}

pub(super) async fn ask(asking: &ProbeRun<'_>, asked: &CommandProbe, trace: &mut Trace) -> ProbeOutcome {
    let failed = |what: String| ProbeFailure::at(ProbeStep::Connect, what);
    let Some(folder) = &asking.surroundings.command_folder else {
        return Err(failed(
            "this service runs no programs: its setting command-folder names none".to_owned(),
        ));
    };
    trace.begin(ProbeStep::Answer, "the program did not end");
    let mut command = Command::new(folder.join(&asked.program));
    command.args(&asked.arguments).env_clear().env("PATH", "/usr/bin:/bin");
    command.env("MERISMOS_ADDRESS", asking.address.ip().to_string());
    command.env("MERISMOS_PORT", asking.address.port().to_string());
    command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::null());
    command.process_group(0).kill_on_drop(true);
    let child = command.spawn().map_err(|error| failed(format!("the program can't be run: {error}")))?;
    let mut group = ProcessGroup(child);
    trace.done(ProbeStep::Connect, "the program runs");
    let mut line = Vec::new();
    if let Some(output) = group.0.stdout.take() {
        let mut output = BufReader::new(output);
        let _ = (&mut output).take(LONGEST_LINE).read_until(b'\n', &mut line).await;
        // A program whose output is not read would wait for ever.
        let _ = tokio::io::copy(&mut output, &mut tokio::io::sink()).await;
    }
    let ended = group.0.wait().await.map_err(|error| failed(format!("the program was lost: {error}")))?;
    let line = String::from_utf8_lossy(&line);
    let said =
        if line.trim().is_empty() { String::new() } else { format!(": {}", line.trim().escape_debug()) };
    if ended.success() {
        Ok(format!("exit code 0{said}"))
    } else {
        Err(ProbeFailure::at(ProbeStep::Status, format!("{ended}{said}")))
    }
}

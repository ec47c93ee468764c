//! A small network of its own for tests: machines behind a switch, whose cables can be pulled. Each machine is a network namespace.
//!
//! It needs root, and the program `ip` (Debian: iproute2). Everything goes when it is dropped.

use std::io;
use std::process::{Command, Stdio};
use std::sync::atomic::{AtomicU32, Ordering};

use rustix::thread::{LinkNameSpaceType, move_into_link_name_space};

/// Numbers of networks of this process.
static NETWORKS: AtomicU32 = AtomicU32::new(0);

/// Machines behind a switch.
#[derive(Debug)]
pub struct Network {
    /// What its namespaces are called, before the name of each machine.
    prefix: String,
    machines: Vec<Machine>,
}

/// A machine of a network. Its interface is `eth0`.
#[derive(Clone, Debug)]
pub struct Machine {
    namespace: String,
    switch: String,
    /// The switch's end of its cable.
    port: String,
}

/// Runs `ip` and says what it said when it failed.
fn ip(arguments: &[&str]) -> io::Result<()> {
    let done = Command::new("ip").args(arguments).stdin(Stdio::null()).output()?;
    if done.status.success() {
        return Ok(());
    }
    let said = String::from_utf8_lossy(&done.stderr);
    Err(io::Error::other(format!("ip {}: {}", arguments.join(" "), said.trim())))
}

/// Runs a program of a namespace.
fn within(namespace: &str, program: &[&str]) -> io::Result<()> {
    let mut whole = vec!["netns", "exec", namespace];
    whole.extend(program);
    ip(&whole)
}

impl Network {
    /// A switch without machines.
    ///
    /// # Errors
    /// When this process may not make one.
    pub fn new() -> io::Result<Self> {
        let prefix = format!("mn{}x{}", std::process::id(), NETWORKS.fetch_add(1, Ordering::Relaxed));
        let network = Self { prefix, machines: Vec::new() };
        let switch = network.switch();
        ip(&["netns", "add", &switch])?;
        let bridge = [
            "ip",
            "link",
            "add",
            "name",
            "switch",
            "type",
            "bridge",
            "stp_state",
            "0",
            "forward_delay",
            "0",
            "mcast_snooping",
            "0",
        ];
        within(&switch, &bridge)?;
        within(&switch, &["ip", "link", "set", "switch", "up"])?;
        Ok(network)
    }

    fn switch(&self) -> String {
        format!("{}-switch", self.prefix)
    }

    /// Adds a machine with addresses (`192.0.2.1/24`, `2001:db8::1/64`) on its interface `eth0`.
    ///
    /// # Errors
    /// When it can't be made, or an address is wrong.
    pub fn machine(&mut self, name: &str, addresses: &[&str]) -> io::Result<Machine> {
        let machine = Machine {
            namespace: format!("{}-{name}", self.prefix),
            switch: self.switch(),
            port: format!("port{}", self.machines.len()),
        };
        let Machine { namespace, switch, port } = &machine;
        ip(&["netns", "add", namespace])?;
        self.machines.push(machine.clone());
        ip(&[
            "-n", switch, "link", "add", "name", port, "type", "veth", "peer", "name", "eth0", "netns",
            namespace,
        ])?;
        ip(&["-n", switch, "link", "set", port, "master", "switch", "up"])?;
        // Addresses of IPv6 are there at once, without a look for duplicates.
        within(namespace, &["sysctl", "-qw", "net.ipv6.conf.eth0.accept_dad=0"])?;
        ip(&["-n", namespace, "link", "set", "lo", "up"])?;
        ip(&["-n", namespace, "link", "set", "eth0", "up"])?;
        for address in addresses {
            ip(&["-n", namespace, "address", "add", address, "dev", "eth0"])?;
        }
        Ok(machine)
    }
}

impl Drop for Network {
    fn drop(&mut self) {
        let switch = self.switch();
        for namespace in self.machines.iter().map(|machine| &machine.namespace).chain([&switch]) {
            // One that can't be removed is not worth failing for.
            let _ = ip(&["netns", "delete", namespace]);
        }
    }
}

impl Machine {
    /// A program that will run on this machine.
    #[must_use]
    pub fn command(&self, program: impl AsRef<std::ffi::OsStr>) -> Command {
        let mut command = Command::new("ip");
        command.args(["netns", "exec", &self.namespace]).arg(program);
        command
    }

    /// Does something on this machine: on a thread of its own, whose sockets and threads are the machine's.
    ///
    /// # Errors
    /// When the namespace can't be entered.
    pub fn enter<T: Send>(&self, work: impl FnOnce() -> T + Send) -> io::Result<T> {
        let namespace = std::fs::File::open(format!("/var/run/netns/{}", self.namespace))?;
        std::thread::scope(|scope| {
            let working = scope.spawn(move || {
                move_into_link_name_space(
                    std::os::fd::AsFd::as_fd(&namespace),
                    Some(LinkNameSpaceType::Network),
                )?;
                Ok(work())
            });
            working.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
        })
    }

    /// Pulls its cable.
    ///
    /// # Errors
    /// When the switch is gone.
    pub fn unplug(&self) -> io::Result<()> {
        ip(&["-n", &self.switch, "link", "set", &self.port, "down"])
    }

    /// Plugs it in again.
    ///
    /// # Errors
    /// When the switch is gone.
    pub fn plug(&self) -> io::Result<()> {
        ip(&["-n", &self.switch, "link", "set", &self.port, "up"])
    }

    /// Loses all that is sent to this machine; what it sends goes through.
    ///
    /// # Errors
    /// When the switch is gone.
    pub fn deafen(&self) -> io::Result<()> {
        // A bucket that is smaller than any packet lets none through.
        let port = self.port.as_str();
        within(
            &self.switch,
            &["tc", "qdisc", "add", "dev", port, "root", "tbf", "rate", "8bit", "burst", "1", "limit", "1"],
        )
    }

    /// Lets it hear again.
    ///
    /// # Errors
    /// When it was not deafened.
    pub fn let_hear(&self) -> io::Result<()> {
        within(&self.switch, &["tc", "qdisc", "delete", "dev", &self.port, "root"])
    }

    /// Whether it has an address, on whichever interface.
    ///
    /// # Errors
    /// When the machine is gone.
    pub fn has_address(&self, address: &str) -> io::Result<bool> {
        let shown = Command::new("ip").args(["-n", &self.namespace, "-o", "address", "show"]).output()?;
        let shown = String::from_utf8_lossy(&shown.stdout).into_owned();
        Ok(shown.split_whitespace().any(|word| word.split('/').next() == Some(address)))
    }
}

//! Routers on a network of a test: the BGP daemon BIRD, which nodes announce addresses to.

use std::io;
use std::path::PathBuf;
use std::process::{Child, Stdio};

use crate::network::Machine;

/// A router that takes the routes of its neighbours and sends traffic by them. It ends when it is dropped.
#[derive(Debug)]
pub struct Router {
    machine: Machine,
    daemon: Child,
    folder: PathBuf,
}

/// A neighbour of a router.
#[derive(Clone, Debug)]
pub struct RouterNeighbour {
    /// Its address.
    pub address: String,
    /// Its AS number.
    pub as_number: u32,
    /// What else the router's configuration says of it, such as `password "...";`.
    pub more: String,
}

impl Router {
    /// Starts one on a machine; it waits for its neighbours to connect.
    ///
    /// # Errors
    /// When the daemon can't be started.
    pub fn start(machine: Machine, as_number: u32, neighbours: &[RouterNeighbour]) -> io::Result<Self> {
        let folder =
            std::env::temp_dir().join(format!("merismos-router-{}-{}", std::process::id(), rand_name()));
        std::fs::create_dir_all(&folder)?;
        let configuration = folder.join("router.conf");
        std::fs::write(&configuration, configuration_of(as_number, neighbours))?;
        let daemon = machine
            .command("bird")
            .args(["-f", "-c"])
            .arg(&configuration)
            .arg("-s")
            .arg(folder.join("control"))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()?;
        Ok(Self { machine, daemon, folder })
    }

    /// Gives the router another configuration, which it follows at once.
    ///
    /// # Errors
    /// When it can't be written, or the router does not take it.
    pub fn set(&self, as_number: u32, neighbours: &[RouterNeighbour]) -> io::Result<()> {
        std::fs::write(self.folder.join("router.conf"), configuration_of(as_number, neighbours))?;
        self.ask("configure").map(drop)
    }

    /// What the router answers on its control socket.
    ///
    /// # Errors
    /// When it does not answer.
    pub fn ask(&self, question: &str) -> io::Result<String> {
        let output = self
            .machine
            .command("birdc")
            .arg("-s")
            .arg(self.folder.join("control"))
            .args(question.split_whitespace())
            .output()?;
        Ok(String::from_utf8_lossy(&output.stdout).into_owned())
    }

    /// Where the router sends what is for an address: the next hops in its kernel's table, in order.
    ///
    /// # Errors
    /// When the table can't be read.
    pub fn next_hops(&self, address: &str) -> io::Result<Vec<String>> {
        let family = if address.contains(':') { "-6" } else { "-4" };
        let output = self.machine.command("ip").args([family, "-json", "route", "show", address]).output()?;
        let routes: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap_or_default();
        let mut hops = Vec::new();
        for route in routes.as_array().into_iter().flatten() {
            let several = route["nexthops"].as_array().into_iter().flatten();
            let gateways = several.chain([route]).filter_map(|hop| hop["gateway"].as_str());
            hops.extend(gateways.map(str::to_owned));
        }
        hops.sort();
        Ok(hops)
    }

    /// The machine that it runs on.
    #[must_use]
    pub fn machine(&self) -> &Machine {
        &self.machine
    }
}

impl Drop for Router {
    fn drop(&mut self) {
        let _ = self.daemon.kill();
        let _ = self.daemon.wait();
        let _ = std::fs::remove_dir_all(&self.folder);
    }
}

fn rand_name() -> u128 {
    std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default().as_nanos()
}

fn configuration_of(as_number: u32, neighbours: &[RouterNeighbour]) -> String {
    let mut text = "router id 192.0.2.254;\nprotocol device { scan time 1; }\n".to_owned();
    for family in ["ipv4", "ipv6"] {
        text += &format!("protocol kernel {{ {family} {{ export all; }}; merge paths on; }}\n");
    }
    for (number, neighbour) in neighbours.iter().enumerate() {
        let RouterNeighbour { address, as_number: other, more } = neighbour;
        let family = if address.contains(':') { "ipv6" } else { "ipv4" };
        text += &format!(
            "protocol bgp node{number} {{ local as {as_number}; neighbor {address} as {other}; passive on; hold time 9; error wait time 1, 2;\n\
             {family} {{ import all; export none; }}; {more} }}\n"
        );
    }
    text
}

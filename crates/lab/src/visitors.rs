//! Visitors: light and steady clients of several kinds, so that a demo is alive from its first second.

use std::collections::BTreeMap;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use merismos_load::{ClientOutcome, LoadClients, LoadPlan, LoadTls, RequestSpec, run};
use serde::{Deserialize, Serialize};
use tokio::sync::watch;
use tokio::time::Instant;

/// The most that visitors of one kind send in a second: they are there to be seen, and not to load anything.
const MOST_PER_SECOND: u32 = 100;
/// How long one round of theirs takes: then they close their connections, forget their cookies and begin anew.
const ROUND_SECONDS: u32 = 600;
/// Visitors that are not stopped end after this time.
const LONGEST: Duration = Duration::from_secs(24 * 3_600);
/// How long they wait for an answer.
const PATIENCE: Duration = Duration::from_secs(3);

/// The protocol of visitors.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum VisitorProtocol {
    /// Requests on connections that they keep.
    Http,
    /// A connection for each line.
    Tcp,
    /// Datagrams that are answered.
    Udp,
}

/// Visitors of one kind, as a file names them.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Visitors {
    /// The protocol that they speak to the frontend.
    pub protocol: VisitorProtocol,
    /// Where they come to.
    pub address: SocketAddr,
    /// How many requests they bring in a second, all together; at most 100.
    pub per_second: u32,
    /// How many they are.
    pub clients: u32,
    /// Where they come from, in turn; where nothing is said, the system chooses.
    #[serde(default)]
    pub from: Vec<IpAddr>,
    /// `http`: whether they keep their cookies.
    #[serde(default)]
    pub keep_cookies: bool,
    /// `http`: the path that they ask for.
    #[serde(default)]
    pub path: Option<String>,
    /// They speak TLS, and ask for this name.
    #[serde(default)]
    pub tls_name: Option<String>,
    /// `tcp`, `udp`: what they say.
    #[serde(default)]
    pub say: Option<String>,
}

impl Visitors {
    fn plan(&self) -> LoadPlan {
        let per_second = self.per_second.clamp(1, MOST_PER_SECOND);
        let say = self.say.clone().unwrap_or_default().into_bytes();
        let work = match self.protocol {
            VisitorProtocol::Http => {
                let path = self.path.clone().unwrap_or_else(|| "/".to_owned());
                RequestSpec::Http { path, host: None, mark: None }
            }
            VisitorProtocol::Tcp => RequestSpec::Tcp { say },
            VisitorProtocol::Udp => RequestSpec::Udp { say, is_answered: true },
        };
        LoadPlan {
            address: self.address,
            // A name that is none is spoken of in plain text, which the frontend answers.
            tls: self.tls_name.as_deref().and_then(|name| LoadTls::new(name).ok()),
            work,
            shots: u64::from(per_second * ROUND_SECONDS),
            concurrency: self.clients.clamp(1, 16),
            per_second: Some(per_second),
            timeout: PATIENCE,
            clients: LoadClients {
                count: self.clients.max(1),
                addresses: self.from.clone(),
                keep_cookies: self.keep_cookies,
                new_percent: 0,
            },
        }
    }
}

/// Visitors as the control endpoints show them.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ShownVisitors {
    /// Name of the group of visitors.
    pub name: String,
    /// Where they come to.
    pub address: SocketAddr,
    /// Whether they come now, or were stopped.
    pub come: bool,
    /// How many requests they brought.
    pub sent: u64,
    /// How many of them were answered well.
    pub well: u64,
}

#[derive(Debug, Default)]
struct VisitorCounts {
    sent: AtomicU64,
    well: AtomicU64,
}

#[derive(Debug)]
struct VisitorGroup {
    address: SocketAddr,
    come: watch::Sender<bool>,
    counts: Arc<VisitorCounts>,
}

/// All visitors of a lab.
#[derive(Debug, Default)]
pub struct VisitorGroups(BTreeMap<String, VisitorGroup>);

impl VisitorGroups {
    /// Lets them come, each kind on a task of its own. Must run on a Tokio runtime.
    #[must_use]
    pub fn begin(all: BTreeMap<String, Visitors>) -> Self {
        let begin = |(name, visitors): (String, Visitors)| {
            let (come, coming) = watch::channel(true);
            let counts = Arc::new(VisitorCounts::default());
            let group = VisitorGroup { address: visitors.address, come, counts: Arc::clone(&counts) };
            tokio::spawn(visit(visitors, coming, counts));
            (name, group)
        };
        Self(all.into_iter().map(begin).collect())
    }

    /// The groups, and what became of their requests so far.
    #[must_use]
    pub fn shown(&self) -> Vec<ShownVisitors> {
        let show = |(name, group): (&String, &VisitorGroup)| ShownVisitors {
            name: name.clone(),
            address: group.address,
            come: *group.come.borrow(),
            sent: group.counts.sent.load(Ordering::Relaxed),
            well: group.counts.well.load(Ordering::Relaxed),
        };
        self.0.iter().map(show).collect()
    }

    /// Stops some, or lets them come again; all of them without a name. Gives whether there are any of that name.
    pub fn let_come(&self, name: Option<&str>, come: bool) -> bool {
        let wanted = self.0.iter().filter(|(known, _)| name.is_none_or(|name| name == known.as_str()));
        let mut found = false;
        for (_, group) in wanted {
            group.come.send_replace(come);
            found = true;
        }
        found
    }
}

async fn visit(visitors: Visitors, mut coming: watch::Receiver<bool>, counts: Arc<VisitorCounts>) {
    let until = Instant::now() + LONGEST;
    while Instant::now() < until {
        if coming.wait_for(|come| *come).await.is_err() {
            return;
        }
        let counts = Arc::clone(&counts);
        let round = run(visitors.plan(), move |shot| {
            counts.sent.fetch_add(1, Ordering::Relaxed);
            let well = match shot.seen {
                ClientOutcome::Answer(status) => status < 500,
                ClientOutcome::Done => true,
                ClientOutcome::Broken | ClientOutcome::Late => false,
            };
            counts.well.fetch_add(u64::from(well), Ordering::Relaxed);
        });
        tokio::select! {
            _ = round => {}
            _ = coming.wait_for(|come| !*come) => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::stand_in::StandIn;

    async fn until(what: &str, mut so: impl FnMut() -> bool) {
        for _ in 0..1_000 {
            if so() {
                return;
            }
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
        panic!("not so within 10 s: {what}");
    }

    #[tokio::test]
    async fn visitors_come_until_they_are_stopped_and_come_again() {
        let stand_in = StandIn::start("gull", crate::free::free_address()).unwrap();
        let file =
            format!("protocol = \"http\"\naddress = \"{}\"\nper_second = 50\nclients = 3", stand_in.address);
        let groups =
            VisitorGroups::begin(BTreeMap::from([("web".to_owned(), toml::from_str(&file).unwrap())]));
        let sent = || groups.shown()[0].sent;
        until("they come", || groups.shown()[0].well >= 10).await;
        assert!(!groups.let_come(Some("unknown"), false));
        assert!(groups.let_come(None, false));
        assert!(!groups.shown()[0].come);
        let mut last = (sent(), Instant::now());
        until("no visitor comes any more", || {
            if sent() != last.0 {
                last = (sent(), Instant::now());
            }
            last.1.elapsed() > Duration::from_millis(500)
        })
        .await;
        let before = sent();
        assert!(groups.let_come(Some("web"), true));
        until("they come again", || sent() > before).await;
    }
}

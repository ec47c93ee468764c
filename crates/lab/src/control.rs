//! The control endpoints of a lab: `GET /stand-ins`, `GET /stand-ins/NAME/inbox`, `PUT` and `DELETE /stand-ins/NAME/fault`,
//! `GET /visitors`, `PUT` (they come) and `DELETE` (they do not) `/visitors` and `/visitors/NAME`.

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use axum::extract::{Path as InPath, State};
use axum::http::StatusCode;
use axum::routing::{get, put};
use axum::{Json, Router};
use serde::{Deserialize, Serialize};
use tokio::net::TcpListener;

use crate::authority::AuthorityOptions;
use crate::stand_in::{Fault, ReceivedMail, StandIn};
use crate::visitors::{ShownVisitors, VisitorGroups, Visitors};

/// A file that says which stand-ins there are.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct StandInFile {
    /// Where the control endpoints listen.
    pub control: SocketAddr,
    /// Stand-ins that speak HTTP, by name.
    #[serde(default)]
    pub servers: BTreeMap<String, SocketAddr>,
    /// Stand-ins that answer lines over TCP.
    #[serde(default)]
    pub lines: BTreeMap<String, SocketAddr>,
    /// Stand-ins that answer datagrams.
    #[serde(default)]
    pub datagrams: BTreeMap<String, SocketAddr>,
    /// Stand-ins for mail servers.
    #[serde(default)]
    pub mail: BTreeMap<String, SocketAddr>,
    /// Stand-ins for receivers of webhooks, by name.
    #[serde(default)]
    pub posts: BTreeMap<String, SocketAddr>,
    /// Stand-ins for authorities that issue certificates, by name.
    #[serde(default)]
    pub authorities: BTreeMap<String, AuthorityOptions>,
    /// Groups of visitors, by name.
    #[serde(default)]
    pub visitors: BTreeMap<String, Visitors>,
}

/// Why stand-ins do not run.
#[derive(Debug, thiserror::Error)]
pub enum LabError {
    /// The file can't be read or written.
    #[error("{path} can't be read or written: {source}", path = path.display())]
    File {
        /// The file.
        path: PathBuf,
        /// What the system said.
        source: std::io::Error,
    },
    /// The file is wrong.
    #[error("{path} is wrong: {source}", path = path.display())]
    Content {
        /// The file with the mistake.
        path: PathBuf,
        /// The mistake and its place.
        source: toml::de::Error,
    },
    /// An address can't be listened on.
    #[error("{what} can't listen on {address}: {source}")]
    Listen {
        /// The stand-in that wants the address.
        what: String,
        /// The address that is taken.
        address: SocketAddr,
        /// What the system said.
        source: std::io::Error,
    },
    /// The lab is not there, or refuses.
    #[error("the lab at {control} did not do it: {why}")]
    Control {
        /// The control address that was called.
        control: SocketAddr,
        /// What the system or the library says of it.
        why: String,
    },
}

impl StandInFile {
    /// Reads the file.
    ///
    /// # Errors
    /// When it can't be read or is wrong.
    pub fn read(path: &Path) -> Result<Self, LabError> {
        let text = std::fs::read_to_string(path)
            .map_err(|source| LabError::File { path: path.to_owned(), source })?;
        toml::from_str(&text).map_err(|source| LabError::Content { path: path.to_owned(), source })
    }

    /// The same, whose stand-ins keep their files in a folder.
    #[must_use]
    pub fn within(mut self, folder: &Path) -> Self {
        for authority in self.authorities.values_mut() {
            authority.root = folder.join(&authority.root);
        }
        self
    }
}

/// A stand-in as the control endpoints show it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct StandInView {
    /// Name of the stand-in, as in the scenario.
    pub name: String,
    /// Address and port where it listens.
    pub address: SocketAddr,
    /// The fault that it has now.
    pub fault: Fault,
}

type StandIns = Arc<BTreeMap<String, StandIn>>;

fn show(stand_in: &StandIn) -> StandInView {
    StandInView { name: stand_in.name.clone(), address: stand_in.address, fault: stand_in.fault() }
}

async fn list(State(all): State<StandIns>) -> Json<Vec<StandInView>> {
    Json(all.values().map(show).collect())
}

async fn inbox(
    State(all): State<StandIns>,
    InPath(name): InPath<String>,
) -> Result<Json<Vec<ReceivedMail>>, (StatusCode, String)> {
    let found = all.get(&name).map(|stand_in| Json(stand_in.inbox()));
    found.ok_or_else(|| (StatusCode::NOT_FOUND, format!("there is no stand-in {name}\n")))
}

async fn set(
    State(all): State<StandIns>,
    InPath(name): InPath<String>,
    fault: Option<Json<Fault>>,
) -> Result<Json<StandInView>, (StatusCode, String)> {
    let known = || all.keys().map(String::as_str).collect::<Vec<_>>().join(", ");
    let stand_in = all.get(&name).ok_or_else(|| {
        (StatusCode::NOT_FOUND, format!("there is no stand-in {name}; there are {}\n", known()))
    })?;
    stand_in.set(fault.map_or(Fault::None, |Json(fault)| fault)).await;
    Ok(Json(show(stand_in)))
}

/// Starts every stand-in of a file and serves their control endpoints until the future is dropped.
///
/// # Errors
/// When an address can't be listened on.
pub async fn serve(cast: StandInFile) -> Result<(), LabError> {
    let mut all = BTreeMap::new();
    type StartStandIn = fn(&str, SocketAddr) -> std::io::Result<StandIn>;
    let kinds: [(BTreeMap<String, SocketAddr>, StartStandIn); 5] = [
        (cast.servers, StandIn::start),
        (cast.lines, StandIn::for_lines),
        (cast.datagrams, StandIn::for_datagrams),
        (cast.mail, StandIn::for_mail),
        (cast.posts, StandIn::for_posts),
    ];
    let every = kinds.into_iter().flat_map(|(some, start)| some.into_iter().map(move |item| (item, start)));
    for ((name, address), start) in every {
        let started = start(&name, address);
        let stand_in = started.map_err(|source| LabError::Listen { what: name.clone(), address, source })?;
        all.insert(name, stand_in);
    }
    for (name, options) in cast.authorities {
        let started = StandIn::for_certificates(&name, &options);
        let stand_in = started.map_err(|source| LabError::Listen {
            what: name.clone(),
            address: options.listen,
            source,
        })?;
        all.insert(name, stand_in);
    }
    let wrong =
        |source| LabError::Listen { what: "the control endpoint".to_owned(), address: cast.control, source };
    let listener = TcpListener::bind(cast.control).await.map_err(wrong)?;
    let router = Router::new()
        .route("/stand-ins", get(list))
        .route("/stand-ins/{name}/inbox", get(inbox))
        .route("/stand-ins/{name}/fault", put(set).delete(set))
        .with_state(Arc::new(all));
    let come = |come| move |groups, name| let_come(groups, name, come);
    let all_come = |come| move |groups| async move { let_come(groups, None, come).await };
    let visitors = Router::new()
        .route("/visitors", get(groups).put(all_come(true)).delete(all_come(false)))
        .route("/visitors/{name}", put(come(true)).delete(come(false)))
        .with_state(Arc::new(VisitorGroups::begin(cast.visitors)));
    axum::serve(listener, router.merge(visitors)).await.map_err(wrong)
}

async fn groups(State(all): State<Arc<VisitorGroups>>) -> Json<Vec<ShownVisitors>> {
    Json(all.shown())
}

async fn let_come(
    State(all): State<Arc<VisitorGroups>>,
    name: Option<InPath<String>>,
    come: bool,
) -> Result<Json<Vec<ShownVisitors>>, (StatusCode, String)> {
    let name = name.as_ref().map(|InPath(name)| name.as_str());
    if all.let_come(name, come) || name.is_none() {
        return Ok(Json(all.shown()));
    }
    Err((StatusCode::NOT_FOUND, format!("there are no visitors {}\n", name.unwrap_or_default())))
}

/// The visitors of a running lab, after some of them (all without a name) were stopped or let come again, when that is wanted.
///
/// # Errors
/// When the lab is not there or does not know them.
pub async fn visitors(
    control: SocketAddr,
    name: Option<&str>,
    come: Option<bool>,
) -> Result<Vec<ShownVisitors>, LabError> {
    let wrong = |why: String| LabError::Control { control, why };
    let client = http_client().map_err(|error| wrong(error.to_string()))?;
    let some = name.map_or_else(String::new, |name| format!("/{name}"));
    let request = match come {
        None => client.get(format!("http://{control}/visitors")),
        Some(true) => client.put(format!("http://{control}/visitors{some}")),
        Some(false) => client.delete(format!("http://{control}/visitors{some}")),
    };
    let response = request.send().await.map_err(|error| wrong(error.to_string()))?;
    if !response.status().is_success() {
        return Err(wrong(response.text().await.unwrap_or_default().trim().to_owned()));
    }
    response.json().await.map_err(|error| wrong(error.to_string()))
}

/// Tells a running lab to make a stand-in fail; [`Fault::None`] makes it recover.
///
/// # Errors
/// When the lab is not there or does not know the stand-in.
pub async fn set_fault(control: SocketAddr, name: &str, fault: Fault) -> Result<StandInView, LabError> {
    let wrong = |why: String| LabError::Control { control, why };
    let client = http_client().map_err(|error| wrong(error.to_string()))?;
    let sent = client.put(format!("http://{control}/stand-ins/{name}/fault")).json(&fault).send().await;
    let response = sent.map_err(|error| wrong(error.to_string()))?;
    if !response.status().is_success() {
        return Err(wrong(response.text().await.unwrap_or_default().trim().to_owned()));
    }
    response.json().await.map_err(|error| wrong(error.to_string()))
}

/// The messages that a stand-in of a running lab took.
///
/// # Errors
/// When the lab is not there or does not know the stand-in.
pub async fn inbox_of(control: SocketAddr, name: &str) -> Result<Vec<ReceivedMail>, LabError> {
    let wrong = |why: String| LabError::Control { control, why };
    let client = http_client().map_err(|error| wrong(error.to_string()))?;
    let sent = client.get(format!("http://{control}/stand-ins/{name}/inbox")).send().await;
    let response = sent.map_err(|error| wrong(error.to_string()))?;
    if !response.status().is_success() {
        return Err(wrong(response.text().await.unwrap_or_default().trim().to_owned()));
    }
    response.json().await.map_err(|error| wrong(error.to_string()))
}

/// All stand-ins of a running lab.
///
/// # Errors
/// When the lab is not there.
pub async fn stand_ins(control: SocketAddr) -> Result<Vec<StandInView>, LabError> {
    let wrong = |error: reqwest::Error| LabError::Control { control, why: error.to_string() };
    let client = http_client().map_err(wrong)?;
    let response = client.get(format!("http://{control}/stand-ins")).send().await.map_err(wrong)?;
    response.json().await.map_err(wrong)
}

/// A client that speaks HTTP, to the control endpoints of a lab.
fn http_client() -> reqwest::Result<reqwest::Client> {
    // Refused when the process has one already, which is as good.
    let _ = rustls::crypto::ring::default_provider().install_default();
    reqwest::Client::builder().no_proxy().build()
}

//! What has to be tried on the network before a change goes live: do its servers answer, do its names lead anywhere?

use std::collections::{BTreeMap, BTreeSet};
use std::net::SocketAddr;
use std::time::Duration;

use futures_util::future::join_all;
use merismos_connector::connect;
use merismos_core::config::document::{
    CheckKind, CheckSpec, Document, LookupSpec, Protocol, SecretRef, ServerSpec,
};
use merismos_core::config::renames::Renames;
use merismos_core::config::{Checked, ObjectPath, Warning, WarningLevel, WarningReason};
use merismos_core::duty::Duty;
use merismos_core::health::{FailureCause, ProbeStep};
use merismos_core::name::{Name, PoolServer};
use merismos_core::units::Span;
use merismos_probe::lookup;
use merismos_probe::{ProbeEnvironment, ProbeOpening};

use crate::controller::RunningView;

/// How many new servers are tried; of more, the first ones by name.
const TRIED: usize = 64;
/// How many servers of a pool have to fail alike for the others to be taken to fail as well.
const ENOUGH: usize = 8;
/// How long one try may take, however patient the check is.
const TRY_LIMIT: Duration = Duration::from_millis(1_000);
/// How long looking up a new name may take.
const LOOKUP_LIMIT: Duration = Duration::from_millis(2_500);

/// What came of trying what is new.
#[derive(Debug, Default)]
pub(crate) struct PreflightResult {
    /// What does not work.
    pub(crate) warnings: Vec<Warning>,
    /// Servers that do not pass what the document asks of them.
    pub(crate) failing: BTreeSet<PoolServer>,
}

/// Tries what is new in a document and says what does not work.
pub(crate) async fn try_out(
    view: &RunningView,
    checked: &Checked,
    surroundings: &ProbeEnvironment,
) -> PreflightResult {
    let (old, new) = (view.checked.document(), checked.document());
    let asked = asked(old);
    let renames = Renames::between(old, new);
    let renamed: BTreeSet<&PoolServer> = renames.servers.values().collect();
    let (mut fresh, mut untried) = (Vec::new(), Vec::new());
    let mut warnings = Vec::new();
    for (pool, spec) in &new.pools {
        let opening = ProbeOpening::of(spec);
        for (name, server) in &spec.servers {
            let id = PoolServer { pool: pool.clone(), server: name.clone() };
            let came = old.pools.get(pool).is_none_or(|pool| !pool.servers.contains_key(name));
            // A renamed server keeps its own duty.
            if came && !renamed.contains(&id) {
                warnings.extend(standing_duty(view, &id));
            }
            let check = spec.check.as_ref().and_then(|check| new.checks.get(check));
            // Nothing is learnt of a server for datagrams by connecting to it.
            let can_be_tried = check.is_some() || !takes_datagrams(new, pool);
            if can_be_tried && is_new(&asked, pool, server, check, &opening) {
                fresh.push((id, server, check));
            }
        }
    }
    if fresh.len() > TRIED {
        let reason = WarningReason::NotTried { servers: fresh.len(), tried: TRIED };
        warnings.push(Warning::new(&reason, WarningLevel::Notice, "pools"));
        untried = fresh.split_off(TRIED).into_iter().map(|(id, ..)| id).collect();
    }
    let tried: Vec<PoolServer> = fresh.iter().map(|(id, ..)| id.clone()).collect();
    let used: BTreeSet<&Name> = new.frontends.values().flat_map(|frontend| new.pools_of(frontend)).collect();
    let tries = fresh.into_iter().map(|(id, server, check)| {
        let is_used = used.contains(&id.pool);
        let opening = new.pools.get(&id.pool).map(ProbeOpening::of).unwrap_or_default();
        try_server(id, server, check, opening, is_used, surroundings)
    });
    let mut failing = BTreeSet::new();
    for (warning, fails) in join_all(tries).await.into_iter().flatten() {
        warnings.push(warning);
        failing.extend(fails);
    }
    // What all of many do, those that were not tried will do as well.
    let all_fail = |pool: &Name| {
        let mut of_pool = tried.iter().filter(|id| id.pool == *pool);
        of_pool.clone().count() >= ENOUGH && of_pool.all(|id| failing.contains(id))
    };
    let likely: Vec<_> = untried.into_iter().filter(|id: &PoolServer| all_fail(&id.pool)).collect();
    failing.extend(likely);
    let mut names = Vec::new();
    for (pool, spec) in &new.pools {
        for (name, lookup) in &spec.lookups {
            if old.pools.get(pool).and_then(|pool| pool.lookups.get(name)) != Some(lookup) {
                names.push(try_lookup(pool, name, lookup));
            }
        }
    }
    warnings.extend(join_all(names).await.into_iter().flatten());
    warnings.extend(missing_secrets(old, new, surroundings));
    PreflightResult { warnings, failing }
}

/// Secrets that a document refers to for the first time, and that can't be had: the author learns it now, and not when the
/// first message is due.
fn missing_secrets(old: &Document, new: &Document, surroundings: &ProbeEnvironment) -> Vec<Warning> {
    let known = secrets(old);
    let missing = |(path, secret): (String, &SecretRef)| {
        if known.iter().any(|trouble| (trouble.0.as_str(), trouble.1) == (path.as_str(), secret)) {
            return None;
        }
        let problem = surroundings.secrets.read(secret).err()?;
        Some(Warning::new(&WarningReason::NoSecret { problem }, WarningLevel::Notice, &path))
    };
    secrets(new).into_iter().filter_map(missing).collect()
}

/// Every secret that a document refers to, by the path of its key.
fn secrets(document: &Document) -> Vec<(String, &SecretRef)> {
    let of_messages = document.notifications.iter().flat_map(|(name, message)| {
        let hook = message.webhook.as_ref().and_then(|webhook| webhook.secret.as_ref());
        let mail = message.mail.as_ref().and_then(|mail| mail.password.as_ref());
        let keys = [("webhook_secret", hook), ("mail_password", mail)];
        keys.map(|(key, secret)| secret.map(|secret| (format!("notifications.{name}.{key}"), secret)))
    });
    let of_checks = document.checks.iter().map(|(name, check)| match &check.kind {
        CheckKind::Sql(asked) => {
            asked.password.as_ref().map(|secret| (format!("checks.{name}.password"), secret))
        }
        _ => None,
    });
    let of_sessions = document.announce.iter().map(|(name, announced)| {
        announced.password.as_ref().map(|secret| (format!("announce.{name}.password"), secret))
    });
    of_messages.chain(of_checks).chain(of_sessions).flatten().collect()
}

/// Whether only frontends that take datagrams send work to a pool.
fn takes_datagrams(document: &Document, pool: &Name) -> bool {
    let mut users = document
        .frontends
        .values()
        .filter(|frontend| document.pools_of(frontend).any(|name| name == pool))
        .peekable();
    users.peek().is_some() && users.all(|frontend| frontend.protocol == Protocol::Udp)
}

/// What is asked of each address, and for which pools.
type PreflightChecks<'d> = BTreeMap<SocketAddr, Vec<(&'d Name, Option<&'d CheckKind>, ProbeOpening)>>;

fn asked(document: &Document) -> PreflightChecks<'_> {
    let mut asked = PreflightChecks::new();
    for (name, pool) in &document.pools {
        let kind = pool.check.as_ref().and_then(|check| document.checks.get(check)).map(|check| &check.kind);
        let opening = ProbeOpening::of(pool);
        for server in pool.servers.values() {
            asked.entry(server.address.get()).or_default().push((name, kind, opening.clone()));
        }
    }
    asked
}

/// Whether no probe asks this address this question yet, on a connection that begins like this. Without a question it is the pool that has
/// to be the same.
fn is_new(
    asked: &PreflightChecks<'_>,
    pool: &Name,
    server: &ServerSpec,
    check: Option<&CheckSpec>,
    opening: &ProbeOpening,
) -> bool {
    let same = |(name, kind, begins): &(&Name, Option<&CheckKind>, ProbeOpening)| {
        let is_asked = match check {
            Some(check) => *kind == Some(&check.kind),
            None => *name == pool,
        };
        is_asked && begins == opening
    };
    asked.get(&server.address.get()).is_none_or(|all| !all.iter().any(same))
}

/// An order that was given to a server of this name before.
fn standing_duty(view: &RunningView, id: &PoolServer) -> Option<Warning> {
    let order = view.orders.get(id).filter(|order| order.duty != Duty::InService)?;
    let reason = WarningReason::DutyStands {
        server: id.clone(),
        duty: order.duty,
        who: order.who.clone(),
        reason: order.reason.clone(),
    };
    Some(Warning::new(&reason, WarningLevel::Notice, &ObjectPath::Server(id.clone()).to_string()))
}

async fn try_server(
    id: PoolServer,
    server: &ServerSpec,
    check: Option<&CheckSpec>,
    opening: ProbeOpening,
    is_used: bool,
    surroundings: &ProbeEnvironment,
) -> Option<(Warning, Option<PoolServer>)> {
    let address = server.address.get();
    let addresses: Vec<_> = server.addresses().collect();
    let path = ObjectPath::Server(id.clone()).to_string();
    match check {
        Some(check) => {
            let limit = Span::from_millis(TRY_LIMIT.as_millis() as u64);
            let is_patient = check.timeout > limit;
            let check = CheckSpec { timeout: check.timeout.min(limit), ..check.clone() };
            let evidence = merismos_probe::probe(&addresses, &check, &opening, surroundings).await;
            if evidence.passed() {
                return None;
            }
            // A check that waits longer than the try may still pass.
            let is_sure = evidence.counts() && !(is_patient && evidence.cause == Some(FailureCause::Silent));
            let (step, server, evidence) = (evidence.step, id.clone(), Box::new(evidence));
            let reason = match step {
                ProbeStep::Connect => WarningReason::NoAnswer { server, evidence },
                _ => WarningReason::CheckFails { server, evidence },
            };
            Some((Warning::new(&reason, WarningLevel::Notice, &path), is_sure.then_some(id)))
        }
        None => {
            let error = connect::connect(&addresses, TRY_LIMIT).await.err()?;
            let reason = WarningReason::NoAnswerUnchecked { server: id, address, problem: error.to_string() };
            let level = if is_used { WarningLevel::Warning } else { WarningLevel::Notice };
            Some((Warning::new(&reason, level, &path), None))
        }
    }
}

async fn try_lookup(pool: &Name, name: &Name, spec: &LookupSpec) -> Option<Warning> {
    let path = ObjectPath::Lookup(pool.clone(), name.clone()).to_string();
    let problem = match tokio::time::timeout(LOOKUP_LIMIT, lookup::look_up(spec)).await {
        Ok(Ok(_)) => return None,
        Ok(Err(error)) => error.to_string(),
        Err(_) => format!("{} was not answered within {LOOKUP_LIMIT:?}", spec.name),
    };
    Some(Warning::new(&WarningReason::LookupFails { problem }, WarningLevel::Notice, &path))
}

//! The status for people.

use comfy_table::{Cell, Color};
use merismos_api::{
    DrainingStatus, FrontendStatus, PoolShare, PoolStatus, ServerStatus, ServerTrust, Status, Totals,
};
use merismos_core::duty::Duty;
use merismos_core::eligibility::IneligibleReason;
use merismos_core::health::{HealthState, ServerFeedback};
use merismos_core::units::humane;

use super::duty::open_words;
use super::table::{bar, bytes, count, number, percent, table};
use super::{bad, good, moment, strong, text};

/// How much of it is shown.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum StatusView {
    /// Every server, where there are not very many.
    Whole,
    /// A line a pool.
    Short,
    /// What was counted of each server.
    Totals,
}

pub(crate) fn print(status: &Status, view: StatusView) {
    let revision = &status.revision;
    let by = if revision.number == 0 {
        "nothing was applied yet".to_owned()
    } else {
        format!("revision {} by {}, {}", revision.number, revision.author, moment(revision.at))
    };
    let records = if status.records.kept { "records kept".to_owned() } else { bad("records are behind") };
    let up = humane(status.at.since(status.node.started));
    let among = match status.node.nodes {
        0 | 1 => String::new(),
        many => format!(", 1 of {many} nodes"),
    };
    let node = format!("node {}{among}", status.node.name);
    text(&format!("{} {} on {node}, up {up} · {by} · {records}\n", strong("Merismos"), status.node.version));
    if status.troubles.is_empty() {
        text(&format!("{}\n", good("All is well.")));
    }
    for trouble in &status.troubles {
        text(&format!("{} {trouble}\n", bad("!")));
    }
    if view == StatusView::Totals {
        totals(status);
        return;
    }
    if !status.frontends.is_empty() && view == StatusView::Whole {
        text("\n");
        // The troubled ones were listed above, each with its trouble.
        const SHOWN: usize = 40;
        frontends(&status.frontends[..status.frontends.len().min(SHOWN)]);
        if status.frontends.len() > SHOWN {
            text(&format!(
                "  and {} more frontends; `merismos frontend list` finds them\n",
                status.frontends.len() - SHOWN
            ));
        }
    }
    if (status.shortened && status.pools.len() > 1) || view == StatusView::Short {
        text("\n");
        pools(status);
        return;
    }
    for pool in &status.pools {
        text("\n");
        self::pool(pool, status);
    }
}

/// Pools in one line each, for installations with very many servers: those in trouble, then the busiest.
fn pools(status: &Status) {
    const SHOWN: usize = 200;
    let mut pools: Vec<&PoolStatus> = status.pools.iter().collect();
    pools.sort_by(|a, b| {
        let trouble = |pool: &PoolStatus| (pool.eligible > 0, std::cmp::Reverse(pool.failing));
        trouble(a).cmp(&trouble(b)).then(b.per_second.total_cmp(&a.per_second)).then(a.name.cmp(&b.name))
    });
    let mut table =
        table(&["pool", "algorithm", "eligible", "failing", "down today", "requests/s", "frontends"]);
    for pool in pools.iter().take(SHOWN) {
        table.add_row(vec![
            if pool.eligible == 0 {
                Cell::new(format!("! {}", pool.name)).fg(Color::Red)
            } else {
                Cell::new(&pool.name)
            },
            Cell::new(&pool.algorithm),
            number(format!("{} of {}", pool.eligible, pool.size)),
            count(pool.failing),
            count(pool.downs_today.into()),
            number(format!("{:.1}", pool.per_second)),
            Cell::new(frontends_of(pool, status)),
        ]);
    }
    text(&format!("{table}\n"));
    text(&format!(
        "{} servers in {} pools; `merismos status POOL` shows the servers of one.\n",
        status.servers,
        status.pools.len()
    ));
}

/// The frontends that a pool works for.
fn frontends_of(pool: &PoolStatus, status: &Status) -> String {
    let uses = |frontend: &&FrontendStatus| {
        frontend.pool == pool.name
            || frontend.pools.iter().any(|choice| choice.pool == pool.name)
            || frontend.passthrough.iter().any(|passed| passed.pool == pool.name)
            || frontend.ruled_pools.iter().any(|ruled| ruled.pool == pool.name)
    };
    status.frontends.iter().filter(uses).map(|frontend| frontend.name.as_str()).collect::<Vec<_>>().join(", ")
}

/// The totals of each server: since the start, and since the last reset.
fn totals(status: &Status) {
    let reset = status.node.totals_reset;
    let mut head = vec!["server", "taken", "failed", "retried", "5xx", "sent to it", "got from it"];
    if reset.is_some() {
        head.extend(["since reset: taken", "failed", "retried", "5xx", "sent to it", "got from it"]);
    }
    let mut table = table(&head);
    for server in status.pools.iter().flat_map(|pool| &pool.servers) {
        let cells = |totals: &Totals| {
            let counts =
                [number(totals.taken), count(totals.failed), count(totals.retried), count(totals.errors)];
            counts.into_iter().chain([bytes(totals.bytes_to), bytes(totals.bytes_from)])
        };
        let mut row = vec![Cell::new(&server.server)];
        row.extend(cells(&server.totals));
        row.extend(server.since_reset.iter().flat_map(cells));
        table.add_row(row);
    }
    text(&format!("{table}\n"));
    let since = reset.map_or_else(String::new, |at| format!("; since reset: from {} on", moment(at)));
    text(&format!("Counted since the service started at {}{since}.\n", moment(status.node.counted_since)));
}

fn frontends(frontends: &[FrontendStatus]) {
    // What was refused or failed in the last minute, where anything was.
    type Counted = (&'static str, fn(&FrontendStatus) -> u64);
    let all: [Counted; 6] = [
        ("over limit", |frontend| frontend.turned_away),
        ("not let in", |frontend| frontend.denied),
        ("limited", |frontend| frontend.limited),
        ("bad requests", |frontend| frontend.refused),
        ("no server", |frontend| frontend.unavailable),
        ("failed", |frontend| frontend.unanswered),
    ];
    let counted: Vec<Counted> =
        all.into_iter().filter(|(_, of)| frontends.iter().any(|frontend| of(frontend) > 0)).collect();
    let mut head = vec!["frontend", "listens on", "pool", "clients", "rate"];
    head.extend(counted.iter().map(|(name, _)| *name));
    let mut table = table(&head);
    for frontend in frontends {
        let name = if frontend.trouble.is_some() {
            Cell::new(format!("! {}", frontend.name)).fg(Color::Red)
        } else {
            Cell::new(&frontend.name)
        };
        let mut row = vec![
            name,
            Cell::new(format!(
                "{}{} {}{}{}",
                frontend.protocol,
                if frontend.tls { " over TLS" } else { "" },
                frontend.listen,
                if frontend.redirects { ", redirects to https" } else { "" },
                match &frontend.client_certificates {
                    Some(asks) => format!(", client certificates {asks}"),
                    None => String::new(),
                },
            )),
            Cell::new(pool_words(frontend)),
            number(frontend.connections),
            number(format!("{:.1} {}s/s", frontend.per_second, frontend.unit)),
        ];
        row.extend(counted.iter().map(|(_, of)| count(of(frontend))));
        table.add_row(row);
    }
    text(&format!("{table}\n"));
    if !counted.is_empty() {
        text("  over limit, bad requests, no server and failed: in the last 60 s\n");
    }
    for frontend in frontends.iter().filter(|frontend| frontend.bad_handshakes > 0) {
        let why = frontend
            .bad_handshake
            .as_deref()
            .map_or_else(String::new, |why| format!("; the last one: {why}"));
        let (bad, good) = (frontend.bad_handshakes, frontend.handshakes + frontend.resumed);
        text(&format!(
            "{}: {bad} TLS handshake{} failed in the last 60 s, and {good} did not{why}\n",
            frontend.name,
            if bad == 1 { "" } else { "s" }
        ));
    }
    for frontend in frontends.iter().filter(|frontend| frontend.wrong_protocol > 0) {
        let (name, many) = (&frontend.name, frontend.wrong_protocol);
        text(&if frontend.tls {
            format!("{name}: {many} came in plain text in the last 60 s, and it speaks TLS\n")
        } else {
            format!(
                "{name}: {many} spoke TLS in the last 60 s, and it has no certificates, so they can't reach it\n"
            )
        });
    }
    for frontend in frontends.iter().filter(|frontend| frontend.cut_for_memory > 0) {
        text(&format!(
            "{}: {} ended in the last 60 s for the memory they held\n",
            frontend.name, frontend.cut_for_memory
        ));
    }
}

/// The pools of a frontend, with the part that each gets where there are several.
fn pool_words(frontend: &FrontendStatus) -> String {
    let passed = frontend.passthrough.iter().map(|passed| {
        let usable = if passed.usable { "" } else { " (not usable)" };
        format!("{}{usable} for {}", passed.pool, passed.names.join(", "))
    });
    let ruled = frontend.ruled_pools.iter().map(|ruled| {
        let usable = if ruled.usable { "" } else { " (not usable)" };
        let more = if ruled.more > 0 { format!(" and {} more", ruled.more) } else { String::new() };
        format!("{}{usable} by rule {}{more}", ruled.pool, ruled.rules.join(", "))
    });
    std::iter::once(chosen_pools(frontend)).chain(passed).chain(ruled).collect::<Vec<_>>().join("\n")
}

/// The pools for whatever is not passed on by its server name.
fn chosen_pools(frontend: &FrontendStatus) -> String {
    if frontend.pools.is_empty() {
        return frontend.pool.clone();
    }
    let one = |of: &PoolShare| match of.expected {
        _ if !of.usable => format!("{} (not usable)", of.pool),
        Some(share) => format!("{} {:.0} %", of.pool, share * 100.0),
        None => of.pool.clone(),
    };
    frontend.pools.iter().map(one).collect::<Vec<_>>().join(", ")
}

fn pool(pool: &PoolStatus, status: &Status) {
    let standing_by =
        pool.servers.iter().filter(|server| server.reason == Some(IneligibleReason::Standby)).count();
    let more = match standing_by {
        0 => String::new(),
        1 => ", 1 stands by".to_owned(),
        many => format!(", {many} stand by"),
    };
    let head = format!(
        "pool {} · {} · {} of {} eligible{more}",
        pool.name, pool.algorithm, pool.eligible, pool.size
    );
    text(&format!("{}\n", strong(&head)));
    match &pool.check {
        Some(check) => {
            let seconds = |millis: u64| humane(std::time::Duration::from_millis(millis));
            let noticed = &check.timing.noticed;
            text(&format!(
                "  check {} · {}\n  a failure is noticed after {} at best, {} on average, {} at worst; each server gets up to {} probes a minute{}\n",
                check.name,
                check.asks,
                seconds(noticed.best_ms),
                seconds(noticed.average_ms),
                seconds(noticed.worst_ms),
                check.probes_per_minute,
                if status.node.nodes > 1 {
                    format!(" from {} nodes", status.node.nodes)
                } else {
                    String::new()
                }
            ));
            let stake = &check.at_stake;
            if stake.worst > 0 {
                let pieces = if stake.average == 1 { "request" } else { "requests" };
                text(&format!(
                    "  at the current rate ({:.1}/s at the largest server) an undetected failure affects {} {pieces} on average, {} at worst\n",
                    stake.per_second, stake.average, stake.worst
                ));
            }
        }
        None => text("  no check: every server is taken to work\n"),
    }
    for more in &pool.more_checks {
        text(&format!("  with it: check {more}\n"));
    }
    if pool.sends_to_all {
        text(&format!("  {} no server passes: work goes to all of them, as when_none says\n", bad("!")));
    }
    match pool.tier {
        Some(tier) if pool.held => {
            let back = format!("`merismos failback {}` sends work back", pool.name);
            text(&format!("  {} tier {tier} goes on working, and a lower one could; {back}\n", bad("!")));
        }
        Some(tier @ 1..) => text(&format!("  {} tier {tier} works, for no lower one can\n", bad("!"))),
        Some(0) | None => {}
    }
    match pool.server_tls {
        ServerTrust::Plain => {}
        ServerTrust::Verified => text("  servers over TLS, verified\n"),
        ServerTrust::Pinned => text("  servers over TLS, one certificate alone passes\n"),
        ServerTrust::Unverified => {
            text(&format!("  {} servers over TLS, not verified: it may be anybody who answers\n", bad("!")));
        }
    }
    if let Some(failure) = &pool.server_tls_failure {
        text(&format!("  {} a handshake failed within the last minute: {failure}\n", bad("!")));
    }
    if let Some(goes_by) = &pool.shares_go_by {
        text(&format!("  no share is expected: it distributes by {goes_by}\n"));
    }
    if pool.retries_withheld > 0 {
        let times = pool.retries_withheld;
        text(&format!(
            "  work that a server failed was not offered to another {times} times (retry_share)\n"
        ));
    }
    if pool.waiting > 0 {
        text(&format!("  {} every eligible server is full: {} wait\n", bad("!"), pool.waiting));
    }
    for lookup in &pool.lookups {
        let trouble =
            lookup.trouble.as_ref().map_or_else(String::new, |trouble| format!("; {} {trouble}", bad("!")));
        text(&format!(
            "  lookup {} · {} · servers found: {}{trouble}\n",
            lookup.lookup, lookup.name, lookup.found
        ));
    }
    if pool.servers.is_empty() {
        text("  no servers: clients get nothing\n");
        return;
    }
    let is_wide = width().is_none_or(|width| width >= WIDE);
    let columns = columns(pool, is_wide);
    let mut table = table(&columns.iter().map(StatusColumn::head).collect::<Vec<_>>());
    for server in &pool.servers {
        table.add_row(columns.iter().map(|column| cell(*column, server, status, pool, is_wide)));
    }
    text(&format!("{table}\n"));
    for server in &pool.servers {
        for why in reasons(server, status) {
            text(&format!("   {} {why}\n", strong(short(&server.server))));
        }
    }
}

/// A server's own name, without its pool's.
fn short(server: &str) -> &str {
    server.split_once('/').map_or(server, |(_, name)| name)
}

/// From how many columns on there is room for bars.
const WIDE: u16 = 130;

/// How wide the terminal is; `None` where there is none.
fn width() -> Option<u16> {
    comfy_table::Table::new().width()
}

/// What is shown of a server.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum StatusColumn {
    Server,
    Address,
    Weight,
    Duty,
    Health,
    Expected,
    TenSeconds,
    Minute,
    InFlight,
    Failed,
    Retried,
    Errors,
    Median,
    P99,
    Downs,
}

impl StatusColumn {
    fn head(&self) -> &'static str {
        match self {
            Self::Server => "server",
            Self::Address => "address",
            Self::Weight => "weight",
            Self::Duty => "duty",
            Self::Health => "health",
            Self::Expected => "expected",
            Self::TenSeconds => "last 10 s",
            Self::Minute => "last 60 s",
            Self::InFlight => "in flight",
            Self::Failed => "failed",
            Self::Retried => "retried",
            Self::Errors => "5xx",
            Self::Median => "median",
            Self::P99 => "99 %",
            Self::Downs => "downs",
        }
    }
}

/// The columns that have something to say of a pool's servers, in a narrow terminal without what can be spared.
fn columns(pool: &PoolStatus, is_wide: bool) -> Vec<StatusColumn> {
    let any = |says: fn(&ServerStatus) -> bool| pool.servers.iter().any(says);
    let works = any(|server| server.observed.minute.share.is_some());
    let mut columns = vec![StatusColumn::Server, StatusColumn::Address, StatusColumn::Weight];
    columns.extend(any(is_out).then_some(StatusColumn::Duty));
    columns.extend([StatusColumn::Health, StatusColumn::Expected]);
    if works {
        columns.extend(is_wide.then_some(StatusColumn::TenSeconds));
        columns.extend([StatusColumn::Minute, StatusColumn::InFlight]);
    }
    columns.extend(any(|server| server.observed.minute.failed > 0).then_some(StatusColumn::Failed));
    columns.extend(any(|server| server.observed.minute.retried > 0).then_some(StatusColumn::Retried));
    columns.extend(any(|server| server.observed.minute.errors > 0).then_some(StatusColumn::Errors));
    if any(|server| server.latency.is_some()) {
        columns.extend([StatusColumn::Median, StatusColumn::P99]);
    }
    columns.extend(any(|server| server.health.downs_today > 0).then_some(StatusColumn::Downs));
    columns
}

fn is_out(server: &ServerStatus) -> bool {
    server.duty.as_ref().is_some_and(|order| order.duty != Duty::InService)
}

fn cell(
    column: StatusColumn,
    server: &ServerStatus,
    status: &Status,
    pool: &PoolStatus,
    is_wide: bool,
) -> Cell {
    let minute = &server.observed.minute;
    let observed = |share: Option<f64>| match share {
        Some(share) if is_wide => Cell::new(format!("{:>7} {}", percent(share), bar(share, 8))),
        Some(share) => number(percent(share)),
        None => Cell::new("no work"),
    };
    let took = |micros: Option<u32>| {
        let micros = micros.map(|micros| std::time::Duration::from_micros(micros.into()));
        number(micros.map_or_else(|| "-".to_owned(), humane))
    };
    match column {
        // A standby server is healthy.
        StatusColumn::Server if server.eligible || server.reason == Some(IneligibleReason::Standby) => {
            Cell::new(short(&server.server))
        }
        StatusColumn::Server => Cell::new(format!("! {}", short(&server.server))),
        StatusColumn::Address => Cell::new(&server.address),
        StatusColumn::Weight => number(match server.tier {
            0 => server.weight.to_string(),
            tier => format!("{} (tier {tier})", server.weight),
        }),
        StatusColumn::Duty => duty(server),
        StatusColumn::Health => health(server, status),
        StatusColumn::Expected => {
            let is_sure = pool.shares_go_by.is_none() || server.expected == 0.0;
            number(if is_sure { percent(server.expected) } else { "-".to_owned() })
        }
        StatusColumn::TenSeconds => observed(server.observed.ten_seconds.share),
        StatusColumn::Minute => observed(minute.share),
        StatusColumn::InFlight => number(match server.adaptive_limit {
            Some(most) => format!("{} of {most}", server.in_flight),
            None => server.in_flight.to_string(),
        }),
        StatusColumn::Failed => count(minute.failed),
        StatusColumn::Retried => count(minute.retried),
        StatusColumn::Errors => count(minute.errors),
        StatusColumn::Median => took(server.latency.map(|latency| latency.median_us)),
        StatusColumn::P99 => took(server.latency.map(|latency| latency.p99_us)),
        StatusColumn::Downs => count(server.health.downs_today.into()),
    }
}

fn duty(server: &ServerStatus) -> Cell {
    match server.duty.as_ref().map_or(Duty::InService, |order| order.duty) {
        Duty::InService => Cell::new("in service"),
        Duty::Draining if server.draining.is_some_and(|draining| draining.safe) => {
            Cell::new("drained").fg(Color::Yellow)
        }
        Duty::Draining => Cell::new("draining").fg(Color::Yellow),
        Duty::Withdrawn => Cell::new("withdrawn").fg(Color::Yellow),
    }
}

fn health(server: &ServerStatus, status: &Status) -> Cell {
    let health = &server.health;
    // What was not watched is not said to have lasted.
    let from = if health.watched_until.is_some() { status.node.started } else { health.since };
    let since = humane(status.at.since(from));
    match health.state {
        _ if !health.checked => Cell::new("not checked"),
        HealthState::Up => Cell::new(format!("up {since}")).fg(Color::Green),
        HealthState::Suspect => Cell::new(format!("suspect {since}")).fg(Color::Yellow),
        HealthState::Recovering => Cell::new(format!("recovering {since}")).fg(Color::Yellow),
        HealthState::Down => Cell::new(format!("down {since}")).fg(Color::Red),
        HealthState::Unproven => Cell::new("unproven"),
    }
}

/// How far a server is drained.
fn drained(server: &ServerStatus, draining: DrainingStatus, status: &Status) -> String {
    let quiet = draining
        .quiet_since
        .map_or_else(String::new, |since| format!(", no work begun for {}", humane(status.at.since(since))));
    let may_come = draining.clients_tied && draining.ties_end.is_none_or(|end| end > status.at);
    let tied = if may_come { "; clients that are tied to it may still come" } else { "" };
    let deadline = server.duty.as_ref().and_then(|order| order.deadline).filter(|end| *end > status.at);
    let closed = deadline.map_or_else(String::new, |end| {
        format!("; what is open in {} is closed", humane(end.since(status.at)))
    });
    format!("{}{quiet}{tied}{closed}", open_words(draining.open))
}

/// How long after its start the service says of each server how it was before.
const CARRIED_IS_NEWS: std::time::Duration = std::time::Duration::from_secs(3_600);

/// What is known of a state that is older than this run of the service.
fn carried(server: &ServerStatus, status: &Status) -> Option<String> {
    let (health, started) = (&server.health, status.node.started);
    let is_news = status.at.since(started) < CARRIED_IS_NEWS;
    let until = health.watched_until.filter(|_| health.checked && is_news)?;
    let confirmed = health.last_probe.as_ref().map_or_else(
        || "not confirmed since".to_owned(),
        |probe| format!("confirmed {} ago", humane(status.at.since(probe.at))),
    );
    let gap = humane(started.since(until));
    Some(format!("was {} when it was last seen, {gap} before this start; {confirmed}", health.state))
}

/// What there is to say of a server that is not simply working.
fn reasons(server: &ServerStatus, status: &Status) -> Vec<String> {
    let mut says = Vec::new();
    says.extend(carried(server, status));
    if let Some(words) = &server.reason_words {
        says.push(format!("gets no new work: {words}"));
    }
    if let Some(order) = server.duty.as_ref().filter(|order| order.duty != Duty::InService) {
        says.push(format!("{} by {} at {}: {}", order.duty, order.who, moment(order.at), order.reason));
        if let Some(until) = order.until {
            says.push(if until < status.at {
                bad(&format!("was expected back {} ago", humane(status.at.since(until))))
            } else {
                format!("expected back in {}", humane(until.since(status.at)))
            });
        }
    }
    if let Some(ramp) = server.ramp {
        says.push(format!("came back a moment ago: its share has grown to {} of its own", percent(ramp)));
    }
    if let Some(draining) = &server.draining {
        says.push(drained(server, *draining, status));
    }
    let health = &server.health;
    if let Some(feedback) = health.feedback {
        let kept = feedback == ServerFeedback::Drain && server.eligible;
        let but = if kept { ", and is not: no other server of its pool could work" } else { "" };
        says.push(format!("{feedback}{but}"));
    }
    if health.flapping {
        says.push("is flapping: it keeps going down and coming back".to_owned());
    }
    if let Some(until) = health.held_until {
        says.push(format!("is held down until {}, for it keeps changing", moment(until)));
    }
    if server.full {
        says.push("is full, and passed over".to_owned());
    }
    if let Some(probe) = health.last_probe.as_ref().filter(|probe| health.checked && !probe.passed()) {
        let needs = match (health.failures_to_down, health.passes_to_up) {
            (Some(failures), _) if health.state == HealthState::Suspect => {
                format!("; down after {failures} more")
            }
            (_, Some(passes)) => format!("; up after {passes} passes"),
            (_, None) => String::new(),
        };
        says.push(format!("last probe: {probe}{needs}"));
    } else if health.state == HealthState::Recovering
        && health.held_until.is_none()
        && let Some(passes) = health.passes_to_up
    {
        says.push(format!("its probes pass again; up after {passes} more"));
    }
    says
}

//! The status for people.

use comfy_table::{Cell, Color};
use merismos_api::{DrainingStatus, FrontendStatus, PoolShare, PoolStatus, ServerStatus, Status};
use merismos_core::duty::Duty;
use merismos_core::eligibility::Reason;
use merismos_core::health::{State, Wish};
use merismos_core::units::humane;

use super::table::{bar, count, number, percent, table};
use super::{bad, good, moment, strong, text};

/// Prints everything.
pub(crate) fn print(status: &Status) {
    let revision = &status.revision;
    let by = if revision.number == 0 {
        "nothing was applied yet".to_owned()
    } else {
        format!("revision {} by {}, {}", revision.number, revision.author, moment(revision.at))
    };
    let records = if status.records.kept { "records kept".to_owned() } else { bad("records are behind") };
    let up = humane(status.at.since(status.node.started));
    text(&format!("{} {}, up {up} · {by} · {records}\n", strong("Merismos"), status.node.version));
    if status.troubles.is_empty() {
        text(&format!("{}\n", good("All is well.")));
    }
    for trouble in &status.troubles {
        text(&format!("{} {trouble}\n", bad("!")));
    }
    if !status.frontends.is_empty() {
        text("\n");
        // The troubled ones were told above, each with its trouble.
        const SHOWN: usize = 40;
        frontends(&status.frontends[..status.frontends.len().min(SHOWN)]);
        if status.frontends.len() > SHOWN {
            text(&format!(
                "  and {} more frontends; `merismos frontend list` finds them\n",
                status.frontends.len() - SHOWN
            ));
        }
    }
    if status.shortened && status.pools.len() > 1 {
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
    const SHOWN: usize = 40;
    let mut pools: Vec<&PoolStatus> = status.pools.iter().collect();
    pools.sort_by(|a, b| {
        let trouble = |pool: &PoolStatus| (pool.eligible > 0, std::cmp::Reverse(pool.failing));
        trouble(a).cmp(&trouble(b)).then(b.per_second.total_cmp(&a.per_second)).then(a.name.cmp(&b.name))
    });
    let mut table = table(&["pool", "algorithm", "eligible", "failing", "requests/s"]);
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
            number(format!("{:.1}", pool.per_second)),
        ]);
    }
    text(&format!("{table}\n"));
    text(&format!(
        "{} servers in {} pools; `merismos status POOL` shows the servers of one.\n",
        status.servers,
        status.pools.len()
    ));
}

fn frontends(frontends: &[FrontendStatus]) {
    let head = [
        "frontend",
        "listens on",
        "pool",
        "clients",
        "dealt out",
        "last 60 s: turned away",
        "refused",
        "nobody",
        "failed",
    ];
    let mut table = table(&head);
    for it in frontends {
        let name = if it.trouble.is_some() {
            Cell::new(format!("! {}", it.name)).fg(Color::Red)
        } else {
            Cell::new(&it.name)
        };
        table.add_row(vec![
            name,
            Cell::new(format!("{} {}", it.protocol, it.listen)),
            Cell::new(pool_words(it)),
            number(it.connections),
            number(format!("{:.1} {}s/s", it.per_second, it.unit)),
            count(it.turned_away),
            count(it.refused),
            count(it.unavailable),
            count(it.unanswered),
        ]);
    }
    text(&format!("{table}\n"));
    for it in frontends.iter().filter(|it| it.cut_for_memory > 0) {
        text(&format!(
            "{}: {} ended in the last 60 s for the memory they held\n",
            it.name, it.cut_for_memory
        ));
    }
}

/// The pools of a frontend, with the part that each gets where there are several.
fn pool_words(frontend: &FrontendStatus) -> String {
    if frontend.pools.is_empty() {
        return frontend.pool.clone();
    }
    let one = |it: &PoolShare| match it.expected {
        _ if !it.usable => format!("{} (not usable)", it.pool),
        Some(share) => format!("{} {:.0} %", it.pool, share * 100.0),
        None => it.pool.clone(),
    };
    frontend.pools.iter().map(one).collect::<Vec<_>>().join(", ")
}

fn pool(pool: &PoolStatus, status: &Status) {
    let standing_by = pool.servers.iter().filter(|server| server.reason == Some(Reason::Standby)).count();
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
                let pieces = if stake.average == 1 { "piece" } else { "pieces" };
                text(&format!(
                    "  until then, at this rate ({:.1}/s at the largest server): {} {pieces} of work on average, {} at worst, would meet it\n",
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
    if let Some(goes_by) = &pool.shares_go_by {
        text(&format!("  no share is expected: it deals out by {goes_by}\n"));
    }
    if pool.waiting > 0 {
        text(&format!("  {} every eligible server is full: {} wait\n", bad("!"), pool.waiting));
    }
    for it in &pool.lookups {
        let trouble =
            it.trouble.as_ref().map_or_else(String::new, |trouble| format!("; {} {trouble}", bad("!")));
        text(&format!("  lookup {} · {} · servers found: {}{trouble}\n", it.lookup, it.name, it.found));
    }
    if pool.servers.is_empty() {
        text("  no servers: clients get nothing\n");
        return;
    }
    let head = [
        "server",
        "address",
        "weight",
        "duty",
        "health",
        "expected",
        "last 10 s",
        "last 60 s",
        "in flight",
        "60 s: failed",
        "retried",
        "5xx",
    ];
    let mut table = table(&head);
    for server in &pool.servers {
        table.add_row(row(server, status, pool.shares_go_by.is_none()));
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

fn row(server: &ServerStatus, status: &Status, is_sure: bool) -> Vec<Cell> {
    let duty = server.duty.as_ref().map_or(Duty::InService, |order| order.duty);
    let duty_cell = match duty {
        Duty::InService => Cell::new("in service"),
        Duty::Draining if server.in_flight == 0 && !server.draining.is_some_and(|it| it.clients_tied) => {
            Cell::new("drained").fg(Color::Yellow)
        }
        Duty::Draining => Cell::new("draining").fg(Color::Yellow),
        Duty::Withdrawn => Cell::new("withdrawn").fg(Color::Yellow),
    };
    let health = &server.health;
    // What was not watched is not said to have lasted.
    let from = if health.watched_until.is_some() { status.node.started } else { health.since };
    let since = humane(status.at.since(from));
    let health_cell = match health.state {
        _ if !health.checked => Cell::new("not checked"),
        State::Up => Cell::new(format!("up {since}")).fg(Color::Green),
        State::Suspect => Cell::new(format!("suspect {since}")).fg(Color::Yellow),
        State::Recovering => Cell::new(format!("recovering {since}")).fg(Color::Yellow),
        State::Down => Cell::new(format!("down {since}")).fg(Color::Red),
        State::Unproven => Cell::new("unproven"),
    };
    let observed = |share: Option<f64>| match share {
        Some(share) => format!("{:>7} {}", percent(share), bar(share, 8)),
        None => "no work".to_owned(),
    };
    let minute = &server.observed.minute;
    vec![
        // Whoever stands by is well.
        Cell::new(if server.eligible || server.reason == Some(Reason::Standby) {
            short(&server.server).to_owned()
        } else {
            format!("! {}", short(&server.server))
        }),
        Cell::new(&server.address),
        number(match server.tier {
            0 => server.weight.to_string(),
            tier => format!("{} (tier {tier})", server.weight),
        }),
        duty_cell,
        health_cell,
        number(if is_sure || server.expected == 0.0 { percent(server.expected) } else { "-".to_owned() }),
        Cell::new(observed(server.observed.ten_seconds.share)),
        Cell::new(observed(minute.share)),
        number(server.in_flight),
        count(minute.failed),
        count(minute.retried),
        count(minute.errors),
    ]
}

/// How far a server is drained.
fn drained(server: &ServerStatus, draining: DrainingStatus, status: &Status) -> String {
    let quiet = draining
        .quiet_since
        .map_or_else(String::new, |since| format!(", no work begun for {}", humane(status.at.since(since))));
    let tied = if draining.clients_tied { "; clients that are tied to it may still come" } else { "" };
    match server.in_flight {
        0 => format!("nothing is in flight{quiet}{tied}"),
        left => format!("{left} in flight{quiet}{tied}"),
    }
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
    }
    if let Some(ramp) = server.ramp {
        says.push(format!("came back a moment ago: its share has grown to {} of its own", percent(ramp)));
    }
    if let Some(draining) = &server.draining {
        says.push(drained(server, *draining, status));
    }
    let health = &server.health;
    if let Some(wish) = health.wish {
        let kept = wish == Wish::Drain && server.eligible;
        let but = if kept { ", and is not: no other server of its pool could work" } else { "" };
        says.push(format!("{wish}{but}"));
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
            (Some(failures), _) if health.state == State::Suspect => format!("; down after {failures} more"),
            (_, Some(passes)) => format!("; up after {passes} passes"),
            (_, None) => String::new(),
        };
        says.push(format!("last probe: {probe}{needs}"));
    } else if health.state == State::Recovering
        && health.held_until.is_none()
        && let Some(passes) = health.passes_to_up
    {
        says.push(format!("its probes pass again; up after {passes} more"));
    }
    says
}
